"""Layers are found, updated, appended to and replaced under the names they have; no name is changed that nobody asked to change."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyogrio
import pytest
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import eskret
from eskret import Workflow
from eskret.core.layer import Layer
from eskret.core.naming import AS_TYPED, TIDY, folded
from eskret.errors import DocumentError, EskretError
from eskret.formats import geopackage
from tests.length import examples, part
from tests.test_cli import call

ODD = [
    "WardBoundaries",
    "WARDS2",
    "wärds",
    "city wards",
    'a"b',
    "it's",
    "order",
    "x.y",
    "City Wards / Nord",
    "9lives",
    "select * from x",
    "a;b",
    "über[1]",
    "%s",
    "straße",
    "STRASSE",
    "日本 一",
]


def wards(rows: Sequence[int], kind: str = "old") -> Layer:
    x = np.array(rows, float)
    table = pa.table({"id": pa.array(rows, pa.int64()), "kind": [f"{kind} {n}" for n in rows]})
    return Layer("new", table, shapely.box(x, 0, x + 1, 1), "EPSG:32626")


def theirs(path: Path, names: Sequence[str]) -> None:
    with geopackage.writing(path) as container:
        for name in names:
            container.add(wards([1, 2, 3]), name)


def save(folder: Path, name: str, how: str = "update", names: str = "", to: str = "theirs.gpkg") -> Path:
    eskret.write(wards([2, 3, 4], "new"), folder / "new.gpkg", "new") if not (folder / "new.gpkg").exists() else None
    more = "" if how != "update" else '\nkey = ["id"]'
    more += f'\nnames = "{names}"' if names else ""
    path = folder / "w.toml"
    path.write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["new.gpkg"]\n[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\n'
        f'to = {json.dumps(to)}\nname = {json.dumps(name, ensure_ascii=False)}\nif_exists = "{how}"{more}\n'
    )
    return path


def held(path: Path) -> dict[str, list[str]]:
    """What another library reads of each layer."""
    out = {}
    for name, _ in pyogrio.list_layers(path):
        out[str(name)] = sorted(pyogrio.read_arrow(path, layer=name)[1].column("kind").to_pylist())
    return out


OLD, UPDATED = ["old 1", "old 2", "old 3"], ["new 2", "new 3", "new 4", "old 1"]


@pytest.mark.parametrize("mode", ["", AS_TYPED])
def test_whatever_a_layer_is_called_it_is_brought_up_to_date_in_its_place(tmp_path: Path, mode: str) -> None:
    for name in part(ODD, bool(mode)):
        theirs(tmp_path / "theirs.gpkg", ODD)
        code, _, err = call("run", save(tmp_path, name, names=mode), "-q")
        assert code == 0, (name, err)
        assert held(tmp_path / "theirs.gpkg") == {n: UPDATED if n == name else OLD for n in ODD}
        (tmp_path / "theirs.gpkg").unlink()


NEW = ["new 2", "new 3", "new 4"]


@pytest.mark.parametrize(("how", "expected"), [("append", [*NEW, *OLD]), ("replace", NEW)])
def test_appending_and_replacing_too(tmp_path: Path, how: str, expected: list[str]) -> None:
    theirs(tmp_path / "theirs.gpkg", ODD)
    for name in ("City Wards / Nord", 'a"b', "wardboundaries"):
        assert call("run", save(tmp_path, name, how, AS_TYPED), "-q", "--allow-outside")[0] == 0
    changed = {"City Wards / Nord", 'a"b', "WardBoundaries"}
    assert held(tmp_path / "theirs.gpkg") == {n: expected if n in changed else OLD for n in ODD}
    out = call("rehearse", save(tmp_path, "wardboundaries", how, AS_TYPED))[1]
    assert "'wardboundaries' is called 'WardBoundaries' there, and stays so" in " ".join(out.split())


def test_an_update_of_what_is_not_there_is_an_error_of_the_rehearsal_that_names_the_nearest(tmp_path: Path) -> None:
    theirs(tmp_path / "theirs.gpkg", ["City Wards", "roads"])
    code, out, err = call("rehearse", save(tmp_path, "City Ward", names=AS_TYPED))
    says = "no layer 'City Ward' to bring up to date. Did you mean 'City Wards'? It has City Wards and roads"
    assert code == 2 and says in " ".join((out + err).split())
    code, out, err = call("rehearse", save(tmp_path, "x", to="gone.gpkg"))
    assert code == 2 and "it is not there, so nothing in it can be brought up to date" in " ".join((out + err).split())
    assert not (tmp_path / "gone.gpkg").exists()


def test_a_new_layer_keeps_its_name_or_is_tidied_as_the_workflow_or_the_step_says(tmp_path: Path) -> None:
    theirs(tmp_path / "in.gpkg", ["City Wards", "über[1]"])
    for file_says, step_says, expected in (
        ("", "", ["city_wards", "uber_1"]),
        (AS_TYPED, "", ["City Wards", "über[1]"]),
        (TIDY, "", ["city_wards", "uber_1"]),
        ("", AS_TYPED, ["City Wards", "über[1]"]),
        (AS_TYPED, TIDY, ["city_wards", "uber_1"]),
    ):
        (tmp_path / "w.toml").write_text(
            "eskret = 1\n" + (f'names = "{file_says}"\n' if file_says else "") + '[[steps]]\nid = "in"\nuse = "load"\nfiles = ["in.gpkg"]\n'
            '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "in"\nwhere = "id > 1"\n'
            '[[steps]]\nid = "out"\nuse = "save"\nfrom = "some"\nto = "out.gpkg"\n' + (f'names = "{step_says}"\n' if step_says else "")
        )
        assert call("run", tmp_path / "w.toml", "-q")[0] == 0
        assert list(held(tmp_path / "out.gpkg")) == expected, (file_says, step_says)
        (tmp_path / "out.gpkg").unlink()
    # a file that says nothing means the layer of just that name where there is one, and makes no second one beside it
    theirs(tmp_path / "out.gpkg", ["City Wards"])
    text = (tmp_path / "w.toml").read_text().replace(f'names = "{AS_TYPED}"\n', "")
    (tmp_path / "w.toml").write_text(text.replace(f'names = "{TIDY}"\n', 'if_exists = "append"\n'))
    assert call("run", tmp_path / "w.toml", "-q")[0] == 0
    assert {n: len(v) for n, v in held(tmp_path / "out.gpkg").items()} == {"City Wards": 5, "uber_1": 2}


def test_values_in_file_names_stay_tidied_and_what_a_format_forces_is_told(tmp_path: Path) -> None:
    theirs(tmp_path / "in.gpkg", ["City: Wards / [Nord] of a name that is far too long", "../../up"])
    workflow = Workflow(title="Names")
    workflow.path = tmp_path / "w.toml"
    loaded = workflow.load("in", files=["in.gpkg"])
    workflow.save("files", loaded, to="out/{layer}.geojson")
    workflow.save("book", loaded, to="out/book.xlsx")
    told = [f.text for f in workflow.rehearse().findings]
    assert any("is called 'City_ Wards _ _Nord_ of a name' there: a workbook does not hold : / [ ] in a name" in t for t in told)
    assert any("cut to the 31 characters" in t for t in told)
    result = workflow.run()
    assert result.state == "look", result.error
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == [
        "book.xlsx",
        "city_wards_nord_of_a_name_that_is_far_too_long.geojson",
        "up.geojson",
    ]
    assert eskret.formats.sources.layer_names(tmp_path / "out" / "book.xlsx") == ["City_ Wards _ _Nord_ of a name", ".._.._up"]


def test_numbers_come_after_the_template_is_filled(tmp_path: Path) -> None:
    """Two steps from one layer: their names differ already, so none gets a number."""
    workflow = Workflow(title="Two")
    workflow.path = tmp_path / "w.toml"
    eskret.write(wards([1, 2]), tmp_path / "x.gpkg", "x")
    loaded = workflow.load("in", files=["x.gpkg"])
    steps = [workflow.keep(n, loaded, where="id > 0") for n in ("line", "legs")]
    workflow.save("out", steps, to="out.gpkg", name="{step}_{layer}")
    workflow.save("files", steps, to="{step}_{layer}.geojson")
    workflow.save("same", steps, to="same.gpkg")
    assert workflow.run().state == "look"  # numbers were given in the last one, and that is told
    assert list(held(tmp_path / "out.gpkg")) == ["line_x", "legs_x"] and list(held(tmp_path / "same.gpkg")) == ["x", "x_2"]
    assert sorted(p.name for p in tmp_path.glob("*.geojson")) == ["legs_x.geojson", "line_x.geojson"]


def test_references_take_the_layers_own_name_and_an_unknown_one_is_answered(tmp_path: Path) -> None:
    theirs(tmp_path / "in.gpkg", ["City Wards", "Rural Wards", "roads"])
    steps = 'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["in.gpkg"]\n[[steps]]\nid = "c"\nuse = "keep_by_place"\n'
    path = tmp_path / "w.toml"
    for reference, layers in (("in:City Wards", 1), ("in:city_wards", 1), ("in:* Wards", 2), ("in:*wards", 2)):
        path.write_text(f'{steps}from = "{reference}"\nto = "in:Rural Wards"\n')
        code, _, err = call("run", path, "-q")
        assert code == 0, (reference, err)
        assert len(Workflow.read(path).rehearse().steps["c"].entering) == layers
    path.write_text(path.read_text().replace("in:*wards", "in:City Werds"))
    code, out, err = call("rehearse", path)
    said = " ".join((out + err).split())
    assert code == 2 and "Did you mean 'in:City Wards'? 'in' has City Wards, Rural Wards and roads" in said


def test_a_whole_path_is_a_parameter_and_none_is_called_as_what_names_are_made_of(tmp_path: Path) -> None:
    eskret.write(wards([1]), tmp_path / "new.gpkg", "new")
    head = f'eskret = 1\n[parameters.store]\ntype = "text"\ndefault = {json.dumps(str(tmp_path / "Deep Folder" / "All Wards.gpkg"))}\n'
    path = save(tmp_path, "{layer}", "own", to="{store}")
    path.write_text(head + path.read_text().removeprefix("eskret = 1\n"))
    assert call("run", path, "-q")[0] == 0 and list(held(tmp_path / "Deep Folder" / "All Wards.gpkg")) == ["new"]
    for name in ("layer", "step", "n", "value"):
        path.write_text(f'eskret = 1\n[parameters.{name}]\ntype = "text"\n')
        code, _, err = call("run", path)
        assert code == 2 and f"a parameter may not be called '{name}'" in err
    with pytest.raises(DocumentError, match="'names' cannot be 'loud'"):
        Workflow(names="loud")
    path.write_text('eskret = 1\nnames = "loud"\n')
    assert "'names' cannot be 'loud'" in call("run", path)[2]


def test_two_fields_that_differ_in_case_are_told_before_the_run(tmp_path: Path) -> None:
    import pyarrow.parquet as pq

    pq.write_table(pa.table({"name": ["a"], "Name": ["b"]}), tmp_path / "t.parquet")
    code, out, _ = call("look", tmp_path / "t.parquet")
    assert code == 0 and "field 'Name' differs from another only in case and is called 'Name_2'" in " ".join(out.split())


@settings(max_examples=examples(40), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs")), min_size=1, max_size=30), min_size=1, max_size=4))
def test_any_names_are_kept_or_what_was_done_to_them_is_told(tmp_path: Path, names: list[str]) -> None:
    workflow = Workflow(title="Any")
    workflow.path = tmp_path / "w.toml"
    for n in range(len(names)):
        (tmp_path / f"in{n}.parquet").unlink(missing_ok=True)
        eskret.write(wards([n]), tmp_path / f"in{n}.parquet")
    steps = [workflow.load(f"in{n}", files=[f"in{n}.parquet"]) for n in range(len(names))]
    for n, (step, name) in enumerate(zip(steps, names, strict=True)):
        if "{" not in name and "}" not in name:
            workflow.save(f"out{n}", step, to="out.gpkg", name=name, if_exists="replace")
    (tmp_path / "out.gpkg").unlink(missing_ok=True)
    try:
        result = workflow.run()
    except EskretError as error:
        assert "comes out empty" in error.sentence() or "two steps save the same" in error.sentence()
        return
    assert not result.error
    told = " ".join(r.text for s in result.steps for r in s.remarks)
    there = set(held(tmp_path / "out.gpkg")) if (tmp_path / "out.gpkg").exists() else set()
    for name in names:
        if "{" not in name and "}" not in name:
            assert name in there or f"'{name}' is called" in told


@given(st.text(max_size=6))
def test_names_are_compared_as_sql_does(name: str) -> None:
    assert folded(name) == "".join(c.lower() if c.isascii() else c for c in name)


def test_a_layer_that_got_a_number_is_not_meant_by_the_name_of_the_other(tmp_path: Path) -> None:
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        eskret.write(wards([1, 2]), tmp_path / folder / "x.gpkg", "x")
    workflow = Workflow(title="Two files")
    workflow.path = tmp_path / "w.toml"
    loaded = [workflow.load(f"in_{n}", files=[f"{n}/x.gpkg"]) for n in ("a", "b")]
    workflow.keep("both", loaded, where="id > 0")
    workflow.keep("one", "both:x", where="id > 0")
    found = workflow.rehearse().steps
    assert [f.key for f in found["both"].leaving] == ["x", "x_2"] and [f.key for f in found["one"].entering] == ["x"]
    assert workflow.run().steps[3].inputs[0].rows == 2 and len(workflow.run().steps[3].inputs) == 1


def test_python_is_told_what_a_file_cannot_hold_and_writes_no_half(tmp_path: Path) -> None:
    layer = Layer("k", pa.table({"v": [float("nan"), 1.0]}), np.array([shapely.Point(1, 2), None], object), "EPSG:4326")
    for ending in (".gpkg", ".geojson"):
        with pytest.warns(UserWarning, match="no number"):
            eskret.write(layer, tmp_path / f"a{ending}")
    with pytest.raises(EskretError, match="1 of 2 rows cannot be written: has no shape"):
        eskret.write(layer, tmp_path / "a.gpx")
    assert not (tmp_path / "a.gpx").exists()


def test_an_encoding_that_is_named_for_markup_is_told_to_be_idle(tmp_path: Path) -> None:
    (tmp_path / "a.gpx").write_text('<gpx version="1.1" xmlns="http://www.topografix.com/GPX/1/1"><wpt lat="1" lon="2"/></gpx>')
    (tmp_path / "w.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["a.gpx"]\nencodings = { "a.gpx" = "cp850" }\n'
    )
    for command in ("rehearse", "run"):
        assert "the encoding named for it is not used" in " ".join(call(command, tmp_path / "w.toml")[1].split())
