"""What must hold for every operation that works on a layer, whatever comes in: accounts that are proved, or a sentence."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from eskret.core.accounts.account import Relation
from eskret.core.layer import Layer
from eskret.errors import EskretError
from eskret.operations import all_operations
from eskret.operations.base import Context, EachLayer, Gathering, Level
from eskret.operations.settings import validate
from eskret.workflow.run.step import prove
from tests.length import examples
from tests.operations.helpers import whatever_comes

UTM, DEGREES = "EPSG:32626", "EPSG:4326"
CHANGE = {"key": 1, "field": "kind", "old": "pile", "new": "stake"}
SETTINGS: dict[str, dict] = {
    "keep": {"where": "n > 1"},
    "keep_by_place": {"to": "x"},
    "pick": {"features": [1, 3], "key": "n"},
    "drop_repeats": {"fields": ["kind"], "geometry": False},
    "flag": {"where": "n > 1"},
    "correct": {"key": "n", "changes": [CHANGE]},
    "clip": {"to": "x"},
    "erase": {"by": "x"},
    "overlay": {"other": "x", "keep": "first"},
    "dissolve": {"by": ["kind"], "figures": {"all": "sum n", "which": "list kind"}},
    "split": {"by": ["kind"]},
    "split_by_area": {"areas": "x", "name_field": "name"},
    "merge": {},
    "reproject": {"crs": "EPSG:32627"},
    "buffer": {"distance": "20 m"},
    "centre_points": {},
    "outlines": {},
    "corner_points": {},
    "separate_parts": {},
    "gather_parts": {"by": ["kind"], "figures": {"all": "sum n"}},
    "simplify": {"tolerance": "1 m"},
    "densify": {"longest": "5 km"},
    "hull": {"around": "group", "by": ["kind"]},
    "cut_lines": {"at": "points"},
    "grid": {"size": "5 km"},
    "connect_points": {"by": ["kind"], "order": "time"},
    "enclose": {"tolerance": "1 m"},
    "make_valid": {},
    "compute": {"field": "double", "value": "n * 2"},
    "measure": {"what": ["length", "area", "x", "corners"]},
    "pace": {"time": "time", "by": ["kind"]},
    "join_table": {"table": "table", "key": "n"},
    "join_by_place": {"other": "x"},
    "count_in_areas": {"other": "points"},
    "nearest": {"other": "x"},
    "summarise": {"by": ["kind"], "figures": {"all": "sum n"}},
    "sort": {"by": ["n down"]},
    "number": {"within": ["kind"], "order": ["n down"]},
    "pivot": {"by": ["kind"], "columns": "n"},
    "arrange_fields": {"rename": {"n": "number"}, "types": {"kind": "whole"}},
    "draft_words": {"fields": ["kind"]},
    "tally": {"by": ["kind"]},
    "find_gaps": {},
    "compare": {"earlier": "x", "key": ["n"]},
    "snap_points": {"to": "points", "within": "20 km"},
    "nearest_areas": {},
    "absorb": {"below": "5000 km2", "add_up": ["n"]},
    "points_along": {"every": "200 km", "last": True},
    "fill_holes": {"largest": "5000 km2"},
    "declare_crs": {"crs": "EPSG:32627", "which": "all"},
    "take_rows": {"which": "random", "number": 3, "within": ["kind"]},
    "unpivot": {"columns": ["n", "kind"]},
    "rank": {"by": "kind", "within": ["n"], "ties": "middle"},
    "classify": {"by": "n", "method": "quantiles", "count": 3, "write": "range"},
    "reverse_lines": {"where": "n <> 2"},
    "extend_lines": {"by": "200 m"},
    "offset_lines": {"distance": "30 m", "side": "both"},
    "zones": {"distances": "20, 50 m"},
    "cut_crossings": {"mend": "100 m", "same": ["kind"]},
    "snap_shapes": {"to": "x", "within": "300 m"},
    "sql": {"query": "SELECT * FROM a ORDER BY n DESC"},
    "check": {"that": "valid", "otherwise": "look"},
}


def layer_of(shapes: list, crs: str | None = UTM, key: str = "a") -> Layer:
    n = len(shapes)
    begun = datetime(2031, 9, 3, 6, 0, tzinfo=UTC)
    table = pa.table(
        {
            "n": pa.array(range(1, n + 1), pa.int64()),
            "kind": pa.array([("pile", "buoy", None)[i % 3] for i in range(n)], pa.string()),
            "time": pa.array([begun + timedelta(minutes=i) for i in range(n)], pa.timestamp("us", "UTC")),
        }
    )
    return Layer(key, table, np.array([*shapes, None], object)[:-1], crs)


def square(x: float, y: float, side: float = 1000) -> shapely.Geometry:
    return shapely.box(x, y, x + side, y + side)


E, N = 560_000, 5_200_000
LAYERS = {
    "none at all": layer_of([]),
    "points": layer_of([shapely.Point(E + 700 * i, N + 300 * (i % 4)) for i in range(9)]),
    "lines": layer_of([shapely.LineString([(E, N), (E + 3000, N + 100 * i)]) for i in range(5)]),
    "areas": layer_of([square(E + 900 * i, N) for i in range(7)]),
    "one area": layer_of([square(E, N)]),
    "null and empty": layer_of([None, shapely.Polygon(), square(E, N), None, shapely.MultiPolygon()]),
    "mixed": layer_of(
        [
            shapely.Point(E, N),
            square(E, N),
            shapely.LineString([(E, N), (E + 9, N)]),
            shapely.GeometryCollection([shapely.Point(E, N), square(E, N, 50)]),
        ]
    ),
    "invalid": layer_of(
        [
            shapely.Polygon([(E, N), (E + 900, N + 900), (E + 900, N), (E, N + 900)]),
            square(E + 100, N),
            shapely.Polygon([(E, N), (E + 9, N), (E, N)]),
        ]
    ),
    "parts": layer_of([shapely.MultiPolygon([square(E, N), square(E + 5000, N)]), square(E + 200, N + 200)]),
    "heights": layer_of([shapely.LineString([(E, N, 5), (E + 2000, N, 9)]), shapely.LineString([(E, N, 5), (E, N + 2000, 9)])]),
    "degrees": layer_of([shapely.box(-26.2 + 0.01 * i, 46.9, -26.195 + 0.01 * i, 46.905) for i in range(4)], DEGREES),
    "no crs": layer_of([square(E, N)], None),
    "a table": Layer("a", pa.table({"n": [1, 2], "kind": ["pile", None], "time": pa.array([None, None], pa.timestamp("us", "UTC"))})),
}
AREAS = Layer(
    "x",
    pa.table({"name": ["North", None, "South"], "n": [1, 2, 3], "kind": ["pile"] * 3}),
    np.array([square(E - 100, N - 100, 1500), square(E + 1300, N - 50, 2500), None], object),
    UTM,
)
POINTS = Layer("points", pa.table({"n": [1, 2, 3]}), shapely.points([(E + 500.0, N), (E + 1500, N + 20), (0, 0)]), UTM)
TABLE = Layer("table", pa.table({"n": [2, 2, 77, None], "landed": [5, 6, 7, 8]}))
OTHERS = {"x": AREAS, "points": POINTS, "table": TABLE}
ON_LAYERS = [o for o in all_operations().values() if isinstance(o, EachLayer | Gathering)]


def context_for(settings: dict) -> Context:
    return Context(step="made", others={k: [OTHERS[v]] for k, v in settings.items() if isinstance(v, str) and v in OTHERS})


@pytest.mark.parametrize("operation", ON_LAYERS, ids=lambda o: o.id)
def test_the_accounts_are_proved_or_a_sentence_says_why(operation: EachLayer | Gathering) -> None:
    if operation.id == "apply_words":
        pytest.skip("it wants a file: see test_words")
    settings = SETTINGS[operation.id]
    model, context = validate(operation.Settings, settings), context_for(settings)
    told = Context(step="made", others={k: [layer.facts() for layer in v] for k, v in context.others.items()})
    done = 0
    for name, layer in LAYERS.items():
        facts = layer.facts()
        forecast = operation.forecast(facts if isinstance(operation, EachLayer) else [facts], model, told)  # type: ignore[arg-type]
        wrong = [f for f in forecast.findings if f.level is Level.ERROR]
        assert all(f.text.endswith((".", "?")) for f in forecast.findings), name
        if wrong:
            continue
        try:
            outcome = operation.run(layer if isinstance(operation, EachLayer) else [layer], model, context)  # type: ignore[arg-type]
        except EskretError as error:
            assert error.sentence().endswith((".", "?")), name
            continue
        prove(outcome, operation.relation)
        done += 1
        assert len(outcome.layers) == len(outcome.outputs), name
        # what was foretold is what came: fields with their types, CRS and kind
        for made, said in zip(outcome.layers, forecast.layers, strict=False):
            if said.open_key or operation.id == "pivot":
                continue
            assert [(f.name, f.type) for f in made.fields] == [(f.name, f.type) for f in said.fields], (operation.id, name)
            assert made.crs == said.crs, (operation.id, name)
            assert made.kind in (said.kind, "mixed") or said.kind == "mixed" or not len(made), (operation.id, name)
            if said.count is not None and said.certainty != "unknown":
                assert len(made) <= said.count if said.certainty == "at most" else len(made) == said.count, (operation.id, name)
    # of these only one has points, and not in degrees
    assert done >= (1 if operation.id == "nearest_areas" else 2), "it can do something with several of these"


POOL = [
    None,
    shapely.Polygon(),
    shapely.Point(E, N),
    shapely.Point(E + 400, N + 50),
    shapely.MultiPoint([(E, N), (E + 9, N)]),
    square(E, N),
    square(E + 500, N + 500),
    square(E + 1300, N),
    square(E + 90_000, N),
    LAYERS["parts"].geometry[0],
    LAYERS["invalid"].geometry[0],
    LAYERS["mixed"].geometry[3],
    LAYERS["heights"].geometry[1],
    shapely.LineString([(E, N), (E + 700, N + 10), (E + 20, N + 300)]),
    shapely.MultiLineString([[(E, N), (E + 5, N)], [(E + 5, N), (E + 5, N + 5)]]),
    shapely.LineString([(E, N), (E, N)]),
]


WORDS = [None, "", " ", "pile", "Pile", "pile ", "?", "--", "Nord-Øst", "x" * 90]
NUMBERS = [None, 0, 1, 1, 2, 2**60]


def untidy(rows: list[tuple]) -> Layer:
    """A layer as others make them: keys missing, blank and twice, fields that differ in case alone."""
    shapes, kinds, numbers = ([r[i] for r in rows] for i in range(3))
    begun = datetime(2031, 9, 3, 6, 0, tzinfo=UTC)
    table = pa.table(
        {
            "row": pa.array(range(len(rows)), pa.int64()),
            "n": pa.array(numbers, pa.int64()),
            "kind": pa.array(kinds, pa.string()),
            "time": pa.array([None if n is None else begun + timedelta(minutes=n % 90) for n in numbers], pa.timestamp("us", "UTC")),
            "Kind": pa.array(kinds[::-1], pa.string()),
            "N": pa.array([float(n or 0) for n in numbers], pa.float64()),
        }
    )
    return Layer("a", table, np.array([*shapes, None], object)[:-1], UTM)


@pytest.mark.parametrize("operation", [o for o in ON_LAYERS if o.id != "apply_words"], ids=lambda o: o.id)
@settings(max_examples=examples(25))
@given(
    st.lists(st.tuples(st.sampled_from(POOL), st.sampled_from(WORDS), st.sampled_from(NUMBERS)), max_size=9),
    st.lists(st.sampled_from(WORDS), min_size=3, max_size=3),
)
def test_whatever_comes_the_accounts_balance(operation: EachLayer | Gathering, rows: list[tuple], areas: list) -> None:
    """in = used + set aside, every row once; a total that should be kept is; or a sentence, never a fault.

    Where rows keep their number, those that left are counted from what left, whatever the account says.
    """
    layer = untidy(rows)
    given_settings = SETTINGS[operation.id]
    others = {**OTHERS, "x": AREAS.with_table(AREAS.table.set_column(0, "name", [pa.array(areas, pa.string())]))}
    outcome = whatever_comes(operation, layer, given_settings, others)
    if outcome is None:
        return
    (mine,) = [a for a in outcome.inputs if a.first]
    assert all(a.rows.max(initial=-1) < len(rows) for a in mine.altered)
    for one in (a for a in mine.altered if a.where is not None):  # a spot in a feature lies on it, or within what it was moved by
        assert one.where.shape == (len(one), 4)
        there = ~np.isnan(one.where[:, 0])
        near = shapely.distance(shapely.box(*one.where[there].T), layer.geometry[one.rows[there]])  # type: ignore[index]
        assert (near <= (one.amounts[there] if operation.id == "enclose" else 0) + 1e-6).all(), operation.id
    relation = outcome.relation or operation.relation
    if relation in (Relation.KEPT, Relation.ONE_FOR_ONE, Relation.MULTIPLIED) and all(
        "row" in x.table.column_names for x in outcome.layers
    ):
        left = {n for x in outcome.layers for n in x.table.column("row").to_pylist()}
        assert left == set(range(len(rows))) - set(mine.set_aside.rows.tolist()), operation.id
    assert len({x.key for x in outcome.layers}) == len(outcome.layers)
