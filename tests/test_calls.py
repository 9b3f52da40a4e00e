"""Operations called straight from Python or by ``eskret do``: they never answer wrongly, and their way out works as typed."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import geopandas as gpd
import pytest
from typer.testing import CliRunner

import eskret
from eskret import EskretError, read, use
from eskret.cli import app


@pytest.fixture
def here(demo: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(demo)
    return demo


def do(line: str) -> tuple[int, str]:
    done = CliRunner().invoke(app, ["do", *shlex.split(line)])
    return done.exit_code, done.output


def test_a_layer_is_given_as_a_layer(here: Path) -> None:
    beds, districts = (read("register/register.gpkg", n) for n in ("lease_beds", "districts"))
    for name, setting in (("keep_by_place", "to"), ("clip", "to"), ("nearest", "other"), ("split_by_area", "areas")):
        with pytest.raises(EskretError, match=f"'{setting}' takes a layer, and 'districts' is none"):
            use(name)(beds, **{setting: "districts"})
    north = use("keep")(districts, where="name = 'North'").layer
    area = gpd.read_file("register/register.gpkg", layer="districts").query("name == 'North'").geometry.iloc[0]
    expected = gpd.read_file("register/register.gpkg", layer="lease_beds").within(area)  # geopandas
    assert len(use("keep_by_place")(beds, to=north, relation="within").layer) == expected.sum()
    assert len(use("keep_by_place")(beds, to=[north], relation="within").layer) == expected.sum()


def test_what_is_known_to_fail_fails_and_a_check_that_does_not_hold_is_no_answer(here: Path) -> None:
    beds = read("register/register.gpkg", "lease_beds")
    with pytest.raises(EskretError, match="have no district of their own"):
        use("check")(beds, that="unique", fields=["district"])
    assert len(use("check")(beds, that="unique", fields="lease").layer) == 412
    with pytest.raises(EskretError, match="'to' is not filled in|'.*' is not filled in"):
        use("clip")(beds)
    with pytest.raises(EskretError, match="a table has no shapes"):
        use("dissolve")(read("register/landings_2031.csv"))


def test_several_layers_are_never_answered_by_the_first(here: Path) -> None:
    made = use("split")(read("register/register.gpkg", "lease_beds"), by="district")
    assert sorted(x.key for x in made.layers) == ["basin", "east", "north", "south", "west"]
    assert sum(len(x) for x in made.layers) == 412
    with pytest.raises(EskretError, match="it made 5 layers, not one"):
        _ = made.layer


def test_an_own_operation_tells_its_step_and_so_does_the_run_later(here: Path) -> None:
    (here / "operations" / "every.py").write_text(
        '"""Half."""\nimport eskret\n\n@eskret.operation(title="Every other")\ndef every(layer: eskret.Layer) -> eskret.Layer:\n'
        '    """Hand it on."""\n    return layer\n'
    )
    assert CliRunner().invoke(app, ["trust", "."], input="y\n").exit_code == 0
    code, said = do("own:every register/register.gpkg:moorings --out every.gpkg")
    assert code == 0 and "Every other" in said and "cannot be used" not in said
    number = re.search(r"^ *(\d+) ", CliRunner().invoke(app, ["runs"]).output.splitlines()[1])
    assert number is not None
    again = CliRunner().invoke(app, ["runs", number[1]]).output
    assert "Every other" in again and "cannot be used" not in again


@pytest.mark.parametrize(
    ("line", "fits"),
    [
        ("dissolve register/register.gpkg:lease_beds --by district --figures 'sum tonnes' --out made.gpkg", True),
        ("arrange_fields register/register.gpkg:moorings --rename mooring --out made.gpkg", False),
        ("correct register/register.gpkg:lease_beds --key lease --changes x --out made.gpkg", True),
    ],
)
def test_the_way_out_works_as_it_stands(here: Path, line: str, fits: bool) -> None:
    code, said = do(line)
    assert code == 2
    option = re.search(r"Write it so: (.*)\.\n", said)
    assert option is not None, said
    words = shlex.split(line)
    at = next(n for n, w in enumerate(words) if w in option[1])
    repaired = " ".join(map(shlex.quote, words[:at])) + f" {option[1]} " + " ".join(map(shlex.quote, words[at + 2 :]))
    code, said = do(repaired)
    assert "Write it so" not in said and "is not what" not in said
    assert (code == 0) is fits, said  # the example names fields that another layer may not have


def test_commas_in_names_of_files_and_fields(here: Path) -> None:
    beds = gpd.read_file("register/register.gpkg", layer="lease_beds").rename(columns={"district": "part, whole"})
    beds.to_file("a, b.gpkg", layer="lease_beds")
    code, said = do("""load "a, b.gpkg" --out all.gpkg""")
    assert code == 0 and "lease_beds: 412 features" in said
    code, said = do("""dissolve "a, b.gpkg" --by '"part, whole"' --figures 'n=count, tonnes=sum tonnes' --out parts.gpkg""")
    assert code == 0, said
    parts = gpd.read_file("parts.gpkg")
    assert int(parts["tonnes"].sum()) == int(beds["tonnes"].sum()) and int(parts["n"].sum()) == 412
    assert eskret.read("parts.gpkg").key == "lease_beds"
