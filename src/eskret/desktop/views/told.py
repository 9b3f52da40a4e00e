"""The ledger of a run that is over, to be read: a round's, or one of earlier."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtWidgets import QWidget

from eskret.core.words import strip_markup
from eskret.desktop.table.grid_model import Column
from eskret.desktop.table.read_table import ReadTable
from eskret.workflow.faces import ledger
from eskret.workflow.model.document import Document

STATES = {"balanced": ("● balanced", "good"), "look": ("▲ look", "look"), "failed": ("■ failed", "bad"), "stopped": ("■ stopped", "bad")}
_COLUMNS = (
    Column("number", "#", False, right=True, width=38),
    Column("step", "Step", False, width=360),
    Column("in", "In", False, right=True, width=76),
    Column("out", "Out", False, right=True, width=76),
    Column("aside", "Set aside", False, right=True, width=80),
    Column("total", "Control total", False, right=True, width=120),
    Column("time", "Time", False, right=True, width=60),
    Column("state", "State", False, width=100),
    Column("says", "What it says", False, width=300),
)


class ToldTable(ReadTable):
    """Steps of a run as JSON told them."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Ledger of the run", _COLUMNS, parent)
        self.ids: list[str] = []

    def show_run(self, document: Document, told: Mapping[str, Any]) -> None:
        """Show a run; of a step that did not run nothing but its sentence."""
        results = {s["id"]: s for s in told.get("steps", ())}
        rows, colours = [], {}
        self.ids = []
        for n, row in enumerate(ledger.rows(document, results, values=told.get("values", {}))):
            words, colour = STATES.get(row.state, ("off" if row.off else "", "faint"))
            says = "; ".join(text for text, _ in ledger.grouped_remarks(row.remarks))
            self.ids.append(row.id)
            rows.append(
                {
                    "number": str(row.number),
                    "step": strip_markup(row.sentence),
                    "in": _n(row.rows_in),
                    "out": _n(row.rows_out),
                    "aside": _n(row.aside) if row.aside else "",
                    "total": row.total,
                    "time": row.time,
                    "state": words,
                    "says": row.error or says,
                }
            )
            colours[n, "state"] = colour
            colours[n, "aside"] = "bad"
            for key in ("number", "time"):
                colours[n, key] = "faint"
        self.show_rows(rows, colours=colours)

    def clear(self) -> None:
        """Show nothing."""
        self.ids = []
        self.show_rows([])


def _n(value: int | None) -> str:
    return "" if value is None else f"{value:,}"
