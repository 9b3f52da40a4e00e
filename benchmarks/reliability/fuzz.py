"""Names, numbers, readers' inputs, workflow documents, packs, journals and expressions as nobody should write them.

Whatever comes, there is an answer or a sentence: no other exception, and none that takes long.

    python benchmarks/reliability/fuzz.py [SHARE_OF_THE_WHOLE] [SEED] [PART ...]
"""

from __future__ import annotations

import io
import json
import os
import random
import signal
import sys
import tempfile
import time
import traceback
import zipfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[2]))
_OWN = tempfile.mkdtemp(prefix="trial-data-")
os.environ.update(XDG_DATA_HOME=_OWN, XDG_CACHE_HOME=f"{_OWN}/cache", XDG_STATE_HOME=f"{_OWN}/state")

import pyarrow as pa  # noqa: E402

from eskret.core import expression  # noqa: E402
from eskret.core.crs import parse_crs  # noqa: E402
from eskret.core.files.transaction import pending  # noqa: E402
from eskret.core.files.user_state import data_folder  # noqa: E402
from eskret.core.measure import units  # noqa: E402
from eskret.core.naming import clean_name, fill_template, number_collisions, placeholders  # noqa: E402
from eskret.errors import EskretError  # noqa: E402
from eskret.formats import sources  # noqa: E402
from eskret.services.connection import Connection, seconds_told  # noqa: E402
from eskret.services.tokens import is_local, origin_of  # noqa: E402
from eskret.workflow.handover import pack as packs  # noqa: E402
from eskret.workflow.model import document  # noqa: E402
from eskret.workflow.outputs.records import Outputs, outputs_path  # noqa: E402
from eskret.workflow.outputs.recovery import recover  # noqa: E402
from eskret.workflow.run.rehearsal import rehearse  # noqa: E402

SECONDS = 20
"""So long one input may take."""
SIGNS = [
    "",
    " ",
    "a",
    "Z",
    "9",
    "-",
    ".",
    ",",
    "{",
    "}",
    "[",
    "]",
    "(",
    ")",
    "'",
    '"',
    "\\",
    "/",
    "..",
    "\0",
    "\n",
    "\t",
    "é",
    "ß",
    "漢",
    "\u202e",
    "😀",
    "$",
    "%",
    "%s",
    "$a",
    "{a}",
    "{layer}",
    "km",
    "m2",
    "1e309",
    "nan",
    "-0",
    "²",
    "٣",
    "\ud800",
    "＝",
    "'' or 1=1",
    "con",
    "http://",
    "[::1",
    "EPSG:",
    "<",
    ">",
    "&",
    ";",
    "--",
    "/*",
    "*/",
    "x" * 300,
    "9" * 400,
]


class HangError(Exception):
    """One input took too long."""


def _too_long(*_: object) -> None:
    raise HangError


def text(chance: random.Random, most: int = 9) -> str:
    """A text of odd pieces."""
    return "".join(chance.choice(SIGNS) for _ in range(chance.randint(0, most)))


def damaged(raw: bytes, chance: random.Random) -> bytes:
    """A file's bytes, cut, doubled, or with some changed."""
    data = bytearray(raw)
    for _ in range(chance.randint(1, 6)):
        if not data:
            break
        at = chance.randrange(len(data))
        way = chance.randrange(5)
        if way == 0:
            del data[at:]
        elif way == 1:
            data[at] = chance.randrange(256)
        elif way == 2:
            del data[at : at + chance.randint(1, 40)]
        elif way == 3:
            data[at:at] = data[max(0, at - 30) : at]
        else:
            data[at : at + 4] = chance.randbytes(4)
    return bytes(data)


def value(chance: random.Random, depth: int = 0) -> Any:
    """Any value that TOML or JSON can hold."""
    way = chance.randrange(9 if depth < 3 else 6)
    return [
        lambda: text(chance),
        lambda: chance.randint(-(2**70), 2**70),
        lambda: chance.uniform(-1e300, 1e300),
        lambda: True,
        lambda: "",
        lambda: float("inf"),
        lambda: [value(chance, depth + 1) for _ in range(chance.randint(0, 3))],
        lambda: {text(chance, 2) or "k": value(chance, depth + 1) for _ in range(chance.randint(0, 3))},
        lambda: {},
    ][way]()


def _names(chance: random.Random) -> None:
    given = text(chance)
    way = chance.choice((0, 1, 2, 3, 4, 0, 1, 2, 3, 4, 6)) if chance.random() < 0.99 else chance.choice((5, 7))  # the last are slow
    if way == 0:
        clean_name(given, limit=chance.choice([1, 10, 60]))
    elif way == 1:
        number_collisions([given, text(chance), given], taken=[text(chance)])
    elif way == 2:
        placeholders(given)
        fill_template(given, {"a": text(chance), "layer": 1})
    elif way == 3:
        units.parse_length(given)
    elif way == 4:
        units.parse_area(given)
    elif way == 5:
        parse_crs(given)
    elif way == 6:
        origin_of(given), is_local(given), seconds_told(given)
    else:
        with Connection(given):
            pass


def _expressions(chance: random.Random) -> None:
    table = pa.table({"n": [1, 2], "name": ["a", "b"]})
    words = [
        "n",
        "name",
        "=",
        "<",
        "AND",
        "OR",
        "NOT",
        "(",
        ")",
        "1",
        "'a'",
        "LIKE",
        "IN",
        "CASE",
        "WHEN",
        "THEN",
        "END",
        "$a",
        "+",
        "||",
        "CAST(n AS TEXT)",
        "length(name)",
        "NULL",
        "BETWEEN",
        "now()",
        "read_csv('/etc/passwd')",
        "SELECT",
        ";",
        "--",
        "[",
        "]",
        "{",
        "}",
        "range(10)",
        "list_sum([1])",
        "regexp_matches(name, '(a+)+$')",
        "repeat(name, 9)",
        *SIGNS[:40],
    ]
    given = " ".join(chance.choice(words) for _ in range(chance.randint(1, 9)))
    found = expression.parse(given, table.column_names)
    expression.evaluate(found, table, {"a": 1}, 5.0)


SAMPLES: dict[str, bytes] = {}


def _make_samples(home: Path) -> None:
    import shapely

    from eskret.core.layer import Layer
    from eskret.formats.known import WRITTEN, format_to_write

    layer = Layer(
        "l", pa.table({"name": ["a", "ü", None], "n": [1, 2, 3]}), shapely.points([[-27.2, 47.1], [-27.3, 47.2], [0, 0]]), "EPSG:4326"
    )
    for ending in WRITTEN:
        path = home / f"sample{ending}"
        format_to_write(path).write_one(path, layer, "l")
        SAMPLES[ending] = path.read_bytes()
    raw = io.BytesIO()
    with zipfile.ZipFile(raw, "w") as file:
        file.writestr("a.csv", "x,y\n1,2\n")
        file.writestr("b.geojson", SAMPLES[".geojson"])
    SAMPLES[".zip"] = raw.getvalue()
    SAMPLES[".gml"] = b'<?xml version="1.0"?><g:a xmlns:g="http://www.opengis.net/gml"><g:featureMember/></g:a>'


def _readers(chance: random.Random, home: Path) -> None:
    ending = chance.choice(list(SAMPLES))
    for old in home.glob("sample.*"):
        old.unlink()
    path = home / f"sample{ending}"
    if ending == ".shp":
        import shapely

        from eskret.core.layer import Layer
        from eskret.formats.known import format_to_write

        format_to_write(path).write_one(path, Layer("l", pa.table({"n": [1, 2]}), shapely.points([[1, 2], [3, 4]]), "EPSG:4326"), "l")
        part = chance.choice([".shp", ".dbf", ".shx", ".prj"])
        path.with_suffix(part).write_bytes(damaged(path.with_suffix(part).read_bytes(), chance))
    else:
        path.write_bytes(damaged(SAMPLES[ending], chance))
    for name in sources.layer_names(path)[:3]:
        sources.facts(path, name, name)
        sources.read(path, name, name)


BASE = """eskret = 1
title = "T"
[parameters.a]
type = "text"
default = "x"
[[steps]]
id = "in"
use = "load"
files = ["pts.csv"]
[[steps]]
id = "k"
use = "keep"
from = "in"
where = "n = 1"
[[steps]]
id = "s"
use = "save"
from = "k"
to = "out/{layer}.gpkg"
"""


def _documents(chance: random.Random, home: Path) -> None:
    import tomlkit

    way = chance.randrange(3)
    if way == 0:
        raw = damaged(BASE.encode(), chance).decode("utf-8", "replace")
    else:
        doc: Any = tomlkit.parse(BASE).unwrap()
        for _ in range(chance.randint(1, 3)):
            place: Any = (
                chance.choice([doc, doc["parameters"]["a"], *doc["steps"]])
                if "steps" in doc
                and "parameters" in doc
                and isinstance(doc.get("steps"), list)
                and isinstance(doc["parameters"], dict)
                and isinstance(doc["parameters"].get("a"), dict)
                else doc
            )
            if not isinstance(place, dict):
                break
            known = [
                *place,
                "from",
                "each",
                "layer",
                "style",
                "type",
                "choices",
                "choices_from",
                "enabled_by",
                "min",
                "map",
                "note",
                "totals",
                "to",
            ]
            place[chance.choice(known)] = value(chance)
        raw = tomlkit.dumps(doc)
    path = home / "w.toml"
    path.write_text(raw, encoding="utf-8", errors="replace")
    found = document.read(path)
    rehearse(found, workflow=path)
    document.parse(found.to_text())


def _packs(chance: random.Random, home: Path) -> None:
    path = home / "p.zip"
    listed = {
        "eskret_pack": 1,
        "workflow": "w.toml",
        "packed": "x",
        "files": [{"path": "w.toml", "role": "workflow", "size": len(BASE), "sha256": "x", "along": True}],
    }
    if chance.random() < 0.6:
        target: Any = chance.choice([listed, listed["files"][0]])
        target[chance.choice(list(target))] = value(chance)
    with zipfile.ZipFile(path, "w") as file:
        file.writestr("pack.json", json.dumps(listed, default=str))
        file.writestr("w.toml", BASE)
    if chance.random() < 0.5:
        path.write_bytes(damaged(path.read_bytes(), chance))
    packs.unpack(path, home / "unpacked")


def _journals(chance: random.Random, home: Path) -> None:
    token = "ab" * 16
    told: Any = {
        "form": 1,
        "token": token,
        "state": "decided",
        "pid": 1,
        "user": "u",
        "machine": "m",
        "workflow": str(home / "w.toml"),
        "title": "",
        "folders": [str(home)],
        "made": [],
        "participants": [{"kind": "files", "moves": []}],
        "pushes": [],
        "backup_ids": [],
        "records": [],
        "backups": [],
    }
    told[chance.choice(list(told))] = value(chance)
    raw = json.dumps(told, default=str).encode()
    place = data_folder("transactions") / f"{token}.json"
    place.write_bytes(damaged(raw, chance) if chance.random() < 0.4 else raw)
    recover(home)
    place.unlink(missing_ok=True)
    for journal in pending():
        journal.leave()
    outputs_path(home / "w.toml").write_bytes(damaged(b'{"files": {"a": {"sha256": "x", "size": 1, "modified_ns": 1}}}', chance))
    Outputs.beside(home / "w.toml", home)


def main(share: float, seed: int, only: Sequence[str] = ()) -> int:
    """Try; gives how many went wrong. ``only`` are words of the parts that are tried; all where there are none."""
    wrong = 0
    chance = random.Random(seed)
    home = Path(tempfile.mkdtemp(prefix="trial-"))
    (home / "pts.csv").write_text("name,n\nA,1\nB,2\n")
    _make_samples(home)
    signal.signal(signal.SIGALRM, _too_long)
    parts: list[tuple[str, int, Callable[[], None]]] = [
        ("names, units, numbers, templates, addresses", 800_000, lambda: _names(chance)),
        ("readers' inputs", 150_000, lambda: _readers(chance, home)),
        ("workflow documents", 20_000, lambda: _documents(chance, home)),
        ("packs", 5_000, lambda: _packs(chance, home)),
        ("journals and records", 5_000, lambda: _journals(chance, home)),
        ("expressions", 20_000, lambda: _expressions(chance)),
    ]
    for what, many, one in (p for p in parts if not only or any(word in p[0] for word in only)):
        begun, bad, refused, number = time.monotonic(), 0, 0, max(1, int(many * share))
        seen: set[str] = set()
        for _ in range(number):
            signal.alarm(SECONDS)
            try:
                one()
            except EskretError:
                refused += 1
            except HangError:
                bad += 1
                print(f"HANG in {what}", flush=True)
            except BaseException as error:
                bad += 1
                frames = traceback.extract_tb(error.__traceback__)
                key = f"{type(error).__name__} at {Path(frames[-1].filename).name}:{frames[-1].lineno}"
                if key not in seen:
                    seen.add(key)
                    print(f"WRONG in {what}: {key}: {str(error)[:160]!r}", flush=True)
            finally:
                signal.alarm(0)
        wrong += bad
        print(f"{what}: {number:,} tried, {refused:,} refused in a sentence, {bad} wrong, {time.monotonic() - begun:.0f} s", flush=True)
    return wrong


if __name__ == "__main__":
    given = sys.argv[1:]
    share, seed = float(given[0]) if given else 1.0, int(given[1]) if len(given) > 1 else 1
    sys.exit(bool(main(share, seed, given[2:])))
