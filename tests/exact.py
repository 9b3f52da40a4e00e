"""What operations are held against, and how far they are from it: asserted as any test does, and noted for docs/exactness.md.

``python -m tests.exact`` runs the tests that note something and writes that page.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from eskret.operations import all_operations

NOTES = "ESKRET_EXACT"
HOME = Path(__file__).parent.parent
KARNEY = "geographiclib (Karney, J. Geodesy 87, 2013)"
OTHER_ENGINE = "pyclipper (Vatti's algorithm)"
GUIDANCE = "IOGP Guidance Note 7-2, worked examples, figures from memory"
STANDARD = "OGC 06-103r4, DE-9IM patterns"
NULLS = "ISO 9075, null logic, worked out by hand"
ARITHMETIC = "Python's own arithmetic (fsum, decimal)"
FRAMES = "GeoPandas' own tests"
THERE_AND_BACK = "there and back, by PROJ"
PLAIN = "plain geometry, every pair"


def close(operation: str, reference: str, got: Any, wanted: Any, *, rel: float = 0.0, abs_: float = 0.0, unit: str = "") -> None:
    """Assert that figures are within a relative or an absolute tolerance of those of a reference, and note it."""
    a, b = np.atleast_1d(np.asarray(got, float)), np.atleast_1d(np.asarray(wanted, float))
    off = np.abs(a - b)
    good = off <= np.maximum(rel * np.abs(b), abs_)
    worst = float(np.max(off / np.maximum(np.abs(b), 1e-300), where=np.abs(b) > 0, initial=0.0)) if rel else float(off.max(initial=0.0))
    _note(operation, reference, len(a), int(good.sum()), worst, rel or abs_, "" if rel else unit)
    assert good.all(), (operation, reference, a[~good][:3], b[~good][:3])


def same(operation: str, reference: str, got: Any, wanted: Any) -> None:
    """Assert that an answer is that of a reference, and note it."""
    _note(operation, reference, 1, int(got == wanted), 0.0, 0.0, "")
    assert got == wanted, (operation, reference, got, wanted)


def counted(operation: str, reference: str, cases: int, passed: int) -> None:
    """Note cases that were compared elsewhere."""
    _note(operation, reference, cases, passed, 0.0, 0.0, "")


def _note(operation: str, reference: str, cases: int, passed: int, worst: float, allowed: float, unit: str) -> None:
    if os.environ.get(NOTES):
        told = {
            "operation": operation,
            "reference": reference,
            "cases": cases,
            "passed": passed,
            "worst": worst,
            "allowed": allowed,
            "unit": unit,
        }
        with Path(os.environ[NOTES]).open("a") as file:
            file.write(json.dumps(told) + "\n")


def page(notes: list[dict]) -> str:
    """The page of them all: a line for each operation and reference."""
    lines: dict[tuple[str, str], dict] = {}
    for one in notes:
        line = lines.setdefault((one["operation"], one["reference"]), {"cases": 0, "passed": 0, "worst": 0.0, "allowed": 0.0, "unit": ""})
        line["cases"] += one["cases"]
        line["passed"] += one["passed"]
        if one["worst"] >= line["worst"]:
            line["worst"], line["unit"] = one["worst"], one["unit"]
        line["allowed"] = max(line["allowed"], one["allowed"])
    titles = {o.id: o.title for o in all_operations().values()}
    out = [
        "# How exact it is",
        "",
        "Made by `make exactness`: each operation against references outside the program. A difference without a unit is a share of the",
        "figure; *exact* means that the answer is the same. Cases are drawn anew with each run, so that their number varies a little.",
        "",
        "| Operation | Reference | Cases | Passed | Largest difference | Allowed |",
        "| --- | --- | ---: | ---: | ---: | ---: |",
    ]
    for (operation, reference), line in sorted(lines.items(), key=lambda p: (titles.get(p[0][0], p[0][0]), p[0][1])):
        figures = [f"{line[n]:.1e} {line['unit']}".strip() if line["allowed"] else "exact" for n in ("worst", "allowed")]
        out.append(f"| {titles.get(operation, operation)} | {reference} | {line['cases']:,} | {line['passed']:,} | {' | '.join(figures)} |")
    rest = ", ".join(sorted(titles[o] for o in titles if o not in {o for o, _ in lines}))
    out += [
        "",
        f"No outside reference, but for the accounts, which the tests prove over layers drawn at random: {rest}.",
        "",
        "GeoPandas' tests are its own suite: every clip, overlay, join by place and dissolve in it is done by Eskret too, and both",
        "results are compared. The differences, with their reason, stand in `tests/reference/test_frames.py`.",
    ]
    return "\n".join(out) + "\n"


def main() -> int:
    """Run the tests that note something, and write the page."""
    noting = [str(p) for p in sorted((HOME / "tests").rglob("test_*.py")) if "tests.exact import" in p.read_text()]
    with tempfile.TemporaryDirectory() as folder:
        notes = Path(folder) / "notes.jsonl"
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-q", "-n", "auto", *noting], cwd=HOME, env={**os.environ, NOTES: str(notes)}
        )
        if done.returncode:
            return done.returncode
        (HOME / "docs" / "exactness.md").write_text(page([json.loads(line) for line in notes.read_text().splitlines()]))
    return 0


if __name__ == "__main__":
    sys.exit(main())
