"""``python -m tests.golden [REF] [HOW_MANY]``: hold what is here against another version, by default main's parent commit.

Records both in folders beside each other, tells every text that differs, and ends with 1 where there is one. A record of a commit is
kept and taken up again.
"""

from __future__ import annotations

import difflib
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from tests.golden import state

HOME = Path(__file__).parents[2]
KEPT = Path(tempfile.gettempdir()) / "eskret-golden-records"
MOST_LINES = 12


def source_of(ref: str) -> tuple[Path, str]:
    """The ``src`` of a commit, laid out beside this one, and the commit's name."""
    asked = ["git", "rev-parse", "--short", f"{ref}^{{commit}}"]
    commit = subprocess.run(asked, cwd=HOME, capture_output=True, text=True, check=True).stdout.strip()
    place = KEPT / f"source-{commit}"
    if not place.exists():
        place.mkdir(parents=True)
        tree = subprocess.Popen(["git", "archive", commit, "src"], cwd=HOME, stdout=subprocess.PIPE)
        subprocess.run(["tar", "x", "-C", str(place)], stdin=tree.stdout, check=True)
    return place / "src", commit


def environment(source: Path, private: Path) -> dict[str, str]:
    """Of a process that runs this version, with folders of its own."""
    return {
        **os.environ,
        "PYTHONPATH": f"{source}{os.pathsep}{HOME}",
        "XDG_DATA_HOME": str(private / "data"),
        "COLUMNS": "160",
        "XDG_CACHE_HOME": str(private / "cache"),
        "XDG_STATE_HOME": str(private / "state"),
        "QT_QPA_PLATFORM": "offscreen",
    }


def record(source: Path, out: Path, how_many: int) -> Path:
    private = KEPT / "private"
    shutil.rmtree(private, ignore_errors=True)
    shutil.rmtree(out, ignore_errors=True)
    subprocess.run(
        [sys.executable, "-W", "ignore", "-m", "tests.golden.record", str(out), str(how_many)],
        cwd=HOME,
        env=environment(source, private),
        check=True,
    )
    return out


def differences(before: Path, after: Path) -> int:
    """Tell the texts that differ; how many."""
    names = sorted({p.relative_to(f) for f in (before, after) for p in f.rglob("*") if p.is_file()})
    count = 0
    for name in names:
        a, b = ((f / name).read_text("utf-8").split("\n") if (f / name).exists() else [] for f in (before, after))
        if a != b:
            count += 1
            print(f"{name} differs")
            for line in list(difflib.unified_diff(a, b, lineterm="", n=0))[2 : 2 + MOST_LINES]:
                print(f"    {line[:300]}")
    return count


def main() -> int:
    ref = sys.argv[1] if len(sys.argv) > 1 else "HEAD"
    how_many = int(sys.argv[2]) if len(sys.argv) > 2 else 200
    source, commit = source_of(ref)
    before = KEPT / f"{commit}-{how_many}"
    if not before.exists():
        record(source, before, how_many)
    after = record(HOME / "src", KEPT / "now", how_many)
    count = differences(before, after)
    print(f"{count} of {sum(1 for p in before.rglob('*') if p.is_file())} texts differ from {commit}")
    wrong = state.held(source, HOME / "src")
    print("\n".join(wrong) or f"what {commit} keeps for a user is taken up: runs, pushes, what can be taken back, trust, consents")
    return 1 if count or wrong else 0


if __name__ == "__main__":
    sys.exit(main())
