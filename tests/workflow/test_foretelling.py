"""What a rehearsal says of steps whose outputs depend on values: names of a split, keys that nearly match, checks."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pytest
from typer.testing import CliRunner

from eskret import Workflow, read, write
from eskret.cli import app
from eskret.formats import geopackage
from tests.operations.helpers import layer_of, square, table_of


@pytest.fixture
def beds(tmp_path: Path) -> Path:
    """Six beds of three districts, two of which come out under one name, and a table with other keys."""
    layer = layer_of(
        [square(2000 * i, 0) for i in range(6)],
        key="beds",
        bed=["01", "02", "03", "04", "05", "06"],
        district=["North", "north", "South 1", None, "North", "South 1"],
        t=[1, 2, 3, 4, 5, 6],
    )
    write(layer, tmp_path / "beds.gpkg")
    (tmp_path / "landings.csv").write_text("bed,kg\n1,10\n2,20\n9,90\n")
    return tmp_path


def workflow(folder: Path) -> tuple[Workflow, object]:
    made = Workflow(names="tidy")
    loaded = made.load("in", files=[str(folder / "beds.gpkg"), str(folder / "landings.csv")])
    made.write(folder / "w.toml")
    return made, loaded


def test_the_layers_of_a_split_are_known_before_it_is_run(beds: Path) -> None:
    made, loaded = workflow(beds)
    parts = made.split("parts", loaded["beds"], by=["district"])
    made.buffer("grown", parts["south*"], distance="10 m")
    made.save("out", parts, to="out.gpkg", name="beds_{layer}")
    made.save("south", "grown", to="south_{layer}.geojson")
    found = made.rehearse()
    assert not found.errors
    assert [(x.key, x.name, x.count) for x in found.steps["parts"].leaving] == [
        ("north", "North", 2),
        ("south_1", "South 1", 2),
        ("north_2", "north", 1),
    ]
    assert [o.layer or o.path.name for o in found.outputs] == ["beds_north", "beds_south_1", "beds_north_2", "south_south_1.geojson"]
    said = " ".join(f.text for f in found.findings)
    assert "1 feature without a value will be set aside" in said and "1 value make a name that is taken" in said
    result = made.run()
    assert result.state == "look" and {o.layer or o.path.name for o in result.outputs} == {
        "beds_north",
        "beds_south_1",
        "beds_north_2",
        "south_south_1.geojson",
    }
    # run again: all of it is this workflow's own, and the file holds it once
    assert made.run().state == "look" and geopackage.layer_list(beds / "out.gpkg") == ["beds_north", "beds_south_1", "beds_north_2"]


def test_layers_that_only_the_run_will_tell_hold_nothing_up(beds: Path) -> None:
    made, loaded = workflow(beds)
    computed = made.compute("kind", loaded["beds"], field="kind", value="CASE WHEN t > 3 THEN 'large' ELSE 'small' END")
    parts = made.split("parts", computed, by=["kind"])
    made.keep("some", parts["large"], where="t > 4")
    made.save("out", "some", to="out.gpkg")
    found = made.rehearse()
    assert not found.errors and any("only the run will tell" in f.text for f in found.findings)
    made.run()
    assert read(beds / "out.gpkg", "large").table.column("t").to_pylist() == [5, 6]


def test_keys_that_nearly_match_are_told_with_the_remedy(beds: Path) -> None:
    made, loaded = workflow(beds)
    made.join_table("joined", loaded["beds"], table="in:landings", key="bed")
    first = made.rehearse()
    assert "different types" in first.errors[0].text and first.errors[0].setting == "alike"
    assert any("2 more would match too if keys count as the same although" in f.text for f in first.findings)
    made, loaded = workflow(beds)
    made.join_table("joined", loaded["beds"], table="in:landings", key="bed", alike=["types", "zeros"])
    second = made.rehearse()
    assert not second.errors
    assert "4 of 6 features find no row, and 1 of 3 rows of 'landings' belong to no feature" in second.findings[0].text


def test_a_check_that_does_not_hold_has_an_exit_code_of_its_own(beds: Path) -> None:
    made, loaded = workflow(beds)
    made.check("filled", loaded["beds"], that="filled", fields=["district"])
    made.save("out", "filled", to="out.gpkg")
    made.write(beds / "w.toml")
    done = CliRunner().invoke(app, ["run", str(beds / "w.toml")])
    assert done.exit_code == 3 and "1 feature empty in district (1)" in done.output and not (beds / "out.gpkg").exists()


def test_a_step_is_named_by_what_made_the_layer(beds: Path) -> None:
    made, loaded = workflow(beds)
    kept = made.keep("large", loaded["beds"], where="t > 3")
    made.save("out", [kept, loaded["beds"]], to="out.gpkg", name="{step}_{layer}")
    made.run()
    assert geopackage.layer_list(beds / "out.gpkg") == ["large_beds", "in_beds"]


def test_a_container_that_holds_something_else_keeps_it(beds: Path) -> None:
    """Replacing all of one's own layers makes the file anew, unless there is anything that somebody might miss."""
    made, loaded = workflow(beds)
    made.save("out", loaded["beds"], to="out.gpkg")
    made.run()
    write(table_of("theirs", n=pa.array([1])), beds / "mine.gpkg")
    with geopackage.writing(beds / "out.gpkg") as container:
        container.add(table_of("theirs", n=pa.array([1])), "theirs")
    assert not geopackage.holds_only(beds / "out.gpkg", ["beds"])
    made.run()
    assert geopackage.layer_list(beds / "out.gpkg") == ["theirs", "beds"]


def test_what_geojson_has_no_place_for_is_said_and_measures_are_written(beds: Path) -> None:
    made, loaded = workflow(beds)
    made.save("web", loaded["beds"], to="beds.geojson", measures=["area_m2"], section="Sea", titles={"t": "Tonnes"})
    said = [f.text for f in made.rehearse().findings]
    assert "GeoJSON has no place for 'Section'." in said and "GeoJSON has no place for 'Titles of fields'." in said
    made.run()
    assert read(beds / "beds.geojson").table.column("area_m2").to_pylist() == pytest.approx([1e6] * 6)
    made, loaded = workflow(beds)
    made.save("web", loaded["beds"], to="other.geojson", crs="EPSG:32626")
    assert "GeoJSON is in WGS 84; leave 'CRS to save in' empty" in made.rehearse().errors[0].text
