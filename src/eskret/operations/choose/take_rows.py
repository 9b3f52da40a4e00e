"""Some rows of a layer by their place: the first ones, every n-th, or some drawn at random."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from eskret.core.accounts.account import Remark
from eskret.core.layer import Layer, LayerFacts
from eskret.core.tables.groupby import group_rows
from eskret.core.words import bold
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.row_wise import Chosen, RowFilter


class TakeRows(RowFilter):
    """Keep the first rows, every n-th row, or some drawn at random.

    Rows count in the order in which they come; sort them first where another order is meant. Groups are counted each by
    itself, such as the three largest beds of every district. Rows drawn at random are the same ones each time, as long as
    the seed and the number of rows are the same; another seed draws others.
    """

    id = "take_rows"
    title = "Take rows"
    phase = Phase.CHOOSE
    menu_order = 35
    nothing = "there was no row to take"
    also_known_as = (
        "sample",
        "random sample",
        "first n",
        "top n",
        "limit",
        "every nth row",
        "every nth point",
        "subset",
        "head",
        "thin out",
        "preview rows",
        "spot check",
        "largest per group",
        "first rows of each group",
        "n largest",
    )

    class Settings(OperationSettings):
        which: Literal["first", "every", "random"] = setting(
            "Take",
            kind="choice",
            default="first",
            choices={"first": "the first rows", "every": "every n-th row, from the first on", "random": "rows drawn at random"},
            help="Which rows stay; the others are set aside.",
        )
        number: int = setting("How many", default=10, ge=1, help="So many rows; of every n-th row the n: 10 takes one in ten.")
        within: list[str] = named_fields.by_setting("In each group", "Rows with the same values in these are counted by themselves.")
        seed: int = setting(
            "Seed", rare=True, default=1, ge=0, shown_when=("which", ("random",)), help="The same seed draws the same rows again."
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        number, which = settings.get("number", 10), settings.get("which", "first")
        words = {"first": f"the first {number} rows", "every": f"one row in {number}", "random": f"{number} random rows"}
        given = settings.get("within")
        group = f" in each {', '.join(map(str, given))}" if isinstance(given, list) and given else ""
        return f"Take {words.get(str(which), '…')} of {bold(entering or '…')}{group}"

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        return named_fields.named(facts, settings.within, "within")

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def choose(self, layer: Layer, settings: Settings, context: Context) -> Chosen:
        taken, remarks = context.once("taken", lambda: _taken(layer, settings, context))
        mine = taken[context.rows_of(layer)]
        number = f"{settings.number:,}"
        reason = {"first": f"is not among the first {number}", "every": f"is not one in {number}", "random": "was not drawn"}
        return Chosen(np.flatnonzero(mine), [(reason[settings.which], np.flatnonzero(~mine))], remarks)


def _taken(layer: Layer, settings: Any, context: Context) -> tuple[np.ndarray, list[Remark]]:
    """Whether each row, of all that there are, is taken, and what there is to say of it."""
    count = len(layer if context.large is None else context.large)
    of = np.zeros(count, np.int64)
    if settings.within:
        of = group_rows(context.columns_of(layer, settings.within), settings.within).of
    order = np.arange(count)
    if settings.which == "random":
        order = np.random.Generator(np.random.PCG64(settings.seed)).permutation(count)
    order = order[np.argsort(of[order], kind="stable")]
    place = np.empty(count, np.int64)  # of each row among those of its group
    begins = np.searchsorted(of[order], of[order])
    place[order] = np.arange(count) - begins
    taken = place % settings.number == 0 if settings.which == "every" else place < settings.number
    remarks = []
    if settings.which == "random":
        remarks.append(Remark(f"drawn with the seed {settings.seed}", layer.key))
    sizes = np.bincount(of, minlength=1)
    short = int((sizes[sizes > 0] < settings.number).sum()) if settings.which != "every" else 0
    if short and count:
        text = f"{short:,} of {len(sizes[sizes > 0]):,} groups have fewer than {settings.number:,} rows" if settings.within else ""
        remarks.append(Remark(text or f"there are only {count:,}", layer.key, look=not settings.within))
    return taken, remarks
