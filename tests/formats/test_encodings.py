"""Texts that are not UTF-8: read as what the file declares, else as what its bytes are, and whatever is guessed is told."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
import warnings
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa
import pyogrio
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

import eskret
from eskret.core.layer import Layer
from eskret.core.texts import codec_of, recoded, settled
from eskret.errors import InputError
from eskret.formats import dbf, sources
from eskret.formats.reading import AS_DECLARED, Texts
from tests.test_cli import call

NAMES = ["José", "Zürich", "plain", "Ærø"]


def shapefile(
    path: Path, texts: Sequence[bytes], cpg: str | None = None, language: int = 0, field: bytes = b"name", width: int = 20
) -> Path:
    """Points with one text each, its bytes put into the table as they are."""
    frame = pa.table({"name": ["x"] * len(texts), "wkb": shapely.to_wkb(shapely.points([[n, n] for n in range(len(texts))]))})
    pyogrio.write_arrow(frame, path, geometry_name="wkb", geometry_type="Point", crs="EPSG:4326")
    path.with_suffix(".cpg").unlink()
    if cpg is not None:
        path.with_suffix(".cpg").write_text(cpg)
    table = bytearray(path.with_suffix(".dbf").read_bytes())
    first, size = int.from_bytes(table[8:10], "little"), int.from_bytes(table[10:12], "little")
    table[29] = language
    table[32:43] = field.ljust(11, b"\0")[:11]
    for n, text in enumerate(texts):
        start = first + n * size + 1
        table[start : start + size - 1] = text.ljust(size - 1)[: size - 1]
    path.with_suffix(".dbf").write_bytes(table)
    return path


def read(path: Path, texts: Texts = AS_DECLARED) -> tuple[list[str], list[str]]:
    """The values of the one field, and what was told."""
    name = sources.layer_names(path)[0]
    reading = sources.read(path, name, "k", texts)
    foretold = [r.text for r in sources.facts(path, name, "k", texts).told]
    assert foretold == [r.text for r in reading.remarks]
    return reading.layer.table.column(0).to_pylist(), foretold


@pytest.mark.parametrize(
    ("codec", "cpg", "language", "told"),
    [
        ("cp1252", None, 0, "read as cp1252"),
        ("cp1252", "ANSI 1252", 0, ""),
        ("cp1252", "system", 0, "read as cp1252"),
        ("iso8859-1", "ISO-8859-1", 0, ""),
        ("iso8859-1", "88591", 0, ""),
        ("cp1252", "UTF-8", 0, "declares UTF-8, which its bytes"),
        ("utf-8", None, 0, "their bytes are UTF-8"),
        ("utf-8", "UTF-8", 0, ""),
        ("utf-8", None, 0x57, "their bytes are UTF-8"),
        ("cp1252", None, 0x57, "read as cp1252"),
        ("cp1252", None, 0x03, ""),
        ("cp850", None, 0x02, ""),
        ("cp850", "OEM 850", 0, ""),
        ("utf-8", "65001", 0, ""),
        ("cp850", "LDID/2", 0, ""),
        ("mac_roman", None, 0x04, ""),
        ("utf-8", "utf8\n", 0x02, ""),
    ],
)
def test_a_shapefile_is_read_as_it_declares_or_as_it_is(tmp_path: Path, codec: str, cpg: str | None, language: int, told: str) -> None:
    names = NAMES if codec != "cp850" else [*NAMES[:3], "Ærø"]
    path = shapefile(tmp_path / "old.shp", [n.encode(codec) for n in names], cpg, language, "größe".encode(codec))
    values, said = read(path)
    assert values == names and sources.look(path)[0].names() == ["größe"]
    assert sources.columns(path, "old", ["größe"]).column(0).to_pylist() == names  # type: ignore[union-attr]
    assert (told in said[0]) if told else not said


@pytest.mark.parametrize("language", sorted(dbf._LANGUAGES))
def test_every_language_byte_is_the_code_page_it_names(tmp_path: Path, language: int) -> None:
    codec = dbf._LANGUAGES[language]
    # every letter that the code page has beyond ASCII, except those that are blanks or end a text
    letters = [c for c in (bytes([n]).decode(codec, "ignore") for n in range(128, 256)) if c and c.strip() and c.isprintable()]
    letters = letters or ["水", "東京"] if codec != "cp949" else ["서울"]
    path = shapefile(tmp_path / "a.shp", [c.encode(codec) for c in letters], language=language)
    assert read(path) == (letters, [])


def test_what_is_cut_odd_or_mixed_is_told_and_nothing_else_is_lost(tmp_path: Path) -> None:
    cut = ("ß" * 39 + "aß").encode()[:80]  # as wide as its field
    values, said = read(shapefile(tmp_path / "cut.shp", [cut, "Ærø".encode()], "UTF-8"))
    assert values == ["ß" * 39 + "a", "Ærø"] and said == ["1 text was cut in the midst of a letter, which is left out"]
    values, said = read(shapefile(tmp_path / "odd.shp", [b"a\x81b", b"Jos\xe9"], "1252"))
    assert values == ["a\ufffdb", "José"] and "1 text holds bytes that cp1252 has no sign for" in said[0]
    values, said = read(shapefile(tmp_path / "mixed.shp", ["Ærø".encode(), b"Jos\xe9", b"Z\xfcrich"]))
    assert values == ["Ærø", "José", "Zürich"] and "2 texts that are not UTF-8 are read as cp1252" in said[0]
    # "José" ends in a byte that begins a letter of UTF-8: where a field has room for more, nothing was cut
    values, said = read(shapefile(tmp_path / "ends.shp", [b"Jos\xe9", b"Andr\xe9"]))
    assert values == ["José", "André"] and "read as cp1252" in said[0]
    values, said = read(shapefile(tmp_path / "mazovia.shp", [b"\x86"], language=0x69))
    assert "declares Mazovia (620)" in said[0]


def test_an_encoding_can_be_named_for_those_that_declare_none_and_for_single_files(tmp_path: Path) -> None:
    for name, codec, cpg in (("silent", "cp850", None), ("liar", "cp850", "1252"), ("honest", "cp1252", "1252")):
        shapefile(tmp_path / f"{name}.shp", [n.encode(codec) for n in NAMES], cpg)
    (tmp_path / "w.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["*.shp"]\nencoding = "cp850"\nencodings = { "li*.shp" = "OEM 850" }\n'
        '[[steps]]\nid = "found"\nuse = "keep"\nfrom = "in"\nwhere = "name = \'José\'"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "found"\nto = "out/{layer}.csv"\n'
    )
    code, out, _ = call("run", tmp_path / "w.toml")
    assert code == 0, out
    for name in ("silent", "liar", "honest"):
        assert (tmp_path / "out" / f"{name}.csv").read_text().splitlines()[1].startswith('"José"'), name
    (tmp_path / "w.toml").write_text((tmp_path / "w.toml").read_text().replace("OEM 850", "rot13"))
    code, _, err = call("run", tmp_path / "w.toml")
    assert code == 2 and "no encoding is called so" in err


def test_a_layer_refuses_texts_that_are_none() -> None:
    wrong = pa.array([b"Jos\xe9"], pa.binary()).view(pa.string())
    with pytest.raises(InputError, match="the field 'n' of 'k' holds bytes that are no UTF-8"):
        Layer("k", pa.table({"n": wrong}))


@pytest.mark.parametrize("ending", [".gpkg", ".geojson", ".fgb", ".parquet", ".csv", ".xlsx", ".shp", ".kml"])
def test_an_old_shapefile_is_saved_to_every_format_with_its_letters(tmp_path: Path, ending: str) -> None:
    """Through whole processes, as the first thing that anybody would try."""
    shapefile(tmp_path / "old.shp", [n.encode("cp1252") for n in NAMES])
    command = [sys.executable, "-m", "eskret", "do", "save", str(tmp_path / "old.shp"), "--to", str(tmp_path / f"new{ending}")]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 0 and "cp1252" in done.stdout + done.stderr, done.stderr
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        back = eskret.read(tmp_path / f"new{ending}")
    names = next(n for n in back.table.column_names if n.casefold() == "name")
    assert sorted(back.table.column(names).to_pylist()) == sorted(NAMES)


def test_look_and_the_python_of_an_old_file_say_what_was_assumed(tmp_path: Path) -> None:
    portuguese = ["São João", "Água de Pau", "Povoação", "Conceição", "Ribeira Grande é", "Heroísmo", "Ilhéu"]
    path = shapefile(tmp_path / "old.shp", [n.encode("cp850") for n in portuguese])
    code, out, _ = call("look", path, "--fields")
    assert code == 0 and "read as cp1252; they look like cp850" in " ".join(out.split())
    told = json.loads(call("look", path, "--json")[1])["layers"][0]["told"]
    assert [(t["look"], t["code"]) for t in told] == [(True, "undecodable")]
    with pytest.warns(UserWarning, match="they look like cp850"):
        eskret.read(path)
    assert eskret.read(path, encoding="cp850").table.column(0).to_pylist() == portuguese


@pytest.mark.parametrize("step", ["load", "load_coordinates"])
def test_text_files_in_old_encodings(tmp_path: Path, step: str) -> None:
    path = tmp_path / "a.csv"
    more = "" if step == "load" else 'crs = "EPSG:4326"\n'
    steps = f'eskret = 1\n[[steps]]\nid = "in"\nuse = "{step}"\nfiles = ["a.csv"]\n{more}ENCODING\n'
    steps += '[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "o.csv"\nif_exists = "replace"\n'
    head = b"x;y;n\n"
    cases = [
        (head + b"1;2;Jos\xe9\n3;4;a\x81b\n", "", ["José", "a\ufffdb"], "1 line holds bytes that cp1252 has no sign for"),
        ((head + b"1;2;Jos\n").decode().encode("utf-16"), "", ["Jos"], ""),
        (head + "1;2;São João\n".encode("cp850"), "cp850", ["São João"], ""),
        (head + "1;2;Ærø\n".encode() + b"3;4;Jos\xe9\n", "", ["Ærø", "José"], "1 line is not UTF-8, as 1 other is"),
        ("x;y;n\n1;2;Ærø\n".encode("utf-8-sig"), "", ["Ærø"], ""),
    ]
    for body, wanted, values, says in cases:
        path.write_bytes(body)
        (tmp_path / "w.toml").write_text(steps.replace("ENCODING", f'encoding = "{wanted}"'))
        code, out, err = call("run", tmp_path / "w.toml")
        assert code == 0 and says in " ".join(out.split()), out + err
        assert [r["n"] for r in csv.DictReader((tmp_path / "o.csv").open())] == values
        code, foretold, _ = call("rehearse", tmp_path / "w.toml")
        assert says in " ".join(foretold.split())


@pytest.mark.parametrize("ending", [".geojson", ".fgb", ".gpkg", ".parquet"])
def test_formats_that_are_utf8_by_their_standard_and_are_not(tmp_path: Path, ending: str) -> None:
    layer = Layer("k", pa.table({"n": ["JosE9x", "Ærø"]}), shapely.points([[1, 2], [3, 4]]), "EPSG:4326")
    eskret.write(layer, tmp_path / f"a{ending}", "k") if ending == ".gpkg" else eskret.write(layer, tmp_path / f"a{ending}")
    raw = (tmp_path / f"a{ending}").read_bytes()
    assert raw.count(b"JosE9x")
    (tmp_path / f"a{ending}").write_bytes(raw.replace(b"JosE9x", b"Jos\xe9xx"))
    name = sources.layer_names(tmp_path / f"a{ending}")[0]
    reading = sources.read(tmp_path / f"a{ending}", name, "k")
    assert sorted(reading.layer.table.column("n").to_pylist()) == ["Joséxx", "Ærø"]
    assert any("not UTF-8 and read as cp1252" in r.text and r.look for r in reading.remarks)


@given(st.lists(st.one_of(st.none(), st.binary(max_size=8)), max_size=12), st.sampled_from(["cp1252", "cp932", "utf-8", "cp437"]))
def test_decoding_is_pythons_and_every_row_that_is_odd_is_counted(raw: list[bytes | None], codec: str) -> None:
    column = pa.chunked_array([pa.array(raw, pa.binary()).view(pa.string())])
    table, said = settled(pa.table({"n": column}), codec)
    bad = 0
    for before, after in zip(raw, table.column("n").to_pylist(), strict=True):
        try:
            assert after == (None if before is None else before.decode())
        except UnicodeDecodeError:
            bad += 1
            assert after is not None and before.decode(codec, "replace").startswith(after.rstrip("\ufffd"))  # type: ignore[union-attr]
    assert bool(said) == bool(bad) and (not bad or f"'n': {bad} text" in said[0])
    assert recoded(table.column("n"), lambda r: (r.decode(), ""))[0].to_pylist() == table.column("n").to_pylist()


@given(st.text(max_size=20))
def test_no_word_for_an_encoding_is_more_than_one_or_none(word: str) -> None:
    found = codec_of(word)
    assert not found or "é".encode(found, "replace")


_XML = {
    ".gpx": '<gpx version="1.1" creator="t" xmlns="http://www.topografix.com/GPX/1/1"><wpt lat="1" lon="2"><name>{}</name></wpt></gpx>',
    ".kml": '<kml xmlns="http://www.opengis.net/kml/2.2"><Document><Folder><name>f</name><Placemark><name>{}</name><Point>'
    "<coordinates>1,2</coordinates></Point></Placemark></Folder></Document></kml>",
    ".gml": '<a:FeatureCollection xmlns:a="http://a.example" xmlns:gml="http://www.opengis.net/gml"><gml:featureMember><a:beds fid="a.0">'
    "<a:place><gml:Point><gml:coordinates>1,2</gml:coordinates></gml:Point></a:place><a:name>{}</a:name></a:beds></gml:featureMember>"
    "</a:FeatureCollection>",
}


@pytest.mark.parametrize("ending", list(_XML))
def test_markup_is_read_in_whatever_encoding_it_declares(tmp_path: Path, ending: str) -> None:
    cases = [
        ("UTF-8", "utf-8", "José"),
        ("ISO-8859-1", "latin-1", "José"),
        ("windows-1250", "cp1250", "Říčany"),
        ("UTF-16", "utf-16", "東"),
        ("ibm850", "cp850", "José"),
        ("Shift_JIS", "cp932", "東京"),
        ("koi8-r", "koi8_r", "Скала"),
        ("UTF-8", "cp1252", "José"),
    ]
    for n, (declared, codec, name) in enumerate(cases):
        path = tmp_path / f"a{n}{ending}"
        path.write_bytes(f'<?xml version="1.0" encoding="{declared}"?>\n{_XML[ending].format(name)}'.encode(codec))
        facts = sources.look(path)[0]
        table = sources.read(path, facts.name, "k").layer.table
        field = next(c for c in table.column_names if c.casefold() == "name")
        assert table.column(field).to_pylist() == [name], declared
        # a file that is not what it declares is not well-formed: what was made of it is told before a run
        assert [r.look for r in facts.told if "read as cp1252" in r.text] == ([True] if (declared, codec) == ("UTF-8", "cp1252") else [])
    path.write_bytes(f'<?xml version="1.0" encoding="x-none"?>{_XML[ending].format("a")}'.encode())
    with pytest.raises(InputError, match="the encoding that its first line names"):
        sources.look(path)
