"""A file to start from, for an operation of one's own."""

from __future__ import annotations

from pathlib import Path

from eskret.core.naming import clean_name
from eskret.errors import DocumentError
from eskret.user_operations import trust

_TEXT = '''"""{title}: an operation of this project's own."""

from __future__ import annotations

from geopandas import GeoDataFrame

import eskret


@eskret.operation(title="{title}", phase="Shape", also_known_as=["other words for it"])
def {name}(
    layer: GeoDataFrame,
    distance: float = eskret.setting("Distance", help="In the unit of the layer.", default=10.0, ge=0),
    account: eskret.Account = None,
) -> GeoDataFrame:
    """Say in one line what it does.

    Then how to use it. The rows keep their labels (the index): they tell which row became which, so that the ledger
    balances. Rows that do not leave are set aside with a reason.
    """
    if layer.crs is not None and layer.crs.is_geographic:
        # what can be put right by whoever uses it: one sentence, and the way out
        raise eskret.EskretError("the coordinates are degrees", way_out="Bring the layer to another CRS first")
    empty = layer.geometry.is_empty | layer.geometry.isna()
    account.set_aside(empty, "has no shape")
    kept = layer[~empty]
    return kept.set_geometry(kept.buffer(distance))
'''


def new_operation(folder: Path, title: str) -> Path:
    """Write a file to start from, trusted as written here.

    Raises
    ------
    DocumentError : the title leaves no name, or there is such a file.
    """
    name = clean_name(title)
    if not name or name[0].isdigit() or not name.isidentifier():
        raise DocumentError(f"'{title}' leaves no name for a function", way_out="Begin with a letter")
    path = folder / trust.FOLDER / f"{name}.py"
    if path.exists():
        raise DocumentError("there is such a file already", place=str(path), way_out="Choose another title")
    first, known = not trust.code_in(folder), trust.is_trusted(folder)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(_TEXT.format(title=title.replace('"', "'"), name=name), encoding="utf-8")
    except OSError as error:
        raise DocumentError(f"it cannot be written ({error.strerror})", place=str(path)) from error
    if known:
        # where nothing lay before, all that is there is written here; else only what was trusted stays so, with this file
        trust.trust(folder, written_here=first)
    return path
