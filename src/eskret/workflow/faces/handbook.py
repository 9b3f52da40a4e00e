"""The handbook: a page for every operation and for a workflow, as HTML, made from what they say of themselves."""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping, Sequence
from pathlib import Path

from eskret import pages
from eskret.core.files.atomic import write_whole
from eskret.core.words import pieces
from eskret.errors import DeliveryError
from eskret.operations.base import Delivery, EachLayer, Gathering, Operation, Phase, Source
from eskret.operations.registry import OWN, all_operations
from eskret.operations.settings import SettingInfo, default_of, setting_info
from eskret.pages import Link, Table
from eskret.workflow.faces import handbook_rules, ledger
from eskret.workflow.faces.examples import printed
from eskret.workflow.faces.examples.picture import picture_of
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
_CHUNKS = "A large layer goes through in chunks, wherever nothing has to be told of the whole, and need not fit into memory."
_PARTS = "A large layer goes through in parts of rows that belong together, wherever that can be, and need not fit into memory."


def page_of_operation(operation: Operation, home: str = INDEX) -> str:
    """The page of an operation."""
    words, shape = next((w, s) for c, w, s in _SHAPES if isinstance(operation, c))
    told = getattr(operation, "declared", operation)  # of an operation of one's own, what its file says of it
    author = getattr(told, "author", "Eskret")
    limits = [told.limits, _memory(operation)]
    about = {
        "Called": operation.id,
        "Phase": str(operation.phase),
        "How": words,
        "Also found as": ", ".join(operation.also_known_as),
        "Author": author or "not said",
        "Limits": " ".join(x for x in limits if x),
        "Version": str(operation.version),
    }
    return pages.page(
        "handbook_operation.html",
        home=home,
        title=operation.title,
        summary=operation.summary,
        picture=picture_of(operation),
        help=operation.help,
        settings=_settings(operation),
        python=printed.in_python(operation) if printed.has_example(operation) else in_python(operation, shape),
        command=printed.on_the_command_line(operation) if printed.has_example(operation) else on_the_command_line(operation),
        about=about,
    )


def _memory(operation: Operation) -> str:
    """How large a layer may be."""
    if isinstance(operation, EachLayer) and type(operation).places is not EachLayer.places:
        return _PARTS
    if isinstance(operation, EachLayer):
        chunks = type(operation).takes is not EachLayer.takes
    elif isinstance(operation, Source):
        chunks = type(operation).chunks is not Source.chunks
    else:
        chunks = isinstance(operation, Delivery) and operation.reads_chunks
    return _CHUNKS if chunks else _MEMORY


def page_of_workflow(document: Document, file: str, home: str = "") -> str:
    """The page of a workflow, for whoever uses it: what it does, its parameters, how it is run."""
    parameters = [
        (p, value_words(p.default), ", ".join(map(str, p.choices)) or (f"from {p.choices_from.layer}" if p.choices_from else ""))
        for p in document.parameters
    ]
    steps = []
    for row in ledger.rows(document, {}):
        step = document.step(row.id)
        steps.append((row.number, pieces(row.sentence), " ".join((step.heading, step.note)).strip()))
    given = ", ".join(f"{p.name}={p.default!r}" for p in document.parameters[:2] if p.type not in ("layer", "measure"))
    python = f'from eskret import Workflow\n\nresult = Workflow.read("{file}").run({given})\nprint(result.state, result.outputs)'
    chosen = next((p for p in document.parameters if p.choices or p.choices_from), None)
    sets = "".join(f" --set {shlex.quote(f'{p.name}={p.default}')}" for p in document.parameters[:2])
    command = f"eskret run {shlex.quote(file)}{sets}"
    if chosen is not None:
        command += f"\neskret run {shlex.quote(file)} --for-each {chosen.name}"
    about = {
        "Keywords": ", ".join(document.keywords),
        "Author": document.author or "not said",
        "Limits": document.limits or "none that are said",
        "File": file,
        "Coordinate system": document.crs or "that of each layer",
        "Gives, used in another workflow": ", ".join(result_steps(document)) or "nothing",
    }
    return pages.page(
        "handbook_workflow.html",
        home=home,
        title=document.title or file,
        summary=document.summary,
        help=document.help,
        parameters=parameters,
        steps=steps,
        python=python,
        command=command,
        about=about,
    )


def page_of_rules(home: str = INDEX) -> str:
    """The page of what every operation takes alike."""
    head = {"title": handbook_rules.TITLE, "summary": handbook_rules.SUMMARY}
    return pages.page("handbook_rules.html", home=home, **head, rules=handbook_rules.RULES)


def index(operations: Sequence[Operation], workflows: Sequence[tuple[str, str, str]] = ()) -> str:
    """The first page.

    Parameters
    ----------
    workflows : page, title and summary of each.
    """

    def listed(rows: Sequence[tuple[str, str, str]]) -> Table:
        return Table((), [(Link(page, title), text) for page, title, text in rows])

    sections = [
        ("Workflows", listed(workflows)),
        ("First", listed([(RULES, handbook_rules.TITLE, handbook_rules.SUMMARY)])),
        *((str(phase), listed([(page_name(o), o.title, o.summary) for o in operations if o.phase == phase])) for phase in Phase),
    ]
    summary = "What every operation does, and how it is called."
    return pages.page("handbook_index.html", home="", title="Handbook", summary=summary, sections=sections)


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
        mine = []
        for file, document in (workflows or {}).items():
            page = f"workflow-{Path(file).stem}.html"
            write_whole(folder / page, page_of_workflow(document, file, INDEX), synced=False)
            mine.append((page, document.title or file, document.summary))
        write_whole(folder / RULES, page_of_rules(), synced=False)
        write_whole(folder / _LOOKS, pages.style("base.css", "report.css", "handbook.css"), synced=False)
        write_whole(folder / INDEX, index(told, mine), synced=False)
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


def _settings(operation: Operation) -> list[dict[str, object]]:
    """Its settings: name, what is said of it, whether it must be given, and what it is where it is not."""
    out: list[dict[str, object]] = []
    for name, info in setting_info(operation.Settings).items():
        default = default_of(operation.Settings, name)
        shown = "" if default in ("", None, [], {}) else json.dumps(default, ensure_ascii=False, default=str)
        out.append({"name": name, "info": info, "must": operation.Settings.model_fields[name].is_required(), "default": shown})
    return out
