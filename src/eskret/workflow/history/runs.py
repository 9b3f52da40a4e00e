"""Every run that was made: when, of which version of which workflow, with which values, and what came of it.

Kept in the user's data folder, as a database; beside it the features that were delivered, as long as there is room for them.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import sqlite3
from collections.abc import Generator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from eskret.core.files.user_state import data_place, private_file
from eskret.errors import Code, EskretError, InputError
from eskret.formats import geopackage
from eskret.formats.geopackage import digest
from eskret.operations.base import Delivered
from eskret.workflow.cache.cached_layer import CachedLayer, facts_of, link_rows
from eskret.workflow.model.document import Document, parse
from eskret.workflow.outputs.records import digest_file
from eskret.workflow.run.engine import Run, RunResult
from eskret.workflow.run.foreach import ForEachResult, ForEachRun

ROOM = 2 * 1024**3
"""Bytes of features that are kept of earlier runs."""
WINDOW, COMMAND, PYTHON = "window", "command line", "Python"

_TABLES = """
CREATE TABLE IF NOT EXISTS runs (
    id INTEGER PRIMARY KEY, started TEXT, seconds REAL, state TEXT, title TEXT, workflow TEXT, folder TEXT, version TEXT,
    document TEXT, given TEXT, told TEXT, search TEXT, batch INTEGER, label TEXT, how TEXT, error TEXT, features INTEGER);
CREATE TABLE IF NOT EXISTS outputs (
    run INTEGER, path TEXT, layer TEXT, step TEXT, features INTEGER, sha256 TEXT, content TEXT, number INTEGER, facts TEXT);
CREATE INDEX IF NOT EXISTS outputs_of ON outputs (run);
CREATE INDEX IF NOT EXISTS runs_of ON runs (workflow);
CREATE TABLE IF NOT EXISTS held (run INTEGER, file INTEGER, bytes INTEGER, PRIMARY KEY (run, file)) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS held_file ON held (file);
CREATE TABLE IF NOT EXISTS room (bytes INTEGER);
"""


@dataclass(frozen=True)
class Output:
    """What a run left: a file, or a layer of one. ``number`` is where its features are kept, -1 where they are not."""

    path: str
    layer: str
    step: str
    features: int
    sha256: str
    content: str = ""
    number: int = -1
    facts: Mapping[str, Any] = field(default_factory=dict)

    @property
    def name(self) -> str:
        """The file and the layer, for a person."""
        return Path(self.path).name + (f", {self.layer}" if self.layer else "")


@dataclass(frozen=True)
class Kept:
    """A run of earlier. ``version`` is a digest of the workflow as it was, ``batch`` the first run of those that were its
    rounds, 0 for one by itself, ``label`` its round, ``how`` from where it was started."""

    id: int
    started: str
    seconds: float
    state: str
    title: str
    workflow: str
    folder: str
    version: str
    given: Mapping[str, Any]
    batch: int
    label: str
    how: str
    error: str
    features: int

    @property
    def file(self) -> str:
        return Path(self.workflow).name if self.workflow else "not saved"


@dataclass(frozen=True)
class Whole:
    """A run of earlier with all that is known of it."""

    kept: Kept
    text: str
    told: Mapping[str, Any]
    outputs: tuple[Output, ...]

    @cached_property
    def document(self) -> Document:
        return parse(self.text)


_COLUMNS = "id, started, seconds, state, title, workflow, folder, version, given, batch, label, how, error, features"


class Runs:
    """The runs of whoever is at work. Reading never fails for want of the database: then there are none."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder or data_place()
        self._path = self.folder / "runs.sqlite"

    @contextmanager
    def _open(self) -> Generator[sqlite3.Connection, None, None]:
        db = sqlite3.connect(private_file(self._path), timeout=10)
        try:
            db.execute("PRAGMA journal_mode = WAL")
            db.executescript(_TABLES)
            with db:
                yield db
        finally:
            db.close()

    # -- keeping

    def keep(self, run: Run, result: RunResult, how: str) -> int:
        """Keep a run and the features that it delivered; its number.

        Raises
        ------
        InputError : it cannot be written down.
        """
        id = self._keep(run, result, how)
        self._make_room([id])
        return id

    def _keep(self, run: Run, result: RunResult, how: str, batch: int = 0, label: str = "") -> int:
        told = result.to_json()
        text = run.document.to_text()
        version = hashlib.sha256(text.encode()).hexdigest()[:12]
        texts = [result.title, str(run.workflow or ""), label, result.error, *map(str, told["values"].values())]
        texts += [f"{o.path} {o.layer}" for o in result.outputs]
        texts += [r["text"] for s in told["steps"] for r in s["remarks"]]
        given = {k: told["values"].get(k, v) for k, v in (run.values or {}).items()}
        try:
            with self._open() as db:
                cursor = db.execute(
                    "INSERT INTO runs (started, seconds, state, title, workflow, folder, version, document, given, told, search, "
                    "batch, label, how, error, features) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    (
                        result.started,
                        result.seconds,
                        result.state,
                        result.title,
                        str(run.workflow or ""),
                        str(run.folder),
                        version,
                        text,
                        _json(given),
                        _json(told),
                        "\n".join(texts).casefold(),
                        batch,
                        label,
                        how,
                        result.error,
                        sum(o.features for o in result.outputs),
                    ),
                )
                id = int(cursor.lastrowid or 0)
                if batch < 0:
                    db.execute("UPDATE runs SET batch = ? WHERE id = ?", (id, id))
                held = {(d.path, d.layer, d.step): x for d, x in result.held}
                for number, one in enumerate(result.outputs):
                    db.execute("INSERT INTO outputs VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", self._output(id, number, one, held))
        except (sqlite3.Error, OSError) as error:
            raise InputError(f"the run cannot be written down ({error})", place=str(self._path)) from error
        return id

    def keep_rounds(self, run: ForEachRun, result: ForEachResult, how: str) -> list[int]:
        """Keep every round of a run that was run; their numbers.

        Raises
        ------
        InputError : they cannot be written down.
        """
        done = {(o.path, o.layer, o.step): o for o in result.outputs}
        ids: list[int] = []
        for one, made in zip(result.rounds, run.runs, strict=False):
            if one.run is None or made is None:
                continue
            outputs = tuple(done[k] for o in one.run.outputs if (k := (o.path, o.layer, o.step)) in done)
            told = replace(one.run, outputs=outputs)
            ids.append(self._keep(made, told, how, batch=ids[0] if ids else -1, label=one.label))
        self._make_room(ids)
        return ids

    def _output(self, run: int, number: int, one: Delivered, held: Mapping[Any, CachedLayer]) -> tuple[Any, ...]:
        layer = held.get((one.path, one.layer, one.step))
        place, facts = -1, {}
        if layer is not None and link_rows(layer.home, self._home(run) / str(number)):
            place, facts = number, facts_of(layer)
        return (run, str(one.path), one.layer, one.step, one.features, one.sha256, one.content, place, _json(facts))

    def _home(self, run: int) -> Path:
        return self.folder / "runs" / str(run)

    def _make_room(self, ids: Sequence[int]) -> None:
        """Let go of the features of the oldest runs, where there is too much of them. What there is stands in the database, so
        that a thousand runs are not looked through for the next.

        Parameters
        ----------
        ids : the runs that came last.
        """
        gone: list[int] = []
        try:
            with self._open() as db:
                db.execute("BEGIN IMMEDIATE")
                if db.execute("SELECT count(*) FROM room").fetchone()[0] == 0:
                    db.execute("INSERT INTO room VALUES (0)")
                    ids = sorted(int(p.name) for p in (self.folder / "runs").glob("*") if p.name.isdigit())
                for id in ids:
                    self._count(db, id)
                while db.execute("SELECT bytes FROM room").fetchone()[0] > ROOM:
                    (oldest,) = db.execute("SELECT min(run) FROM held").fetchone()
                    if oldest is None:
                        break
                    _uncount(db, oldest)
                    gone.append(oldest)
        except (sqlite3.Error, OSError):
            return  # the run is written down; what is too much goes at the next
        for id in gone:
            shutil.rmtree(self._home(id), ignore_errors=True)

    def _count(self, db: sqlite3.Connection, run: int) -> None:
        """Note the files of a run; one that several runs have counts once."""
        for path in self._home(run).rglob("*"):
            if not path.is_file():
                continue
            stat = path.stat()
            known = db.execute("SELECT 1 FROM held WHERE file = ? LIMIT 1", (stat.st_ino,)).fetchone()
            db.execute("INSERT OR IGNORE INTO held VALUES (?, ?, ?)", (run, stat.st_ino, stat.st_size))
            if not known:
                db.execute("UPDATE room SET bytes = bytes + ?", (stat.st_size,))

    # -- looking

    def find(self, words: str = "", workflow: Path | None = None, most: int = 500) -> list[Kept]:
        """Runs, the last first: those that have all these words in their title, values, outputs or messages.

        Parameters
        ----------
        workflow : only those of this file.
        """
        wanted = words.casefold().split()
        where = ["1"] + ["search LIKE ? ESCAPE '\\'" for _ in wanted] + (["workflow = ?"] if workflow else [])
        values: list[Any] = [f"%{_literal(w)}%" for w in wanted] + ([str(workflow.resolve())] if workflow else [])
        try:
            with self._open() as db:
                rows = db.execute(
                    f"SELECT {_COLUMNS} FROM runs WHERE {' AND '.join(where)} ORDER BY id DESC LIMIT ?", [*values, most]
                ).fetchall()
        except (sqlite3.Error, OSError):
            return []
        return [_kept(r) for r in rows]

    def get(self, id: int) -> Whole:
        """A run with all that is known of it.

        Raises
        ------
        InputError : there is none of this number.
        """
        try:
            with self._open() as db:
                row = db.execute(f"SELECT {_COLUMNS}, document, told FROM runs WHERE id = ?", (id,)).fetchone()
                outputs = db.execute(
                    "SELECT path, layer, step, features, sha256, content, number, facts FROM outputs WHERE run = ? ORDER BY rowid", (id,)
                ).fetchall()
        except (sqlite3.Error, OSError) as error:
            raise InputError(f"the runs cannot be read ({error})", place=str(self._path)) from error
        if row is None:
            raise InputError(f"there is no run {id}", way_out="'eskret runs' lists those that there are", code=Code.NOT_THERE)
        names = ("path", "layer", "step", "features", "sha256", "content", "number")
        found = tuple(Output(**dict(zip(names, r, strict=False)), facts=json.loads(r[-1])) for r in outputs)
        return Whole(_kept(row[:-2]), row[-2], json.loads(row[-1]), found)

    def layer(self, run: int, output: Output) -> CachedLayer | None:
        """The features of an output as they were; None where they are not kept any more."""
        home = self._home(run) / str(output.number)
        if output.number < 0 or not home.is_dir():
            return None
        return CachedLayer.from_facts(output.facts, home, f"run-{run}-{output.number}")

    def versions(self) -> Mapping[str, Mapping[str, int]]:
        """The versions of every workflow, numbered from 1 as they came up."""
        try:
            with self._open() as db:
                rows = db.execute("SELECT workflow, version FROM runs GROUP BY workflow, version ORDER BY min(id)").fetchall()
        except (sqlite3.Error, OSError):
            return {}
        found: dict[str, dict[str, int]] = {}
        for workflow, version in rows:
            of = found.setdefault(workflow, {})
            of[version] = len(of) + 1
        return found

    def remove(self, ids: Sequence[int]) -> None:
        """Forget runs.

        Raises
        ------
        InputError : they cannot be taken out.
        """
        try:
            with self._open() as db:
                for id in ids:
                    db.execute("DELETE FROM runs WHERE id = ?", (id,))
                    db.execute("DELETE FROM outputs WHERE run = ?", (id,))
                    _uncount(db, id)
        except (sqlite3.Error, OSError) as error:
            raise InputError(f"they cannot be taken out ({error})", place=str(self._path)) from error
        for id in ids:
            shutil.rmtree(self._home(id), ignore_errors=True)


def _uncount(db: sqlite3.Connection, run: int) -> None:
    """Forget the files of a run; room is made by those that no other run has."""
    db.execute(
        "UPDATE room SET bytes = bytes - coalesce((SELECT sum(bytes) FROM held AS mine WHERE run = ? AND NOT EXISTS "
        "(SELECT 1 FROM held AS other WHERE other.file = mine.file AND other.run <> mine.run)), 0)",
        (run,),
    )
    db.execute("DELETE FROM held WHERE run = ?", (run,))


def output_now(path: Path, layer: str, told: str) -> str:
    """Whether an output is as it was left: ``same``, ``changed`` or ``gone``.

    Parameters
    ----------
    told : the digest that was written down: of the layer's rows, or of the file.
    """
    if not path.is_file():
        return "gone"
    try:
        if not layer:
            return "same" if digest_file(path) == told else "changed"
        if layer not in geopackage.layer_list(path):
            return "gone"
        return "same" if digest.layer_digest(path, layer) == told else "changed"
    except (EskretError, OSError):
        return "changed"


def write_down(run: Run, result: RunResult, how: str) -> str:
    """Keep a run; what hindered that, as a sentence, since it is no reason for the run to fail."""
    try:
        Runs().keep(run, result, how)
    except EskretError as error:
        return error.sentence()
    return ""


def write_down_rounds(run: ForEachRun, result: ForEachResult, how: str) -> str:
    """As ``write_down``, for every round of a run in rounds."""
    try:
        Runs().keep_rounds(run, result, how)
    except EskretError as error:
        return error.sentence()
    return ""


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, default=str)


def _literal(word: str) -> str:
    return word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def _kept(row: Sequence[Any]) -> Kept:
    values = list(row)
    values[8] = json.loads(values[8])
    return Kept(*values)
