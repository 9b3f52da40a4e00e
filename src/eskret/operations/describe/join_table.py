"""Bring the fields of a table to the features that have its key."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, Relation, Remark, SetAside
from eskret.core.layer import Certainty, Field, Layer, LayerFacts
from eskret.core.measure.aggregates import statistics_of
from eskret.core.naming import clean_name, number_collisions
from eskret.core.tables.groupby import Groups
from eskret.core.tables.matching import REPAIRS, Match, comparable, diagnose, match
from eskret.core.tables.values import empties, exact_sum, is_number, settled
from eskret.core.words import bold, pluralise
from eskret.errors import SettingError
from eskret.operations.base import Brought, Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, pairing

NO_ROW = "no row of the table has its key"
NO_KEY = "its key is empty"
NO_FEATURE = "no feature has its key"
REPEATED = "another row with its key came first"


class JoinTable(EachLayer):
    """Join the fields of a table to features by a key.

    Both sides are accounted for: features for which the table has no row, and rows that belong to no feature. Keys that
    do not match because one side holds text and the other numbers, because of blanks, case or zeros in front are found in
    the rehearsal, with what would make them match. Where the table has several rows for a key, take the first, a list of
    all different values, their sum, or all rows as one text with their number, or repeat the feature for each. A field whose name is
    taken gets a number.
    """

    id = "join_table"
    title = "Join table"
    phase = Phase.DESCRIBE
    menu_order = 40
    relation = Relation.ONE_FOR_ONE
    also_known_as = (
        "lookup",
        "lookup table",
        "merge table",
        "attribute join",
        "join by key",
        "join by id",
        "attach spreadsheet",
        "attach table",
        "add columns from table",
        "link table",
        "add names from table",
        "csv join",
        "one to many join",
        "list child records",
        "all related rows in one field",
    )

    class Settings(OperationSettings):
        table: str = setting(
            "Table",
            kind="layer",
            tables=True,
            min_length=1,
            example="landings",
            help="The table (or layer) whose fields are wanted: step, or step:layer.",
        )
        key: str = setting("Key", kind="field", min_length=1, example="bed", help="The field that holds the key here.")
        table_key: str = setting(
            "Key in the table",
            kind="field",
            of="table",
            default="",
            example="bed_no",
            help="The field of the table that holds the same key. Left empty, it has the same name.",
        )
        fields: list[str] = setting(
            "Fields to bring",
            kind="fields",
            of="table",
            default=[],
            example="landed, species",
            help="Fields of the table. Left empty, all but its key.",
        )
        alike: list[Literal["types", "blanks", "case", "zeros"]] = setting(
            "Keys are the same although",
            rare=True,
            kind="choices",
            default=[],
            choices=REPAIRS,
            help="What is ignored when keys are compared; the keys themselves stay as they are.",
        )
        several: Literal["first", "list", "sum", "rows", "repeat"] = setting(
            "Several rows with one key",
            kind="choice",
            default="first",
            choices={
                "first": "take the first",
                "list": "list all different values",
                "sum": "add numbers up, list texts",
                "rows": "list the rows in one field, and count them",
                "repeat": "repeat the feature for each",
            },
            help="What becomes of rows of the table that have the same key.",
        )
        without: Literal["keep", "aside"] = setting(
            "Features without a row",
            kind="choice",
            default="keep",
            choices={"keep": "stay, with empty fields", "aside": "are set aside"},
            help="Either way they are counted and listed.",
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        table = bold(str(settings.get("table") or "…").split(":")[-1])
        mine, other = settings.get("key") or "…", settings.get("table_key")
        by = f"{mine} = {other}" if other and other != mine else mine
        return f"Join table {table} to {bold(entering or '…')} by {by}"

    # -- forecasting

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = named_fields.named(facts, [settings.key], "key")
        table = next(iter(context.other_facts("table")), None)
        if table is None:
            return Forecast((), tuple(found))
        if len(context.other_facts("table")) > 1:
            text = f"'{settings.table}' names {len(context.other_facts('table'))} layers; one table is wanted."
            found.append(Finding.error(text, "table"))
        other_key = settings.table_key or settings.key
        for name in [other_key, *settings.fields]:
            if name not in table.names():
                where = "table_key" if name == other_key else "fields"
                text = f"{table.key}: there is no field '{name}'. It has {join_words(table.names(), 12)}."
                found.append(Finding.error(text, where))
        if found:
            return Forecast((), tuple(found))
        types = {f.name: f.type for f in (*table.fields,)}
        mine = next(f.type for f in facts.fields if f.name == settings.key)
        left, right = facts.values([settings.key]), table.values([other_key])
        if left is not None and right is not None:
            found += _diagnosed(left.column(0), right.column(0), facts.key, table.key, settings)
        elif "types" not in settings.alike and not comparable(mine, types[other_key]):
            found.append(_types_differ(facts.key, settings.key, other_key))
        brought = _brought_fields(table.names(), settings)
        if settings.several == "rows":
            listed, number = _listing_names(table.key, facts.names())
            new = [Field(listed, pa.string()), Field(number, pa.int64())]
        else:
            new = pairing.brought_fields(facts, table, brought, settings.several)
        count, certainty = facts.count, facts.certainty
        if settings.several == "repeat":
            count, certainty = None, Certainty.UNKNOWN
        elif settings.without == "aside":
            certainty = Certainty.AT_MOST
        out = replace(facts.with_fields((*facts.fields, *new)), count=count, certainty=certainty)
        return Forecast((out,), tuple(found))

    # -- doing

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        table = context.other_layers("table")[0]
        other_key = settings.table_key or settings.key
        for whose, name in ((layer, settings.key), (table, other_key), *((table, f) for f in settings.fields)):
            if name not in whose.table.column_names:
                raise named_fields.missing_field(whose, name)
        brought = _brought_fields(table.table.column_names, settings)
        once: _Joined = context.once("joined", lambda: _joined(layer, table, brought, settings, context))
        mine = once.match.of(context.rows_of(layer))
        if settings.several == "rows":
            names = list(_listing_names(table.key, layer.table.column_names))
        else:
            names = [new for _, new in pairing.brought_names(layer, table, brought)]
        kept = np.flatnonzero(mine.found) if settings.without == "aside" else np.arange(len(layer))
        out, rows, brings = _with_fields(layer, once, mine, names, brought, settings, kept)
        alone = np.flatnonzero(~mine.found)
        empty = empties(layer.table.column(settings.key))[alone]
        reasons = [(NO_ROW, alone[~empty]), (NO_KEY, alone[empty])]
        aside = SetAside.from_reasons(reasons if settings.without == "aside" else [])
        altered = () if settings.without == "aside" else tuple(Altered(r, at) for r, at in reasons)
        return Outcome(
            (out,),
            inputs=(InputAccount.of(layer, aside, altered), once.account),
            lineage=rows,
            remarks=(*once.remarks, *named_fields.no_numbers(layer, [settings.key]), *once.no_numbers),
            relation=Relation.MULTIPLIED if settings.several == "repeat" else Relation.ONE_FOR_ONE,
            controls=_controls(once, mine, out, brought, names, settings, context),
            brought=(brings,),
        )


@dataclass(frozen=True)
class _Joined:
    """How a layer and a table go together: the same for every chunk of the layer.

    ``figures`` are the table's fields by group, where several rows of it become one value; ``shared`` says whether a row of it goes
    to several features.
    """

    table: Layer
    match: Match
    account: InputAccount
    remarks: Sequence[Remark]
    no_numbers: Sequence[Remark]
    figures: Sequence[pa.Array | pa.ChunkedArray]
    shared: bool


def _joined(layer: Layer, table: Layer, brought: Sequence[str], settings: Any, context: Context) -> _Joined:
    other_key = settings.table_key or settings.key
    left, right = context.columns_of(layer, [settings.key]).column(0), table.table.column(other_key)
    if "types" not in settings.alike and not comparable(left.type, right.type):
        raise SettingError(_types_differ(layer.key, settings.key, other_key).text.rstrip("."))
    found = match(left, right, settings.alike)
    no_numbers = named_fields.no_numbers(table, [other_key, *(brought if settings.several in ("sum", "list") else [])])
    if settings.several == "rows":
        figures = [_listed(table.table, brought, found.groups), pa.array(found.groups.sizes, pa.int64())]
    else:
        figures = statistics_of(table.table, found.groups, pairing.figures_of(table, brought, settings.several))
    account = _other_account(table, found, settings)
    return _Joined(
        table,
        found,
        account,
        _remarks(layer.key, table, found, settings),
        [r.once() for r in no_numbers],
        figures,
        bool((found.wanted > 1).any()),
    )


def _with_fields(
    layer: Layer, once: _Joined, mine: Match, names: Sequence[str], brought: Sequence[str], settings: Any, kept: np.ndarray
) -> tuple[Layer, np.ndarray, Brought]:
    """The layer with the fields of the table, the row each of its rows comes from, and which rows of the table went into them."""
    if settings.several in ("first", "repeat"):
        pairs = _pairs(mine, settings.several)
        out, rows, partner = pairing.with_brought(layer, once.table, pairs, brought, settings.several, kept)
        return out, rows, pairing.links_of("table", pairs, kept, partner, settings.several)
    columns = [pairing.taken(pa.chunked_array([c]), mine.group[kept]) for c in once.figures]
    asked = list(zip(names if settings.several == "rows" else brought, names, strict=True))
    out = pairing.with_columns(layer, once.table, asked, columns, kept)
    return out, kept, Brought("table", lambda: pairing.links_of("table", _pairs(mine, "all"), kept, kept, "all").pairs())


BETWEEN_ROWS = "; "
"""What stands between the rows of a table in one field."""


def _listing_names(table: str, taken: Sequence[str]) -> tuple[str, str]:
    """What the field with the rows of a table is called, and the one with their number."""
    name = clean_name(table, keep_case=True) or "rows"
    listed, number = number_collisions([name, f"{name}_count"], taken=taken)
    return listed, number


def _listed(table: pa.Table, fields: Sequence[str], groups: Groups) -> pa.Array:
    """For each group its rows as one text: the fields of each with their values, but for empty ones."""
    columns = [settled(table.column(name)).to_pylist() for name in fields]
    rows = [
        ", ".join(f"{name}: {_as_text(value)}" for name, value in zip(fields, values, strict=True) if value is not None)
        for values in zip(*columns, strict=True)
    ] or [""] * table.num_rows
    order, starts = groups.order.tolist(), groups.starts.tolist()
    texts = (BETWEEN_ROWS.join(rows[n] for n in order[start:end]) for start, end in itertools.pairwise(starts))
    return pa.array(list(texts), pa.string())


def _as_text(value: object) -> str:
    return f"{value:.15g}" if isinstance(value, float) else str(value)


def _types_differ(key: str, mine: str, other: str) -> Finding:
    text = f"{key}: '{mine}' and '{other}' are of different types, so they never match. Let text and numbers count alike."
    return Finding.error(text, "alike", layer=key)


def _diagnosed(left: pa.ChunkedArray, right: pa.ChunkedArray, key: str, table: str, settings: Any) -> list[Finding]:
    found = diagnose(left, right, settings.alike)
    out: list[Finding] = []
    if "types" not in settings.alike and not comparable(left.type, right.type):
        out.append(_types_differ(key, settings.key, settings.table_key or settings.key))
    short = found.left - found.found
    if short or found.right_left_over:
        text = (
            f"{key}: {short:,} of {pluralise(found.left, 'feature')} find no row, and {found.right_left_over:,} of "
            f"{pluralise(found.right, 'row')} of '{table}' belong to no feature."
        )
        out.append(Finding.look(text, "key", layer=key))
    if found.repairs:
        how = join_words([REPAIRS[r] for r in found.repairs], 4)
        text = f"{key}: {found.repaired - found.found:,} more would match too if keys count as the same although {how}."
        out.append(Finding.look(text, "alike", layer=key))
    return out


def _brought_fields(names: Sequence[str], settings: Any) -> list[str]:
    return list(settings.fields) or [n for n in names if n != (settings.table_key or settings.key)]


def _pairs(found: Match, several: str) -> pairing.Pairs:
    """Every row of the layer with the rows of the table that have its key; with the first of them, where that will do."""
    rows = np.flatnonzero(found.found)
    group = found.group[rows]
    if several == "first":
        return pairing.Pairs(rows, found.groups.first[group])
    times = found.groups.sizes[group]
    step = np.arange(int(times.sum())) - np.repeat(np.cumsum(times) - times, times)
    return pairing.Pairs(np.repeat(rows, times), found.groups.order[np.repeat(found.groups.starts[:-1][group], times) + step])


def _other_account(table: Layer, found: Match, settings: Any) -> InputAccount:
    groups = found.groups
    taken = found.wanted > 0
    in_one = groups.of >= 0
    no_feature = np.zeros(len(table), bool)
    no_feature[in_one] = ~taken[groups.of[in_one]]
    reasons = [(NO_FEATURE, np.flatnonzero(no_feature)), (NO_KEY, np.flatnonzero(~in_one))]
    if settings.several == "first":
        later = in_one & ~no_feature
        later[groups.first] = False
        reasons.append((REPEATED, np.flatnonzero(later)))
    return InputAccount("table", table.key, len(table), SetAside.from_reasons(reasons))


def _controls(
    once: _Joined, mine: Match, out: Layer, brought: Sequence[str], names: Sequence[str], settings: Any, context: Context
) -> tuple[ControlTotal, ...]:
    """Where no row of the table goes to two features, each number in it is found once in what leaves, or left over. What is left
    over is told with the first chunk."""
    if once.shared or settings.several == "list":
        return ()
    table = once.table
    if settings.several == "rows":
        listed = exact_sum(out.table.column(names[1]))
        return (ControlTotal("rows of the table listed", "", len(_taken_rows(once, mine, settings)), listed),)
    aside = once.account.set_aside.rows if not context.begins else np.empty(0, np.int64)
    all_rows = np.arange(len(table)) if context.large is None else np.union1d(aside, _taken_rows(once, mine, settings))
    controls = []
    for before, after in zip(brought, names, strict=True):
        column = table.table.column(before)
        if is_number(column.type):
            found_sum = exact_sum(column.take(pa.array(aside))) + exact_sum(out.table.column(after))
            controls.append(ControlTotal(f"sum of {before} in the table", "", exact_sum(column.take(pa.array(all_rows))), found_sum))
    return tuple(controls[:4])


def _taken_rows(once: _Joined, mine: Match, settings: Any) -> np.ndarray:
    """The rows of the table that these features take."""
    return _pairs(Match(np.unique(mine.group[mine.found]), mine.groups), settings.several).other


def _remarks(key: str, table: Layer, found: Match, settings: Any) -> list[Remark]:
    alone = int((~found.found).sum())
    taken = found.wanted > 0
    over = len(table) - int(found.groups.sizes[taken].sum())
    out = [Remark(f"{pluralise(len(found.group) - alone, 'feature')} found their row in '{table.key}'", key)]
    if alone:
        out.append(Remark(f"{pluralise(alone, 'feature')} found none", key, look=True))
    if over:
        out.append(Remark(f"{pluralise(over, 'row')} of '{table.key}' left over", key, look=True))
    several = int((found.groups.sizes[taken] > 1).sum())
    if several:
        how = {
            "first": "the first row was taken",
            "list": "their values were listed",
            "sum": "they were added up",
            "rows": "they were listed one after the other",
            "repeat": "the feature was repeated",
        }[settings.several]
        out.append(Remark(f"{pluralise(several, 'key stands', 'keys stand')} in several rows of '{table.key}'; {how}", key, look=True))
    shared = int((found.wanted > 1).sum())
    if shared:
        text = f"{pluralise(shared, 'row')} of '{table.key}' went to several features; adding them up counts them several times"
        out.append(Remark(text, key))
    return out
