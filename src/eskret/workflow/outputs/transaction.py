"""All or nothing: outputs are staged on their own file system and committed together as one transaction.

A staged file stands beside its target under a hidden name. Nothing is locked while steps run. At the commit the folders of
the targets are locked, every target is compared with what was seen when it was staged, and then all is put in place: files by
renaming, a GeoPackage that others use too by a transaction of the database (``core/files/transaction.py`` draws the protocol).
A process killed before the commit point leaves the old outputs and stray staged files, which the next command takes away; one
killed after it is completed by the next command.
"""

from __future__ import annotations

import os
import stat
import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from eskret.core.files.atomic import sync_file
from eskret.core.files.hashing import FileState
from eskret.core.files.locks import folders_locked
from eskret.core.files.transaction import CommitJournal, Participant, commit
from eskret.core.files.user_state import data_place
from eskret.core.naming import LIMIT, folded, number_collisions
from eskret.core.words import did_you_mean
from eskret.errors import Code, DeliveryError, TargetChangedError
from eskret.formats import geopackage, sqlite
from eskret.formats.file_group import FileGroup, Move, changed
from eskret.formats.geopackage import in_child
from eskret.formats.geopackage.digest import FORM, layer_digests
from eskret.formats.geopackage.in_place import CHANGE, GeoPackageInPlace, LayerChange, Seen
from eskret.formats.known import GEOPACKAGE
from eskret.formats.open_elsewhere import is_open_elsewhere
from eskret.operations.base import Delivered, PlannedOutput, PreparedPush
from eskret.operations.sentences import join_words
from eskret.services.changing import FeatureChange
from eskret.services.journal import DRAFT, Push, PushJournal, open_push
from eskret.workflow.outputs import file_backups
from eskret.workflow.outputs.completing import finish
from eskret.workflow.outputs.records import FileRecord, Outputs, record_of

LEFTOVER = "left over from an earlier run"


class OutputTransaction:
    """Settles what happens to outputs that exist, stages new ones, commits them together.

    Parameters
    ----------
    workflow : the workflow's file, beside which the records stand; None for a workflow not saved yet, which then owns nothing.
    folder : where relative outputs start.
    if_exists : overrules every step's own choice, where given.
    title : of the workflow, for those who read what was published.
    records : of a workflow not saved yet the place that a file of its would have, beside which the records stand for the time being.

    ``round`` names the round that is at work, where a workflow is run in rounds. ``problems`` is what a commit could not
    complete behind its commit point, target and reason; ``told`` what went wrong beside that, with all outputs in place.
    """

    def __init__(
        self, workflow: Path | None, folder: Path, if_exists: str | None = None, title: str = "", records: Path | None = None
    ) -> None:
        self.folder = folder
        self._beside = workflow or records
        self.outputs = Outputs.beside(self._beside, folder)
        self.round = ""
        self.folders: set[Path] = set()
        """Those that outputs go to."""
        self.shared: dict[Path, str] = {}
        """Files that will be replaced and are not this user's alone, with why: somebody else's, or known by a second name."""
        self.problems: list[tuple[Path, str]] = []
        self.told: list[tuple[Path, str]] = []
        self.then: list[Callable[[Sequence[Delivered]], None]] = []
        """What is to be done once everything is in its place."""
        self._workflow = workflow
        self._if_exists = if_exists
        self._title = title
        self._guard = threading.RLock()
        self._locks: dict[Path, threading.Lock] = {}
        self._claimed: dict[Path, dict[str, str]] = {}
        self._journal: CommitJournal | None = None
        self._observing = False
        self._seen: dict[Path, FileState | Seen] = {}
        self._staged: dict[Path, Path] = {}
        self._dataset: dict[Path, Path] = {}
        self._belongs: dict[Path, Path] = {}
        self._changes: dict[Path, list[LayerChange]] = {}
        self._ahead: dict[Path, Future[FileRecord]] = {}
        self._gone: list[Path] = []
        self._kept: list[list[Path]] = []
        self._pushes: list[str] = []

    # -- what is there already

    def wrote(self, path: Path) -> frozenset[str] | None:
        """What the workflow wrote into a file on an earlier run, by its records: whoever changed it since."""
        known = self.outputs.record(path)
        return None if known is None else frozenset(known.layers)

    def resolve(self, target: Path, layers: Sequence[str], if_exists: str) -> Sequence[PlannedOutput]:
        """Say what will happen to each layer of a file (or to the file, for one empty name); write nothing.

        Raises
        ------
        DeliveryError : something is in the way and must not be replaced, or the place cannot be written.
        """
        policy = self._if_exists or if_exists
        self._check_place(target)
        self.folders.add(target.parent)
        self._observe(target)
        there: dict[str, str] = {}
        if target.is_file() and any(layers):
            # read once: a set can have thousands of layers
            there = {folded(e): e for e in geopackage.layer_list(target)}
            if not self._observing:
                sqlite.check_free(target)
        own: set[str] = set()
        if policy == "own" and there:
            own = self.outputs.layers_untouched(target, [there[folded(n)] for n in layers if folded(n) in there])
        out = []
        for layer in layers:
            plan = self._resolve_one(target, layer, policy, there, own)
            self._claimed.setdefault(plan.path, {})[folded(plan.layer)] = self.round
            out.append(plan)
        return out

    def _resolve_one(self, target: Path, layer: str, policy: str, there: Mapping[str, str], untouched: set[str]) -> PlannedOutput:
        taken = self._claimed.get(target, {})
        if folded(layer) in taken:
            what = f"layer '{layer}'" if layer else "file"
            other = taken[folded(layer)]
            if other != self.round:
                raise DeliveryError(
                    f"the rounds '{other}' and '{self.round}' save the same {what}",
                    place=str(target),
                    way_out="Put a parameter that differs into its name, in braces",
                )
            raise DeliveryError(f"two steps save the same {what}", place=str(target), way_out="Give one of them another name")
        if policy == "update" and (not target.exists() or (layer and folded(layer) not in there)):
            raise self._nothing_to_update(target, layer, list(there.values()))
        if not target.exists():
            return PlannedOutput(target, layer, "write")
        if target.is_dir():
            raise DeliveryError("this is a folder", place=str(target), way_out="Choose another file name")
        if layer:
            if folded(layer) not in there:
                return self._writable(PlannedOutput(target, layer, "write"))
            own = policy == "own" and there[folded(layer)] in untouched
            names = list(there.values())
            # it keeps the name that it has
            layer = there[folded(layer)] if policy != "number" else layer
        else:
            own = policy == "own" and self.outputs.untouched(target)
            names = []
        if policy in ("append", "update"):
            return self._writable(PlannedOutput(target, layer, policy))
        if own or policy == "replace":
            return self._writable(PlannedOutput(target, layer, "replace"))
        if policy == "skip":
            return PlannedOutput(target, layer, "skip")
        if policy == "number":
            if layer:
                numbered = number_collisions([layer], taken=[*names, *taken], limit=max(LIMIT, len(layer) + 8))[0]
                return self._writable(PlannedOutput(target, numbered, "write"))
            beside = [p.stem for p in target.parent.glob(f"*{target.suffix}")]
            return PlannedOutput(target.with_stem(number_collisions([target.stem], taken=beside)[0]), "", "write")
        raise self._in_the_way(target, layer, policy)

    @staticmethod
    def _nothing_to_update(target: Path, layer: str, there: Sequence[str]) -> DeliveryError:
        if not layer or not target.exists():
            return DeliveryError(
                "it is not there, so nothing in it can be brought up to date",
                place=str(target),
                code=Code.NO_SUCH_LAYER,
                way_out="Check where it is, or save it for the first time with another choice under 'If it is there already'",
            )
        hint = did_you_mean(layer, there)
        return DeliveryError(
            f"there is no layer '{layer}' to bring up to date",
            place=str(target),
            code=Code.NO_SUCH_LAYER,
            way_out=f"{hint}{hint and ' '}It has {join_words(there, 8)}",
        )

    def _writable(self, plan: PlannedOutput) -> PlannedOutput:
        """The plan, if the file that is there may be changed.

        Raises
        ------
        DeliveryError : somebody said that it must not be.
        """
        mode = plan.path.stat().st_mode
        if not mode & (stat.S_IWUSR | stat.S_IWGRP | stat.S_IWOTH) or not os.access(plan.path, os.W_OK):
            raise DeliveryError(
                "it is read-only",
                place=str(plan.path),
                code=Code.READ_ONLY,
                way_out="Save to another file, or let it be written if that is meant",
            )
        found = plan.path.stat()
        if not plan.layer and plan.action == "replace":
            if found.st_uid != os.geteuid():
                self.shared[plan.path] = "it belongs to another user, and the new file would be yours"
            elif found.st_nlink > 1:
                self.shared[plan.path] = "it has a second name, under which the old content would stay"
        return plan

    def _in_the_way(self, target: Path, layer: str, policy: str) -> DeliveryError:
        what = f"layer '{layer}' is there already" if layer else "the file is there already"
        known = self.outputs.record(target)
        if policy == "own":
            ours = known is not None and (not layer or layer in known.layers)
            what += " and was changed since this workflow wrote it" if ours else " and this workflow did not write it"
        way_out = "Choose another name, or set 'If it is there already' to replace it, number it or skip it"
        if policy == "own" and self._beside is None:
            way_out += "; once this workflow is saved to a file, it remembers what it wrote"
        return DeliveryError(what, place=str(target), way_out=way_out, code=Code.IN_THE_WAY)

    def _check_place(self, target: Path) -> None:
        folder = target.parent
        while not folder.exists() and folder != folder.parent:
            folder = folder.parent
        if not folder.is_dir():
            raise DeliveryError("this is a file, not a folder", place=str(folder), way_out="Choose another path")
        if not os.access(folder, os.W_OK | os.X_OK):
            raise DeliveryError("you may not write in this folder", place=str(folder), way_out="Choose another folder")

    # -- staging

    def lock(self, target: Path) -> threading.Lock:
        """Held while a staged file is written: two steps may deliver into one container. From here on this transaction sees to it
        that a target is still what it was when it was looked at."""
        with self._guard:
            self._observing = True
            return self._locks.setdefault(target.resolve(), threading.Lock())

    def _observe(self, target: Path) -> None:
        """Remember how a target is before anything is made of it."""
        target = target.resolve()
        with self._guard:
            if not self._observing or target in self._seen:
                return
            database = target.suffix.lower() == GEOPACKAGE.ending and target.exists()
            if database:
                sqlite.roll_back_hot(target)
            self._seen[target] = Seen.of(target) if database else FileState.of(target)

    def stage(self, target: Path, *, shared: bool = False, of: Path | None = None) -> Path:
        """A file on the target's file system to write instead of it.

        Parameters
        ----------
        shared : several steps may put layers into it; what was staged before stays.
        of : the file that this one belongs to and is left over with.
        """
        target = target.resolve()
        if of is not None:
            self._belongs[target] = of.resolve()
        with self._guard:
            known = self._staged.get(target)
            if known is not None:
                if not shared:
                    raise DeliveryError("two steps save the same file", place=str(target), way_out="Rename one of them")
                return known
            try:
                self._observing = True
                journal = self._begin(target.parent)
                self._observe(target)
                staged = target.with_name(journal.staged_name(_short(target.name)))
            except OSError as error:
                raise DeliveryError(f"it cannot be written ({error.strerror})", place=str(target)) from error
            self._staged[target] = staged
            self._dataset[target] = target
        return staged

    def _begin(self, folder: Path) -> CommitJournal:
        """The journal, with a folder that something will be staged in; the folder is made."""
        if self._journal is None:
            self._journal = _new_journal(self._workflow, self._title)
        missing: list[Path] = []
        while not folder.exists():
            missing.insert(0, folder)
            folder = folder.parent
        here = missing[-1] if missing else folder
        self._journal.use_folder(here, missing)
        for one in missing:
            one.mkdir(exist_ok=True)
        return self._journal

    def add_member(self, target: Path, companion: Path) -> Path:
        """A file that belongs to a staged one, such as the table of a shapefile."""
        target, companion = target.resolve(), companion.resolve()
        staged = self._staged[target].with_suffix(companion.suffix)
        with self._guard:
            if companion in self._staged:
                raise DeliveryError("two steps save the same file", place=str(companion), way_out="Rename one of them")
            self._observe(companion)
            self._staged[companion] = staged
            self._dataset[companion] = target
            self._belongs[companion] = target
        return staged

    def delete(self, target: Path) -> None:
        """Take a file away together with the commit, if it is there."""
        target = target.resolve()
        with self._guard:
            if target.exists() and target not in self._gone:
                self._observe(target)
                self._gone.append(target)

    def backup(self, target: Path, *companions: Path) -> None:
        """Keep what a target and its companions hold now, so that the change of them can be taken back later."""
        group = [p.resolve() for p in (target, *companions) if p.exists()]
        with self._guard:
            if group and group not in self._kept:
                self._kept.append(group)

    def change_layer(self, target: Path, change: LayerChange) -> LayerChange:
        """Say what becomes of a layer of a GeoPackage once what is staged for it goes there; with a number of its own."""
        with self._guard:
            known = self._changes.setdefault(target.resolve(), [])
            change = replace(change, number=len(known))
            known.append(change)
        return change

    def digests_there(self, target: Path, layers: Sequence[str]) -> dict[str, str]:
        """Digests of layers that are there now, by the names asked for; empty for none."""
        if not target.exists() or not layers:
            return dict.fromkeys(layers, "")
        there = {folded(n): n for n in geopackage.layer_list(target)}
        names = {layer: there[folded(layer)] for layer in layers if folded(layer) in there}
        known = self.outputs.record(target)
        if known is not None and all(known.layers.get(n, "").startswith(FORM) for n in names.values()) and self.outputs.untouched(target):
            found: Mapping[str, str] = known.layers  # the file as a whole is as it was left
        else:
            found = layer_digests(target, names.values())
        return {layer: found.get(names[layer], "") if layer in names else "" for layer in layers}

    def mark_written(self, target: Path, sha256: str = "") -> None:
        """A staged file is written, as far as its step knows: it is synced, and its digest taken, while the step goes on."""
        target = target.resolve()
        staged = self._staged[target]

        def take() -> FileRecord:
            sync_file(staged)
            found = staged.stat()
            return FileRecord(sha256, found.st_size, found.st_mtime_ns) if sha256 else record_of(staged, {})

        future: Future[FileRecord] = Future()

        def work() -> None:
            try:
                future.set_result(take())
            except OSError as error:
                future.set_exception(error)

        self._ahead[target] = future
        threading.Thread(target=work, daemon=True).start()

    def _known(self, target: Path) -> FileRecord | None:
        future = self._ahead.get(target)
        return None if future is None or future.exception() is not None else future.result()

    def prepare(self, push: Push, entries: Sequence[tuple[str, FeatureChange]]) -> PreparedPush:
        """Write down a push. Until the run has succeeded it is a draft, and taken away if the run does not."""
        with self._guard:
            if self._journal is None:
                self._journal = _new_journal(self._workflow, self._title)
            self._journal.use_push(push.id)
        told = replace(
            push,
            state=DRAFT,
            workflow=str(self._workflow.resolve()) if self._workflow else "",
            title=self._title,
            run=self._journal.token,
            taken=datetime.now(UTC).isoformat(timespec="seconds"),
        )
        with PushJournal.create(told, entries):
            pass
        with self._guard:
            self._pushes.append(push.id)
        return PreparedPush(push.id, push.service, push.dataset, push.step, push.added, push.changed, push.removed, push.unchanged)

    # -- the end

    def commit(self, delivered: Sequence[Delivered]) -> tuple[Delivered, ...]:
        """Put everything staged in place, and remember it. The digests of the files are filled in.

        Raises
        ------
        TargetChangedError : somebody changed a target meanwhile; nothing was put in place, and all can be staged anew.
        DeliveryError, OSError : nothing was put in place.
        """
        done = tuple(delivered)
        journal, self.problems, self.told = self._journal, [], []
        if journal is not None:
            done = self._commit(journal, done)
            self._forget()
        for do in self.then:
            do(done)
        self.then.clear()
        return done

    def _commit(self, journal: CommitJournal, delivered: Sequence[Delivered]) -> tuple[Delivered, ...]:
        folders = {t.parent for t in (*self._staged, *self._gone)}
        if self._workflow is not None:
            folders.add(self._workflow.resolve().parent)
            journal.use_folder(self._workflow.resolve().parent)
        with folders_locked(folders):
            try:
                files = self._hold_files()
                participants = self._participants()
                backups = self._hold_rows(participants, files)
                self.problems = commit(
                    journal, participants, lambda: {"records": self._records(delivered), "backups": backups(), "pushes": self._pushes}
                )
            except BaseException:
                for id in journal.told["backup_ids"]:
                    file_backups.sweep(str(id))
                raise
            # behind the commit point: whatever fails now is told, and nothing is taken back
            left = {path for path, _ in self.problems}
            found, more = finish(journal.told, left, self._beside, self.folder, self._known)
            self.told = more
            self.outputs = Outputs.beside(self._beside, self.folder)
        if left:
            journal.leave()
        else:
            journal.end()
        self._journal = None
        return tuple(replace(d, sha256=found.get(d.path.resolve(), d.sha256)) for d in delivered)

    def _participants(self) -> list[Participant]:
        """What carries the transaction out: renames, and GeoPackages that are changed where they are."""
        moves: list[Move] = []
        out: list[Participant] = []
        for target, staged in self._staged.items():
            changes, seen = self._changes.get(target, []), self._seen[target]
            if changes and isinstance(seen, Seen) and not target.exists():
                raise TargetChangedError(
                    "somebody took it away while this run was under way",
                    place=str(target),
                    way_out="Nothing was written; run again",
                    code=Code.CHANGED_MEANWHILE,
                )
            if changes and isinstance(seen, Seen) and not self._may_rename(target, changes, seen):
                out.append(in_child.in_place(target, staged, changes, seen))
                continue
            ahead = self._known(target)
            state = FileState.of(target) if isinstance(seen, Seen) else seen
            moves.append(Move(target, staged, state, self._dataset[target], ahead.sha256 if ahead else record_of(staged, {}).sha256))
        for gone in self._gone:
            if gone not in self._staged:
                was = self._seen[gone]
                assert isinstance(was, FileState)
                moves.append(Move(gone, None, was, self._dataset.get(gone.with_suffix(".shp"), gone)))
        return [*out, FileGroup(moves)] if moves else out

    def _may_rename(self, target: Path, changes: Sequence[LayerChange], seen: Seen) -> bool:
        """Whether a new GeoPackage may take the place of one that is there: only where it holds nothing that does not become
        new, and nobody has it open, in which case nothing that others write can be lost by it."""
        if any(c.action == CHANGE for c in changes) or seen.stamps != Seen.of(target).stamps or sqlite.has_log(target):
            return False
        if seen.racy and self.digests_there(target, [c.layer for c in changes]) != {c.layer: c.before for c in changes}:
            return False
        if not geopackage.holds_only(target, [c.layer for c in changes]):
            return False
        found = target.stat()
        return found.st_nlink == 1 and found.st_uid == os.geteuid() and not is_open_elsewhere(target)

    def _hold_files(self) -> list[dict[str, Any]]:
        """Keep what files hold that will be written anew, so that it can be brought back; it is what was seen.

        Raises
        ------
        TargetChangedError : somebody changed one.
        """
        assert self._journal is not None
        out: list[dict[str, Any]] = []
        for group in self._kept:
            here = [p for p in group if p in self._staged and p.exists() and not isinstance(self._seen[p], Seen)]
            if not here:
                continue
            for path in here:
                if not self._seen[path].still(path):
                    raise changed(path)
            id = self._journal.new_backup(file_backups.new_id())
            file_backups.hold(id, here)
            # a second name is a change of the file that is ours
            self._seen.update({p: FileState.of(p) for p in here})
            out.append({"id": id, "files": [str(p) for p in here]})
        return out

    def _hold_rows(self, participants: Sequence[Participant], files: Sequence[dict[str, Any]]) -> Callable[[], list[dict[str, Any]]]:
        """The same of rows of GeoPackages; gives what the journal says of all that is kept, once all are prepared."""
        assert self._journal is not None
        databases = [p for p in participants if isinstance(p, GeoPackageInPlace)]
        rows = [
            {"id": self._journal.new_backup(file_backups.new_id()), "target": str(p.target), "staged": str(p.staged)}
            for p in databases
            if any(c.action == CHANGE for c in p.changes)
        ]

        def told() -> list[dict[str, Any]]:
            found = {str(p.target): [c.to_json() for c in p.changes if c.action == CHANGE] for p in databases}
            return [*files, *({**r, "layers": found[r["target"]]} for r in rows)]

        return told

    def _records(self, delivered: Sequence[Delivered]) -> list[dict[str, Any]]:
        """What is to be remembered of each file that is put in place; of a file of somebody else's that rows went into,
        nothing: it is not this workflow's to replace."""
        by_path: dict[Path, list[Delivered]] = {}
        for one in delivered:
            by_path.setdefault(one.path.resolve(), []).append(one)
        out = []
        for target in self._staged:
            here = by_path.get(target, [])
            own = not here or any(d.own for d in here) or self.outputs.record(target) is not None
            of = self.outputs.name_of(self._belongs[target]) if target in self._belongs else ""
            layers = {d.layer: d.content for d in here if d.layer and d.own}
            out.append({"path": str(target), "layers": layers, "of": of, "own": own})
        return out

    def _forget(self) -> None:
        for one in (self._staged, self._dataset, self._changes, self._seen, self._ahead, self._claimed):
            one.clear()
        self._gone.clear()
        self._kept.clear()
        self._pushes.clear()

    def rollback(self) -> None:
        """Take away what was staged; every output is as it was."""
        self.then.clear()
        for id in self._pushes:
            open_push(id).remove()
        if self._journal is not None:
            self._journal.end()
            self._journal = None
        self._forget()

    def leftovers(self, outputs: Sequence[PlannedOutput | Delivered]) -> list[tuple[Path, str]]:
        """What earlier runs of this workflow wrote and this one does not, while it is still there untouched."""
        now = {(o.path.resolve(), o.layer) for o in outputs}
        out: list[tuple[Path, str]] = []
        for name, record in self.outputs.files.items():
            path = (self.folder / name).resolve()
            if not path.exists() or record.of:
                continue
            if record.layers:
                older = [n for n in record.layers if (path, n) not in now]
                there = set(geopackage.layer_list(path)) if older else set()
                out += [(path, n) for n in older if n in there]
            elif (path, "") not in now:
                out.append((path, ""))
        return out


def _new_journal(workflow: Path | None, title: str) -> CommitJournal:
    """A journal in the user's data folder.

    Raises
    ------
    DeliveryError : that folder cannot be written.
    """
    try:
        return CommitJournal.begin(workflow, title)
    except OSError as error:
        raise DeliveryError(
            f"what a run is about to do is written down there first, and that cannot be ({error.strerror})",
            place=str(error.filename or data_place()),
            way_out="Let this folder be written, or set XDG_DATA_HOME to another",
        ) from error


def _short(name: str) -> str:
    """A name with room for what is put before it: a file system takes 255 bytes."""
    stem, dot, ending = name.rpartition(".")
    raw = (stem or ending).encode()
    return name if len(name.encode()) <= 220 else raw[:180].decode(errors="ignore") + (dot + ending if stem else "")
