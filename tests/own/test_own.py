"""Operations of the analyst's own: declared, trusted, loaded, run; their accounts, and what is said when they fail."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from eskret import Workflow, write
from eskret.cli import app
from eskret.errors import DocumentError, RehearsalError
from eskret.operations.finding import find_operations
from eskret.operations.registry import operation_by_id, project
from eskret.operations.settings import problems_of, setting_info
from eskret.user_operations import loader, template, trust
from eskret.user_operations.descriptors import ProjectCard, shown_of
from tests.conftest import points, squares

GROW = '''
from typing import Literal
from geopandas import GeoDataFrame
import eskret

def sizes(values):
    return {"small": ["1", "2"], "large": ["100"]}[values["kind"]]

@eskret.operation(title="Grow", also_known_as=["widen"], check=lambda v: {"by": "it is odd"} if v["by"] == 13 else None)
def grow(
    layer: GeoDataFrame,
    by: float = eskret.setting("By", help="How much.", ge=0, default=1.0),
    kind: Literal["small", "large"] = "small",
    size: str = eskret.setting("Size", choices=sizes, default="1"),
    least: int = 0,
    account: eskret.Account = None,
) -> GeoDataFrame:
    """Make areas wider.

    By as much as is said.
    """
    account.set_aside(layer["id"] < least, "is too small")
    account.remark("done with it", look=by > 50)
    account.progress(1, 2)
    kept = layer[layer["id"] >= least]
    return kept.set_geometry(kept.buffer(by))
'''


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    write(squares(6), tmp_path / "in.gpkg", "squares")
    (tmp_path / "operations").mkdir()
    loader.forget()
    return tmp_path


def code(folder: Path, text: str, name: str = "grow", trusted: bool = True) -> None:
    (folder / "operations" / f"{name}.py").write_text(text)
    if trusted:
        trust.trust(folder)


def flow(folder: Path, use: str = "own:grow", source: Any = "all", **settings: Any) -> Workflow:
    made = Workflow(title="Own")
    made.path = folder / "own.toml"
    made.load("all", files=["in.gpkg"])
    made.step(use, "mine", source, **settings)
    made.save("out", "mine", to="out.gpkg")
    return made


def test_rows_that_kept_their_labels_are_accounted_for(folder: Path) -> None:
    code(folder, GROW)
    result = flow(folder, by=2, least=2).run()
    step = result.steps[1]
    account = step.inputs[0]
    assert result.state == "balanced" and (account.rows, account.used) == (6, 4)
    assert account.set_aside.counts() == [("is too small", 2)] and [len(x) for x in result.layers["mine"]] == [4]
    assert result.layers["mine"][0].crs == "EPSG:32626"
    assert [r.text for r in step.remarks] == ["done with it"] and flow(folder, by=60).run().state == "look"


@pytest.mark.parametrize(
    ("settings", "says"),
    [
        ({"by": -1}, "'By' cannot be -1"),
        ({"kind": "huge"}, "'Kind' cannot be 'huge'"),
        ({"size": "100"}, "It can be 1, 2"),
        ({"by": 13}, "It is odd"),
        ({"colour": 1}, "no setting 'colour'"),
    ],
)
def test_settings_are_checked_before_anything_runs(folder: Path, settings: dict[str, Any], says: str) -> None:
    code(folder, GROW)
    found = flow(folder, **settings).rehearse().errors
    assert says in found[0].text and found[0].step == "mine"
    assert not flow(folder, kind="large", size="100").rehearse().errors


def test_nothing_runs_that_is_not_trusted(folder: Path) -> None:
    code(folder, f"import pathlib\npathlib.Path({str(folder / 'ran')!r}).touch()\n{GROW}", trusted=False)
    made = flow(folder)
    made.write()
    assert "nobody has allowed it yet" in made.rehearse().errors[0].text
    with pytest.raises(RehearsalError):
        made.run()
    with project(folder):
        assert "own:grow" not in [o.id for o in find_operations("widen")]
    assert not (folder / "ran").exists()
    trust.trust(folder)
    assert not made.rehearse().errors and (folder / "ran").exists()
    # what changes is asked about again, unless it is written here; the same code elsewhere is known
    (folder / "operations" / "helper.py").write_text("X = 1\n")
    assert "nobody has allowed it yet" in made.rehearse().errors[0].text
    trust.trust(folder, written_here=True)
    (folder / "operations" / "helper.py").write_text("X = 2\n")
    assert not made.rehearse().errors
    trust.distrust(folder)
    assert not trust.is_trusted(folder)


def test_the_same_code_is_trusted_wherever_it_lies(folder: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    code(folder, GROW)
    other = tmp_path_factory.mktemp("elsewhere")
    (other / "operations").mkdir()
    (other / "operations" / "grow.py").write_text(GROW)
    assert trust.is_trusted(other)
    (other / "operations" / "grow.py").write_text(GROW + "\n")
    assert not trust.is_trusted(other)


def test_changed_files_are_picked_up_with_what_they_import(folder: Path) -> None:
    (folder / "operations" / "by_how_much.py").write_text("BY = 1.0\n")
    code(
        folder, GROW.replace("kept.buffer(by)", "kept.buffer(BY)").replace("import eskret\n", "import eskret\nfrom by_how_much import BY\n")
    )
    areas = [sum(g.area for g in flow(folder).run(if_exists="replace").layers["mine"][0].geometry)]  # type: ignore[union-attr]
    (folder / "operations" / "by_how_much.py").write_text("BY = 5.0\n")
    trust.trust(folder)
    areas.append(sum(g.area for g in flow(folder).run(if_exists="replace").layers["mine"][0].geometry))  # type: ignore[union-attr]
    assert areas[1] > areas[0]
    assert str(folder / "operations") not in sys.path


def test_errors_name_the_file_and_the_line(folder: Path) -> None:
    text = GROW.replace('account.remark("done with it", look=by > 50)', "1 / 0")
    line = next(n for n, x in enumerate(text.splitlines(), 1) if "1 / 0" in x)
    code(folder, text)
    result = flow(folder).run()
    assert f"grow.py, line {line}: it divides by zero" in result.error and result.state == "failed"
    missing = "\n\nraise KeyError('x')\n"
    for text, says in (
        ("def x(:\n", "grow.py, line 1: this is not sound Python"),
        (missing, "line 3: there is no 'x' where it"),
        (GROW.replace("by: float", "id: float"), "a setting cannot be called 'id'"),
        (GROW.replace('title="Grow"', 'title="Grow", phase="Later"'), "there is no phase 'Later'"),
    ):
        code(folder, text)
        found = flow(folder).rehearse().errors
        assert says in found[0].text, found[0].text
    code(folder, GROW)
    code(folder, GROW, "again")
    assert "there is an operation 'grow' in again.py already" in loader.load(folder).problems[0].sentence()


FORMS = '''
import eskret
from geopandas import GeoDataFrame
from pandas import DataFrame
from shapely import Point

@eskret.operation
def one_point(x: float, y: float = 0.0) -> GeoDataFrame:
    """Make a point."""
    return GeoDataFrame({"n": [1]}, geometry=[Point(x, y)], crs="EPSG:4326")

@eskret.operation(phase="Describe")
def together(layers: list[GeoDataFrame]) -> DataFrame:
    """Count them."""
    return DataFrame({"rows": [len(x) for x in layers]})

@eskret.operation
def halves(layer: eskret.Layer) -> dict:
    import numpy as np
    return {"low": layer.take(np.arange(2)), "high": layer.take(np.arange(2, len(layer)))}

@eskret.operation
def anew(layer: GeoDataFrame) -> GeoDataFrame:
    return layer.reset_index(drop=True).head(1)

@eskret.operation
def silent(layer: GeoDataFrame) -> GeoDataFrame:
    return layer.iloc[1:]

@eskret.operation
def nothing(layer: GeoDataFrame) -> GeoDataFrame:
    pass

@eskret.operation
def text(layer: GeoDataFrame) -> GeoDataFrame:
    return "no layer"

@eskret.operation
def near(layer: GeoDataFrame, other: GeoDataFrame) -> GeoDataFrame:
    layer["others"] = len(other)
    return layer

@eskret.operation(title="The Hull")
class BigHull:
    """Hulls.

    As a class."""

    ratio: float = eskret.setting("Ratio", default=1.0, le=1)
    where: str = "id > 2"

    def check(self):
        return "too small" if self.ratio < 0.1 else None

    def run(self, layer: GeoDataFrame) -> GeoDataFrame:
        chosen = layer.query(self.where)
        return chosen.set_geometry(chosen.concave_hull(ratio=self.ratio))
'''


def test_every_form_of_declaring_one(folder: Path) -> None:
    code(folder, FORMS, "forms")
    write(points({"n": [1, 2]}), folder / "in.gpkg", "others")

    def ran(use: str, source: Any = "all:squares", **settings: Any) -> Any:
        result = flow(folder, f"own:{use}", source, **settings).run(if_exists="replace")
        return result, [(x.key, len(x)) for x in result.layers.get("mine", ())], result.steps[1]

    made, layers, _ = ran("one_point", (), x=-27.0)
    assert layers == [("mine", 1)] and made.layers["mine"][0].crs == "EPSG:4326"
    assert ran("together", "all")[1] == [("mine", 2)]
    assert ran("halves")[1] == [("low", 2), ("high", 4)]
    _, layers, step = ran("anew")
    assert layers == [("squares", 1)] and "which came of which is not known" in step.remarks[0].text and step.inputs[0].used == 6
    _, layers, step = ran("silent")
    assert step.inputs[0].set_aside.counts() == [("was left out by 'Silent'", 1)]
    line = next(n for n, x in enumerate(FORMS.splitlines(), 1) if x.startswith("def nothing")) - 1  # with its decorator
    assert "it gave nothing back" in ran("nothing")[0].error and f"forms.py, line {line}" in ran("nothing")[0].error
    assert "gave back str, which is no layer" in ran("text")[0].error
    made = ran("near", other="all:others")[0]
    assert made.layers["mine"][0].table.column("others").to_pylist() == [2] * 6
    assert ran("big_hull")[1] == [("squares", 3)]
    with pytest.raises(RehearsalError, match="Too small"):
        ran("big_hull", ratio=0.01)
    with project(folder):
        hull = operation_by_id("own:big_hull")
        assert (hull.title, hull.summary, hull.help) == ("The Hull", "Hulls.", "As a class.")
        assert next(o.id for o in find_operations("hull")) in ("own:big_hull", "hull")
        with pytest.raises(DocumentError, match="Of your own there are own:one_point"):
            operation_by_id("own:else")


def test_a_process_that_only_shows_needs_no_code(folder: Path) -> None:
    code(folder, GROW)
    cards = ProjectCard.model_validate_json(loader.cards(folder).model_dump_json())
    assert cards == loader.cards(folder), "nothing is lost on the way"
    assert cards.trusted and cards.files == ("operations/grow.py",) and not cards.problems
    shown = shown_of(cards.operations[0])
    infos = setting_info(shown.Settings)
    assert (shown.title, shown.summary, shown.has_input) == ("Grow", "Make areas wider.", True)
    assert infos["kind"].kind == "choice" and list(infos["size"].choices) == ["1", "2"] and infos["least"].kind == "whole"
    assert cards.operations[0].settings[2].depends and not problems_of(shown.Settings, {"by": 3})
    assert "Grow of" in shown.sentence({"kind": "large"}, "squares")


def test_a_file_to_start_from_runs_as_it_is(folder: Path) -> None:
    path = template.new_operation(folder, "Wide margins")
    assert path.name == "wide_margins.py" and trust.is_trusted(folder)
    path.write_text(path.read_text() + "\n# mine\n")
    result = flow(folder, "own:wide_margins", distance=1).run()
    assert result.state == "balanced" and len(result.layers["mine"][0]) == 6
    for title, says in (("Wide margins", "there is such a file already"), ("7", "leaves no name")):
        with pytest.raises(DocumentError, match=says):
            template.new_operation(folder, title)


def test_own_operations_on_the_command_line(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(folder)
    code(folder, GROW, trusted=False)
    flow(folder, by=2).write()
    run = CliRunner().invoke
    found = run(app, ["run", "own.toml"])
    assert found.exit_code == 2 and "eskret trust" in found.stderr
    found = run(app, ["trust", "."], input="y\n")
    assert found.exit_code == 0 and "operations/grow.py" in found.output and trust.hash_of(folder) in found.output
    assert "Of this project's own\n  own:grow" in run(app, ["operations"]).output
    assert "How much." in run(app, ["operations", "own:grow"]).output
    found = run(app, ["run", "own.toml"])
    assert found.exit_code == 0 and "Grow of squares" in found.output
    assert run(app, ["trust", ".", "--take-back"]).exit_code == 0 and run(app, ["run", "own.toml"]).exit_code == 2
    assert "there is no code in it" in run(app, ["trust", str(folder.parent)]).stderr
    assert (
        "Written" in run(app, ["new-operation", "Thing"]).output and "workflow.step('own:grow'" in run(app, ["script", "own.toml"]).output
    )


PATHS = '''
from pathlib import Path

import eskret
from geopandas import GeoDataFrame


def words(values):
    return Path(values["names"]).read_text().split()


@eskret.operation(title="Name them")
def name_them(
    layer: GeoDataFrame,
    names: Path = eskret.setting("Names", help="A file of words."),
    word: str = eskret.setting("Word", help="One of them.", choices=words, default="one"),
) -> GeoDataFrame:
    """Write a word of a file into a field."""
    layer = layer.copy()
    layer["word"] = f"{word} of {len(names.read_text().split())}"
    return layer
'''


def test_a_file_is_looked_for_from_the_workflows_folder(
    folder: Path, tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch
) -> None:
    code(folder, PATHS, "name_them")
    (folder / "names.txt").write_text("one two three")
    workflow = flow(folder, "own:name_them", names="names.txt", word="two")
    monkeypatch.chdir(tmp_path_factory.mktemp("elsewhere"))
    result = workflow.run()
    assert result.state != "failed", result.error
    assert set(result.layers["mine"][0].table.column("word").to_pylist()) == {"two of 3"}
    (folder / "names.txt").unlink()
    found = workflow.rehearse().errors
    assert "name_them.py, line" in found[0].text and "names.txt: it is not there" in found[0].text


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ('raise eskret.EskretError("it is too far", way_out="Come nearer")', "it is too far. Come nearer."),
        ('raise ValueError("nobody lives there")', "nobody lives there. See to that value"),
        ("import no_such_library", "it needs the Python library 'no_such_library', which is not there"),
        ('open("/no/such/file")', "/no/such/file: it is not there. See to that file"),
        ('layer["depth"]', "there is no 'depth' where it looks for it"),
        ("assert by < 0", "what it takes for granted does not hold"),
        ("None.x", "has no attribute 'x' (AttributeError). Mend it there"),
    ],
)
def test_ordinary_errors_read_as_sentences(folder: Path, line: str, says: str) -> None:
    code(folder, GROW.replace('account.remark("done with it", look=by > 50)', line))
    assert says in flow(folder).run().error
