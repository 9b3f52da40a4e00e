"""SQL expressions over a layer's fields, evaluated by a locked DuckDB.

An expression is one value: no second statement, no other table, no subquery, nothing that depends on the clock or on
chance. Values of parameters are bound (``$district``), never pasted. A field whose name is a word of SQL (``desc``,
``order``) may be written bare where it cannot be mistaken.
"""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Callable, Generator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from eskret.core import watchdog
from eskret.core.tables.values import settled, settled_table
from eskret.core.words import did_you_mean
from eskret.errors import Code, ExpressionError

if TYPE_CHECKING:
    import duckdb

MEMORY = "4GB"
MOST_SIGNS, MOST_JOINED, MOST_DEEP, MOST_DIGITS = 200_000, 1_000, 200, 300
_TABLE = "Put the values into a table and join it, or write them as a list: field IN (1, 2, 3)"
SECONDS = 120.0
_HEAD = "SELECT (\n"
_TAIL = "\n) FROM layer"

# These can begin or join parts of an expression, so a field of that name must be quoted by the analyst.
_GRAMMAR = {
    "and",
    "or",
    "not",
    "in",
    "is",
    "like",
    "ilike",
    "between",
    "null",
    "true",
    "false",
    "case",
    "when",
    "then",
    "else",
    "end",
    "cast",
    "as",
    "from",
    "distinct",
    "escape",
    "similar",
    "to",
    "collate",
    "interval",
    "any",
    "all",
    "exists",
    "select",
    "glob",
    "unknown",
    "isnull",
    "notnull",
    "at",
    "zone",
}
_NODES = {
    "COLUMN_REF",
    "CONSTANT",
    "FUNCTION",
    "COMPARISON",
    "CONJUNCTION",
    "OPERATOR",
    "CASE",
    "CAST",
    "BETWEEN",
    "PARAMETER",
    "COLLATE",
    "TYPE",
}
# Functions whose answer depends on when, where or how often they are asked.
UNREPEATABLE = {
    "now",
    "random",
    "uuid",
    "gen_random_uuid",
    "uuidv4",
    "uuidv7",
    "setseed",
    "today",
    "current_date",
    "current_time",
    "current_timestamp",
    "current_localtime",
    "current_localtimestamp",
    "get_current_time",
    "get_current_timestamp",
    "transaction_timestamp",
    "localtime",
    "localtimestamp",
    "nextval",
    "currval",
    "txid_current",
    "now_utc",
    "age",
}
FORBIDDEN = re.compile(
    r"^(current_(user|role|catalog|database|schema|schemas|setting|query)|session_user|user|version|getvariable|getenv|"
    r"pg_.*|in_search_path|read_.*|glob|query|query_table|sniff_.*|parquet_.*|duckdb_.*|pragma_.*|sleep_ms|error|"
    r"write_log|json_execute_serialized_sql|which_secret|.*_secret.*|stats|vector_type)$"
)
_TOKEN = re.compile(r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|--[^\n]*|/\*.*?\*/|\$?[^\W\d]\w*|\$\d+|.", re.DOTALL)


# What comes to no number has no value: dividing by zero, roots and powers of what has none (``core.tables.values``).
_RULES = (
    *(f'CREATE MACRO "{sign}"(a, b) AS system.main."{sign}"(a, nullif(b, 0))' for sign in ("/", "//", "%", "mod", "divide", "fmod")),
    *(f'CREATE MACRO "{name}"(a) AS nullif(system.main."{name}"(a), \'nan\'::DOUBLE)' for name in ("sqrt", "asin", "acos")),
    *(f'CREATE MACRO "{name}"(a, b) AS nullif(system.main."{name}"(a, b), \'nan\'::DOUBLE)' for name in ("pow", "power", "^", "**")),
)


BY_RULE = re.compile(r"[/%^]|\*\*|\b(mod|divide|fmod|sqrt|asin|acos|pow|power)\b", re.IGNORECASE)


def comes_by_rule(expression: Expression) -> bool:
    """Whether an expression has a sign or a function that can come to no number."""
    return bool(BY_RULE.search(expression.sql))


def _connect(by_rule: bool = False, threads: int = 2) -> duckdb.DuckDBPyConnection:
    """A database in memory that can reach nothing outside itself, and cannot be told otherwise; ``by_rule`` with what comes to no
    number where it divides and the like."""
    import duckdb  # when it is first needed: a run without a condition does without

    connection = duckdb.connect(
        ":memory:",
        config={
            "enable_external_access": "false",
            "python_enable_replacements": "false",
            "autoinstall_known_extensions": "false",
            "autoload_known_extensions": "false",
            "memory_limit": MEMORY,
            "threads": str(threads),
        },
    )
    connection.execute("SET TimeZone = 'UTC'").fetchall()
    for macro in _RULES if by_rule else ():
        connection.execute(macro).fetchall()
    connection.execute("SET lock_configuration = true").fetchall()
    return connection


_local = threading.local()


def parser() -> duckdb.DuckDBPyConnection:
    """A connection of this thread's own that takes texts apart and evaluates nothing."""
    if not hasattr(_local, "parser"):
        _local.parser = _connect()
    connection: duckdb.DuckDBPyConnection = _local.parser
    return connection


def quote(name: str) -> str:
    """A field's name as SQL must have it."""
    return '"' + name.replace('"', '""') + '"'


def as_written(name: str) -> str:
    """A field's name as somebody would write it: quoted only where it must be."""
    plain = name.isidentifier() and name.isascii() and name.lower() not in _GRAMMAR
    return name if plain else quote(name)


@dataclass(frozen=True, slots=True)
class Token:
    """A piece of the text, for colouring: ``kind`` is name, parameter, text, number, word, comment or sign."""

    start: int
    text: str
    kind: str


def tokens(text: str) -> Generator[Token, None, None]:
    """Cut an expression into pieces; never fails."""
    for match in _TOKEN.finditer(text):
        piece = match.group()
        if piece[0] == "'":
            kind = "text"
        elif piece[0] == '"':
            kind = "name"
        elif piece.startswith(("--", "/*")) and len(piece) > 1:
            kind = "comment"
        elif piece[0] == "$" and len(piece) > 1:
            kind = "parameter"
        elif piece[0].isdigit():
            kind = "number"
        elif piece[0].isalpha() or piece[0] == "_":
            kind = "word" if piece.lower() in _GRAMMAR else "name"
        else:
            kind = "sign"
        yield Token(match.start(), piece, kind)


@dataclass(frozen=True)
class Expression:
    """A checked expression.

    ``text`` is what the analyst wrote, ``sql`` what is evaluated, ``fields`` the names it asks for and
    ``parameters`` the parameters it binds.
    """

    text: str
    sql: str
    fields: tuple[str, ...]
    parameters: tuple[str, ...]


def parse(text: str, names: Sequence[str], fields_by_parameter: Mapping[str, str] | None = None) -> Expression:
    """Check that a text is one repeatable expression over these fields.

    Parameters
    ----------
    text : the analyst's text.
    names : the layer's field names.
    fields_by_parameter : parameters that stand for a field, with the field they stand for now.

    Raises
    ------
    ExpressionError : with the position in ``text`` and, where a name is near to a field's, that field.
    """
    if not text.strip():
        raise ExpressionError("there is no condition yet", way_out="Write one, for example: name = 'North'")
    check_size(text)
    if not is_text(text):
        raise ExpressionError("it holds signs that no text has", way_out="Type it again")
    sql, shifts = _prepare(text, names, fields_by_parameter or {})
    tree = json.loads(parser().execute("SELECT json_serialize_sql(?)", [_HEAD + sql + _TAIL]).fetchall()[0][0])
    if tree["error"]:
        raise _syntax_error(tree, text, sql, shifts)
    statements = tree["statements"]
    node: dict[str, Any] = statements[0]["node"] if len(statements) == 1 else {"type": ""}
    plain = node["type"] == "SELECT_NODE" and len(node["select_list"]) == 1
    if not plain or node.get("where_clause") or node["from_table"]["type"] != "BASE_TABLE":
        raise ExpressionError("this is more than one expression", way_out="Give one condition, and nothing after it")
    fields: list[str] = []
    parameters: list[str] = []
    _walk(node["select_list"][0], names, fields, parameters, lambda at: _original(at - len(_HEAD), shifts))
    return Expression(text, sql, tuple(dict.fromkeys(fields)), tuple(dict.fromkeys(parameters)))


def is_text(text: str) -> bool:
    """Whether a text can be written down: half a sign cannot."""
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def check_size(text: str) -> None:
    """Refuse what would take the database longer to understand than to answer.

    Raises
    ------
    ExpressionError : it is too long, joins too many conditions, or nests too deeply.
    """
    if len(text) > MOST_SIGNS:
        raise ExpressionError(f"it has {len(text):,} characters, and {MOST_SIGNS:,} are the most", code=Code.TOO_LARGE, way_out=_TABLE)
    joined, depth, deepest, longest = 0, 0, 0, 0
    for token in tokens(text):
        word = token.text.lower()
        joined += word in ("and", "or", "not", "case", "when")
        depth += (word in ("(", "[", "{")) - (word in (")", "]", "}"))
        deepest = max(deepest, depth)
    for digits in re.finditer(r"\d+", text):
        longest = max(longest, len(digits.group()))
    if joined > MOST_JOINED:
        raise ExpressionError(f"it joins {joined:,} conditions, and {MOST_JOINED:,} are the most", code=Code.TOO_LARGE, way_out=_TABLE)
    if deepest > MOST_DEEP:
        raise ExpressionError(
            f"its brackets stand {deepest:,} deep, and {MOST_DEEP:,} are the most", code=Code.TOO_LARGE, way_out="Take brackets out"
        )
    if longest > MOST_DIGITS:
        raise ExpressionError(
            f"a number in it has {longest:,} digits, and {MOST_DIGITS} are the most",
            code=Code.TOO_LARGE,
            way_out="Put texts in 'single' quotes",
        )


def _prepare(text: str, names: Sequence[str], by_parameter: Mapping[str, str]) -> tuple[str, list[tuple[int, int]]]:
    """Quote bare field names that are words of SQL, put fields in for field parameters; note how places move."""
    known = {name.lower(): name for name in names}
    out: list[str] = []
    shifts: list[tuple[int, int]] = []
    length = 0
    for token in tokens(text):
        piece = token.text
        if token.kind == "name" and piece[0] != '"' and piece.lower() in known and _is_reserved(piece.lower()):
            piece = quote(known[piece.lower()])
        elif token.kind == "parameter" and piece[1:] in by_parameter:
            if not by_parameter[piece[1:]]:
                raise ExpressionError(
                    f"parameter '{piece[1:]}' names no field yet", way_out="Give it one", start=token.start, length=len(piece)
                )
            piece = quote(by_parameter[piece[1:]])
        shifts.append((length, token.start))
        out.append(piece)
        length += len(piece)
    return "".join(out), shifts


def _is_reserved(word: str) -> bool:
    if not hasattr(_local, "reserved"):
        rows = parser().execute("SELECT keyword_name FROM duckdb_keywords() WHERE keyword_category <> 'unreserved'")
        _local.reserved = {row[0] for row in rows.fetchall()}
    return word in _local.reserved


def _aggregates() -> set[str]:
    """Names of functions that make one value of many rows, or many rows of one value."""
    if not hasattr(_local, "aggregates"):
        rows = parser().execute(
            "SELECT function_name FROM duckdb_functions() GROUP BY 1 HAVING bool_and(function_type IN ('aggregate', 'table', 'pragma'))"
        )
        _local.aggregates = {row[0] for row in rows.fetchall()} | {"unnest", "generate_subscripts"}
    found: set[str] = _local.aggregates
    return found


def _original(place: int, shifts: Sequence[tuple[int, int]]) -> int:
    """Where a place in the prepared text is in the analyst's text."""
    best = -1
    for new, old in shifts:
        if new <= place:
            best = old + (place - new)
        else:
            break
    return best


def _syntax_error(tree: Mapping[str, Any], text: str, sql: str, shifts: Sequence[tuple[int, int]]) -> ExpressionError:
    message = str(tree.get("error_message", ""))
    place = int(tree.get("position") or -1) - len(_HEAD)
    near = re.search(r'at or near "(.*)"', message, re.DOTALL)
    if text.count("'") % 2:
        return ExpressionError("a text is opened with ' and not closed", start=text.rfind("'"), length=1, way_out="Close it with another '")
    surplus = _surplus_bracket(text)
    if surplus >= 0:
        return ExpressionError("a bracket is closed that was not opened", start=surplus, length=1, way_out="Take it out")
    if place >= len(sql) or place < 0 or "end of input" in message:
        return ExpressionError("the expression breaks off at its end", start=len(text), way_out="Say what follows")
    start = _original(place, shifts)
    word = near.group(1) if near else text[start : start + 1]
    return ExpressionError(
        f"'{word}' is not expected here, at character {start + 1}",
        start=start,
        length=len(word),
        way_out="Put texts in 'single' quotes and odd field names in \"double\" ones",
    )


def _surplus_bracket(text: str) -> int:
    depth = 0
    for token in tokens(text):
        depth += {"(": 1, ")": -1}.get(token.text, 0)
        if depth < 0:
            return token.start
    return -1


def _walk(node: object, names: Sequence[str], fields: list[str], parameters: list[str], place: Any) -> None:
    """Go through a parsed expression; refuse what is not allowed, collect the names."""
    if isinstance(node, list):
        for item in node:
            _walk(item, names, fields, parameters, place)
        return
    if not isinstance(node, dict):
        return
    kind = node.get("class")
    at = place(node.get("query_location", -1)) if isinstance(node.get("query_location"), int) else -1
    if kind is not None and kind not in _NODES:
        what = {"SUBQUERY": "a query inside", "WINDOW": "a window over other rows", "STAR": "a star for all fields"}
        raise ExpressionError(
            f"{what.get(kind, 'this kind of expression')} cannot be used here",
            start=at,
            length=1,
            way_out="Use the fields of one row at a time",
        )
    if kind == "COLUMN_REF":
        fields.append(_field(node["column_names"], names, at))
    elif kind == "PARAMETER":
        name = str(node["identifier"])
        if name.isdigit():
            raise ExpressionError("a parameter needs its name", start=at, length=1, way_out="Write it as $name")
        parameters.append(name)
    elif kind == "FUNCTION":
        function = str(node["function_name"]).lower()
        if function in UNREPEATABLE:
            raise ExpressionError(
                f"{function}() gives another answer each time, so the run could not be repeated",
                start=at,
                length=len(function),
                way_out="Use a parameter instead",
            )
        if FORBIDDEN.match(function) or node.get("schema") or node.get("filter"):
            raise ExpressionError(f"{function}() cannot be used here", start=at, length=len(function))
        if function in _aggregates():
            raise ExpressionError(
                f"{function}() works over many rows", start=at, length=len(function), way_out="Use the fields of one row at a time"
            )
    for key, value in node.items():
        if isinstance(value, dict | list) and key != "literal":
            _walk(value, names, fields, parameters, place)


def _field(path: Sequence[str], names: Sequence[str], at: int) -> str:
    wanted = path[-1]
    for name in names:
        if name.lower() == wanted.lower() and len(path) == 1:
            return name
    if len(path) == 1 and wanted.lower() in UNREPEATABLE:
        raise ExpressionError(
            f"{wanted} gives another answer each time, so the run could not be repeated",
            start=at,
            length=len(wanted),
            way_out="Use a parameter instead",
        )
    raise unknown_field(wanted, names, start=at)


def unknown_field(wanted: str, names: Sequence[str], start: int = -1) -> ExpressionError:
    """The error for a field that is not there, with the nearest that is."""
    shown = ", ".join(names[:12]) + (" ..." if len(names) > 12 else "")
    way_out = did_you_mean(wanted, names, f"It has {shown}" if names else "The layer has no fields")
    return ExpressionError(f"there is no field '{wanted}'", start=start, length=len(wanted), way_out=way_out)


@contextmanager
def _bounded(connection: duckdb.DuckDBPyConnection, seconds: float, what: str) -> Generator[None, None, None]:
    import duckdb

    timer = threading.Timer(seconds, connection.interrupt)
    timer.daemon = True
    timer.start()
    try:
        # a single function over one value does not listen to being interrupted
        with watchdog.bounded(seconds + watchdog.GRACE, what[:1].upper() + what[1:]):
            yield
    except duckdb.InterruptException as error:
        raise ExpressionError(
            f"{what} took longer than {seconds:g} seconds", way_out="Make it simpler, or work on fewer rows", code=Code.TIME_LIMIT
        ) from error
    except duckdb.OutOfMemoryException as error:
        raise ExpressionError(f"{what} needs more than {MEMORY} of memory", way_out="Make it simpler", code=Code.MEMORY) from error
    except duckdb.Error as error:
        raise _plain(error) from error
    finally:
        timer.cancel()


def _plain(error: duckdb.Error) -> ExpressionError:
    """What DuckDB says, in the analyst's language."""
    message = str(error).split("\n")[0]
    message = re.sub(r"^[A-Z][A-Za-z ]*Error: ", "", message)
    unknown = re.search(r"(?:Scalar )?Function with name (\S+) does not exist", message)
    if unknown:
        hint = re.search(r'Did you mean "([^"]+)"', str(error))
        return ExpressionError(f"there is no function {unknown.group(1)}()", way_out=f"Did you mean {hint.group(1)}()?" if hint else "")
    no_match = re.search(r"No function matches the given name and argument types '(.*?)\((.*?)\)'", message)
    if no_match:
        words = {"~~": "LIKE", "!~~": "NOT LIKE", "~~*": "ILIKE"}
        name, types = words.get(no_match.group(1), no_match.group(1)), no_match.group(2)
        return ExpressionError(f"{name} does not work on {_types(types)}", way_out="Convert with CAST(field AS type)")
    convert = re.search(r"Could not convert string '(.*?)' to (\w+)", message)
    if convert:
        return ExpressionError(
            f"'{convert.group(1)}' is compared with a {_types(convert.group(2))} and cannot be read as one",
            way_out="Compare texts with texts and numbers with numbers",
        )
    missing = re.search(r"(?:Values were not provided for the following prepared statement parameters|parameters?): (.*)", message)
    if missing:
        return ExpressionError(f"the parameter ${missing.group(1)} has no value")
    for pattern, says, way_out in _SAYINGS:
        found = re.search(pattern, message)
        if found:
            return ExpressionError(says(found), way_out=way_out)
    return ExpressionError(message.rstrip(" !."))


_WRITE = "Put texts in 'single' quotes, write dates as DATE '2031-09-30', or convert with CAST(field AS type)"
_DATES = "Write dates as 2031-09-30 and times as 2031-09-30 06:40:00"
_SAYINGS: tuple[tuple[str, Callable[[re.Match[str]], str], str], ...] = (
    (
        r"Cannot mix aggregates with non-aggregated columns|column \"?(.+?)\"? must appear in the GROUP BY clause",
        lambda m: f"{repr(m[1]) if m[1] else 'a field'} stands beside sums of many rows and is not grouped by",
        "Add it to GROUP BY, or make the sums in an inner SELECT first",
    ),
    (
        r'Ambiguous reference to column name "(.+?)"',
        lambda m: f"'{m[1]}' is a field of several layers",
        "Write the layer before it, such as beds.name",
    ),
    (r'Referenced table "(.+?)" not found', lambda m: f"no layer is called '{m[1]}' there", "Look at the names behind FROM and JOIN"),
    (
        r'Referenced column "(.+?)" (?:was )?not found',
        lambda m: f"there is no field '{m[1]}' in what it reads",
        "Look at the names, and put them in double quotes where they hold blanks",
    ),
    (
        r"Cannot compare values of type (.+?) and type (.+?)(?: - an explicit|$)",
        lambda m: f"{_a(m[1])} cannot be compared with {_a(m[2])}",
        _WRITE,
    ),
    (r"invalid (?:date|timestamp|time) field format: \"(.*?)\"", lambda m: f"'{m[1]}' is no date or time", _DATES),
    (r"(?:date|timestamp|time) field value out of range: \"(.*?)\"", lambda m: f"there is no such day or time as '{m[1]}'", _DATES),
    (
        r"Type (.+?) with value (.+?) can't be cast (?:because the value is out of range )?(?:for|to) the destination type (.+?)\.?$",
        lambda m: f"{m[2]} cannot be read as {_a(m[3])}",
        _WRITE,
    ),
    (r"Unimplemented type for cast \((.+?) -> (.+)\)", lambda m: f"{_a(m[1])} cannot be read as {_a(m[2])}", _WRITE),
    (
        r"Type with name (\S+) does not exist",
        lambda m: f"there is no type {m[1]}",
        "There are VARCHAR for texts, BIGINT, DOUBLE, DATE, TIMESTAMP, BOOLEAN and more",
    ),
    (r"Failed to parse format specifier (\S+?):", lambda m: f"'{m[1]}' is no pattern of a date", "Use %Y, %m, %d, %H, %M and %S"),
    (
        r"Could not parse string \"(.*?)\" according to format specifier \"(.*?)\"",
        lambda m: f"'{m[1]}' is not written as {m[2]}",
        "TRY_STRPTIME leaves what is not written so empty",
    ),
    (r"Overflow in |[Oo]ut of [Rr]ange", lambda m: "a number comes out too large", "CAST(field AS DOUBLE) holds larger ones"),
    (
        r"^(missing|bad|invalid|no argument|unexpected|trailing) ",
        lambda m: f"the pattern of the regular expression is not sound: {m.string.rstrip(':(. ')}",
        "Put a backslash before signs that mean something else",
    ),
)


def _a(kind: str) -> str:
    """``a whole number``, ``an exact decimal``; what stands for several takes no article."""
    word = _types(kind)
    if word in ("nothing", "bytes", "yes/no", "several values"):
        return word
    return f"{'an' if word[:1] in 'aeiou' else 'a'} {word}"


def _types(names: str) -> str:
    words = {
        "VARCHAR": "text",
        "STRING_LITERAL": "text",
        "BIGINT": "whole number",
        "INT64": "whole number",
        "UBIGINT": "whole number",
        "INTEGER": "whole number",
        "INT32": "whole number",
        "INTEGER_LITERAL": "whole number",
        "DOUBLE": "number",
        "FLOAT": "number",
        "BOOLEAN": "yes/no",
        "BOOL": "yes/no",
        "DATE": "date",
        "TIMESTAMP": "date and time",
        "TIMESTAMP WITH TIME ZONE": "date and time",
        "TIMESTAMP_MS": "date and time",
        "TIMESTAMP_NS": "date and time",
        "TIMESTAMP_S": "date and time",
        "TIME": "time of day",
        "INTERVAL": "span of time",
        "BLOB": "bytes",
        "HUGEINT": "whole number",
        "NULL": "nothing",
    }

    def word(name: str) -> str:
        bare = name.strip()
        if bare.endswith("[]"):
            return "list"
        if bare.startswith(("STRUCT", "TUPLE", "MAP")):
            return "several values"
        return "exact decimal" if bare.startswith("DECIMAL") else words.get(bare, bare.lower())

    parts = re.split(r",(?![^(]*\))", names)
    return " and ".join(map(word, parts))


def evaluate(expression: Expression, table: pa.Table, values: Mapping[str, object], seconds: float = SECONDS) -> pa.ChunkedArray:
    """The expression's value for every row, in the order of the table; what is no number has none (``core.tables.values``).

    Raises
    ------
    ExpressionError : a parameter without value, a type that does not fit, a value that cannot be converted.
    """
    for name in expression.parameters:
        if name not in values:
            known = ", ".join(f"${k}" for k in values) or "none"
            raise ExpressionError(
                f"there is no parameter ${name}",
                start=expression.text.find("$" + name),
                length=len(name) + 1,
                way_out=f"Add it at the top of the workflow; there are: {known}",
            )
    bound = {name: values[name] for name in expression.parameters}
    needed = settled_table(table.select(list(expression.fields)), expression.fields) if expression.fields else None
    with bounded_connection(seconds, comes_by_rule(expression)) as connection:
        if needed is None:
            query = f"SELECT ({expression.sql}\n) AS value FROM range({table.num_rows})"
        else:
            connection.register("layer", needed)
            query = f"SELECT ({expression.sql}\n) AS value FROM layer"
        column = connection.sql(query, params=bound or None).to_arrow_table().column("value")
        if needed is not None:
            connection.unregister("layer")
    if len(column) != table.num_rows:
        raise ExpressionError(f"gave {len(column)} values for {table.num_rows} rows")
    return settled(column)


@contextmanager
def bounded_connection(
    seconds: float, by_rule: bool, threads: int = 2, what: str = "the expression"
) -> Generator[duckdb.DuckDBPyConnection, None, None]:
    """One of this thread's own, kept for the next expression: a layer comes in many chunks, and opening one takes longer than most.

    Parameters
    ----------
    by_rule : whether what comes to no number is to have no value, as when it is divided by zero.
    what : what is evaluated, for what is said of it.
    """
    kept: dict[tuple[bool, int], duckdb.DuckDBPyConnection] = _local.__dict__.setdefault("evaluating", {})
    connection = kept.pop((by_rule, threads), None) or _connect(by_rule, threads)
    try:
        with _bounded(connection, seconds, what):
            yield connection
    except BaseException:
        connection.close()
        raise
    kept[by_rule, threads] = connection


def result_type(expression: Expression, schema: pa.Schema, values: Mapping[str, object]) -> pa.DataType:
    """The type of the expression over a layer with this schema, found without any row of it.

    It is tried on one row of nulls: over no row at all, a constant that cannot be converted would go unnoticed.
    """
    nulls = pa.table([pa.nulls(1, f.type) for f in schema], schema=pa.schema([f.with_nullable(True) for f in schema]))
    return evaluate(expression, nulls, values, 10.0).type


def parse_condition(
    text: str, schema: pa.Schema, values: Mapping[str, object], fields_by_parameter: Mapping[str, str] | None = None
) -> Expression:
    """A checked expression that is true, false or unknown for each row.

    Raises
    ------
    ExpressionError : as ``parse`` and ``evaluate``, and where it is not a condition.
    """
    expression = parse(text, schema.names, fields_by_parameter)
    found = result_type(expression, schema, values)
    if not pa.types.is_boolean(found) and not pa.types.is_null(found):
        raise ExpressionError(
            "this gives a value, not yes or no", start=0, length=len(text), way_out="Compare it with something, for example: name = 'North'"
        )
    return expression


def truth(expression: Expression, table: pa.Table, values: Mapping[str, object], seconds: float = SECONDS) -> tuple[np.ndarray, np.ndarray]:
    """Where a condition is true, and where it is unknown for want of a value (two boolean arrays).

    Logic of three values as in ISO 9075: a comparison with null is unknown, and unknown is not true.
    """
    column = evaluate(expression, table, values, seconds)
    if pa.types.is_null(column.type):
        return np.zeros(len(column), bool), np.ones(len(column), bool)
    unknown = column.is_null().to_numpy()
    true = column.fill_null(False).to_numpy()
    return np.asarray(true, bool), np.asarray(unknown, bool)
