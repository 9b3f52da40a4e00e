"""One SQL question to several tables at once, answered by a locked DuckDB.

It may only read: one SELECT over the tables that it is given. It reaches no file and no other table, and gives the same answer each time:
no function of the clock or of chance, and one thread, so that rows without an order come as they come.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from eskret.core.expression import BY_RULE, FORBIDDEN, UNREPEATABLE, bounded_connection, check_size, is_text, parser
from eskret.core.tables.values import settled_table
from eskret.core.words import did_you_mean
from eskret.errors import Code, ExpressionError

SECONDS = 600.0
_CLOCK = {name for name in UNREPEATABLE if name.startswith(("current_", "localtime"))}
"""Functions that are written without brackets."""
_AT_ONCE = 100_000
_MOST = 4_000_000_000
"""Bytes of an answer."""
_MAKES_ROWS = {"range", "generate_series", "unnest"}


@dataclass(frozen=True)
class Query:
    """A checked question: its ``text``, the ``tables`` it reads, the ``parameters`` it binds, whether it names a ``column`` of each table
    that was asked after (or all of them), and whether its rows come in an ``order`` that it says."""

    text: str
    tables: tuple[str, ...]
    parameters: tuple[str, ...]
    column: bool
    ordered: bool


def parse_query(text: str, tables: Sequence[str], column: str = "") -> Query:
    """Check that a text is one question that reads these tables, and can be asked again with the same answer.

    Parameters
    ----------
    tables : the names that it can read.
    column : a column that it may ask for.

    Raises
    ------
    ExpressionError : it is none; with the position in ``text``, where that is known.
    """
    if not text.strip():
        raise ExpressionError("there is no query yet", way_out=f"Write one, such as SELECT * FROM {tables[0] if tables else 'beds'}")
    check_size(text)
    if not is_text(text):
        raise ExpressionError("it holds signs that no text has", way_out="Type it again")
    tree = json.loads(parser().execute("SELECT json_serialize_sql(?)", [text]).fetchall()[0][0])
    if tree["error"]:
        raise _not_read(tree, text)
    if len(tree["statements"]) != 1:
        raise ExpressionError(f"these are {len(tree['statements'])} queries", way_out="Write one; each further one is a step of its own")
    found = _Names(tables, column.lower())
    node = tree["statements"][0]["node"]
    found.walk(node)
    ordered = any(m.get("type") == "ORDER_MODIFIER" for m in node.get("modifiers", ()))
    return Query(text, tuple(dict.fromkeys(found.read)), tuple(dict.fromkeys(found.parameters)), found.column_named, ordered)


def _not_read(tree: Mapping[str, Any], text: str) -> ExpressionError:
    if tree.get("error_type") == "not implemented":
        return ExpressionError("it does more than ask", way_out="Write a SELECT; a step leaves what it reads as it is")
    at = tree.get("position")
    place = int(str(at)) if str(at).isdigit() else -1
    near = text[place : place + 20].split("\n")[0] if 0 <= place < len(text) else ""
    said = f"it cannot be read from '{near}' on" if near else "it cannot be read, something is missing at its end"
    return ExpressionError(said, start=place, length=1, way_out="Look at the word before, and at commas and brackets")


class _Names:
    """What a parsed query names."""

    def __init__(self, tables: Sequence[str], column: str) -> None:
        self.tables = {t.lower(): t for t in tables}
        self.column = column
        self.read: list[str] = []
        self.parameters: list[str] = []
        self.column_named = False
        self.own: list[str] = []

    def walk(self, node: object) -> None:
        if isinstance(node, list):
            for item in node:
                self.walk(item)
            return
        if not isinstance(node, dict):
            return
        at = node.get("query_location")
        place = at if isinstance(at, int) and at < 2**40 else -1
        inner = [e["key"] for e in (node.get("cte_map") or {}).get("map", ())]
        self.own += [name.lower() for name in inner]
        kind = node.get("type")
        if kind == "BASE_TABLE":
            self._table(node, place)
        elif kind == "TABLE_FUNCTION":
            name = str((node.get("function") or {}).get("function_name", "")).lower()
            if name not in _MAKES_ROWS:
                raise ExpressionError(f"{name}() cannot be read from", start=place, length=len(name), way_out=self._ways())
        elif kind == "SHOW_REF":
            raise ExpressionError("it asks about tables, not for rows", start=place, way_out="Write a SELECT")
        if node.get("sample"):
            raise ExpressionError("a sample is another one each time", start=place, way_out="Take rows draws some with a seed")
        self._value(node, place)
        for value in node.values():
            if isinstance(value, dict | list):
                self.walk(value)
        if inner:
            self.own = self.own[: -len(inner)]

    def _table(self, node: Mapping[str, Any], place: int) -> None:
        name = str(node.get("table_name", ""))
        if node.get("schema_name") or node.get("catalog_name"):
            raise ExpressionError(f"'{name}' is no layer that enters", start=place, length=len(name), way_out=self._ways())
        if name.lower() in self.own:
            return
        if name.lower() not in self.tables:
            way_out = did_you_mean(name, list(self.tables.values()), self._ways())
            raise ExpressionError(f"no layer that enters is called '{name}'", start=place, length=len(name), way_out=way_out)
        self.read.append(self.tables[name.lower()])

    def _value(self, node: Mapping[str, Any], place: int) -> None:
        kind = node.get("class")
        if kind == "STAR":
            self.column_named = True
        elif kind == "COLUMN_REF":
            name = str(node["column_names"][-1]).lower()
            self.column_named |= name == self.column
            if len(node["column_names"]) == 1 and name in _CLOCK:
                self._refuse_clock(name, place)
        elif kind == "PARAMETER":
            name = str(node["identifier"])
            if name.isdigit():
                raise ExpressionError("a parameter needs its name", start=place, length=1, way_out="Write it as $name")
            self.parameters.append(name)
        elif kind in ("FUNCTION", "WINDOW"):
            function = str(node.get("function_name", "")).lower()
            if function in UNREPEATABLE:
                self._refuse_clock(f"{function}()", place)
            if FORBIDDEN.match(function) or node.get("schema"):
                raise ExpressionError(f"{function}() cannot be used here", start=place, length=len(function))

    def _refuse_clock(self, name: str, place: int) -> None:
        raise ExpressionError(
            f"{name} gives another answer each time, so the run could not be repeated",
            start=place,
            length=len(name),
            way_out="Use a parameter instead",
        )

    def _ways(self) -> str:
        return f"There are {', '.join(self.tables.values())}" if self.tables else "No layer enters"


def answer(
    query: Query, tables: Mapping[str, pa.Table], values: Mapping[str, object], seconds: float = SECONDS, *, only_fields: bool = False
) -> pa.Table:
    """The rows that answer a query, with the names that it gives them, which may be there twice.

    Parameters
    ----------
    tables : by the names that ``query`` reads.
    values : of parameters.
    only_fields : no rows are wanted, only what they would hold.

    Raises
    ------
    ExpressionError : a field that is not there, types that do not fit, a value that cannot be converted, time or memory used up.
    """
    for name in query.parameters:
        if name not in values:
            known = ", ".join(f"${k}" for k in values) or "none"
            place = query.text.find("$" + name)
            way_out = f"Add it at the top of the workflow; there are: {known}"
            raise ExpressionError(f"there is no parameter ${name}", start=place, length=len(name) + 1, way_out=way_out)
    bound = {name: values[name] for name in query.parameters}
    with bounded_connection(seconds, bool(BY_RULE.search(query.text)), 1, "the query") as connection:
        for name in query.tables:
            connection.register(name, settled_table(tables[name], tables[name].column_names))
        try:
            found = connection.sql(query.text.strip().rstrip(";"), params=bound or None)
            if only_fields:
                return found.limit(0).to_arrow_table()
            with found.to_arrow_reader(_AT_ONCE) as reader:
                return _taken(reader)
        finally:
            for name in query.tables:
                connection.unregister(name)


def _taken(reader: pa.RecordBatchReader) -> pa.Table:
    """All rows of an answer, as long as there is room for them."""
    batches: list[pa.RecordBatch] = []
    size = 0
    for batch in reader:
        batches.append(batch)
        size += batch.nbytes
        if size > _MOST:
            raise ExpressionError(
                f"the answer is larger than {_MOST / 1e9:g} GB; {sum(len(b) for b in batches):,} rows had come",
                way_out="Ask for fewer rows or fields; a join that lacks its condition makes very many",
                code=Code.TOO_LARGE,
            )
    return pa.Table.from_batches(batches, reader.schema)
