"""Tables: CSV after RFC 4180 and after habit, TSV, XLSX; types found, codes kept, nothing lost silently."""

from __future__ import annotations

import datetime as dt
import resource
from pathlib import Path

import openpyxl
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.files import held_batches
from eskret.core.files.user_state import cache_place
from eskret.core.layer import GeometryKind
from eskret.errors import InputError
from eskret.formats import delimited, sources, tables
from eskret.formats.column_types import TextColumn, decimal_of, typed
from eskret.formats.reading import Texts
from tests.conftest import points, squares


def read(path: Path, encoding: str = "") -> tables.Reading:
    name = sources.layer_names(path)[0]
    return sources.read(path, name, "t", Texts(encoding))


def write(path: Path, body: str, encoding: str = "utf-8") -> Path:
    path.write_bytes(body.encode(encoding))
    return path


def test_each_column_gets_the_type_that_all_its_values_have(tmp_path: Path) -> None:
    path = write(
        tmp_path / "t.csv",
        "code,whole,number,day,moment,yes,word,empty,long\n"
        "007,1,1.5,2031-09-03,2031-09-03T10:00:00Z,true,a,,12345678901234567890\n"
        "012,-2,2,2031-09-04,2031-09-03T12:00:00+02:00,false,,,1\n",
    )
    layer = read(path).layer
    kinds = {f.name: f.type for f in layer.table.schema}
    assert kinds == {
        "code": pa.string(),
        "whole": pa.int64(),
        "number": pa.float64(),
        "day": pa.date32(),
        "moment": pa.timestamp("ms", "UTC"),
        "yes": pa.bool_(),
        "word": pa.string(),
        "empty": pa.string(),
        "long": pa.string(),
    }
    first, second = layer.table.to_pylist()
    assert first["code"] == "007" and second["word"] is None and first["moment"] == second["moment"]
    assert layer.kind is GeometryKind.TABLE and layer.geometry is None
    facts = sources.look(path)[0]
    assert (facts.count, facts.kind, facts.key) == (2, "table", "t") and facts.schema() == layer.table.schema


def test_rfc_4180(tmp_path: Path) -> None:
    """Section 2: quoted fields may hold delimiters, quotes (doubled) and line breaks; lines end with CRLF."""
    path = write(tmp_path / "t.csv", 'a,b\r\n"x, y","say ""hi""\r\nthere"\r\n"",\r\n')
    rows = read(path).layer.table.to_pylist()
    assert rows == [{"a": "x, y", "b": 'say "hi"\r\nthere'}, {"a": "", "b": None}]


@pytest.mark.parametrize(
    ("name", "body", "expected"),
    [
        ("t.csv", "a;b\n1,5;x\n2;y\n", [{"a": 1.5, "b": "x"}, {"a": 2.0, "b": "y"}]),
        ("t.tsv", "a\tb\n1\tx, y\n", [{"a": 1, "b": "x, y"}]),
        ("t.csv", "a|b\n1|x\n", [{"a": 1, "b": "x"}]),
        ("t.csv", "a\n1\n2\n", [{"a": 1}, {"a": 2}]),
        ("t.csv", "a,b\n", []),
        ("t.csv", "a, b\n+1, 2\n", [{"a": 1, "b": 2}]),
    ],
)
def test_the_sign_between_values_is_found(tmp_path: Path, name: str, body: str, expected: list) -> None:
    assert read(write(tmp_path / name, body)).layer.table.to_pylist() == expected


@pytest.mark.parametrize(("encoding", "sure"), [("utf-8", True), ("utf-8-sig", True), ("utf-16", True), ("cp1252", False)])
def test_the_encoding_is_found_or_its_guess_is_told(tmp_path: Path, encoding: str, sure: bool) -> None:
    reading = read(write(tmp_path / "t.csv", "name\nRøck\n", encoding))
    assert reading.layer.table.to_pylist() == [{"name": "Røck"}]
    assert any("cp1252" in r.text and r.look for r in reading.remarks) is not sure
    assert read(write(tmp_path / "u.csv", "name\nПирс\n", "cp1251"), "cp1251").layer.table.to_pylist() == [{"name": "Пирс"}]


def test_records_of_another_length_are_set_aside_with_their_place(tmp_path: Path) -> None:
    reading = read(write(tmp_path / "t.csv", "a,b,a\n1,2,3\n4,5\n6,7,8\n9,9,9,9\n"))
    assert reading.found == 4 and reading.layer.table.column_names == ["a", "b", "a_2"]
    assert reading.layer.table.column("a").to_pylist() == [1, 6]
    ((reason, rows),) = reading.set_aside
    assert "3 values" in reason and rows.tolist() == [1, 3]
    assert any("record 3 has 2: '4,5'; record 5 has 4: '9,9,9,9'" in r.text for r in reading.remarks)
    assert any("a second column 'a' is called 'a_2'" in r.text for r in reading.remarks)


@pytest.mark.parametrize(
    ("body", "encoding", "says"),
    [
        (b"", "", "empty (0 bytes)"),
        (b"\n\n", "", "no line of text"),
        (b"\x00\x01\x02\x00", "", "it is no text"),
        (b"a\n\xff\n", "utf-8", "its text is not in utf-8 (byte 3)"),
        (b"a\n1\n", "klingon", "no encoding is called"),
    ],
)
def test_what_is_no_table_is_told(tmp_path: Path, body: bytes, encoding: str, says: str) -> None:
    path = tmp_path / "t.csv"
    path.write_bytes(body)
    with pytest.raises(InputError) as caught:
        read(path, encoding)
    assert says in caught.value.sentence() and "t.csv" in caught.value.sentence()


def test_a_disk_without_room_for_a_large_table_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """And nothing is left lying there."""
    monkeypatch.setattr(held_batches, "_FEW", 0)
    path = write(tmp_path / "t.csv", "a,b\n" + "word,another\n" * 50_000)
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (100_000, before[1]))
    try:
        with pytest.raises(InputError, match=r"t.csv: there is no room for its records.*Make room"):
            read(path)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
    assert not [*cache_place("scratch").glob("rows-*/*")] and len(read(path).layer) == 50_000


@pytest.fixture
def workbook(tmp_path: Path) -> Path:
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "landings"
    for row in (
        ["bed", 2031, "on", "share", "mixed", None],
        ["B-01", 12, dt.date(2031, 9, 3), 0.5, 1, None],
        ["B-02", None, dt.datetime(2031, 9, 4, 10, 30), 1, "one", None],
        [None] * 6,
        ["007", 3, None, None, None, None],
    ):
        sheet.append(row)
    book.create_sheet("empty")
    other = book.create_sheet("Codes & names")
    other.append(["code"])
    other.append(["x"])
    path = tmp_path / "book.xlsx"
    book.save(path)
    return path


def test_the_sheets_of_a_workbook_are_tables(workbook: Path) -> None:
    facts = sources.look(workbook)
    assert [(f.name, f.key, f.count) for f in facts] == [("landings", "landings", 3), ("Codes & names", "codes_names", 1)]
    reading = sources.read(workbook, "landings", "landings")
    assert {f.name: f.type for f in reading.layer.table.schema} == {
        "bed": pa.string(),
        "2031": pa.int64(),
        "on": pa.timestamp("ms"),
        "share": pa.float64(),
        "mixed": pa.string(),
    }
    rows = reading.layer.table.to_pylist()
    assert [r["bed"] for r in rows] == ["B-01", "B-02", "007"] and rows[0]["mixed"] == "1" and rows[1]["2031"] is None
    assert rows[0]["on"] == dt.datetime(2031, 9, 3) and rows[1]["on"] == dt.datetime(2031, 9, 4, 10, 30)
    assert any("'mixed' holds several types" in r.text for r in reading.remarks)
    with pytest.raises(InputError, match="no sheet 'gone'"):
        sources.read(workbook, "gone", "gone")


@pytest.mark.parametrize("damage", [lambda b: b[: len(b) // 2], lambda b: b"PK" + b"\0" * 50, lambda b: b"a,b\n1,2\n"])
def test_a_damaged_workbook_is_told(workbook: Path, damage) -> None:
    workbook.write_bytes(damage(workbook.read_bytes()))
    with pytest.raises(InputError, match=r"book.xlsx.*(damaged|cannot be read)"):
        sources.look(workbook)


ODD = ["1", " 3 ", "+4", "007", "1.5", "1,5", "1.234,5", "nan", "true", "2031-02-31", "2031-01-02T10:00Z", "2031-01-02 10:00", "x", "1e5"]
ALIKE = [["1", "-2", "+3"], ["1.5", " 2", "nan"], ["1,5", "1.000"], ["true", "false"], ["2031-01-02"], ["2031-01-02T10:00Z"], ODD]


@given(
    st.sampled_from(ALIKE).flatmap(lambda some: st.lists(st.sampled_from([*some, None, ODD[0]]), min_size=1)),
    st.sampled_from(ODD),
    st.sampled_from(".,"),
)
def test_values_that_come_some_at_a_time_have_the_type_of_all(values: list[str | None], last: str, decimal: str) -> None:
    """An odd one behind all others counts for the first of them as well."""
    for column in (values, [*values, last]):
        whole, looked = typed(pa.chunked_array([column], pa.string()), decimal)
        parts, looked_in_parts = typed(pa.chunked_array([[v] for v in column], pa.string()), decimal)
        assert whole.type == parts.type and repr(whole.to_pylist()) == repr(parts.to_pylist())
        assert looked.remarks("a", decimal) == looked_in_parts.remarks("a", decimal)
        assert all(decimal_of([c]) == decimal_of([d]) for c, d in [(looked_at([column]), looked_at([[v] for v in column]))])


def looked_at(batches: list[list[str | None]]) -> TextColumn:
    found = TextColumn()
    for batch in batches:
        found.look(pa.array(batch, pa.string()))
    return found


words = st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=8)


@given(st.lists(st.tuples(words, st.one_of(st.none(), st.integers(-(2**40), 2**40))), min_size=1, max_size=12))
def test_what_is_written_as_csv_comes_back(tmp_path_factory: pytest.TempPathFactory, rows: list) -> None:
    """Texts come back as they were, an empty one too, and an empty cell stays empty."""
    from eskret.core.layer import Layer

    path = tmp_path_factory.mktemp("csv") / "t.csv"
    table = pa.table({"word": pa.array([f"w{w}" for w, _ in rows]), "n": pa.array([n for _, n in rows], pa.int64())})
    delimited.write(path, Layer("t", table))
    assert delimited.count(path) == len(rows)
    back = read(path).layer.table
    assert back.column("word").to_pylist() == table.column("word").to_pylist()
    assert back.column("n").to_pylist() == [n if any(x is not None for _, x in rows) else None for _, n in rows]


def test_geometry_goes_into_csv_as_coordinates_or_as_text(tmp_path: Path) -> None:
    path = tmp_path / "p.csv"
    delimited.write(path, points({"x": [1, 2]}))
    assert path.read_text().splitlines()[:2] == ['"x","x_2","y"', "1,500000,5200000"]
    delimited.write(path, squares(1))
    assert read(path).layer.table.to_pylist()[0]["geometry"].startswith("POLYGON ((500010 5200000, 500010 5200010")


def test_a_column_of_text_is_typed_only_when_all_of_it_fits() -> None:
    def kind(*values: str | None, decimal: str = ".") -> pa.DataType:
        return typed(pa.chunked_array([pa.array(values, pa.string())]), decimal)[0].type

    assert kind("1", " 2", None) == pa.int64() and kind("1", "x") == pa.string() and kind("1", "1.5e3") == pa.float64()
    assert kind("01", "2") == pa.string() and kind("0", "0.5") == pa.float64() and kind("1,5", decimal=",") == pa.float64()
    assert kind("1,5") == pa.string() and kind("2031-02-31") == pa.string() and kind("True", "true") == pa.string()
    assert kind("2031-09-03T10:00", "2031-09-03T10:00Z") == pa.string() and kind("2031-09-03 10:00") == pa.timestamp("ms")
