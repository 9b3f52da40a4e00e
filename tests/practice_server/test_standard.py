"""The practice server against what it claims: OGC 17-069r4 (Part 1: Core, GeoJSON, HTML, OpenAPI 3.0) clause by clause, OGC 20-002
(Part 4: create, replace, update, delete, optimistic locking), RFC 7386 and RFC 9110. Numbers of requirements are from memory.

GDAL's own reader is the independent client.
"""

from __future__ import annotations

from collections.abc import Generator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import httpx
import pyogrio
import pytest
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eskret.practice_server import PracticeServer
from eskret.practice_server.faults import Faults
from tests.length import examples

TOKEN = "open-sesame"
CORE = "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core"


def feature(n: int) -> dict[str, Any]:
    return {
        "type": "Feature",
        "geometry": {"type": "Point", "coordinates": [-26 + n / 100, 47]} if n != 7 else None,
        "properties": {"mark": f"M{n:02d}", "depth": n / 2, "lit": n % 2 == 0, "seen": f"2031-09-{n + 1:02d}T06:00:00Z"},
    }


@pytest.fixture(scope="module")
def address(tmp_path_factory: pytest.TempPathFactory) -> Generator[str, None, None]:
    with PracticeServer(tmp_path_factory.mktemp("published"), token=TOKEN) as server:
        with client() as c:
            told = {"id": "marks", "title": "Survey marks", "properties": {"seen": {"type": "string", "format": "date-time"}}}
            assert c.post(f"{server.address}/collections", json=told).status_code == 201
            for n in range(25):
                assert c.post(f"{server.address}/collections/marks/items", json=feature(n), headers=GEO).status_code == 201
        yield server.address


GEO = {"Content-Type": "application/geo+json"}
TEXT = {"Content-Type": "text/xml"}


def client() -> httpx.Client:
    return httpx.Client(headers={"Authorization": f"Bearer {TOKEN}"})


def links(told: dict[str, Any], rel: str, type_: str = "") -> list[str]:
    return [x["href"] for x in told["links"] if x["rel"] == rel and type_ in x["type"]]


def test_the_landing_page_leads_everywhere(address: str) -> None:
    """Requirements 1 and 2: links to the interface, to conformance and to the data; every link answers as what it says."""
    told = httpx.get(f"{address}/").json()
    assert links(told, "service-desc") and links(told, "service-doc") and links(told, "conformance") and links(told, "data")
    seen: set[str] = set()
    waiting = [(f"{address}/?f=json", "application/json")]
    while waiting:
        url, kind = waiting.pop()
        if url in seen:
            continue
        seen.add(url)
        answer = httpx.get(url, headers={"Accept": kind})
        assert answer.status_code == 200, url
        assert answer.headers["content-type"].split(";")[0] == kind.split(";")[0], url
        if "json" in kind and "schema" not in kind and "openapi" not in kind:
            body = answer.json()
            waiting += [(x["href"], x["type"]) for x in body["links"]]
            for one in body.get("collections", []):
                waiting += [(x["href"], x["type"]) for x in one["links"]]
    assert len(seen) > 15


def test_conformance_and_interface(address: str) -> None:
    """Requirements 5, 6 and the class oas30: what is claimed, and an OpenAPI 3.0 definition of every path there is."""
    assert CORE in httpx.get(f"{address}/conformance").json()["conformsTo"]
    answer = httpx.get(f"{address}/api")
    assert answer.headers["content-type"] == "application/vnd.oai.openapi+json;version=3.0"
    told = answer.json()
    assert told["openapi"].startswith("3.0.") and told["info"]["title"] and told["info"]["version"]
    at = told["paths"]["/collections/marks/items"]["get"]
    named = {p.get("name") or p["$ref"].rpartition("/")[2]: p for p in at["parameters"]}
    assert {"limit", "bbox", "datetime", "mark", "depth"} <= named.keys()
    limit = told["components"]["parameters"]["limit"]
    assert limit["schema"]["minimum"] == 1 and limit["schema"]["default"] == 10 and limit["style"] == "form"
    ids = [way["operationId"] for ways in told["paths"].values() for n, way in ways.items() if n != "parameters"]
    assert len(ids) == len(set(ids)) and all(
        way["responses"] for ways in told["paths"].values() for n, way in ways.items() if n != "parameters"
    )


def test_collections_are_described(address: str) -> None:
    """Requirements 11 to 18: id, extent, item type, CRS84 and links, the same in the list and by itself."""
    listed = httpx.get(f"{address}/collections").json()
    own = httpx.get(f"{address}/collections/marks").json()
    assert listed["collections"] == [own] and own["id"] == "marks" and own["itemType"] == "feature"
    assert own["extent"]["spatial"]["bbox"] == [[-26, 47, -25.76, 47]]
    assert own["extent"]["temporal"]["interval"] == [["2031-09-01T06:00:00Z", "2031-09-25T06:00:00Z"]]
    assert own["crs"] == ["http://www.opengis.net/def/crs/OGC/1.3/CRS84"]
    assert links(own, "items", "geo+json") == [f"{address}/collections/marks/items"]
    assert httpx.get(f"{address}/collections/none").status_code == 404


@pytest.mark.parametrize(
    ("query", "marks"),
    [
        ("bbox=-25.955,46,-25.915,48", [5, 6, 7, 8]),
        ("bbox=-25.955,46,-10,-25.915,48,10", [5, 6, 7, 8]),
        ("bbox=170,46,-25.985,48", [0, 1, 7]),
        ("datetime=2031-09-03T06:00:00Z", [2]),
        ("datetime=2031-09-03", [2]),
        ("datetime=2031-09-23T00:00:00Z/..", [22, 23, 24]),
        ("datetime=../2031-09-02T06:00:00Z", [0, 1]),
        ("datetime=/2031-09-01", [0]),
        ("datetime=2031-09-03T02:00:00-04:00/2031-09-04", [2, 3]),
        ("mark=M04", [4]),
        ("depth=2.5", [5]),
        ("lit=true&bbox=-26,46,-25.97,48", [0, 2]),
        ("mark=M04&mark=M05", []),
        ("mark=", []),
    ],
)
def test_features_are_chosen(address: str, query: str, marks: list[int]) -> None:
    """Requirements 22 to 28 and 7.15.5: box (over the antimeridian too; what has no place is in every box), time, properties."""
    told = httpx.get(f"{address}/collections/marks/items?limit=1000&{query}").json()
    assert [int(f["properties"]["mark"][1:]) for f in told["features"]] == marks
    assert told["numberMatched"] == told["numberReturned"] == len(marks)


def test_a_box_counts_shapes_not_their_boxes(address: str) -> None:
    bent = {"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": [[0, 0], [1, 0], [1, 1]]}}
    with client() as c:
        c.post(f"{address}/collections", json={"id": "bent"})
        assert c.post(f"{address}/collections/bent/items", json=bent, headers=GEO).status_code == 201
    for box, found in (("0.1,0.5,0.4,0.9", 0), ("0.1,-0.1,0.4,0.2", 1), ("-1,-1,2,2", 1), ("5,5,6,6", 0)):
        assert httpx.get(f"{address}/collections/bent/items?bbox={box}").json()["numberMatched"] == found


@pytest.mark.parametrize("limit", [None, 1, 7, 10, 25, 1000])
def test_pages_hold_every_feature_once(address: str, limit: int | None) -> None:
    """Requirements 19 to 21 and 29: ten where nobody says, a link to the next page as long as there is one."""
    url = f"{address}/collections/marks/items" + (f"?limit={limit}&lit=true" if limit else "")
    found: list[str] = []
    pages = 0
    while url:
        told = httpx.get(url).json()
        assert told["type"] == "FeatureCollection" and told["numberReturned"] == len(told["features"]) <= (limit or 10)
        assert told["numberMatched"] == (13 if limit else 25) and "timeStamp" in told and links(told, "self")
        found += [f["properties"]["mark"] for f in told["features"]]
        url, pages = next(iter(links(told, "next")), ""), pages + 1
    assert found == [f"M{n:02d}" for n in range(0, 25, 2 if limit else 1)]
    assert pages == -(-len(found) // (limit or 10))


@pytest.mark.parametrize(
    "query",
    [
        "limit=0",
        "limit=-1",
        "limit=ten",
        "bbox=1,2,3",
        "bbox=1,2,3,x",
        "bbox=0,50,1,40",
        "bbox=0,0,1,nan",
        "datetime=yesterday",
        "datetime=2031-09-02/2031-09-01",
        "unknown=1",
        "f=xml",
        "after=x",
    ],
)
def test_what_cannot_be_is_refused(address: str, query: str) -> None:
    """Requirements 8 and 9: a parameter that is not known, or that has a value it cannot have, is answered with 400."""
    answer = httpx.get(f"{address}/collections/marks/items?{query}", headers={"Accept": "application/json"})
    assert answer.status_code == 400 and answer.json()["code"] == "400" and answer.json()["description"]


def test_the_life_of_a_feature(address: str) -> None:
    """20-002: POST answers 201 with its place, PUT replaces the whole, PATCH merges (RFC 7386), DELETE removes."""
    with client() as c:
        at = f"{address}/collections/marks/items"
        made = c.post(at, json=feature(26), headers=GEO)
        assert made.status_code == 201
        url = made.headers["location"]
        assert urlsplit(url).path.startswith("/collections/marks/items/")
        assert c.get(url).json()["properties"]["mark"] == "M26"
        assert c.put(url, json={**feature(27), "properties": {"mark": "X"}}, headers=GEO).status_code == 204
        assert c.get(url).json()["properties"] == {"mark": "X"}
        patch = {"properties": {"mark": None, "depth": 3}, "geometry": {"type": "Point", "coordinates": [1, 2]}}
        assert c.patch(url, json=patch, headers={"Content-Type": "application/merge-patch+json"}).status_code == 204
        now = c.get(url).json()
        assert now["properties"] == {"depth": 3} and now["geometry"]["coordinates"] == [1, 2]
        assert c.delete(url).status_code == 204 and c.get(url).status_code == 404
        for method in ("PUT", "PATCH", "DELETE"):
            assert c.request(method, url, json=feature(1)).status_code == 404
        again = c.post(at, json=feature(26), headers=GEO).headers["location"]
        assert again != url and c.delete(again).status_code == 204  # an id is not given twice


def test_a_change_for_another_version_is_refused(address: str) -> None:
    """Optimistic locking (20-002; RFC 9110, 13.1.1)."""
    with client() as c:
        url = c.post(f"{address}/collections/marks/items", json=feature(26), headers=GEO).headers["location"]
        first = c.get(url).headers["etag"]
        assert c.put(url, json=feature(27), headers={**GEO, "If-Match": first}).status_code == 204
        for method in ("PUT", "PATCH", "DELETE"):
            answer = c.request(method, url, json=feature(1), headers={"If-Match": first})
            assert answer.status_code == 412
        assert c.get(url).json()["properties"]["mark"] == "M27"
        second = c.get(url).headers["etag"]
        assert second != first and c.delete(url, headers={"If-Match": f'"other", {second}'}).status_code == 204


@pytest.mark.parametrize(
    ("method", "path", "more", "status"),
    [
        ("POST", "items", {"content": b"{", "headers": GEO}, 400),
        ("POST", "items", {"content": b"[]", "headers": GEO}, 400),
        ("POST", "items", {"json": {"type": "Feature"}}, 400),
        ("POST", "items", {"content": b"<x/>", "headers": TEXT}, 415),
        ("POST", "items", {"json": {**feature(1), "geometry": {"type": "Point", "coordinates": ["a"]}}}, 400),
        ("POST", "items", {"json": {**feature(1), "properties": {"depth": "deep"}}}, 400),
        ("POST", "items", {"json": {**feature(1), "properties": []}}, 400),
        ("DELETE", "", {}, 409),
        ("PUT", "items", {"json": {}}, 405),
        ("GET", "items/none", {}, 404),
        ("GET", "items/99999999999999999999", {}, 404),
        ("GET", "other", {}, 404),
        ("GET", "items", {"headers": {"Host": "elsewhere.example"}}, 403),
    ],
)
def test_what_it_will_not_do(address: str, method: str, path: str, more: dict[str, Any], status: int) -> None:
    with client() as c:
        answer = c.request(method, f"{address}/collections/marks/{path}".rstrip("/"), **more)
        assert answer.status_code == status and answer.json()["description"]
        assert c.get(f"{address}/collections/marks/items").json()["numberMatched"] == 25


@pytest.mark.parametrize("token", [None, "wrong", TOKEN + "x"])
def test_changes_need_the_token(address: str, token: str | None, tmp_path: Path) -> None:
    head = {"Authorization": f"Bearer {token}"} if token else {}
    answer = httpx.post(f"{address}/collections/marks/items", json=feature(1), headers=head)
    assert answer.status_code == 401 and answer.headers["www-authenticate"] == "Bearer"
    assert httpx.get(f"{address}/collections/marks").status_code == 200
    with PracticeServer(tmp_path, token=TOKEN, private=True) as own:
        assert httpx.get(f"{own.address}/collections").status_code == 401


def test_allowed_methods_are_told(address: str) -> None:
    items = httpx.options(f"{address}/collections/marks/items").headers["allow"]
    item = httpx.options(f"{address}/collections/marks/items/1").headers
    assert "POST" in items and {"PUT", "PATCH", "DELETE"} <= set(item["allow"].split(", "))
    assert item["accept-patch"] == "application/merge-patch+json"


def test_pages_for_people_cannot_be_broken_into(address: str) -> None:
    """The class html: what was published is shown as text, never as markup."""
    evil = {"type": "Feature", "geometry": None, "properties": {"<b>x</b>": '"><script>alert(1)</script>'}}
    with client() as c:
        c.post(f"{address}/collections", json={"id": "evil", "title": "<i>Evil</i>", "description": "<u>"})
        url = c.post(f"{address}/collections/evil/items", json=evil, headers=GEO).headers["location"]
        for at in ("/collections", "/collections/evil", "/collections/evil/items", urlsplit(url).path):
            page = httpx.get(f"{address}{at}", headers={"Accept": "text/html,application/xhtml+xml,*/*;q=0.8"})
            assert page.headers["content-type"].startswith("text/html") and "<!doctype html>" in page.text
            assert not any(tag in page.text for tag in ("<script", "<i>", "<u>", "<b>")), at
            assert "default-src 'none'" in page.headers["content-security-policy"]
        assert c.delete(url).status_code == 204 and c.delete(f"{address}/collections/evil").status_code == 204


def test_gdal_sees_the_same(address: str) -> None:
    """An independent client: GDAL's reader of OGC API - Features."""
    meta, table = pyogrio.read_arrow(f"OAPIF:{address}/collections/marks")
    assert table.num_rows == 25 and sorted(table.column("mark").to_pylist()) == [f"M{n:02d}" for n in range(25)]
    shapes = shapely.from_wkb(table.column(meta["geometry_name"] or "wkb_geometry").to_pylist())
    at = table.column("mark").to_pylist().index("M03")
    assert shapes[at].equals(shapely.Point(-25.97, 47)) and table.column("depth").to_pylist()[at] == 1.5
    _, part = pyogrio.read_arrow(f"OAPIF:{address}/collections/marks", bbox=(-25.955, 46, -25.915, 48))
    assert {"M05", "M06", "M08"} <= set(part.column("mark").to_pylist()) <= {"M05", "M06", "M07", "M08"}


def test_faults_are_as_they_were_asked_for(tmp_path: Path) -> None:
    with PracticeServer(tmp_path, token=TOKEN) as server, client() as c:
        c.put(f"{server.address}/practice/faults", json={"lose": 2, "answer": 429, "answer_from": 3, "answer_times": 1})
        assert c.get(f"{server.address}/").status_code == 200
        with pytest.raises(httpx.TransportError):
            c.get(f"{server.address}/")
        assert [c.get(f"{server.address}/").status_code for _ in range(2)] == [429, 200]
        assert c.get(f"{server.address}/practice/faults").json()["requests"] == 4
        for wrong in ({"lose": -1}, {"lose": 1.5}, {"answer": 12}, {"other": 1}, {"slow": "x"}):
            assert c.put(f"{server.address}/practice/faults", json=wrong).status_code == 400
        server.set_faults(Faults(slow=0.15))
        begun = c.get(f"{server.address}/").elapsed.total_seconds()
        assert begun > 0.14


JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=8,
)


@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.dictionaries(st.text(max_size=8), JSON, max_size=4), st.dictionaries(st.text(max_size=8), JSON, max_size=4))
def test_what_is_given_comes_back(address: str, properties: dict[str, Any], patch: dict[str, Any]) -> None:
    """Any properties, and any merge of others into them (RFC 7386, section 2, its algorithm written out here)."""

    def merged(target: Any, change: Any) -> Any:
        if not isinstance(change, dict):
            return change
        out = dict(target) if isinstance(target, dict) else {}
        for name, value in change.items():
            if value is None:
                out.pop(name, None)
            else:
                out[name] = merged(out.get(name), value)
        return out

    with client() as c:
        c.post(f"{address}/collections", json={"id": "any"})
        try:
            made = c.post(f"{address}/collections/any/items", json={"type": "Feature", "geometry": None, "properties": properties})
            assert made.status_code == 201, made.text
            url = made.headers["location"]
            assert c.get(url).json()["properties"] == properties
            wanted = merged(properties, patch)
            answer = c.patch(url, json={"properties": patch})
            if answer.status_code == 204:
                assert c.get(url).json()["properties"] == wanted
            else:  # a field keeps its type
                assert answer.status_code == 400 and "is of the type" in answer.json()["description"]
                assert c.get(url).json()["properties"] == properties
            c.delete(url)
        finally:
            c.delete(f"{address}/collections/any")
