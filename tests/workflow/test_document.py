"""The workflow file: one canonical form, comments kept, mistakes told at their place; references and edits."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.errors import DocumentError
from eskret.workflow.faces.script import to_script
from eskret.workflow.model import document as documents
from eskret.workflow.model import edits
from eskret.workflow.model.document import Document, Step, parse
from eskret.workflow.model.iteration import ForEach
from eskret.workflow.model.parameters import ChoicesFrom, EnabledBy, Parameter
from eskret.workflow.model.references import Reference, dependents, order_of, resolve, settings_for
from tests.conftest import WORKFLOW, squares

COMMENTED = """# whose work this is
eskret = 1  # the version
title = "Piles"

# about the kind
[parameters.kind]
type = "choice"
default = "Pile"  # the usual one
choices = ["Pile", "Buoy"]

# from the boats
[[steps]]
id = "load"
use = "load"
# only September
files = ["field/*.gpx"]

[[steps]]
id = "keep"
heading = "One kind"
use = "keep"
from = "load:*_waypoints"
where = "desc LIKE $kind || '%'"

  # a mark of its own
  [steps.layer.marks_waypoints]
  where = "true"

# the end
"""


def test_a_canonical_file_is_read_and_written_to_the_byte() -> None:
    assert parse(COMMENTED).to_text() == COMMENTED
    assert parse(WORKFLOW).to_text() == WORKFLOW


def test_any_layout_becomes_canonical_and_keeps_its_comments() -> None:
    loose = COMMENTED.replace('title = "Piles"', "title='Piles'").replace("[[steps]]\n", "[[ steps ]]\n\n").replace("  where", "where")
    assert parse(loose).to_text() == COMMENTED


def test_comments_travel_with_their_step() -> None:
    moved = edits.move_step(parse(COMMENTED), "keep", -1).to_text()
    assert moved.index('id = "keep"') < moved.index("# from the boats") < moved.index("# only September")
    renamed = edits.rename_step(parse(COMMENTED), "load", "boats")
    assert renamed.step("keep").source == ("boats:*_waypoints",)
    assert '# only September\nfiles = ["field/*.gpx"]' in renamed.to_text()


names = st.text("abc", min_size=1, max_size=3)
values = st.recursive(
    st.one_of(st.booleans(), st.integers(-(2**62), 2**62), st.floats(allow_nan=False, allow_infinity=False), st.text(max_size=30)),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(names, inner, max_size=3)),
    max_leaves=6,
)
settings_ = st.dictionaries(st.text(st.characters(codec="utf-8"), min_size=1, max_size=8), values, max_size=4)

words = st.text("abcz", min_size=1, max_size=6)
eaches = st.one_of(
    st.none(),
    st.builds(ForEach, st.just("layers"), words, st.just(""), names, st.booleans()),
    st.builds(ForEach, st.just("values"), words, words, names, st.booleans()),
    st.builds(ForEach, st.just("rows"), words, go_on=st.booleans()),
)


@st.composite
def any_document(draw: Any) -> Document:
    ids = draw(st.lists(names, max_size=4, unique=True))
    reserved = {"id", "use", "from", "off", "note", "heading", "layer", "each", "result", "style"}
    steps = []
    for i, id in enumerate(ids):
        settings = {k: v for k, v in draw(settings_).items() if k not in reserved}
        source = tuple(f"{s}:{draw(names)}*" for s in ids[:i])
        layer = draw(st.dictionaries(names, settings_, max_size=2))
        rounds = draw(eaches)
        rounds = replace(rounds, of=f"{ids[0]}:x") if rounds is not None and i else None
        steps.append(
            Step(
                id,
                draw(st.sampled_from(["load", "keep", "save"])),
                source,
                settings,
                draw(st.text(max_size=9)),
                draw(st.text(max_size=9)),
                draw(st.booleans()),
                layer,
                {},
                rounds,
                draw(st.booleans()),
            )
        )
    parameters = tuple(
        Parameter(
            n,
            "text",
            default=draw(st.text(max_size=9)),
            enabled_by=draw(st.none() | st.builds(EnabledBy, names, st.just((True, 2)))),
            choices_from=draw(st.none() | st.builds(ChoicesFrom, words, words, st.text(max_size=5))),
            max=draw(st.none() | st.just(2.5)),
        )
        for n in draw(st.lists(names, unique=True, max_size=2))
    )
    text = st.text(max_size=20)
    return Document(
        draw(text),
        draw(text),
        "",
        draw(text),
        tuple(draw(st.lists(text, max_size=3))),
        draw(text),
        draw(text),
        draw(st.sampled_from(["", "as typed", "tidy"])),
        parameters,
        tuple(steps),
    )


def plain(value: Any) -> Any:
    """Tuples and lists are one to TOML."""
    if isinstance(value, dict):
        return {k: plain(v) for k, v in value.items()}
    return [plain(v) for v in value] if isinstance(value, list | tuple) else value


@given(any_document())
def test_every_document_survives_the_file(document: Document) -> None:
    text = document.to_text()
    back = parse(text)
    assert back.to_text() == text
    assert [plain(dict(s.settings)) for s in back.steps] == [plain(dict(s.settings)) for s in document.steps]
    assert back.parameters == document.parameters and back.title == document.title
    assert [(s.each, s.result) for s in back.steps] == [(s.each, s.result) for s in document.steps]
    assert (back.help, back.keywords, back.author, back.limits, back.names) == (
        document.help,
        document.keywords,
        document.author,
        document.limits,
        document.names,
    )


@given(any_document())
def test_every_document_survives_its_script(document: Document) -> None:
    space: dict[str, Any] = {}
    exec(to_script(document, "w.toml").replace("workflow.write(", "str("), space)
    assert space["workflow"].document.to_text() == document.to_text()


@pytest.mark.parametrize("text", [WORKFLOW, COMMENTED])
def test_the_script_run_by_python_writes_the_same_file(tmp_path: Path, text: str) -> None:
    script = tmp_path / "build.py"
    script.write_text(to_script(parse(text), "again.toml"))
    subprocess.run([sys.executable, str(script)], cwd=tmp_path, check=True)
    assert (tmp_path / "again.toml").read_bytes() == text.encode()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("title = 1", "Its first line must be: eskret = 1"),
        ("eskret = 2", "version 2, and this program knows"),
        ("eskret = 'x'", "makes no sense"),
        ("eskret = 1\ntitle = 3", "'title' must be text"),
        ("eskret = 1\nnope = 3", "'nope' is not known"),
        ("eskret = = 1", "not sound TOML"),
        ("eskret = 1\n[[steps]]\nuse = 'load'", "step 1: it has no id"),
        ("eskret = 1\n[[steps]]\nid = 'a'", "does not say which operation"),
        ("eskret = 1\n[[steps]]\nid = 'A b'\nuse = 'load'", "Call it 'a_b'"),
        ("eskret = 1\n" + "[[steps]]\nid = 'a'\nuse = 'load'\n" * 2, "two steps of this id"),
        ("eskret = 1\n[[steps]]\nid = 'a'\nuse = 'load'\nfrom = [1]", "'from' must be a reference"),
        ("eskret = 1\n[[steps]]\nid = 'a'\nuse = 'load'\noff = 'yes'", "'off' and 'result' are true or false"),
        ("eskret = 1\n[parameters.x]\ntype = 'colour'", "there is no type 'colour'"),
        ("eskret = 1\n[parameters.x]\ntype = 'number'\ndefault = 'many'", "'many' is not a number"),
        ("eskret = 1\n[parameters.x]\nhue = 1", "'hue' is not known here"),
        ("eskret = 1\n[parameters.x]\nchoices = ['a']\ndefault = 'b'", "'b' is not one of the choices. It can be a"),
    ],
)
def test_mistakes_are_told_at_their_place(text: str, says: str) -> None:
    with pytest.raises(DocumentError) as caught:
        parse(text, "w.toml")
    assert says in caught.value.sentence()


def test_files_that_cannot_be_read(tmp_path: Path) -> None:
    (tmp_path / "latin.toml").write_bytes(b"eskret = 1\ntitle = '\xff'")
    for name, says in (("no.toml", "no such workflow file"), (".", "a folder"), ("latin.toml", "cannot be read as text")):
        with pytest.raises(DocumentError, match=says):
            documents.read(tmp_path / name)


def test_values_of_parameters() -> None:
    number = Parameter("n", "number", min=0, max=10)
    assert (number.accept("3"), number.accept(2.5), number.accept("1e1")) == (3, 2.5, 10.0)
    for bad, says in (("x", "is not a number"), (-1, "less than 0"), (11, "more than 10"), (True, "is not a number")):
        with pytest.raises(DocumentError, match=says):
            number.accept(bad)
    assert Parameter("f", "flag").accept("yes") is True
    assert str(Parameter("d", "date").accept("2031-09-30")) == "2031-09-30"
    assert Parameter("c", "choice", choices=(1, 2)).accept("2") == 2
    with pytest.raises(DocumentError, match="there is no parameter 'z'. There are kind"):
        parse(WORKFLOW).values({"z": 1})


def test_order_follows_references_else_the_file() -> None:
    steps = (Step("c", "keep", ("a",)), Step("b", "load"), Step("a", "load"), Step("d", "save", ("c", "b:x")))
    assert order_of(Document(steps=steps)) == ["b", "a", "c", "d"]
    assert dependents(Document(steps=steps), ["a"]) == {"a", "c", "d"}
    with pytest.raises(DocumentError, match="the steps go in a loop: 'a' to 'b' to 'a'|'b' to 'a' to 'b'"):
        order_of(Document(steps=(Step("a", "keep", ("b",)), Step("b", "keep", ("a",)))))
    with pytest.raises(DocumentError, match="takes from 'z', and there is no such step. There are b"):
        order_of(Document(steps=(Step("a", "keep", ("z",)), Step("b", "load"))))


def test_references_choose_layers_by_key() -> None:
    made = {"a": [squares(1).with_key("x_1"), squares(1).with_key("y")], "b": [squares(2).with_key("y")]}
    found, empty = resolve(Step("s", "keep", ("a:x_*", "a", "b:y", "b:z")), made)
    assert [(layer.key, len(layer)) for layer in found] == [("x_1", 1), ("y", 1), ("y_2", 2)]
    assert empty == ["b:z"]
    assert str(Reference.parse("a : b*")) == "a:b*" and str(Reference.parse("a")) == "a"


def test_settings_for_one_layer_and_parameters_in_them() -> None:
    step = Step("s", "keep", settings={"a": {"parameter": "p"}, "b": [1, {"parameter": "p"}]}, layer={"k": {"b": 2}})
    assert settings_for(step, None, {"p": "v"}) == {"a": "v", "b": [1, "v"]}
    assert settings_for(step, "k", {"p": "v"}) == {"a": "v", "b": 2}
    with pytest.raises(DocumentError, match="no parameter 'p'"):
        settings_for(step, None, {})


def test_removing_and_renaming_keep_references_right() -> None:
    document = parse(WORKFLOW)
    gone = edits.remove_step(document, "chosen")
    assert gone.step("archive").source == ("recordings:*_tracks",) and gone.step("web").source == ()
    with pytest.raises(DocumentError, match="there is a step 'web' already"):
        edits.rename_step(document, "archive", "Web")
    added = edits.add_step(document, Step("keep", "keep"), 1)
    assert [s.id for s in edits.add_step(added, Step("keep", "keep")).steps][1::4] == ["keep", "keep_2"]
