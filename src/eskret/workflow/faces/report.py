"""The account of a run, as JSON or as one HTML page that needs nothing else."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from html import escape
from pathlib import Path
from typing import Any

from eskret.core.files.atomic import write_whole
from eskret.core.naming import fill_template
from eskret.core.words import duration, pieces
from eskret.errors import DeliveryError, EskretError
from eskret.formats import sources
from eskret.formats.coordinates_text import ENDINGS as TEXT_ENDINGS
from eskret.workflow.faces import ledger
from eskret.workflow.faces.report_maps import Figure
from eskret.workflow.model.document import Document
from eskret.workflow.model.references import settings_for

PAGE_STYLE = """
body{font:15px/1.5 Archivo,system-ui,sans-serif;color:#1D2B2A;background:#FFFDF7;margin:0}
header{background:#16302F;color:#FFFDF7;padding:1.2rem 2rem}h1{font-size:1.4rem;margin:0}h2{font-size:1.05rem;margin:2rem 0 .5rem}
main{padding:0 2rem 3rem;max-width:75rem}table{border-collapse:collapse;width:100%;font-variant-numeric:tabular-nums}
th{text-align:left;font-weight:600;border-bottom:2px solid #16302F;padding:.35rem .6rem}td{padding:.35rem .6rem;vertical-align:top}
tbody tr:nth-child(odd){background:#F1F6EC}.n{text-align:right}.aside,.failed{color:#B23A22;font-weight:600}
.balanced{color:#22695A}.look{color:#7A5600}.group td{background:#FFFDF7;color:#22695A;font-weight:600;padding-top:.9rem}
td.n,td:last-child{white-space:nowrap}.aside small{font-weight:400;white-space:normal;display:inline-block;max-width:19rem}
figure{margin:0 1.5rem 1.5rem 0;display:inline-block;vertical-align:top;width:min(45rem,100%)}figcaption{font-weight:600;padding:.3rem 0}
svg{width:100%;height:auto;border:1px solid #C9D3CC}.keys{display:flex;flex-wrap:wrap;gap:.2rem 1.1rem;padding:.3rem 0;font-size:.9rem}
.keys span{display:inline-block;width:.9rem;height:.9rem;margin-right:.4rem;vertical-align:-.1rem;border:1px solid #4A5B59}
code{font-size:.9em;overflow-wrap:anywhere;white-space:normal}small{color:#4A5B59}
"""
_MARK = {"balanced": "● balanced", "look": "▲ look", "failed": "■ failed", "stopped": "■ stopped"}


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


def write_report(document: Document, told: Mapping[str, Any], path: Path, folder: Path, maps: Sequence[Figure] = ()) -> None:
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
            text = to_html(document, told, read, maps)
        write_whole(path, text)
    except OSError as error:
        raise DeliveryError(f"the report cannot be written ({error.strerror})", place=str(path)) from error


def to_html(document: Document, told: Mapping[str, object], read: Sequence[ReportSource] = (), maps: Sequence[Figure] = ()) -> str:
    """The report as a page; of a run in rounds with a table of them, and the ledger of each."""
    title = escape(document.title or "Workflow")
    parts = [
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{title}</title><style>{PAGE_STYLE}</style>',
        f"<header><h1>{title}</h1><div>{escape(document.summary)}</div></header><main>",
    ]
    if "rounds" in told:
        parts += _rounds(document, told)
    else:
        parts += _body(document, told, read, maps)
    return "".join(parts) + "</main></html>\n"


def _head(told: Mapping[str, Any]) -> str:
    state = told["state"]
    return (
        f'<p><strong class="{state}">{_MARK.get(state, state)}</strong> · {escape(_moment(told["started"]))} · '
        f"{duration(told['seconds'])}</p>"
    )


def _rounds(document: Document, told: Mapping[str, Any]) -> list[str]:
    """A run in rounds: the rounds, what was saved, then each round's ledger."""
    parts = [_head(told)]
    if told["error"]:
        parts.append(f'<p class="failed">{escape(told["error"])}</p>')
    titles = {p.name: p.title for p in document.parameters}
    names = list(dict.fromkeys(n for r in told["rounds"] for n in r["values"]))
    rows = []
    for one in told["rounds"]:
        link = f'<a href="#{escape(one["label"])}">{escape(one["label"])}</a>'
        saved = sum(o["features"] for o in one.get("outputs", ()))
        rows.append([link, *(escape(str(one["values"].get(n, ""))) for n in names), f"{saved:,}", _state(one["state"])])
    heads = ["Round", *(escape(titles.get(n, n)) for n in names), "Features saved", "State"]
    parts.append(_table("Rounds", heads, rows, numbers=(len(names) + 1,)))
    parts.append(_outputs(told))
    for one in told["rounds"]:
        parts.append(f'<h2 id="{escape(one["label"])}">{escape(one["label"])}</h2>')
        if one["error"]:
            parts.append(f'<p class="failed">{escape(one["error"])}</p>')
        parts.append(_ledger(document, one))
    parts.append(_settings(document))
    return parts


def _body(document: Document, told: Mapping[str, Any], read: Sequence[ReportSource], maps: Sequence[Figure]) -> list[str]:
    parts = [_head(told)]
    if told["error"]:
        parts.append(f'<p class="failed">{escape(told["error"])}</p>')
    if told["values"]:
        titles = {p.name: p.title for p in document.parameters}
        rows = [[escape(titles.get(n, n)), escape(str(v))] for n, v in told["values"].items()]
        parts.append(_table("Parameters", ["Parameter", "Value"], rows, narrow=True))
    parts.append(_ledger(document, told))
    if maps:
        parts.append("<h2>Maps</h2>" + "".join(_figure(m) for m in maps))
    checks = [[escape(i), escape(t), _state("look" if look else "balanced")] for i, t, look in _checks(document, told)]
    parts.append(_table("Checks", ["Step", "What was checked", "State"], checks))
    remarks = [[escape(i), f'<span class="{"look" if look else ""}">{escape(t)}</span>'] for i, t, look in _remarks(document, told)]
    parts.append(_table("Remarks", ["Step", "Remark"], remarks))
    rows = [[escape(s.step), escape(s.what), "" if s.size is None else f"{s.size:,}", escape(s.modified)] for s in read]
    parts.append(_table("Sources", ["Step", "File or dataset", "Bytes", "Changed"], rows, numbers=(2,)))
    parts.append(_outputs(told))
    rows = [
        [
            escape(p["dataset"]),
            escape(p["service"]),
            *(f"{p[n]:,}" for n in ("added", "changed", "removed", "unchanged")),
            escape(p["push"]),
        ]
        for p in told.get("pushes", ())
    ]
    heads = ["Dataset", "Service", "To add", "To change", "To remove", "As they are", "Push"]
    parts.append(_table("Published datasets", heads, rows, numbers=(2, 3, 4, 5)))
    parts.append(_settings(document))
    return parts


def _outputs(told: Mapping[str, Any]) -> str:
    rows = [
        [escape(o["path"]), escape(o["layer"]), f"{o['features']:,}", escape(o["crs"] or ""), f"<code>{o['sha256']}</code>"]
        for o in told["outputs"]
    ]
    return _table("Outputs", ["File", "Layer", "Features", "CRS", "SHA-256"], rows, numbers=(2,))


def _table(title: str, heads: Sequence[str], rows: Sequence[Sequence[str]], numbers: Sequence[int] = (), narrow: bool = False) -> str:
    """A titled table; nothing where it has no rows."""
    if not rows:
        return ""
    side = dict.fromkeys(numbers, ' class="n"')
    head = "".join(f"<th{side.get(n, '')}>{h}" for n, h in enumerate(heads))
    body = "".join("<tr>" + "".join(f"<td{side.get(n, '')}>{c}" for n, c in enumerate(row)) for row in rows)
    style = ' style="width:auto"' if narrow else ""
    return f"<h2>{title}</h2><table{style}><thead><tr>{head}</thead><tbody>{body}</tbody></table>"


def _state(state: str) -> str:
    return f'<span class="{state}">{_MARK[state]}</span>'


def _moment(text: str) -> str:
    """A time as people here read it."""
    try:
        return datetime.fromisoformat(text).astimezone().strftime("%-d %B %Y, %H:%M %Z")
    except ValueError:
        return text


def _figure(one: Figure) -> str:
    keys = "".join(
        f'<div><span style="background:{colour}"></span>{escape(text)} <small>{count:,}</small></div>' for colour, text, count in one.keys
    )
    about = f"<div><small>{escape(one.about)}</small></div>" if one.about else ""
    return f"<figure><figcaption>{escape(one.title)}</figcaption>{one.svg}<div class=keys>{about}{keys}</div></figure>"


def _settings(document: Document) -> str:
    """Every step with its settings, as the file has them."""
    rows = []
    for number, step in enumerate(document.steps, 1):
        told = [f"{n} = {_said(v)}" for n, v in step.settings.items()]
        told += [f"{key}: {n} = {_said(v)}" for key, own in step.layer.items() for n, v in own.items()]
        source = ", ".join(step.source)
        rows.append([str(number), escape(step.id), escape(step.use), escape(source), "<br>".join(escape(t) for t in told)])
    return _table("Settings", ["#", "Step", "Operation", "From", "Settings"], rows)


def _said(value: object) -> str:
    if isinstance(value, Mapping) and set(value) == {"parameter"}:
        return f"${value['parameter']}"
    return json.dumps(value, ensure_ascii=False, default=str)


def _checks(document: Document, told: Mapping[str, Any]) -> list[tuple[str, str, bool]]:
    """What the checks of the workflow found."""
    uses = {s.id: s.use for s in document.steps}
    return [
        (s["id"], text, look) for s in told["steps"] if uses.get(s["id"]) == "check" for text, look in ledger.grouped_remarks(s["remarks"])
    ]


def _remarks(document: Document, told: Mapping[str, Any]) -> list[tuple[str, str, bool]]:
    """Step, text and whether it asks for a look, but for those of checks; the run's own remarks at the end, without a step."""
    uses = {s.id: s.use for s in document.steps}
    out = [
        (s["id"], text, look) for s in told["steps"] if uses.get(s["id"]) != "check" for text, look in ledger.grouped_remarks(s["remarks"])
    ]
    return out + [("", text, look) for text, look in ledger.grouped_remarks(told["remarks"])]


def _ledger(document: Document, told: Mapping[str, Any]) -> str:
    table = ledger.rows(document, {s["id"]: s for s in told["steps"]}, values=told.get("values", {}))
    heads = "<th>#<th>Step" + "".join(f'<th class="n">{h}' for h in ("Layers", "In", "Out", "Set aside", "Control total"))
    out = [f'<h2>Ledger</h2><table><thead><tr>{heads}<th class="n">Time<th>State</thead><tbody>']
    for row in table:
        if row.heading:
            out.append(f'<tr class="group"><td><td colspan="8">{escape(row.heading)}')
        reasons = _reasons(row)
        aside = f"{row.aside:,}<br><small>{reasons}</small>" if row.aside else ""
        state = "off" if row.off else _MARK.get(row.state, row.state)
        time = row.time
        out.append(
            f"<tr><td>{row.number}<td>{_bold(row.sentence)}{_number(row.layers)}{_number(row.rows_in)}"
            f'{_number(row.rows_out)}<td class="n aside">{aside}<td class="n">{escape(row.total)}<td class="n">{time}'
            f'<td class="{row.state}">{state}'
        )
    return "".join(out) + "</tbody></table>"


def _reasons(row: ledger.StepRow) -> str:
    counts: dict[str, int] = {}
    for child in row.children:
        for reason, number in child.reasons:
            counts[reason] = counts.get(reason, 0) + number
    return "<br>".join(escape(ledger.reason_text(r, n)) for r, n in counts.items())


def _number(value: object) -> str:
    return f'<td class="n">{value:,}' if value is not None else '<td class="n">'


def _bold(text: str) -> str:
    return "".join(f"<strong>{escape(p)}</strong>" if strong else escape(p) for p, strong in pieces(text))
