"""What a workflow wrote, remembered beside it in ``NAME.outputs.json``: so that a second run knows its own.

The file travels with the project, so anybody may have written it. It is a hint: an output counts as the workflow's own only
when its content has the digest that stands there.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from eskret.core.files.atomic import write_whole
from eskret.core.files.hashing import hash_file
from eskret.core.files.user_state import cache_place
from eskret.errors import EskretError
from eskret.formats.geopackage import digest
from eskret.workflow.cache.file_hashes import FileHashes, stamps_at


@dataclass(frozen=True)
class FileRecord:
    """A file as the workflow left it. ``layers`` gives a digest for each layer of a container, ``of`` the file that this one
    belongs to, such as the table of a shapefile."""

    sha256: str
    size: int
    modified_ns: int
    layers: Mapping[str, str] = field(default_factory=dict)
    of: str = ""

    def to_json(self) -> dict[str, Any]:
        told = {"sha256": self.sha256, "size": self.size, "modified_ns": self.modified_ns, "layers": dict(self.layers)}
        return {**told, "of": self.of} if self.of else told


def digest_file(path: Path) -> str:
    """SHA-256 of a file's bytes, in hexadecimal; taken anew only where the file was written since it was last taken."""
    return stamps().digest(path)


def stamps() -> FileHashes:
    """The digests that this user's programs took of files."""
    return stamps_at(cache_place("digests.sqlite"))


class Outputs:
    """The records of one workflow. Paths are kept relative to its folder, so it may move to another machine."""

    def __init__(self, folder: Path, files: Mapping[str, FileRecord] | None = None) -> None:
        self.folder = folder
        self.files: dict[str, FileRecord] = dict(files or {})

    @classmethod
    def beside(cls, workflow: Path | None, folder: Path) -> Outputs:
        """The records beside a workflow file; none where there is no file yet or it cannot be understood."""
        if workflow is None or not outputs_path(workflow).exists():
            return cls(folder)
        try:
            raw = json.loads(outputs_path(workflow).read_text(encoding="utf-8"))["files"]
            files = {str(name): _record(r) for name, r in raw.items()}
        except (ValueError, KeyError, TypeError, AttributeError, OSError):
            return cls(folder)
        return cls(folder, files)

    def name_of(self, path: Path) -> str:
        """How a path stands in the records."""
        try:
            return path.resolve().relative_to(self.folder.resolve()).as_posix()
        except ValueError:
            return path.resolve().as_posix()

    def record(self, path: Path) -> FileRecord | None:
        return self.files.get(self.name_of(path))

    def untouched(self, path: Path) -> bool:
        """Whether the file is one that this workflow wrote and nobody changed since."""
        known = self.record(path)
        if known is None or not path.is_file():
            return False
        # the time that stands there proves nothing: whoever wrote the record could write any
        return path.stat().st_size == known.size and digest_file(path) == known.sha256

    def whole(self, path: Path) -> bool:
        """Whether the file and all that belong to it are as this workflow wrote them."""
        name = self.name_of(path)
        belong = [n for n, r in self.files.items() if r.of == name]
        return self.untouched(path) and all(self.untouched(self.folder / n) for n in belong)

    def layers_untouched(self, path: Path, layers: Iterable[str]) -> set[str]:
        """Of these layers of a container those that this workflow wrote and nobody changed since."""
        known = self.record(path)
        asked = [n for n in layers if known is not None and n in known.layers]
        if known is None or not asked:
            return set()
        if self.untouched(path):
            return set(asked)
        try:
            now = digest.layer_digests(path, asked, known.layers)
        except EskretError:
            return set()
        return {n for n in asked if now.get(n) == known.layers[n]}

    @classmethod
    def remember(cls, workflow: Path, folder: Path, fresh: Mapping[Path, FileRecord], waiting: Path | None = None) -> None:
        """Put records of what was written into the file beside the workflow, whose folder is locked: what another run of it
        remembered meanwhile stays.

        Raises
        ------
        OSError : it cannot be written.
        """
        known = cls.beside(workflow, folder)
        for path, record in fresh.items():
            name = known.name_of(Path(path))
            old = known.files.get(name)
            # layers of earlier runs stay this workflow's own while they are in the file
            older = {n: x for n, x in (old.layers if old else {}).items() if n not in record.layers}
            known.files[name] = replace(record, layers={**older, **record.layers})
            stamps().note(Path(path), record.sha256)
        stamps().save()
        write_whole(outputs_path(workflow), json.dumps(known.to_json(), ensure_ascii=False, indent=1), waiting=waiting)

    def to_json(self) -> dict[str, Any]:
        return {
            "about": "What this workflow wrote, so that a second run may replace it.",
            "files": {n: r.to_json() for n, r in sorted(self.files.items())},
        }


def _record(told: Any) -> FileRecord:
    """A record as it stands in the file.

    Raises
    ------
    KeyError, TypeError, ValueError : it does not say what it must.
    """
    layers = {str(n): str(x) for n, x in told.get("layers", {}).items()}
    return FileRecord(str(told["sha256"]), int(told["size"]), int(told["modified_ns"]), layers, str(told.get("of", "")))


def outputs_path(workflow: Path) -> Path:
    """Where the records of a workflow's outputs stand."""
    return workflow.with_name(f"{workflow.stem}.outputs.json")


def record_of(path: Path, layers: Mapping[str, str], known: FileRecord | None = None) -> FileRecord:
    """A record of a file as it stands; ``layers`` are those written into it, with digests of their rows.

    Parameters
    ----------
    known : a record taken a moment ago, whose digest holds if the file was not written since.
    """
    stat = path.stat()
    if known is not None and (known.size, known.modified_ns) == (stat.st_size, stat.st_mtime_ns):
        return replace(known, layers=dict(layers))
    return FileRecord(hash_file(path), stat.st_size, stat.st_mtime_ns, dict(layers))
