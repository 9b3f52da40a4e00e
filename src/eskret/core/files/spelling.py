"""Whether the names in a path can be written down and told to others."""

from __future__ import annotations

import os
from pathlib import Path

from eskret.errors import Code, InputError


def check_spelling(path: Path) -> None:
    """Refuse a path whose names are no UTF-8: libraries cannot be told it, and no record can hold it.

    Raises
    ------
    InputError : naming the folder or file.
    """
    raw = os.fsencode(path)
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError as error:
        shown = raw.decode("utf-8", "replace")
        bad = next(part for part in shown.split("/") if "\ufffd" in part)
        raise InputError(
            f"the name '{bad}' was written in an old encoding, not in UTF-8, so it cannot be told to the libraries or written down",
            place=shown,
            way_out="Rename it, with letters that you can read here",
            code=Code.UNDECODABLE,
        ) from error
