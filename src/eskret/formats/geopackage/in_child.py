"""Change a GeoPackage in a small process of its own.

SQLite's locks belong to a process (``core/files/alone.py``). The child opens the file by nothing but SQLite. If the parent
dies before the commit point, the child sees the end of its input and rolls back.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from eskret.core.files.alone import is_alone
from eskret.errors import Code, DeliveryError, EskretError, TargetChangedError
from eskret.formats.geopackage import contents
from eskret.formats.geopackage.in_place import GeoPackageInPlace, LayerChange, Seen


def in_place(target: Path, staged: Path, changes: Sequence[LayerChange], seen: Seen | None) -> GeoPackageInPlace:
    """The participant that changes a GeoPackage where it is, in this process or in a child."""
    return (GeoPackageInPlace if is_alone() else _Apart)(target, staged, changes, seen)


def change_store(path: Path, **asked: Any) -> None:
    """``contents.change``, in this process or in a child."""
    if is_alone():
        contents.change(path, **asked)
        return
    child = _Child()
    try:
        child.ask({"do": "store", "path": str(path), "asked": asked})
    finally:
        child.end()


class _Apart(GeoPackageInPlace):
    """The same, done in a child."""

    def __init__(self, target: Path, staged: Path, changes: Sequence[LayerChange], seen: Seen | None = None) -> None:
        super().__init__(target, staged, changes, seen)
        self._child: _Child | None = None

    def prepare(self) -> None:
        self._child = _Child()
        seen = None if self.seen is None else [list(s) for s in self.seen.stamps]
        racy = self.seen is not None and self.seen.racy
        told = self._child.ask({"do": "prepare", **self.to_json(), "seen": seen, "racy": racy})
        self.changes = [LayerChange.from_json(c) for c in told["changes"]]

    def complete(self) -> list[tuple[Path, str]]:
        assert self._child is not None
        try:
            told = self._child.ask({"do": "complete"})
            return [(Path(p), str(why)) for p, why in told["problems"]]
        except EskretError as error:
            return [(self.target, error.problem)]
        finally:
            self.abandon()

    def abandon(self) -> None:
        if self._child is not None:
            self._child.end()
            self._child = None
        super().abandon()


class _Child:
    """The child, as its parent sees it."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-P", "-m", "eskret.formats.geopackage.in_child"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            encoding="utf-8",
        )

    def ask(self, request: Mapping[str, Any]) -> dict[str, Any]:
        """Ask for one thing and wait for the answer.

        Raises
        ------
        EskretError : as the child raised it.
        """
        assert self._process.stdin is not None and self._process.stdout is not None
        try:
            self._process.stdin.write(json.dumps(request) + "\n")
            self._process.stdin.flush()
            answer = self._process.stdout.readline()
        except (BrokenPipeError, ValueError):
            answer = ""
        if not answer:
            raise DeliveryError("the process that changes the GeoPackage ended before its time", code=Code.FAULT)
        told: dict[str, Any] = json.loads(answer)
        if "error" in told:
            kind = {"changed": TargetChangedError, "delivery": DeliveryError}.get(told["kind"], EskretError)
            raise kind(told["error"], place=told["place"], way_out=told["way_out"], code=Code(told["code"]))
        return told

    def end(self) -> None:
        """No more requests: what was not committed is rolled back."""
        with suppress(OSError, ValueError):
            if self._process.stdin is not None:
                self._process.stdin.close()
        self._process.wait()
        if self._process.stdout is not None:
            self._process.stdout.close()


def serve() -> None:
    """Answer the requests on standard input, one line each."""
    answers = sys.stdout
    held: GeoPackageInPlace | None = None
    for line in sys.stdin:
        request = json.loads(line)
        try:
            if request["do"] == "store":
                contents.change(Path(request["path"]), **request["asked"])
                told: dict[str, Any] = {}
            elif request["do"] == "prepare":
                held = GeoPackageInPlace.from_json(request, lambda path: path)
                if request["seen"] is not None:
                    held.seen = Seen(tuple(tuple(s) for s in request["seen"]), request["racy"])
                held.prepare()
                told = held.to_json()
            else:
                assert held is not None
                told = {"problems": [[str(p), why] for p, why in held.complete()]}
        except EskretError as error:
            kind = "changed" if isinstance(error, TargetChangedError) else "delivery"
            told = {"error": error.problem, "place": error.place, "way_out": error.way_out, "code": error.code, "kind": kind}
        except OSError as error:
            told = {
                "error": error.strerror or str(error),
                "place": str(error.filename or ""),
                "way_out": "",
                "code": Code.GENERAL,
                "kind": "delivery",
            }
        answers.write(json.dumps(told) + "\n")
        answers.flush()
    if held is not None:
        held.abandon()


if __name__ == "__main__":
    serve()
