"""Tidy up a GeoPackage: rename, remove and assign layers in bulk, all of it or nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from eskret.core.files.missing import near
from eskret.core.naming import folded
from eskret.errors import Code, DeliveryError
from eskret.formats.geopackage import writer


def change(
    path: Path, *, rename: Mapping[str, str] | None = None, remove: Sequence[str] = (), section: Mapping[str, str] | None = None
) -> None:
    """Change the layers of a file.

    It is one transaction of the database: whoever has the file open goes on with it and sees it old or new, and a failure
    leaves it as it was.

    Parameters
    ----------
    rename : new names by old ones; names may be swapped.
    remove : layers to take out.
    section : for layers, the section they shall belong to; empty for none.

    Raises
    ------
    DeliveryError : there is no such file or layer, a name is taken, a layer is in another CRS than its section, or the
        file cannot be written.
    """
    if not path.exists():
        raise DeliveryError("there is no such file", place=str(path), way_out=near(path) or "Check its name", code=Code.NOT_THERE)
    rename, section = rename or {}, section or {}
    try:
        with writer.writing(path, in_place=True) as store:
            names = _all_there(path, store.names(), [*rename, *remove, *section])
            for name in remove:
                store.remove(names[folded(name)])
            # every one to a name that nobody has first, so that names can be swapped
            taken = {folded(n) for n in [*store.names(), *rename.values()]}
            between = {}
            for number, old in enumerate(rename):
                between[old] = next(f"layer_{n}" for n in range(number, 10_000) if f"layer_{n}" not in taken)
                taken.add(between[old])
                store.rename(names[folded(old)], between[old])
            for old, new in rename.items():
                store.rename(between[old], new)
            for name, called in section.items():
                new = rename.get(name, names[folded(name)])
                store.assign(new, called)
    except OSError as error:
        raise DeliveryError(f"it cannot be changed ({error.strerror})", place=str(path)) from error
    except DeliveryError as error:
        error.at(str(path))
        raise


def _all_there(path: Path, names: Sequence[str], asked: Sequence[str]) -> dict[str, str]:
    there = {folded(n): n for n in names}
    for name in asked:
        if folded(name) not in there:
            raise DeliveryError(f"there is no layer '{name}'", place=str(path), way_out=f"There are {', '.join(names) or 'none'}")
    return there
