"""A query over all layers: its answers against pandas, what it may not do, and that it answers the same again."""

from __future__ import annotations

import pandas as pd
import pyarrow as pa
import pytest
import shapely

from eskret.core import query
from eskret.core.layer import Layer
from eskret.errors import EskretError
from eskret.operations import operation_by_id
from eskret.operations.base import Context
from eskret.operations.settings import validate
from tests.operations.helpers import do, layer_of, rows, said, square, table_of

BEDS = layer_of([square(0, 0), square(2000, 0), None], key="beds", bed=pa.array([1, 2, 3]), tonnes=pa.array([1.5, float("nan"), 4.0]))
LANDINGS = table_of("landings", bed=pa.array([1, 1, 2, 9]), kg=pa.array([10, 20, 5, 7]), day=pa.array(["a", "b", "b", None]))


BEDS_ONLY = [BEDS]


def refusal(layers: list[Layer], asked: str) -> str:
    """What a rehearsal says is wrong; a run says so too, and makes nothing."""
    operation = operation_by_id("sql")
    settings = validate(operation.Settings, {"query": asked})
    told = operation.forecast([x.facts() for x in layers], settings, Context())
    with pytest.raises(EskretError):
        operation.run(layers, settings, Context())
    return " ".join(f.text for f in told.findings if f.level == "error")


def test_a_join_with_sums_is_that_of_pandas_and_carries_shapes_along() -> None:
    asked = (
        "SELECT b.geometry, b.bed, sum(l.kg) AS kg, count(l.kg) AS n FROM beds b LEFT JOIN landings l USING (bed) GROUP BY ALL ORDER BY bed"
    )
    outcome = do("sql", [BEDS, LANDINGS], query=asked)
    (made,) = outcome.layers
    theirs = pd.DataFrame({"bed": [1, 2, 3]}).merge(LANDINGS.table.to_pandas(), how="left").groupby("bed")["kg"].agg(["sum", "count"])
    assert rows(outcome, "bed", "n") == list(zip([1, 2, 3], theirs["count"], strict=True))
    assert [k or 0 for k in rows(outcome, "kg")] == theirs["sum"].tolist() and made.crs == BEDS.crs
    assert [g if g is None else g.wkb for g in made.geometry] == [g if g is None else g.wkb for g in BEDS.geometry]
    assert "read 3 of beds and 4 of landings; 3 rows came" in said(outcome) and outcome.lineage is None
    assert not outcome.outputs[0].controls, "it claims no totals"


def test_no_number_has_no_value_as_everywhere() -> None:
    outcome = do("sql", BEDS_ONLY, query="SELECT sum(tonnes) AS all, avg(tonnes / (bed - 1)) AS mean, sqrt(-1.0) AS none FROM beds")
    assert rows(outcome, "all", "mean", "none") == [(5.5, 2.0, None)]


def test_names_that_come_twice_and_more_shapes_than_one_are_told() -> None:
    asked = "SELECT a.*, b.bed, b.geometry AS other FROM beds a JOIN beds b ON a.bed = b.bed ORDER BY a.bed"
    outcome = do("sql", [BEDS, LANDINGS], query=asked)
    assert outcome.layers[0].table.column_names == ["bed", "tonnes", "bed_2"]
    assert "the column 'bed' is called 'bed_2'" in said(outcome)
    assert "1 further column of shapes or bytes was left out: other" in said(outcome)


def test_the_same_answer_again_without_an_order() -> None:
    many = table_of("many", k=pa.array([f"k{i * 7919 % 5003}" for i in range(60_000)]), v=pa.array([i / 7 for i in range(60_000)]))
    asked = "SELECT k, sum(v) AS v, any_value(v) AS one FROM many GROUP BY k"
    once, again = (do("sql", [many], query=asked).layers[0].table for _ in range(2))
    assert once.equals(again) and once.num_rows == 5003


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ("SELECT * FROM 'secret.csv'", "no layer that enters is called 'secret.csv'"),
        ("SELECT * FROM read_csv('/etc/passwd')", "read_csv() cannot be read from"),
        ("SELECT content FROM read_text('/etc/passwd')", "read_text() cannot be read from"),
        ("SELECT * FROM glob('/*')", "glob() cannot be read from"),
        ("SELECT getenv('HOME')", "getenv() cannot be used here"),
        ("SELECT * FROM duckdb_settings()", "cannot be read from"),
        ("SELECT * FROM information_schema.tables", "no layer that enters"),
        ("COPY beds TO 'out.csv'", "it does more than ask"),
        ("ATTACH 'x.db'", "it does more than ask"),
        ("INSTALL spatial", "it does more than ask"),
        ("DELETE FROM beds", "it does more than ask"),
        ("SELECT 1; SELECT 2", "these are 2 queries"),
        ("SELECT now()", "another answer each time"),
        ("SELECT current_date", "another answer each time"),
        ("SELECT * FROM beds ORDER BY random()", "another answer each time"),
        ("SELECT * FROM beds USING SAMPLE 1", "a sample is another one each time"),
        ("WITH q AS (SELECT uuid() AS u) SELECT * FROM q", "another answer each time"),
        ("SELECT * FROM bed", "Did you mean 'beds'?"),
        ("SELECT depth FROM beds", "there is no field 'depth'"),
        ("SELECT FROM", "cannot be read"),
        ("SELECT bed, sum(tonnes) FROM beds", "'bed' stands beside sums of many rows and is not grouped by"),
        ("SELECT bed FROM beds JOIN landings ON true", "'bed' is a field of several layers"),
        ("SELECT c.bed FROM beds b", "no layer is called 'c' there"),
        ("SELECT [1, 2] AS x", "holds what no field can"),
        ("SELECT $least", "there is no parameter $least"),
        ("  ", "there is no query yet"),
        ("SELECT " + "(" * 500 + "1" + ")" * 500, "brackets stand 500 deep"),
    ],
)
def test_it_only_asks_and_only_what_enters(asked: str, says: str) -> None:
    assert says in refusal([BEDS, LANDINGS], asked)


def test_inner_names_are_no_layers_outside() -> None:
    assert rows(do("sql", BEDS_ONLY, query="WITH q AS (SELECT bed FROM beds) SELECT q.bed FROM q ORDER BY 1"), "bed") == [1, 2, 3]
    recursive = "WITH RECURSIVE t AS (SELECT 1 AS n UNION ALL SELECT n + 1 FROM t WHERE n < 4) SELECT n FROM t"
    assert rows(do("sql", BEDS_ONLY, query=recursive), "n") == [1, 2, 3, 4]


def test_layers_in_two_systems_must_be_brought_together_first() -> None:
    other = layer_of([shapely.Point(0, 0)], crs="EPSG:4326", key="others", bed=pa.array([1]))
    with pytest.raises(EskretError, match="different coordinate systems"):
        do("sql", [BEDS, other], query="SELECT geometry, bed FROM beds UNION ALL SELECT geometry, bed FROM others")
    assert len(do("sql", [BEDS, other], query="SELECT b.geometry FROM beds b JOIN others USING (bed)").layers[0]) == 1


def test_names_and_fields_that_sql_cannot_tell_apart_are_refused() -> None:
    twin = table_of("Beds", n=pa.array([1]))
    assert "one name to SQL" in refusal([BEDS, twin], "SELECT * FROM beds")
    shaped = layer_of([square(0, 0)], key="own", Geometry=pa.array(["x"]))
    assert "stands for its shape here" in refusal([shaped], "SELECT * FROM own")
    with pytest.raises(EskretError, match="is no shape of a layer"):
        do("sql", BEDS_ONLY, query="SELECT 'x'::BLOB AS geometry")


def test_numbers_too_large_for_a_field_are_said() -> None:
    with pytest.raises(EskretError, match="comes out too large"):
        do("sql", BEDS_ONLY, query="SELECT sum(9223372036854775807) AS n FROM beds")


def test_layers_go_by_the_names_they_came_with_too() -> None:
    beds = Layer("lease_beds", BEDS.table, BEDS.geometry, BEDS.crs, "Lease Beds")
    assert rows(do("sql", [beds], query='SELECT count(*) AS n FROM "Lease Beds"'), "n") == [3]
    assert rows(do("sql", [beds], query='SELECT count(*) AS n FROM lease_beds JOIN "lease beds" USING (bed)'), "n") == [3]
    both = [beds, Layer("lease_beds_2", LANDINGS.table, None, None, "lease beds", unnumbered="lease_beds")]
    assert "no layer that enters" in refusal(both, 'SELECT 1 FROM "Lease Beds"'), "which of both is meant nobody can say"


def test_an_answer_without_end_is_said_and_costs_nothing_beforehand(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(query, "_MOST", 10_000_000)
    endless = "SELECT a.bed, r.range FROM beds a, range(1000000000000) r"
    with pytest.raises(EskretError, match=r"larger than 0.01 GB; [\d,]+ rows had come"):
        do("sql", BEDS_ONLY, query=endless)
    assert rows(do("sql", BEDS_ONLY, query="SELECT count(*) AS n FROM beds"), "n") == [3], "the database goes on answering"
