"""All or nothing: outputs are staged on their own file system and committed together under a journal.

A staged file stands beside its target under a hidden name. At commit each is synced, the journal is written and synced,
and only then is anything renamed; a rename puts a whole file in place at once. A process killed before the journal
stands leaves the old outputs and stray staged files, which the next run sweeps away; one killed after it is rolled
forward by the next run or rehearsal of the same workflow.
"""

from __future__ import annotations

import json
import os
import shutil
import threading
import uuid
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from eskret.core.naming import number_collisions
from eskret.errors import DeliveryError
from eskret.formats import geopackage, sqlite, targets
from eskret.operations.base import Delivered, Planned, Prepared
from eskret.services.changing import Change
from eskret.services.journal import DRAFT, PREPARED, Journal, Push, open_push, pushes
from eskret.workflow import kept
from eskret.workflow.outputs import FileRecord, Outputs, outputs_path, record_of

_PREFIX = ".eskret-"
LEFTOVER = "left over from an earlier run"


class DeliveryDesk:
    """Settles what happens to outputs that exist, stages new ones, commits them together.

    Parameters
    ----------
    workflow : the workflow's file, beside which the journal and the records stand; None for a workflow not saved yet,
        which then owns nothing.
    folder : where relative outputs start.
    if_exists : overrules every step's own choice, where given.
    title : of the workflow, for those who read what was published.

    ``round`` names the round that is at work, where a workflow is run in rounds.
    """

    def __init__(
        self, workflow: Path | None, folder: Path, if_exists: str | None = None, title: str = ""
    ) -> None:  # fmt: skip
        self.folder = folder
        self.outputs = Outputs.beside(workflow, folder)
        self._workflow = workflow
        self._if_exists = if_exists
        self._staged: dict[Path, Path] = {}
        self._made: list[Path] = []
        self._locks: dict[Path, threading.Lock] = {}
        self._guard = threading.Lock()
        self._claimed: dict[Path, dict[str, str]] = {}
        self.round = ""
        self._ahead: dict[Path, Future[FileRecord]] = {}
        self._token = f"{os.getpid()}-{uuid.uuid4().hex[:8]}"
        self._title = title
        self._pushes: list[str] = []
        self._belongs: dict[Path, Path] = {}
        self._gone: list[Path] = []
        self._kept: list[list[Path]] = []
        self.then: list[Callable[[Sequence[Delivered]], None]] = []
        """What is to be done once everything is in its place."""

    # -- what is there already

    def settle(self, target: Path, layers: Sequence[str], if_exists: str) -> Sequence[Planned]:
        """Say what will happen to each layer of a file (or to the file, for one empty name); write nothing.

        Raises
        ------
        DeliveryError : something is in the way and must not be replaced, or the place cannot be written.
        """
        policy = self._if_exists or if_exists
        self._check_place(target)
        there: dict[str, str] = {}
        if target.is_file() and any(layers):
            # read once: a set can have thousands of layers
            there = {e.casefold(): e for e in geopackage.layer_list(target)}
            sqlite.check_free(target)
        out = []
        for layer in layers:
            plan = self._settle_one(target, layer, policy, there)
            self._claimed.setdefault(plan.path, {})[plan.layer.casefold()] = self.round
            out.append(plan)
        return out

    def _settle_one(self, target: Path, layer: str, policy: str, there: Mapping[str, str]) -> Planned:
        taken = self._claimed.get(target, {})
        if layer.casefold() in taken:
            what = f"layer '{layer}'" if layer else "file"
            other = taken[layer.casefold()]
            if other != self.round:
                raise DeliveryError(
                    f"the rounds '{other}' and '{self.round}' save the same {what}", place=str(target),
                    way_out="Put a parameter that differs into its name, in braces",
                )  # fmt: skip
            raise DeliveryError(
                f"two steps save the same {what}", place=str(target), way_out="Give one of them another name"
            )
        if not target.exists():
            return Planned(target, layer, "write")
        if target.is_dir():
            raise DeliveryError("this is a folder", place=str(target), way_out="Choose another file name")
        if layer:
            if layer.casefold() not in there:
                return Planned(target, layer, "write")
            own = policy == "own" and self.outputs.layer_untouched(target, there[layer.casefold()])
            names = list(there.values())
        else:
            own = policy == "own" and self.outputs.untouched(target)
            names = []
        if policy in ("append", "update"):
            return Planned(target, layer, policy)
        if own or policy == "replace":
            return Planned(target, layer, "replace")
        if policy == "skip":
            return Planned(target, layer, "skip")
        if policy == "number":
            if layer:
                return Planned(target, number_collisions([layer], taken=[*names, *taken])[0], "write")
            beside = [p.stem for p in target.parent.glob(f"*{target.suffix}")]
            return Planned(target.with_stem(number_collisions([target.stem], taken=beside)[0]), "", "write")
        raise self._in_the_way(target, layer, policy)

    def _in_the_way(self, target: Path, layer: str, policy: str) -> DeliveryError:
        what = f"layer '{layer}' is there already" if layer else "the file is there already"
        known = self.outputs.record(target)
        if policy == "own":
            ours = known is not None and (not layer or layer in known.layers)
            what += " and was changed since this workflow wrote it" if ours else " and this workflow did not write it"
        way_out = "Choose another name, or set 'If it is there already' to replace it, number it or skip it"
        if policy == "own" and self._workflow is None:
            way_out += "; once this workflow is saved to a file, it remembers what it wrote"
        return DeliveryError(what, place=str(target), way_out=way_out)

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
        """Held while a staged file is written: two steps may deliver into one container."""
        with self._guard:
            return self._locks.setdefault(target.resolve(), threading.Lock())

    def stage(self, target: Path, keep_content: bool, anew: bool = False, of: Path | None = None) -> Path:
        """A file on the target's file system to write instead of it.

        Parameters
        ----------
        keep_content : begin with the target's content, where there is one (or what was staged before).
        anew : of the content, keep only what was staged before.
        of : the file that this one belongs to and is left over with.
        """
        target = target.resolve()
        if of is not None:
            self._belongs[target] = of.resolve()
        with self._guard:
            known = self._staged.get(target)
        if known is not None:
            if not keep_content:
                raise DeliveryError("two steps save the same file", place=str(target), way_out="Rename one of them")
            return known
        try:
            self._make_folder(target.parent)
            staged = target.with_name(f"{_PREFIX}{self._token}-{target.name}")
            with self._guard:
                self._staged[target] = staged
            if keep_content and not anew and target.exists():
                _copy(target, staged)
        except OSError as error:
            raise DeliveryError(f"it cannot be written ({error.strerror})", place=str(target)) from error
        return staged

    def join(self, target: Path, companion: Path) -> Path:
        """A file that belongs to a staged one, such as the table of a shapefile."""
        target, companion = target.resolve(), companion.resolve()
        staged = self._staged[target].with_name(f"{_PREFIX}{self._token}-{companion.name}")
        with self._guard:
            if companion in self._staged:
                raise DeliveryError("two steps save the same file", place=str(companion), way_out="Rename one of them")
            self._staged[companion] = staged
            self._belongs[companion] = target
        return staged

    def drop(self, target: Path) -> None:
        """Take a file away together with the commit, if it is there."""
        with self._guard:
            if target.resolve().exists() and target.resolve() not in self._gone:
                self._gone.append(target.resolve())

    def keep(self, target: Path, *companions: Path) -> None:
        """Keep what a target and its companions hold now, so that the change of them can be taken back later."""
        group = [p.resolve() for p in (target, *companions) if p.exists()]
        with self._guard:
            if group and group not in self._kept:
                self._kept.append(group)

    def written(self, target: Path, sha256: str = "") -> None:
        """A staged file is written, as far as its step knows: it is synced, and its digest taken, while the step goes on."""
        target = target.resolve()
        staged = self._staged[target]

        def take() -> FileRecord:
            with staged.open("rb") as stream:
                os.fsync(stream.fileno())
            stat = staged.stat()
            return FileRecord(sha256, stat.st_size, stat.st_mtime_ns) if sha256 else record_of(staged, {})

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

    def _make_folder(self, folder: Path) -> None:
        missing = []
        while not folder.exists():
            missing.append(folder)
            folder = folder.parent
        for one in reversed(missing):
            one.mkdir(exist_ok=True)
            self._made.append(one)

    def prepare(self, push: Push, entries: Sequence[tuple[str, Change]]) -> Prepared:
        """Write down a push. Until the run has succeeded it is a draft, and taken away if the run does not."""
        told = replace(
            push, state=DRAFT, workflow=str(self._workflow.resolve()) if self._workflow else "", title=self._title,
            run=self._token, taken=datetime.now(UTC).isoformat(timespec="seconds"),
        )  # fmt: skip
        with Journal.create(told, entries):
            pass
        with self._guard:
            self._pushes.append(push.id)
        return Prepared(
            push.id, push.service, push.dataset, push.step, push.added, push.changed, push.removed, push.unchanged
        )

    def _settle_pushes(self) -> None:
        """The run has succeeded: its pushes can be sent. Those of earlier runs that nobody sent are outdone."""
        for id in self._pushes:
            with open_push(id) as journal:
                journal.note(state=PREPARED)
                now = journal.push
            for old in pushes():
                same = (old.workflow, old.service, old.dataset) == (now.workflow, now.service, now.dataset)
                if old.state == PREPARED and same and old.id not in self._pushes:
                    open_push(old.id).remove()
        self._pushes.clear()

    # -- the end

    def commit(self, delivered: Sequence[Delivered]) -> tuple[Delivered, ...]:
        """Put everything staged in place, and remember it. The digests of the files are filled in.

        Raises
        ------
        DeliveryError : a target appeared or vanished meanwhile; nothing was put in place.
        """
        records: dict[str, FileRecord] = dict(self.outputs.files)
        shas: dict[Path, str] = {}
        for target, staged in self._staged.items():
            ahead = self._known(target)
            with staged.open("rb") as stream:
                os.fsync(stream.fileno())
            here = [d for d in delivered if d.path.resolve() == target]
            layers = {d.layer: d.content for d in here if d.layer and d.own}
            known = records.get(self.outputs.name_of(target))
            if here and not any(d.own for d in here) and known is None:
                shas[target] = record_of(staged, {}, ahead).sha256
                continue  # rows went into somebody else's file: it is not this workflow's to replace
            fresh = record_of(staged, layers, ahead)
            # layers of earlier runs stay this workflow's own while they are in the file
            older = {n: x for n, x in (known.layers if known else {}).items() if n not in fresh.layers}
            of = self.outputs.name_of(self._belongs[target]) if target in self._belongs else ""
            records[self.outputs.name_of(target)] = replace(fresh, layers={**older, **fresh.layers}, of=of)
            shas[target] = fresh.sha256
        journal = self._journal()
        after = Outputs(self.folder, records).to_json()
        backups = self._back_up()
        try:
            if self._staged and journal is not None:
                pairs = [[str(s), str(t)] for t, s in self._staged.items()]
                _write_synced(journal, {"moves": pairs, "gone": [str(g) for g in self._gone], "outputs": after})
            self._put_in_place(backups)
            for gone in self._gone:
                if gone not in self._staged:
                    gone.unlink(missing_ok=True)
        except OSError:
            if journal is not None:
                journal.unlink(missing_ok=True)
            raise
        else:
            for group in self._kept:
                files = [(t, backups[t], shas[t]) for t in group if t in backups and t in shas]
                if files:
                    kept.keep(files, self._workflow, self._title)
        finally:
            for backup in backups.values():
                backup.unlink(missing_ok=True)
        self._staged.clear()
        self._made.clear()
        self._gone.clear()
        self._kept.clear()
        if self._workflow is not None and journal is not None and shas:
            _write_synced(outputs_path(self._workflow), after)
            journal.unlink(missing_ok=True)
        self.outputs.files = records
        self._settle_pushes()
        done = tuple(replace(d, sha256=shas.get(d.path.resolve(), d.sha256)) for d in delivered)
        for do in self.then:
            do(done)
        self.then.clear()
        return done

    def _back_up(self) -> dict[Path, Path]:
        """A second name for every output that will be replaced, so that it can be put back."""
        backups: dict[Path, Path] = {}
        for target, staged in self._staged.items():
            if target.exists():
                backup = staged.with_name(f"{staged.name}.old")
                try:
                    os.link(target, backup)
                except OSError:  # not every file system knows links
                    shutil.copy2(target, backup)
                backups[target] = backup
        return backups

    def _put_in_place(self, backups: Mapping[Path, Path]) -> None:
        """Rename all staged files to their targets; if one cannot be, the others are put back.

        Raises
        ------
        OSError : naming the target that could not be replaced.
        """
        done: list[Path] = []
        try:
            for target, staged in self._staged.items():
                staged.replace(target)
                done.append(target)
        except OSError:
            for target in done:
                if target in backups:
                    os.replace(backups[target], target)
                else:
                    target.unlink(missing_ok=True)
            raise

    def rollback(self) -> None:
        """Take away what was staged; every output is as it was."""
        self.then.clear()
        for staged in self._staged.values():
            staged.unlink(missing_ok=True)
            Path(f"{staged}-journal").unlink(missing_ok=True)
        self._staged.clear()
        self._gone.clear()
        self._kept.clear()
        for id in self._pushes:
            open_push(id).remove()
        self._pushes.clear()
        for folder in reversed(self._made):
            try:
                folder.rmdir()
            except OSError:
                continue
        self._made.clear()

    def leftovers(self, outputs: Sequence[Planned | Delivered]) -> list[tuple[Path, str]]:
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

    def _journal(self) -> Path | None:
        return None if self._workflow is None else journal_path(self._workflow)


def journal_path(workflow: Path) -> Path:
    """Where the journal of a workflow's commit stands."""
    return workflow.with_name(f".{workflow.stem}.journal.json")


def recover(workflow: Path | None) -> bool:
    """Finish a commit that a crash cut short. True where there was one."""
    if workflow is None or not journal_path(workflow).exists():
        return False
    journal = journal_path(workflow)
    try:
        told = json.loads(journal.read_text(encoding="utf-8"))
    except ValueError:
        # the journal itself was cut short: it was not synced, so nothing had been renamed
        journal.unlink()
        return False
    for staged, target in told["moves"]:
        try:
            os.replace(staged, target)
        except FileNotFoundError:
            continue  # it was put in place before
    moved = {target for _, target in told["moves"]}
    for gone in told.get("gone", ()):
        if gone not in moved:
            Path(gone).unlink(missing_ok=True)
    _write_synced(outputs_path(workflow), told["outputs"])
    journal.unlink()
    return True


def sweep(folders: Sequence[Path]) -> int:
    """Take away staged files of processes that are gone; returns how many."""
    swept = 0
    for folder in folders:
        if not folder.is_dir():
            continue
        for stray in folder.glob(f"{_PREFIX}*"):
            pid = stray.name.removeprefix(_PREFIX).partition("-")[0]
            if pid.isdigit() and not _alive(int(pid)):
                stray.unlink(missing_ok=True)
                swept += 1
    return swept


def _alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def _copy(source: Path, target: Path) -> None:
    """A sound copy of a file; of a GeoPackage with what a write-ahead log still holds."""
    if source.suffix.lower() == targets.GEOPACKAGE.ending:
        sqlite.copy(source, target)
    else:
        shutil.copy2(source, target)


def _write_synced(path: Path, content: Any) -> None:
    waiting = path.with_name(f".{path.name}.new")
    with waiting.open("w", encoding="utf-8") as stream:
        json.dump(content, stream, ensure_ascii=False, indent=1)
        stream.flush()
        os.fsync(stream.fileno())
    waiting.replace(path)
