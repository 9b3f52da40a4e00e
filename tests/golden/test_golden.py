"""That the golden record sees a difference, and that the drawn workflows do what they were drawn for."""

from __future__ import annotations

from pathlib import Path

import pytest

from eskret import Workflow
from eskret.errors import EskretError
from eskret.operations import all_operations
from tests.golden import drawn, record
from tests.golden.__main__ import differences


def test_a_text_that_differs_is_told_and_times_are_not(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    said = {"before": "412 rows in 0.31 s at 2031-09-03T06:00:12Z", "after": "411 rows in 1.9 s at 2032-01-01T00:00:00Z"}
    for name, text in said.items():
        (tmp_path / name).mkdir()
        (tmp_path / name / "ledger.txt").write_text(record.plain(text))
        (tmp_path / name / "same.txt").write_text(record.plain(text[3:]))
    (tmp_path / "after" / "new.txt").write_text("x")
    assert differences(tmp_path / "before", tmp_path / "after") == 2
    told = capsys.readouterr().out
    assert "ledger.txt differs" in told and "new.txt differs" in told and "same.txt" not in told


def test_rows_and_shapes_of_a_file_are_seen(tmp_path: Path) -> None:
    drawn.data(tmp_path / "one")
    drawn.data(tmp_path / "two")
    assert record.contents(tmp_path / "one") == record.contents(tmp_path / "two")
    text = (tmp_path / "two" / "areas.geojson").read_text()
    (tmp_path / "two" / "areas.geojson").write_text(text.replace('"pile"', '"mile"', 1))
    before, after = (record.contents(tmp_path / n).split("\n") for n in ("one", "two"))
    assert [a.split()[0] for a, b in zip(before, after, strict=True) if a != b] == ["areas.geojson"]


def test_every_operation_on_layers_is_drawn_and_most_workflows_run(tmp_path: Path) -> None:
    apart = {"load", "load_coordinates", "fetch", "grid", "sketch", "save", "publish", "apply_words", "draft_words", "workflow"}
    apart |= {"compare", "cut_lines", "join_table", "pace"}  # they want a layer of another kind
    # newer than the versions that are held against each other
    apart |= {"snap_points", "fill_holes", "take_rows", "unpivot", "declare_crs", "points_along", "nearest_areas", "absorb"}
    apart |= {"rank", "classify", "reverse_lines", "extend_lines", "offset_lines", "zones", "cut_crossings", "snap_shapes", "sql"}
    assert set(drawn.STEPS) == set(all_operations()) - apart
    drawn.data(tmp_path / "data")
    states = []
    for number in range(0, 200, 11):
        path = tmp_path / f"w{number}.toml"
        path.write_text(drawn.workflow(number))
        try:
            states.append(Workflow.read(path).run().state)
        except EskretError as error:
            states.append("refused")
            assert error.sentence().endswith((".", "?")), error
    assert states.count("refused") < len(states) / 3 and {"balanced", "look"} <= set(states)
