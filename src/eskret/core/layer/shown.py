"""A layer as a notebook shows it: what it is, and its first rows."""

from __future__ import annotations

from html import escape
from typing import Any

from eskret.core.layer.column import GeometryKind
from eskret.core.layer.layer import Layer
from eskret.core.words import counted_kind

ROWS, COLUMNS = 6, 12
_CELL = "padding:2px 10px 2px 0;text-align:left;vertical-align:top"


def headline(layer: Layer) -> str:
    """What it is, in a line."""
    system = f", {layer.crs}" if layer.crs else ", without a CRS" if layer.kind is not GeometryKind.TABLE else ""
    return f"{layer.key}: {counted_kind(len(layer), layer.kind)}{system}"


def layer_html(layer: Layer) -> str:
    """What it is, its fields and its first rows."""
    fields = layer.fields[:COLUMNS]
    more = len(layer.fields) - len(fields)
    head = [f"{escape(f.name)}<br><small>{escape(f.word)}</small>" for f in fields] + [f"and {more} more"] * bool(more)
    first = layer.table.select([f.name for f in fields]).slice(0, ROWS).to_pylist()
    rows = [[_cell(row[f.name]) for f in fields] + [""] * bool(more) for row in first]
    left = len(layer) - len(first)
    end = f"<small>and {left:,} more rows</small>" if left > 0 else ""
    return f"<b>{escape(headline(layer))}</b>{table_html(head, rows)}{end}"


def table_html(head: list[str], rows: list[list[str]]) -> str:
    """A table of texts that are HTML already."""
    top = "".join(f'<th style="{_CELL}">{x}</th>' for x in head)
    body = "".join(f"<tr>{''.join(f'<td style={_quoted(_CELL)}>{x}</td>' for x in row)}</tr>" for row in rows)
    return f'<table style="border-collapse:collapse"><thead><tr>{top}</tr></thead><tbody>{body}</tbody></table>'


def _quoted(text: str) -> str:
    return f'"{text}"'


def _cell(value: Any) -> str:
    if value is None:
        return ""
    text = str(value)
    return escape(text if len(text) <= 60 else f"{text[:59]}…")
