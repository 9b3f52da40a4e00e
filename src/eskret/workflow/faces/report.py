"""The account of a run, as JSON or as one HTML page that needs nothing else."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from eskret import pages
from eskret.core.files.atomic import write_whole
from eskret.core.naming import fill_template
from eskret.core.words import duration, pieces
from eskret.errors import DeliveryError, EskretError
from eskret.formats import sources
from eskret.formats.coordinates_text import ENDINGS as TEXT_ENDINGS
from eskret.pages import Table
from eskret.workflow.faces import ledger
from eskret.workflow.faces.report_charts import Chart, of_reasons, of_rounds
from eskret.workflow.faces.report_maps import Figures
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.parameters import value_words
from eskret.workflow.model.references import settings_for


@dataclass(frozen=True)
class ReportSource:
    """Something a run read: a file with its size and time, or a published dataset; and the step that read it."""

    step: str
    what: str
    size: int | None = None
    modified: str = ""


def sources_of(document: Document, values: Mapping[str, Any], folder: Path) -> list[ReportSource]:
    """What the steps of a workflow read, as it is there now. A parameter without a value has its default."""
    values = {**{p.name: p.default for p in document.parameters}, **values}
    out = []
    for step in document.steps:
        if step.off:
            continue
        given = settings_for(step, None, values)
        if isinstance(given.get("service"), str) and step.use == "fetch":
            out.append(ReportSource(step.id, f"{_filled(str(given.get('dataset')), values)} at {_filled(given['service'], values)}"))
        patterns = given.get("files")
        if isinstance(patterns, str):
            patterns = [patterns]
        if not isinstance(patterns, list):
            continue
        try:
            endings = TEXT_ENDINGS if step.use == "load_coordinates" else ()
            files = sources.find_files([_filled(str(p), values) for p in patterns], folder, other_endings=endings)
        except EskretError:
            continue
        for file in files:
            state = file.stat()
            when = datetime.fromtimestamp(state.st_mtime).astimezone().isoformat(" ", "minutes")
            out.append(ReportSource(step.id, _near(file, folder), state.st_size, when))
    return out


def _filled(text: str, values: Mapping[str, Any]) -> str:
    try:
        return fill_template(text, values)
    except EskretError:
        return text


def _near(path: Path, folder: Path) -> str:
    try:
        return str(path.resolve().relative_to(folder.resolve()))
    except ValueError:
        return str(path)


def write_report(document: Document, told: Mapping[str, Any], path: Path, folder: Path, figures: Figures | None = None) -> None:
    """Write the report the ending asks for: .json or .html.

    Parameters
    ----------
    told : the run's result, as JSON has it.
    folder : that of the workflow.

    Raises
    ------
    DeliveryError : another ending, or the place cannot be written.
    """
    if path.suffix.lower() not in (".json", ".html"):
        raise DeliveryError("a report ends in .json or .html", place=str(path), way_out="Choose one of these")
    given = [r["values"] for r in told["rounds"]] if "rounds" in told else [told.get("values", {})]
    read = list(dict.fromkeys(source for values in given for source in sources_of(document, values, folder)))
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.suffix.lower() == ".json":
            listed = [{"step": r.step, "source": r.what, "size": r.size, "modified": r.modified} for r in read]
            text = json.dumps({**told, "sources": listed}, indent=1, ensure_ascii=False) + "\n"
        else:
            text = to_html(document, told, read, figures)
        write_whole(path, text)
    except OSError as error:
        raise DeliveryError(f"the report cannot be written ({error.strerror})", place=str(path)) from error


def to_html(document: Document, told: Mapping[str, Any], read: Sequence[ReportSource] = (), figures: Figures | None = None) -> str:
    """The report as a page; of a run in rounds with a table of them, and the ledger of each."""
    values = {
        "title": document.title or "Workflow",
        "summary": document.summary,
        "told": told,
        "time": duration(told["seconds"]),
        "steps": [(step, _settings(step)) for step in document.steps],
        "script": pages.script("report.js") if figures is not None and figures.maps else None,
    }
    if "rounds" in told:
        names = list(dict.fromkeys(n for r in told["rounds"] for n in r["values"]))
        titles = {p.name: p.title for p in document.parameters}
        rounds = [
            {
                **one,
                "given": [value_words(one["values"].get(n, "")) for n in names],
                "saved": sum(o["features"] for o in one.get("outputs", ())),
                "rows": _ledger(document, one),
            }
            for one in told["rounds"]
        ]
        return pages.page(
            "report_rounds.html", **values, rounds=rounds, compared=_there(of_rounds(rounds)), heads=[titles.get(n, n) for n in names]
        )
    rows = _ledger(document, told)
    uses = {s.id: s.use for s in document.steps}
    remarks = [(s["id"], text, look) for s in told["steps"] for text, look in ledger.grouped_remarks(s["remarks"])]
    remarks += [("", text, look) for text, look in ledger.grouped_remarks(told["remarks"])]
    return pages.page(
        "report.html",
        **values,
        maps=figures.maps if figures is not None else (),
        counted=figures.charts if figures is not None else (),
        rows=rows,
        reasons=_there(of_reasons([row for row, _, _ in rows])),
        parameters=_parameters(document, told),
        checks=[r for r in remarks if uses.get(r[0]) == "check"],
        others=[r for r in remarks if uses.get(r[0]) != "check"],
        sources=Table(
            ["Step", "File or dataset", "Bytes", "Changed"],
            [[s.step, s.what, "" if s.size is None else f"{s.size:,}", s.modified] for s in read],
            title="Sources",
            numbers=(2,),
        ),
        pushes=_pushes(told),
    )


def _there(chart: Chart | None) -> list[Chart]:
    return [] if chart is None else [chart]


def _parameters(document: Document, told: Mapping[str, Any]) -> Table:
    titles = {p.name: p.title for p in document.parameters}
    rows = [[titles.get(n, n), value_words(v)] for n, v in (told["values"] or {}).items()]
    return Table(["Parameter", "Value"], rows, title="Parameters", narrow=True)


def _pushes(told: Mapping[str, Any]) -> Table:
    counts = ("added", "changed", "removed", "unchanged")
    rows = [[p["dataset"], p["service"], *(f"{p[n]:,}" for n in counts), p["push"]] for p in told.get("pushes", ())]
    heads = ["Dataset", "Service", "To add", "To change", "To remove", "As they are", "Push"]
    return Table(heads, rows, title="Published datasets", numbers=(2, 3, 4, 5))


def _settings(step: Step) -> list[str]:
    """The settings of a step, as the file has them."""
    told = [f"{n} = {_said(v)}" for n, v in step.settings.items()]
    return told + [f"{key}: {n} = {_said(v)}" for key, own in step.layer.items() for n, v in own.items()]


def _said(value: object) -> str:
    if isinstance(value, Mapping) and set(value) == {"parameter"}:
        return f"${value['parameter']}"
    return json.dumps(value, ensure_ascii=False, default=str)


def _ledger(document: Document, told: Mapping[str, Any]) -> list[tuple[ledger.StepRow, list[tuple[str, bool]], list[str]]]:
    """The rows, with the sentence in pieces and why rows were set aside."""
    rows = ledger.rows(document, {s["id"]: s for s in told["steps"]}, values=told.get("values", {}))
    return [(row, pieces(row.sentence), _reasons(row)) for row in rows]


def _reasons(row: ledger.StepRow) -> list[str]:
    counts: dict[str, int] = {}
    for child in row.children:
        for reason, number in child.reasons:
            counts[reason] = counts.get(reason, 0) + number
    return [ledger.reason_text(r, n) for r, n in counts.items()]
