"""Fields and figures that settings name: checked against the layer, foretold, and proved to add up."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import ControlTotal, Firsts, Remark, SetAside, told_counts, verbatim
from eskret.core.expression import parse_condition
from eskret.core.layer import ChunkedLayer, Field, Layer, LayerFacts
from eskret.core.measure.aggregates import Statistic, fields_of, parse_statistics, statistics_of
from eskret.core.tables.cast import Retyped
from eskret.core.tables.groupby import Groups, group_rows
from eskret.core.tables.values import count_no_numbers, exact_sum, settled_table
from eskret.errors import ExpressionError, SettingError
from eskret.operations.base import Context, Finding
from eskret.operations.sentences import join_words
from eskret.operations.settings import setting


def by_setting(
    label: str = "By the values of", help: str = "Features with the same values in all of these become one.", **more: Any
) -> Any:
    """Fields to group by."""
    return setting(label, kind="fields", example="licence", help=help, **{"default": [], **more})


def figures_setting(**more: Any) -> Any:
    """Figures of what is put together."""
    return setting(
        "Figures",
        kind="pairs",
        default={},
        example="tonnes = sum tonnes",
        **more,
        help="New field = figure and field: sum, mean, min, max, count, first, last, list, sd, median or distinct.",
    )


def empty_setting() -> Any:
    """What becomes of rows without a value to group by."""
    return setting(
        "If the value is empty",
        rare=True,
        kind="choice",
        default="aside",
        choices={"aside": "set the feature aside", "group": "put those together too"},
        help="Features that have no value in a field they are put together by.",
    )


def named(facts: LayerFacts, names: Sequence[str], setting: str) -> list[Finding]:
    """An error for each field that is not there."""
    return [
        Finding.error(f"there is no field '{n}'. It has {join_words(facts.names(), 12)}.", setting, facts)
        for n in names
        if n not in facts.names()
    ]


def wrong_condition(facts: LayerFacts, where: str, context: Context) -> list[Finding]:
    """An error for an SQL condition that this layer cannot be asked."""
    try:
        parse_condition(where, facts.schema(), context.values, context.field_values)
    except ExpressionError as error:
        return [Finding.error(error.sentence(), "where", facts, start=error.start, length=error.length)]
    return []


def missing_field(layer: Layer | ChunkedLayer, name: str) -> SettingError:
    """The error for a field that a layer does not have, in a run."""
    return SettingError(f"there is no field '{name}'", place=layer.key, way_out=f"It has {join_words(layer.field_names, 12)}")


def forecast_figures(
    facts: LayerFacts, figures: Mapping[str, str], taken: Sequence[str] = (), setting: str = "figures"
) -> tuple[list[Field], list[Finding]]:
    """The fields that figures of this layer make, or what is wrong with them."""
    try:
        made = fields_of(parse_statistics(figures, facts.names()), facts.fields)
    except SettingError as error:
        return [], [Finding.error(error.sentence(), setting, facts)]
    twice = [f.name for f in made if f.name in taken]
    if twice:
        return [], [Finding.error(f"there would be two fields '{twice[0]}'. Give the figure another name.", setting, facts)]
    return made, []


def grouped(table: pa.Table, groups: Groups, by: Sequence[str], figures: Mapping[str, str]) -> tuple[pa.Table, list[Statistic]]:
    """A row a group: its values, and its figures; how many rows went in, where nothing else is asked for."""
    wanted = parse_statistics(figures, table.column_names)
    heads = settled_table(table.select(list(by)).take(pa.array(groups.first, pa.int64())), list(by))
    columns = [*heads.columns, *statistics_of(table, groups, wanted)]
    made = pa.table(columns, names=[*by, *(s.name for s in wanted)])
    return (made if made.num_columns else pa.table({"features": pa.array(groups.sizes)})), wanted


def without_value(groups: Groups, by: Sequence[str]) -> SetAside:
    """The rows in no group, since a field that they are put together by is empty."""
    return SetAside.from_reasons([(f"has no value in {join_words(by, 4)}", np.flatnonzero(groups.of < 0))])


def sums_agree(table: pa.Table, rows: np.ndarray, out: pa.Table, figures: Sequence[Statistic]) -> tuple[ControlTotal, ...]:
    """Every sum asked for, over the rows used and over what was made of them."""
    found = []
    for one in figures:
        if one.what == "sum":
            before = exact_sum(table.column(one.field).take(pa.array(rows)))
            found.append(ControlTotal(f"sum of {one.field}", "", before, exact_sum(out.column(one.name))))
    return tuple(found)


def no_numbers(layer: Layer, names: Sequence[str]) -> list[Remark]:
    """What to say of what is no number in fields that are compared or counted up; it asks for a look."""
    return [
        Remark.counted(f"{{n|value}} of '{verbatim(name)}' {{n:is|are}} no number and counted as empty", layer.key, look=True, n=many)
        for name, many in count_no_numbers(layer.table, names).items()
    ]


def lost_values(template: str, made: Retyped, key: str) -> Remark:
    """What to say of values that cannot be of another type, and which the first of them are."""

    def tell(figures: Mapping[str, Any]) -> str:
        if not figures["n"]:
            return ""
        some = figures["some"]
        shown = join_words(some, 3) if len(some) < Firsts.MOST else f"{', '.join(some[:-1])} and others"
        return f"{told_counts(template, figures)}, such as {shown}"

    return Remark.figured(template, tell, key, look=True, n=len(made.lost), some=made.examples)


def grown(layer: Layer, groups: int, members: int) -> Remark:
    """``324 groups of 202,500 features``."""
    return Remark.counted("{groups|group} of {members|feature}", layer.key, groups=groups, members=members)


def group_places(layer: ChunkedLayer, by: Sequence[str], empty: str = "") -> np.ndarray:
    """The place of each row's group among all groups of a layer (int64), -1 where it goes into none.

    Parameters
    ----------
    empty : what becomes of rows without a value, as the setting has it.
    """
    for name in by:
        if name not in layer.field_names:
            raise missing_field(layer, name)
    return group_rows(layer.columns(by), by, without_empty=empty == "aside").of
