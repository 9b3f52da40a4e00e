"""Python as a notebook user has it: layers and frames, results by key, what was set aside, mistakes when they are made."""

from __future__ import annotations

import copy
import inspect
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import geopandas as gpd
import nbformat
import pandas as pd
import pytest
from nbclient import NotebookClient

from eskret import EskretError, Workflow, read, use
from eskret.operations import all_operations, operation_by_id
from eskret.operations.settings import layer_settings
from eskret.workflow.history.runs import Runs

REGISTER = "register/register.gpkg"


@pytest.fixture(autouse=True)
def here(demo: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(demo)
    return demo


def frame(layer: str) -> gpd.GeoDataFrame:
    return gpd.read_file(REGISTER, layer=layer)


def test_a_second_layer_comes_as_a_layer_or_a_frame_by_name_or_by_place() -> None:
    beds, districts = read(REGISTER, "lease_beds"), read(REGISTER, "districts")
    north = frame("districts").query("name == 'North'")
    expected = frame("lease_beds").clip(north)  # geopandas
    for one in (
        use("clip")(beds, north),
        use("clip")(frame("lease_beds"), to=north),
        use("clip")(beds, to=use("keep")(districts, where="name = 'North'").layer),
    ):
        assert len(one.layer) == len(expected)
        assert one.to_geopandas().area.sum() == pytest.approx(expected.area.sum())
    with pytest.raises(EskretError, match=r"'clip' takes 1 more layer \(to\)"):
        use("clip")(beds, districts, districts)
    with pytest.raises(EskretError, match="'measure' takes no second layer"):
        use("measure")(beds, districts, what="area")
    with pytest.raises(EskretError, match="42 is no layer"):
        use("outlines")(42)
    two = [o.id for o in all_operations().values() if len(layer_settings(o.Settings)) and o.has_input]
    assert len(two) >= 11 and all("GeoDataFrame" in str(inspect.signature(use(id))) for id in two)


def test_several_layers_are_a_mapping_and_layers_are_gathered() -> None:
    beds = read(REGISTER, "lease_beds")
    made = use("split")(beds, by="district")
    assert sorted(made) == ["basin", "east", "north", "south", "west"] and len(made["north"]) == 102
    assert sum(map(len, made.values())) == 412
    with pytest.raises(EskretError, match="it made 5 layers, not one. Take one by its key: 'basin'"):
        made.to_geopandas()
    assert len(use("merge")([frame("lease_beds"), made["north"]]).layer) == 514


def test_what_was_set_aside_is_a_frame_with_reasons() -> None:
    beds = frame("lease_beds")
    kept = use("keep")(beds, where="tonnes > 20")
    aside = kept.set_aside()
    expected = beds[~(beds.tonnes > 20)]
    assert list(aside.index) == list(expected.index) and aside.lease.tolist() == expected.lease.tolist()
    assert aside.reason.value_counts().to_dict() == kept.reasons()
    workflow = Workflow.read("piles.toml")
    result = workflow.run(record=False)
    aside = result["chosen"].set_aside()
    assert len(aside) == sum(result["chosen"].reasons().values()) == 112 and isinstance(aside, gpd.GeoDataFrame)
    assert not aside.desc.str.startswith("Pile").fillna(False).any()
    assert list(result["chosen"]) == ["marks_waypoints"] and len(result["chosen"].layer) == 61
    assert not len(result["archive"].set_aside())
    with pytest.raises(KeyError):
        _ = result["nothing"]


def test_a_run_is_kept_unless_somebody_says_not_to() -> None:
    workflow = Workflow.read("piles.toml")
    before = len(Runs().find())
    workflow.run(record=False)
    assert len(Runs().find()) == before
    workflow.run()
    assert len(Runs().find()) == before + 1


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        (lambda w, m: w.keep("k", m, wher="n > 1"), "step 'k': there is no setting 'wher' in this operation. Did you mean 'where'?"),
        (lambda w, m: w.load("x", files=["a"], if_unreadable="cry"), "It can be stop, go on"),
        (lambda w, m: w.buffer("b", m, distance="far"), "'far' is no length"),
    ],
)
def test_a_wrong_setting_is_told_where_it_is_said(wrong: Callable[[Workflow, Any], object], says: str) -> None:
    workflow = Workflow()
    marks = workflow.load("marks", files=["field/*/marks.gpx"])
    with pytest.raises(EskretError, match=says.replace("?", r"\?")):
        wrong(workflow, marks)
    assert [s.id for s in workflow.steps] == ["marks"]
    least = workflow.parameter("least", type="number", default=1)
    workflow.buffer("later", marks, distance=least)  # of a parameter nothing is known yet
    workflow.step("buffer", "draft", marks, distance="far")  # a draft is built as it is
    again: dict[str, Any] = {}
    exec(workflow.script().replace("workflow.write(", "(lambda *a: None)("), again)
    assert again["workflow"].document == workflow.document


def test_a_notebook_shows_ledgers_and_rows_not_arrays() -> None:
    beds = read(REGISTER, "lease_beds")
    assert repr(beds) == "<Layer lease_beds: 412 areas, EPSG:32626; 9 fields>"
    workflow = Workflow.read("piles.toml")
    result = workflow.run(record=False)
    kept = use("keep")(beds, where="tonnes > 20")
    for shown, holds in (
        (beds, ("412 areas", "OS-0101", "and 406 more rows")),
        (kept, ("set aside",)),
        (result, ("<b>marks_waypoints</b>", "does not meet the condition", "112", "balanced in")),
        (workflow.rehearse(), ("foretold", "ready to run", "survey.gpkg")),
    ):
        text = shown._repr_html_()
        assert all(one in text for one in holds), text
        assert len(text) < 6_000 and "array(" not in text
    nasty = use("compute")(beds, field="holder", value="'<b>' || lease").layer
    assert "&lt;b&gt;OS" in nasty._repr_html_() and "<b>OS" not in nasty._repr_html_()


def test_every_operation_answers_for_help_with_its_settings() -> None:
    for id in all_operations():
        words = inspect.signature(use(id)).parameters
        assert set(operation_by_id(id).Settings.model_fields) - {"totals"} <= set(words) | {"layer", "values", "others"}


# -- everyday tasks: no longer than with GeoPandas alone, and the same result


def lines(function: Callable[..., object]) -> int:
    """Lines of a function's body, and what it is long in letters."""
    body = inspect.getsource(function).splitlines()[1:]
    return sum(bool(line.strip()) for line in body)


class Plain:
    """With GeoPandas alone."""

    def clip(self, beds, districts):
        north = districts[districts.name == "North"]
        return beds.clip(north)

    def dissolve(self, beds, districts):
        return beds.dissolve("licence", aggfunc={"tonnes": "sum"}).reset_index()

    def join(self, beds, districts):
        points = beds.set_geometry(beds.representative_point())
        found = points.sjoin(districts[["name", "geometry"]], predicate="within", how="left")
        return beds.assign(name_2=found["name"])

    def count(self, beds, districts):
        points = beds.set_geometry(beds.representative_point())
        found = points.sjoin(districts[["geometry"]], predicate="within")
        return districts.assign(count=found.groupby("index_right").size())

    def select_near(self, beds, districts):
        near = districts[districts.name == "North"].buffer(500).union_all()
        return beds[beds.intersects(near)]

    def reproject(self, beds, districts):
        return beds.to_crs("EPSG:4326")

    def hectares(self, beds, districts):
        return beds.assign(area_ha=beds.area / 10_000)

    def split(self, beds, districts):
        return dict(list(beds.groupby("district")))


class Ours:
    """The same with Eskret."""

    def clip(self, beds, districts):
        north = use("keep")(districts, where="name = 'North'").layer
        return use("clip")(beds, north).to_geopandas()

    def dissolve(self, beds, districts):
        return use("dissolve")(beds, by="licence", figures={"tonnes": "sum tonnes"}).to_geopandas()

    def join(self, beds, districts):
        return use("join_by_place")(beds, districts, fields="name").to_geopandas()

    def count(self, beds, districts):
        return use("count_in_areas")(districts, beds).to_geopandas()

    def select_near(self, beds, districts):
        north = use("keep")(districts, where="name = 'North'").layer
        return use("keep_by_place")(beds, north, relation="near", distance="500 m").to_geopandas()

    def reproject(self, beds, districts):
        return use("reproject")(beds, crs="EPSG:4326").to_geopandas()

    def hectares(self, beds, districts):
        return use("measure")(beds, what="area").to_geopandas()

    def split(self, beds, districts):
        return use("split")(beds, by="district")


@pytest.mark.parametrize("task", [n for n in vars(Plain) if not n.startswith("_")])
def test_an_everyday_task_is_no_longer_than_with_geopandas_alone(task: str) -> None:
    plain, ours = getattr(Plain(), task), getattr(Ours(), task)
    assert lines(ours) <= lines(plain)
    beds, districts = frame("lease_beds"), frame("districts")
    expected, made = plain(beds, districts), ours(beds, districts)
    assert len(made) == len(expected)
    if isinstance(expected, pd.DataFrame):
        assert made.area.sum() == pytest.approx(expected.area.sum(), rel=1e-4)
    if task == "dissolve":
        assert made.set_index("licence").tonnes.to_dict() == expected.set_index("licence").tonnes.to_dict()
    if task == "join":
        assert (made.iloc[:, -2].fillna("") == expected.name_2.fillna("")).mean() > 0.95
    if task == "count":
        assert sorted(made.filter(like="count").iloc[:, 0]) == sorted(expected["count"])
    if task == "hectares":
        assert made.area_ha.to_numpy(float) == pytest.approx(expected.area_ha.to_numpy(), rel=1e-9)
    if task == "split":
        assert {k.lower(): len(v) for k, v in expected.items()} == {k: len(v) for k, v in made.items()}


def test_the_notebook_of_the_docs_runs_and_shows_what_it_showed(demo: Path) -> None:
    """All but times is as it was kept: ``make handbook`` does it anew."""
    file = Path(__file__).parent.parent / "docs" / "notebooks" / "a-quarter-in-python.ipynb"
    kept = nbformat.read(file, as_version=4)
    again = copy.deepcopy(kept)
    NotebookClient(again, timeout=120, resources={"metadata": {"path": str(demo)}}).execute()

    def shown(notebook: Any) -> list[str]:
        outputs = [o for cell in notebook.cells for o in cell.get("outputs", ())]
        texts = ["".join(o.get("text", "")) or str(sorted(o.get("data", {}).items())) for o in outputs if o.output_type != "error"]
        return [re.sub(r"\d+\.\d s\b", "… s", text) for text in texts]

    assert shown(again) == shown(kept) and len(shown(kept)) >= 8
    assert "Set aside" in "".join(shown(kept)) and "Did you mean 'where'?" in "".join(shown(kept))
