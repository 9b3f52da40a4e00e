"""Fetching a published dataset after OGC 17-069r4: pages, filters, counts; and every way a service can fail."""

from __future__ import annotations

import json
from collections.abc import Callable, Generator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
import shapely

from eskret import Workflow
from eskret.errors import InputError, StoppedError
from eskret.services import connection, features


class Service:
    """A stand-in on loopback: 25 points in two districts, ten a page at most; ``fault`` can answer instead."""

    def __init__(self) -> None:
        self.asked: list[tuple[str, dict[str, str], str]] = []
        self.fault: Callable[[int, Any], bool] = lambda number, handler: False
        self.change: Callable[[dict[str, Any]], dict[str, Any]] = lambda page: page
        service = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                url = urlsplit(self.path)
                query = {k: v[0] for k, v in parse_qs(url.query).items()}
                service.asked.append((url.path, query, self.headers.get("Authorization", "")))
                if not service.fault(len(service.asked), self):
                    service.answer(self, url.path, query)

            def log_message(self, *args: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.server.server_address[1]}/data"
        Thread(target=self.server.serve_forever, daemon=True).start()

    def answer(self, handler: BaseHTTPRequestHandler, path: str, query: dict[str, str]) -> None:
        if path == "/data/collections":
            box = {"spatial": {"bbox": [[-27, 47, -26, 48]]}}
            send(handler, {"collections": [{"id": "moorings", "title": "Moorings", "extent": box}, {"id": "plain"}]})
            return
        if path != "/data/collections/moorings/items":
            send(handler, {}, 404)
            return
        found = [feature(n) for n in range(25)]
        if "bbox" in query:
            area = shapely.box(*map(float, query["bbox"].split(",")))
            found = [f for f in found if area.intersects(shapely.Point(*f["geometry"]["coordinates"]))]
        found = [f for f in found if f["properties"]["district"] == query.get("district", f["properties"]["district"])]
        start, size = int(query.get("offset", 0)), min(10, int(query["limit"]))
        links = [{"rel": "self", "href": handler.path}]
        if start + size < len(found):
            rest = "".join(f"&{k}={v}" for k, v in query.items() if k not in ("offset", "limit"))
            links.append({"rel": "next", "href": f"{self.address}/collections/moorings/items?offset={start + size}&limit={size}{rest}"})
        page = {
            "type": "FeatureCollection",
            "features": found[start : start + size],
            "links": links,
            "numberMatched": len(found),
            "numberReturned": len(found[start : start + size]),
        }
        send(handler, self.change(page))


def feature(n: int) -> dict[str, Any]:
    return {
        "type": "Feature",
        "id": f"M{n:02d}",
        "geometry": {"type": "Point", "coordinates": [-27 + n / 100, 47]},
        "properties": {"district": "North" if n < 15 else "South", "depth": n / 2},
    }


def send(handler: BaseHTTPRequestHandler, body: Any, status: int = 200, **headers: str) -> None:
    raw = body if isinstance(body, bytes) else json.dumps(body).encode()
    handler.send_response(status)
    for name, value in {"Content-Length": str(len(raw)), **headers}.items():
        handler.send_header(name.replace("_", "-"), value)
    handler.end_headers()
    handler.wfile.write(raw)


@pytest.fixture
def service(monkeypatch: pytest.MonkeyPatch) -> Generator[Service, None, None]:
    monkeypatch.setattr(connection, "PAUSE", 0.01)
    made = Service()
    yield made
    made.server.shutdown()
    made.server.server_close()


def test_what_is_published(service: Service) -> None:
    assert features.datasets(service.address + "/") == [
        features.PublishedDataset("moorings", "Moorings", (-27, 47, -26, 48)),
        features.PublishedDataset("plain", "plain"),
    ]


def test_all_pages_are_read_and_counted(service: Service) -> None:
    seen = []
    found = features.items(service.address, "moorings", watch=lambda done, of: seen.append((done, of)))
    assert [f["id"] for f in found.features] == [f"M{n:02d}" for n in range(25)] and found.matched == 25
    assert seen == [(10, 25), (20, 25), (25, 25)]
    assert len(features.items(service.address, "moorings", most=3).features) == 3


def test_a_part_is_asked_for_by_box_and_property(service: Service) -> None:
    part = features.items(service.address, "moorings", box=(-27, 46, -26.895, 48), where={"district": "North"})
    assert len(part.features) == 11 and service.asked[0][1]["bbox"] == "-27,46,-26.895,48"
    assert features.items(service.address, "moorings", where={"district": "South"}).matched == 10


@pytest.mark.parametrize("status", [429, 500, 502, 503, 504])
def test_what_may_pass_is_tried_again(service: Service, status: int) -> None:
    def twice(number: int, handler: Any) -> bool:
        if number in (2, 3):
            send(handler, {}, status, Retry_After="0.01")
        return number in (2, 3)

    service.fault = twice
    assert len(features.items(service.address, "moorings").features) == 25 and len(service.asked) == 5


@pytest.mark.parametrize("number", [1, 2, 3])
def test_a_connection_that_drops_at_each_request_in_turn(service: Service, number: int) -> None:
    def drop(asked: int, handler: Any) -> bool:
        if asked == number:
            handler.connection.close()
        return asked == number

    service.fault = drop
    assert len(features.items(service.address, "moorings").features) == 25


@pytest.mark.parametrize(
    ("answer", "says"),
    [
        (lambda h: send(h, {}, 401), "wants to know who you are. Name an environment variable"),
        (lambda h: send(h, {}, 403), "you may not do this"),
        (lambda h: send(h, {}, 404), "there is no such dataset"),
        (lambda h: send(h, {}, 429), "it is asked too often"),
        (lambda h: send(h, {}, 500), "answers with status 500"),
        (lambda h: send(h, {}, 302, Location="http://127.0.0.1:9/"), "answers with status 302"),
        (lambda h: send(h, b"<html>"), "its answer is no JSON"),
        (lambda h: send(h, []), "no JSON object"),
        (lambda h: send(h, {"type": "Feature"}), "no collection of features"),
        (lambda h: h.connection.close(), "does not answer"),
    ],
)
def test_what_a_service_can_do_wrong_is_told(service: Service, answer: Callable[[Any], None], says: str) -> None:
    def fault(number: int, handler: Any) -> bool:
        answer(handler)
        return True

    service.fault = fault
    with pytest.raises(InputError) as caught:
        features.items(service.address, "moorings")
    assert says in caught.value.sentence() and "/data/collections/moorings/items" in caught.value.sentence()


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda p: {**p, "numberMatched": 26}, "it counts 26 features that match, and 25 came"),
        (lambda p: {**p, "links": [{"rel": "next", "href": "http://elsewhere.example.org/next"}]}, "lies on another host"),
        (lambda p: {**p, "links": [{"rel": "next", "href": "?limit=10&offset=0"}]}, "its pages go in a circle"),
        (lambda p: {**p, "features": None}, "no collection of features"),
    ],
)
def test_pages_that_cannot_be(service: Service, change: Callable, says: str) -> None:
    service.change = change
    with pytest.raises(InputError, match=says):
        features.items(service.address, "moorings")


def test_an_answer_without_end_and_a_stop(service: Service, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connection, "MOST_BYTES", 100)
    with pytest.raises(InputError, match="is longer than"):
        features.items(service.address, "moorings")
    monkeypatch.undo()

    def stop(done: int, of: int) -> None:
        raise StoppedError

    with pytest.raises(StoppedError):
        features.items(service.address, "moorings", watch=stop)
    with pytest.raises(InputError, match="no address of a service"):
        features.items("ftp://example.org", "moorings")
    with pytest.raises(InputError, match="the token holds signs that no token has"):
        features.items(service.address, "moorings", token="se cret\n1")


def test_the_operation_brings_a_dataset_into_a_workflow(service: Service, monkeypatch: pytest.MonkeyPatch) -> None:
    workflow = Workflow(crs="EPSG:32626")
    workflow.fetch("marks", service=service.address, dataset="moorings", where={"district": "North"}, token_from="ORREL_TOKEN")
    assert "there is no token in the environment variable 'ORREL_TOKEN'" in workflow.rehearse().errors[0].text
    monkeypatch.setenv("ORREL_TOKEN", "secret")
    forecast = workflow.rehearse().steps["marks"].leaving[0]
    assert (forecast.key, forecast.count, forecast.kind, forecast.crs) == ("moorings", 15, "point", "EPSG:32626")
    result = workflow.run()
    layer = result.layers["marks"][0]
    assert result.state == "balanced" and len(layer) == 15 and layer.crs == "EPSG:32626"
    assert layer.table.to_pylist()[3] == {"id": "M03", "district": "North", "depth": 1.5}
    assert {a for _, _, a in service.asked} == {"Bearer secret"} and "secret" not in str(result.to_json())


def test_a_geometry_that_cannot_be_read_is_set_aside(service: Service) -> None:
    service.change = lambda p: {
        **p,
        "features": [
            {**f, "geometry": {"type": "Point", "coordinates": ["x"]} if f["id"] == "M04" else None if f["id"] == "M05" else f["geometry"]}
            for f in p["features"]
        ],
    }
    workflow = Workflow()
    workflow.fetch("marks", service=service.address, dataset="moorings")
    result = workflow.run()
    account = result.steps[0].inputs[0]
    assert account.set_aside.counts() == [("its geometry cannot be read", 1)] and account.set_aside.rows.tolist() == [4]
    assert result.layers["marks"][0].geometry[4] is None
