"""The handbook: a page for every operation and for a workflow, as HTML, made from what they say of themselves."""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping, Sequence
from html import escape
from pathlib import Path

from eskret.core.files.atomic import write_whole
from eskret.core.words import pieces
from eskret.errors import DeliveryError
from eskret.operations.base import Delivery, EachLayer, Gathering, Operation, Phase, Source
from eskret.operations.registry import OWN, all_operations
from eskret.operations.settings import SettingInfo, default_of, setting_info
from eskret.workflow.faces import handbook_rules, ledger
from eskret.workflow.faces.report import PAGE_STYLE
from eskret.workflow.model.document import Document
from eskret.workflow.model.parameters import value_words
from eskret.workflow.run.subworkflow import result_steps

INDEX, RULES = "index.html", "what-holds-everywhere.html"
_LOOKS = "handbook.css"
_SHAPES = (
    (Source, "Nothing enters. Each file or part is read by itself, several at a time.", "gather"),
    (EachLayer, "Works on each layer of the set by itself, several at a time; single layers can have settings of their own.", "each"),
    (Gathering, "Sees the whole set at once.", "set"),
    (Delivery, "Takes the whole set and writes it. Nothing is in its place before the whole run has succeeded.", "deliver"),
)
_MEMORY = "A layer has to fit into memory."
_MORE_STYLE = """
nav{padding:.8rem 0}nav a,td a{color:#22695A}pre{background:#F1F6EC;border-left:3px solid #22695A;padding:.7rem 1rem;overflow-x:auto;
font-size:.9rem}dl{display:grid;grid-template-columns:max-content 1fr;gap:.25rem 1.2rem}dt{font-weight:600}dd{margin:0}
td:first-child,td:first-child code{white-space:nowrap}.help p{max-width:46rem}
"""


def page_of_operation(operation: Operation, home: str = INDEX) -> str:
    """The page of an operation."""
    words, shape = next((w, s) for c, w, s in _SHAPES if isinstance(operation, c))
    told = getattr(operation, "declared", operation)  # of an operation of one's own, what its file says of it
    author = getattr(told, "author", "Eskret")
    limits = [told.limits, _MEMORY]
    facts = {
        "Called": f"<code>{escape(operation.id)}</code>",
        "Phase": escape(str(operation.phase)),
        "How": escape(words),
        "Also found as": escape(", ".join(operation.also_known_as)),
        "Author": escape(author or "not said"),
        "Limits": escape(" ".join(x for x in limits if x)),
        "Version": str(operation.version),
    }
    body = [
        _section("How to use it", _paragraphs(operation.help)) if operation.help else "",
        _section("Settings", _settings(operation)),
        _section("In Python", f"<pre>{escape(in_python(operation, shape))}</pre>"),
        _section("On the command line", f"<pre>{escape(on_the_command_line(operation))}</pre>"),
        _section("About it", _facts(facts)),
    ]
    return _page(operation.title, operation.summary, body, home)


def page_of_workflow(document: Document, file: str, home: str = "") -> str:
    """The page of a workflow, for whoever uses it: what it does, its parameters, how it is run."""
    parameters = [
        [
            f"<code>{escape(p.name)}</code>",
            escape(p.title),
            escape(p.help),
            escape(value_words(p.default)),
            escape(", ".join(map(str, p.choices)) or (f"from {p.choices_from.layer}" if p.choices_from else "")),
        ]
        for p in document.parameters
    ]
    steps = []
    for row in ledger.rows(document, {}):
        step = document.step(row.id)
        steps.append([str(row.number), _bold(row.sentence), escape(" ".join((step.heading, step.note)).strip())])
    given = ", ".join(f"{p.name}={p.default!r}" for p in document.parameters[:2] if p.type not in ("layer", "measure"))
    python = f'from eskret import Workflow\n\nresult = Workflow.read("{file}").run({given})\nprint(result.state, result.outputs)'
    chosen = next((p for p in document.parameters if p.choices or p.choices_from), None)
    sets = "".join(f" --set {shlex.quote(f'{p.name}={p.default}')}" for p in document.parameters[:2])
    command = f"eskret run {shlex.quote(file)}{sets}"
    if chosen is not None:
        command += f"\neskret run {shlex.quote(file)} --for-each {chosen.name}"
    gives = ", ".join(result_steps(document)) or "nothing"
    facts = {
        "Keywords": escape(", ".join(document.keywords)),
        "Author": escape(document.author or "not said"),
        "Limits": escape(document.limits or "none that are said"),
        "File": f"<code>{escape(file)}</code>",
        "Coordinate system": escape(document.crs or "that of each layer"),
        "Gives, used in another workflow": escape(gives),
    }
    body = [
        _section("How to use it", _paragraphs(document.help)) if document.help else "",
        _section("Parameters", _table(["Name", "Label", "What it is", "Else", "Choices"], parameters)) if parameters else "",
        _section("Steps", _table(["#", "Step", ""], steps)),
        _section("In Python", f"<pre>{escape(python)}</pre>"),
        _section("On the command line", f"<pre>{escape(command)}</pre>"),
        _section("About it", _facts(facts)),
    ]
    return _page(document.title or file, document.summary, body, home)


def page_of_rules(home: str = INDEX) -> str:
    """The page of what every operation takes alike."""
    return _page(handbook_rules.TITLE, handbook_rules.SUMMARY, [_section(t, _paragraphs(x)) for t, x in handbook_rules.RULES], home)


def index(operations: Sequence[Operation], workflows: Sequence[tuple[str, str, str]] = ()) -> str:
    """The first page.

    Parameters
    ----------
    workflows : page, title and summary of each.
    """
    body = []
    if workflows:
        rows = [[f'<a href="{escape(page)}">{escape(title)}</a>', escape(text)] for page, title, text in workflows]
        body.append(_section("Workflows", _table(["", ""], rows)))
    rules = [[f'<a href="{RULES}">{escape(handbook_rules.TITLE)}</a>', escape(handbook_rules.SUMMARY)]]
    body.append(_section("First", _table(["", ""], rows=rules)))
    for phase in Phase:
        mine = [o for o in operations if o.phase == phase]
        rows = [[f'<a href="{page_name(o)}">{escape(o.title)}</a>', escape(o.summary)] for o in mine]
        if rows:
            body.append(_section(str(phase), _table(["", ""], rows)))
    return _page("Handbook", "What every operation does, and how it is called.", body, "")


def page_name(operation: Operation) -> str:
    """The file of an operation's page."""
    return f"{operation.id.replace(':', '-')}.html"


def write_handbook(folder: Path, operations: Sequence[Operation] | None = None, workflows: Mapping[str, Document] | None = None) -> Path:
    """Write all pages into a folder; the first page.

    Parameters
    ----------
    operations : those to tell of; all of the program's where none are given.
    workflows : documents by the name of their file.

    Raises
    ------
    DeliveryError : the folder cannot be written.
    """
    told = list(operations if operations is not None else all_operations().values())
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for one in told:
            write_whole(folder / page_name(one), page_of_operation(one), synced=False)
        pages = []
        for file, document in (workflows or {}).items():
            page = f"workflow-{Path(file).stem}.html"
            write_whole(folder / page, page_of_workflow(document, file, INDEX), synced=False)
            pages.append((page, document.title or file, document.summary))
        write_whole(folder / RULES, page_of_rules(), synced=False)
        write_whole(folder / _LOOKS, PAGE_STYLE.lstrip() + _MORE_STYLE, synced=False)
        write_whole(folder / INDEX, index(told, pages), synced=False)
    except OSError as error:
        raise DeliveryError(f"the handbook cannot be written ({error.strerror})", place=str(folder)) from error
    return folder / INDEX


# -- examples

_PLACES: Mapping[str, str] = {"condition": "tonnes > 10", "layer": "areas.gpkg", "field": "name"}


def _required(operation: Operation) -> dict[str, tuple[SettingInfo, str]]:
    """The settings that must be given, each with an example."""
    infos = setting_info(operation.Settings)
    return {
        n: (i, i.example or next(iter(i.choices), "") or _PLACES.get(i.kind, "…"))
        for n, i in infos.items()
        if operation.Settings.model_fields[n].is_required()
    }


def in_python(operation: Operation, shape: str) -> str:
    """A call in Python, as part of a workflow."""
    given = []
    lines = ["from eskret import Workflow", "", 'workflow = Workflow("An example")']
    name = operation.id.removeprefix(OWN)
    layers = [n for n, (i, _) in _required(operation).items() if i.kind == "layer"]
    if shape != "gather":
        lines.append('beds = workflow.load("beds", files=["beds.gpkg"])')
    for one in layers:
        lines.append(f'{one}_layer = workflow.load("{one}", files=["areas.gpkg"])')
    for n, (info, example) in _required(operation).items():
        given.append(f"{n}={f'{n}_layer' if info.kind == 'layer' else _literal(info, example)}")
    enters = ", beds" if shape != "gather" else ""
    call = (
        f'workflow.{name}("{name}_1"{enters}'
        if not operation.id.startswith(OWN)
        else (f'workflow.step("{operation.id}", "{name}_1"{enters}')
    )
    lines.append(f"{call}{''.join(', ' + g for g in given)})")
    if shape != "deliver":
        lines.append(f'workflow.save("out", "{name}_1", to="out/result.gpkg")')
    lines.append("result = workflow.run()")
    return "\n".join(lines)


def on_the_command_line(operation: Operation) -> str:
    """A call on the command line."""
    words = ["eskret", "do", operation.id]
    required = _required(operation)
    if not isinstance(operation, Source):
        words.append("beds.gpkg")
    for name, (info, example) in required.items():
        value = "areas.gpkg" if info.kind == "layer" else example
        if name == "files":
            words.append(shlex.quote(value))
        else:
            words += [f"--{name.replace('_', '-')}", shlex.quote(value)]
    if not isinstance(operation, Delivery):
        words += ["--out", "result.gpkg"]
    if operation.id == "workflow":
        return "eskret run district.toml --for-each district"
    return " ".join(words)


def _literal(info: SettingInfo, example: str) -> str:
    if info.kind in ("files", "fields", "patterns", "choices"):
        return json.dumps([t.strip() for t in example.split(",")], ensure_ascii=False)
    if info.kind in ("features", "shapes", "cells"):
        return example if example[:1] == "[" else f"[{json.dumps(example, ensure_ascii=False)}]"
    return json.dumps(example, ensure_ascii=False)


# -- parts of a page


def _settings(operation: Operation) -> str:
    rows = []
    for name, info in setting_info(operation.Settings).items():
        must = operation.Settings.model_fields[name].is_required()
        default = default_of(operation.Settings, name)
        told = [escape(info.help)] if info.help else []
        if info.choices:
            told.append("One of: " + ", ".join(f"<code>{escape(str(v))}</code> ({escape(w)})" for v, w in info.choices.items()) + ".")
        if info.shown_when is not None:
            other, values = info.shown_when
            told.append(f"It matters where <code>{escape(other)}</code> is {escape(', '.join(map(str, values)))}.")
        if info.example:
            told.append(f"For example <code>{escape(info.example)}</code>.")
        told_default = json.dumps(default, ensure_ascii=False, default=str)
        shown = "must be given" if must else "nothing" if default in ("", None, [], {}) else f"<code>{escape(told_default)}</code>"
        rows.append([f"<code>{escape(name)}</code>", escape(info.label), " ".join(told), shown])
    return _table(["Name", "Label", "What it is", "Else"], rows) if rows else "<p>It has none.</p>"


def _table(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    head = "".join(f"<th>{escape(h)}" for h in heads)
    lines = "".join("<tr>" + "".join(f"<td>{c}" for c in row) for row in rows)
    return f"<table><thead><tr>{head}</thead><tbody>{lines}</tbody></table>"


def _facts(facts: Mapping[str, str]) -> str:
    return "<dl>" + "".join(f"<dt>{escape(n)}<dd>{v}" for n, v in facts.items() if v) + "</dl>"


def _section(title: str, body: str) -> str:
    return f"<h2>{escape(title)}</h2><div class=help>{body}</div>"


def _paragraphs(text: str) -> str:
    parts = [" ".join(p.split()) for p in text.split("\n\n") if p.strip()]
    return "".join(f"<p>{escape(p)}</p>" for p in parts)


def _bold(sentence: str) -> str:
    return "".join(f"<b>{escape(t)}</b>" if strong else escape(t) for t, strong in pieces(sentence))


def _page(title: str, summary: str, body: Sequence[str], home: str) -> str:
    way = f'<nav><a href="{home}">Handbook</a></nav>' if home else ""
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        f'<title>{escape(title)}</title><link rel="stylesheet" href="{_LOOKS}">'
        f"<header><h1>{escape(title)}</h1><div>{escape(summary)}</div></header>"
        f"<main>{way}{''.join(body)}</main></html>\n"
    )
