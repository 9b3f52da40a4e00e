"""The README as a package index shows it: there is no folder beside it there, so what it links to needs a whole address, or is left out.

python packaging/readme_for_index.py README.md https://…/the/files/of/this/version
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

_PICTURE = re.compile(r"!\[([^\]]*)\]\((?!https?:)([^)]+)\)")
_LINK = re.compile(r"(?<!!)\[([^\]]*)\]\((?!https?:|#)([^)]+)\)")


def for_index(text: str, at: str = "") -> str:
    """The text with pictures and links that lead somewhere.

    Parameters
    ----------
    at : the address below which the files of this version are; without one pictures go, with the tables that hold nothing else, and
        links become plain words.
    """
    if at:
        base = at.rstrip("/")
        return _LINK.sub(rf"[\1]({base}/\2)", _PICTURE.sub(rf"![\1]({base}/\2)", text))
    blocks = [b for b in text.split("\n\n") if not _only_pictures(b)]
    return _LINK.sub(r"\1", _PICTURE.sub("", "\n\n".join(blocks)))


def _only_pictures(block: str) -> bool:
    lines = block.strip().splitlines()
    rows = [line for line in lines if line.strip("|-: ")]
    return bool(rows) and all(_PICTURE.search(line) for line in rows)


if __name__ == "__main__":
    path = Path(sys.argv[1])
    path.write_text(for_index(path.read_text(), sys.argv[2] if len(sys.argv) > 2 else ""))
