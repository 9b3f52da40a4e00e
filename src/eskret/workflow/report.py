"""The account of a run, as JSON or as one HTML page that needs nothing else."""

from __future__ import annotations

import json
from html import escape
from pathlib import Path
from typing import Any

from eskret.core.words import duration, pieces
from eskret.errors import DeliveryError
from eskret.workflow import ledger
from eskret.workflow.document import Document
from eskret.workflow.engine import RunResult

_STYLE = """
body{font:15px/1.5 Archivo,system-ui,sans-serif;color:#1D2B2A;background:#FFFDF7;margin:0}
header{background:#16302F;color:#FFFDF7;padding:1.2rem 2rem}h1{font-size:1.4rem;margin:0}h2{font-size:1.05rem;margin:2rem 0 .5rem}
main{padding:0 2rem 3rem;max-width:75rem}table{border-collapse:collapse;width:100%;font-variant-numeric:tabular-nums}
th{text-align:left;font-weight:600;border-bottom:2px solid #16302F;padding:.35rem .6rem}td{padding:.35rem .6rem;vertical-align:top}
tbody tr:nth-child(odd){background:#F1F6EC}.n{text-align:right}.aside,.failed{color:#B23A22;font-weight:600}
.balanced{color:#22695A}.look{color:#7A5600}.group td{background:#FFFDF7;color:#22695A;font-weight:600;padding-top:.9rem}
td.n,td:last-child{white-space:nowrap}.aside small{font-weight:400;white-space:normal;display:inline-block;max-width:19rem}
code{font-size:.9em;overflow-wrap:anywhere;white-space:normal}small{color:#4A5B59}
"""
_MARK = {"balanced": "● balanced", "look": "▲ look", "failed": "■ failed", "stopped": "■ stopped"}


def write_report(document: Document, result: RunResult, path: Path) -> None:
    """Write the report the ending asks for: .json or .html.

    Raises
    ------
    DeliveryError : another ending, or the place cannot be written.
    """
    if path.suffix.lower() not in (".json", ".html"):
        raise DeliveryError("a report ends in .json or .html", place=str(path), way_out="Choose one of these")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.suffix.lower() == ".json":
            path.write_text(json.dumps(result.to_json(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
        else:
            path.write_text(to_html(document, result), encoding="utf-8")
    except OSError as error:
        raise DeliveryError(f"the report cannot be written ({error.strerror})", place=str(path)) from error


def to_html(document: Document, result: RunResult) -> str:
    """The report as a page."""
    title = escape(document.title or "Workflow")
    parts = [
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{title}</title><style>{_STYLE}</style>',
        f"<header><h1>{title}</h1><div>{escape(document.summary)}</div></header><main>",
        f'<p><strong class="{result.state}">{_MARK.get(result.state, result.state)}</strong> · {escape(result.started)} · '
        f"{duration(result.seconds)}</p>",
    ]
    if result.error:
        parts.append(f'<p class="failed">{escape(result.error)}</p>')
    if result.values:
        parts.append('<h2>Parameters</h2><table style="width:auto"><tbody>')
        titles = {p.name: p.title for p in document.parameters}
        parts += [f"<tr><td>{escape(titles.get(n, n))}<td>{escape(str(v))}" for n, v in result.values.items()]
        parts.append("</tbody></table>")
    parts.append(_ledger(document, result))
    remarks = _remarks(result)
    if remarks:
        parts.append("<h2>Remarks</h2><table><thead><tr><th>Step<th>Remark</thead><tbody>")
        parts += [
            f'<tr><td>{escape(step)}<td class="{"look" if look else ""}">{escape(text)}' for step, text, look in remarks
        ]
        parts.append("</tbody></table>")
    if result.outputs:
        parts.append(
            '<h2>Outputs</h2><table><thead><tr><th>File<th>Layer<th class="n">Features<th>CRS<th>SHA-256</thead><tbody>'
        )
        parts += [
            f'<tr><td>{escape(str(o.path))}<td>{escape(o.layer)}<td class="n">{o.features:,}<td>{escape(o.crs or "")}'
            f"<td><code>{o.sha256}</code>"
            for o in result.outputs
        ]
        parts.append("</tbody></table>")
    return "".join(parts) + "</main></html>\n"


def _remarks(result: RunResult) -> list[tuple[str, str, bool]]:
    """Step, text and whether it asks for a look; the run's own remarks at the end, without a step."""
    told = result.to_json()
    out = [(s["id"], text, look) for s in told["steps"] for text, look in ledger.grouped_remarks(s["remarks"])]
    return out + [("", text, look) for text, look in ledger.grouped_remarks(told["remarks"])]


def _ledger(document: Document, result: RunResult) -> str:
    table = ledger.rows(document, {s.id: s.to_json() for s in result.steps})
    heads = "<th>#<th>Step" + "".join(
        f'<th class="n">{h}' for h in ("Layers", "In", "Out", "Set aside", "Control total")
    )
    out = [f'<h2>Ledger</h2><table><thead><tr>{heads}<th class="n">Time<th>State</thead><tbody>']
    for row in table:
        if row.heading:
            out.append(f'<tr class="group"><td><td colspan="8">{escape(row.heading)}')
        reasons = _reasons(row)
        aside = f"{row.aside:,}<br><small>{reasons}</small>" if row.aside else ""
        state = "off" if row.off else _MARK.get(row.state, row.state)
        time = duration(row.seconds) if row.seconds is not None else ""
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


def _number(value: Any) -> str:
    return f'<td class="n">{value:,}' if value is not None else '<td class="n">'


def _bold(text: str) -> str:
    return "".join(f"<strong>{escape(p)}</strong>" if strong else escape(p) for p, strong in pieces(text))
