"""Every case through every format, and ``docs/fidelity.md`` of it: ``make fidelity``."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

from typer.testing import CliRunner

from eskret.cli import app
from tests.fidelity import cases, trial
from tests.fidelity.trial import KEPT, REFUSED, TOLD

_MARKS = {KEPT: "kept", TOLD: "changed, told", REFUSED: "refused before"}
_RANK = (KEPT, TOLD, REFUSED, trial.UNTOLD, trial.FAULT)


def main(endings: Sequence[str] = trial.ENDINGS) -> int:
    """Try all; gives how many went wrong, and writes the page where none did."""
    folder = Path(tempfile.mkdtemp(prefix="fidelity-"))
    tables: dict[str, dict[str, dict[str, str]]] = {"Values": {}, "Shapes": {}}
    notes: dict[str, dict[str, None]] = {e: {} for e in endings}
    wrong = tried = 0
    for ending in endings:
        usual = trial.usual(folder, ending)
        for title, made in (("Values", cases.of_values()), ("Shapes", cases.of_shapes())):
            for name, nulls, layer in made:
                seen = trial.judged(trial.through(folder, layer, ending), usual)
                tried += 1
                if seen.what in (trial.UNTOLD, trial.FAULT):
                    wrong += 1
                    print(f"{ending} {seen.what}: {name}, {nulls}: {seen.differs[:200]}", flush=True)
                # a table says in one row what becomes of shapes as such
                what = KEPT if title == "Values" and seen.differs == trial.COLUMNS else seen.what
                if nulls == "no nulls":
                    tables[title].setdefault(name, {})[ending] = what
                elif title == "Shapes" and name == "points" and nulls in ("a null", "an empty one"):
                    row = tables[title].setdefault("a feature without a shape" if nulls == "a null" else "an empty shape", {})
                    row[ending] = max(row.get(ending, KEPT), what, key=_RANK.index)
                elif title == "Values" and nulls == "a null":
                    row = tables[title].setdefault("no value", {})
                    plain = tables[title].get(name, {}).get(ending, KEPT)
                    row[ending] = max(row.get(ending, KEPT), KEPT if what == plain else what, key=_RANK.index)
                for text in (*seen.foretold, *seen.after):
                    if text not in usual and seen.what != KEPT:
                        notes[ending][text.removeprefix("in: ").replace("'value' ", "").replace("'value': ", "").rstrip(".")] = None
    files, runs, faults = through_every_format(folder, endings)
    wrong += faults
    print(f"fidelity: {tried:,} cases and {files} files of others in {runs:,} runs, {wrong} wrong")
    if not wrong and tuple(endings) == trial.ENDINGS:
        page = Path(__file__).parents[2] / "docs" / "fidelity.md"
        page.write_text(_page(tables, notes, tried), encoding="utf-8")
    return wrong


def through_every_format(folder: Path, endings: Sequence[str]) -> tuple[int, int, int]:
    """Every file that libraries carry, by the command into every format: files, runs, and those that ended in anything but files or
    a sentence."""
    files = [p for p in cases.corpus() if p.stat().st_size < 2_000_000]
    runs = faults = 0
    for number, path in enumerate(files):
        for ending in endings:
            words = ["do", "keep", str(path), "--where", "true", "--undeclared", "EPSG:4326"]
            target = folder / f"{number}" / f"{{layer}}{ending}"
            done = CliRunner().invoke(app, [*words, "--out", str(target)])
            runs += 1
            sentence = done.exit_code == 0 or done.output.rstrip().endswith((".", "?"))
            if "fault of the program" in done.output or done.exit_code not in (0, 1, 2) or not sentence:
                faults += 1
                print(f"{path} to {ending}: {done.output[-300:]}", flush=True)
    return len(files), runs, faults


def _page(tables: dict[str, dict[str, dict[str, str]]], notes: dict[str, dict[str, None]], tried: int) -> str:
    out = [
        "# What each format keeps",
        "",
        f"Made by `make fidelity` from {tried:,} layers that were saved by a workflow, read again and compared value by",
        "value. *kept*: as it was. *changed, told*: the rehearsal or the ledger says so. *refused before*: nothing is written.",
        "Tables hold no shapes: CSV and workbooks get columns of coordinates or text instead, which is told. What is read that is",
        "no UTF-8 is told; see `tests/formats/test_encodings.py`.",
        "",
    ]
    for title, rows in tables.items():
        out += [f"## {title}", "", "| | " + " | ".join(trial.ENDINGS) + " |", "|---" * (len(trial.ENDINGS) + 1) + "|"]
        out += [f"| {name} | " + " | ".join(_MARKS[row[e]] if e in row else "" for e in trial.ENDINGS) + " |" for name, row in rows.items()]
        out.append("")
    out += ["## What is said", ""]
    for ending, said in notes.items():
        out += [f"**{ending}**", "", *(f"* {text}" for text in said), ""]
    return "\n".join(out)


if __name__ == "__main__":
    sys.exit(bool(main(sys.argv[1:] or trial.ENDINGS)))
