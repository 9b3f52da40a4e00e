"""Nothing is lost in silence on the way to a file and back: a part of all cases, and every file that libraries bring along."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np
import pandas as pd
import pyogrio
import pytest
import shapely

from eskret.errors import EskretError
from eskret.formats import sources
from tests.fidelity import cases, trial
from tests.length import part
from tests.test_cli import call


@pytest.mark.parametrize("ending", trial.ENDINGS)
def test_what_a_format_cannot_keep_is_told_or_refused(tmp_path: Path, ending: str) -> None:
    """The whole of it is ``make fidelity``; here a part of the cases, another for each format."""
    usual = trial.usual(tmp_path, ending)
    every = [*cases.of_values(), *cases.of_shapes()]
    wrong = []
    turn = trial.ENDINGS.index(ending)
    for name, nulls, layer in part(every[turn % 3 :: 3], turn):
        seen = trial.judged(trial.through(tmp_path, layer, ending), usual)
        if seen.what in (trial.UNTOLD, trial.FAULT):
            wrong.append(f"{name}, {nulls}: {seen.what} {seen.differs[:150]}")
    assert not wrong, "\n".join(wrong)


def test_files_that_nobody_here_made_are_read_as_the_frame_library_reads_them_or_a_sentence_says_why() -> None:
    read = 0
    for path in cases.corpus():
        try:
            layers = sources.look(path)
        except EskretError as error:
            assert "fault" not in error.sentence(), path
            continue
        for facts in layers:
            try:
                layer = sources.read(path, facts.name, facts.key).layer
            except EskretError as error:
                assert "fault" not in error.sentence(), path
                continue
            read += 1
            if path.suffix in (".shp", ".gpkg", ".geojson"):
                _as_the_frame(path, facts.name, layer)
    assert read >= 25


def _as_the_frame(path: Path, name: str, layer: object) -> None:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        frame = pyogrio.read_dataframe(path, layer=name)
    assert len(frame) == len(layer), path  # type: ignore[arg-type]
    theirs = {n.casefold(): n for n in frame.columns}
    for field in layer.table.column_names:  # type: ignore[attr-defined]
        other = theirs.get(field.casefold())
        if other is None or isinstance(frame[other].dtype, pd.DatetimeTZDtype):
            continue
        for a, b in zip(layer.table.column(field).to_pylist(), frame[other], strict=True):  # type: ignore[attr-defined]
            if a is None or isinstance(b, (list, np.ndarray)):
                continue
            assert a == b or str(a) == str(b) or (a != a and b != b) or pd.Timestamp(a) == b, (path, field, a, b)
    if layer.has_geometry and "geometry" in frame.columns:  # type: ignore[attr-defined]
        for a, b in zip(layer.geometry, frame.geometry, strict=True):  # type: ignore[attr-defined]
            assert (a is None and b is None) or shapely.equals_exact(a, b, 1e-9) or (a.is_empty and b.is_empty), path


@pytest.mark.parametrize("ending", [".gpkg", ".geojson", ".csv"])
def test_the_same_files_go_through_the_command_to_other_formats(tmp_path: Path, ending: str) -> None:
    small = [p for p in cases.corpus() if p.suffix in (".shp", ".gpkg", ".geojson") and p.stat().st_size < 200_000]
    for n, path in enumerate(part(small, len(ending))):
        code, out, err = call(
            "do", "keep", path, "--where", "true", "--undeclared", "EPSG:4326", "--out", tmp_path / f"{n}_{{layer}}{ending}"
        )
        assert "fault" not in out + err and "Traceback" not in err, (path, err)
        assert code in (0, 1, 2)
        if code:
            assert err.rstrip().endswith((".", "?")), err
