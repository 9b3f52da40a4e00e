"""Import a project's own code from the very bytes that were hashed, and nothing else that lies there.

Python would otherwise take compiled files, shared libraries and whatever else is called like a module from that folder,
none of which anybody has read. A module that was allowed is compiled here, from memory.
"""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from importlib.abc import InspectLoader, MetaPathFinder
from importlib.machinery import ModuleSpec
from pathlib import Path
from types import CodeType


class AllowedSources(MetaPathFinder):
    """Finds the modules of one folder among sources that lie in memory.

    Parameters
    ----------
    home : the folder; only for names and lines in tracebacks.
    sources : by path from the folder, with slashes.
    """

    def __init__(self, home: Path, sources: Mapping[str, bytes]) -> None:
        self.home = home
        self.sources = dict(sources)

    def find_spec(self, fullname: str, path: Sequence[str] | None, target: object = None) -> ModuleSpec | None:
        parts = fullname.split(".")
        if path is not None and not any(Path(p) == self.home.joinpath(*parts[:-1]) for p in path):
            return None  # a part of somebody else's package
        place = "/".join(parts)
        for name, package in ((f"{place}/__init__.py", True), (f"{place}.py", False)):
            if name in self.sources:
                loader = _FromMemory(self.home / name, self.sources[name], package)
                spec = ModuleSpec(fullname, loader, origin=str(self.home / name), is_package=package)
                spec.has_location = True
                if package:
                    spec.submodule_search_locations = [str((self.home / name).parent)]
                return spec
        if any(n.startswith(f"{place}/") for n in self.sources):  # a folder without an __init__
            spec = ModuleSpec(fullname, None, is_package=True)
            spec.submodule_search_locations = [str(self.home.joinpath(*parts))]
            return spec
        return None

    def begin(self) -> None:
        """Put it before everything else: a project's helper may be called like some library."""
        self.end()
        sys.meta_path.insert(0, self)

    def stay(self) -> None:
        """Go on behind everything else, for imports that its functions make when they run."""
        self.end()
        sys.meta_path.append(self)

    def end(self) -> None:
        """Find nothing any more."""
        if self in sys.meta_path:
            sys.meta_path.remove(self)


class _FromMemory(InspectLoader):
    def __init__(self, file: Path, source: bytes, package: bool) -> None:
        self._file = file
        self._source = source
        self._package = package

    def is_package(self, fullname: str) -> bool:
        return self._package

    def get_source(self, fullname: str) -> str:
        return self._source.decode("utf-8")

    def get_code(self, fullname: str) -> CodeType:
        return self.source_to_code(self._source, str(self._file))
