"""Record one version: ``python -m tests.golden.record OUT [HOW_MANY]``, with its ``src`` first on PYTHONPATH.

Everything happens under one place that is the same for all versions, so that paths in what is said are too.
"""

from __future__ import annotations

import atexit
import hashlib
import inspect
import io
import json
import os
import re
import runpy
import shutil
import sys
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pyogrio

PLACE = Path(tempfile.gettempdir()) / "eskret-golden"
_WRITTEN_ANEW = ("seconds", "started", "ended", "when", "run", "pid", "written_at", "sha256", "at")
_SPANS = [
    (re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?"), "TIME"),
    (re.compile(r"(?<![\w.])\d+(\.\d+)? ?(ms|s|min)(?!\w)"), "SPAN"),
    (re.compile(r"(?<=, )run \d+"), "run N"),
    (re.compile(r"127\.0\.0\.1:\d+"), "SERVICE"),
    (re.compile(r"\d{8}-\d{9}-[\w-]+"), "PUSH"),
]


def eskret(*arguments: str) -> str:
    """What a command says, and its exit code."""
    out, err, before = io.StringIO(), io.StringIO(), sys.argv
    sys.argv = ["eskret", *arguments]
    code: object = 0
    atexit._run_exitfuncs = lambda: None  # the command ends its process at once; here it goes on to the next
    os._exit = sys.exit  # type: ignore[assignment]
    try:
        with redirect_stdout(out), redirect_stderr(err):
            runpy.run_module("eskret", run_name="__main__")
    except SystemExit as end:
        code = end.code
    finally:
        sys.argv = before
    return f"exit {code}\n{out.getvalue()}\n--- errors\n{err.getvalue()}"


def plain(text: str) -> str:
    """A text without times, spans and digests of whole files."""
    for pattern, word in _SPANS:
        text = pattern.sub(word, text)
    # sums over threads differ in their last digit from one run to the next
    text = re.sub(r"\d+\.\d{9,}(e[+-]\d+)?", lambda found: f"{float(found[0]):.12g}", text)
    lines = [x for x in text.split("\n") if not any(f'"{n}":' in x for n in _WRITTEN_ANEW)]
    return "\n".join(x.rstrip() for x in lines)


def contents(folder: Path) -> str:
    """A digest of every file: of rows and shapes where another library reads it, else of its bytes."""
    said = []
    for path in sorted(p for p in folder.rglob("*") if p.is_file()):
        name = path.relative_to(folder)
        if path.suffix in (".gpkg", ".shp", ".geojson", ".fgb", ".kml"):
            for layer in sorted(str(x[0]) for x in pyogrio.list_layers(path)):
                said.append(f"{name} {layer} {_rows(path, layer)}")
        elif path.suffix == ".parquet":  # in however many groups its rows stand
            table = pq.read_table(path)
            rows = repr((table.schema.to_string(show_schema_metadata=True), table.schema.metadata, table.to_pylist()))
            said.append(f"{name} {hashlib.sha256(rows.encode()).hexdigest()[:16]}")
        elif path.suffix in (".dbf", ".shx", ".xlsx", ".html", ".zip", ".sqlite") or ".outputs.json" in path.name:
            said.append(f"{name} is there")
        else:
            said.append(f"{name} {hashlib.sha256(path.read_bytes()).hexdigest()[:16]}")
    return "\n".join(said)


def _rows(path: Path, layer: str) -> str:
    meta, _, shapes, columns = pyogrio.raw.read(path, layer=layer, read_geometry=True)
    said = hashlib.sha256(repr((meta["crs"], list(meta["fields"]), list(map(str, meta["dtypes"])))).encode())
    for shape in shapes if shapes is not None else []:
        said.update(shape or b"none")
    for column in columns:
        said.update(repr(np.asarray(column).tolist()).encode())
    return f"{len(columns[0]) if len(columns) else 0} rows {said.hexdigest()[:16]}"


def record(out: Path, how_many: int) -> None:
    """Everything that is to stay as it is, into a folder."""
    shutil.rmtree(PLACE, ignore_errors=True)
    PLACE.mkdir()
    os.chdir(PLACE)

    def keep(name: str, text: str) -> None:
        path = out / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(plain(text), encoding="utf-8")

    for command in ["", *re.findall(r"^  ([a-z-]+)  ", eskret("--help").partition("Commands:")[2], re.M)]:
        keep(f"help/{command or 'all'}.txt", eskret(*filter(None, [command]), "--help"))
    keep("public.txt", public())
    operations = json.loads(eskret("operations", "--json").split("\n", 1)[1].partition("\n--- errors")[0])
    keep("operations/all.json", json.dumps(operations, indent=1))
    for one in operations:
        keep(f"operations/{one['id']}.txt", eskret("operations", one["id"]))
    eskret("handbook", "-o", "handbook")
    for page in Path("handbook").rglob("*.*"):
        keep(f"handbook/{page.name}", page.read_text("utf-8", "replace"))
    keep("demo/made.txt", eskret("demo", "sound", "--run"))
    keep("demo/contents.txt", contents(PLACE / "sound"))
    for file in sorted(Path("sound").glob("*.toml")):
        keep(f"demo/{file.stem}/script.txt", eskret("script", str(file)))
        if 'use = "publish"' in file.read_text():
            continue  # what its service holds now is seen by what it made
        keep(f"demo/{file.stem}/rehearsal.txt", eskret("rehearse", str(file), "--json"))
        keep(f"demo/{file.stem}/ledger.txt", eskret("run", str(file), "--fresh"))
        keep(f"demo/{file.stem}/again.txt", eskret("run", str(file), "--json"))
        keep(f"demo/{file.stem}/report.txt", eskret("run", str(file), "--fresh", "--json", "--report", f"{file.stem}.html"))
    keep("demo/contents_again.txt", contents(PLACE / "sound"))
    from tests.golden import drawn

    drawn.data(PLACE / "drawn" / "data")
    for number in range(how_many):
        path = PLACE / "drawn" / f"w{number}.toml"
        path.write_text(drawn.workflow(number), encoding="utf-8")
        foretold, ran = eskret("rehearse", str(path), "--json"), eskret("run", str(path), "--json")
        keep(f"drawn/{number}.txt", f"{path.read_text()}\n{foretold}\n{ran}")
    keep("drawn/contents.txt", contents(PLACE / "drawn" / "out"))


def public() -> str:
    """The names that programs of others use, with what they take."""
    import eskret as face

    said = []
    for name in sorted(face.__all__):
        thing = getattr(face, name)
        said.append(f"{name} {inspect.signature(thing)}\n{inspect.getdoc(thing)}")
        if inspect.isclass(thing):
            said += [f"  {name}.{n} {_called(v)}" for n, v in sorted(vars(thing).items()) if not n.startswith("_")]
    return re.sub(r" at 0x[0-9a-f]+", "", "\n".join(said))


def _called(thing: object) -> str:
    try:
        return str(inspect.signature(thing))  # type: ignore[arg-type]
    except (TypeError, ValueError):
        return ""


if __name__ == "__main__":
    record(Path(sys.argv[1]).resolve(), int(sys.argv[2]) if len(sys.argv) > 2 else 200)
