"""How a service is talked to: what is retried, how long is waited, what is never followed; and what a service tells of a dataset."""

from __future__ import annotations

import json
import ssl
import threading
import time
from collections.abc import Callable, Generator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from eskret.errors import ServiceError, StoppedError
from eskret.services import changing, connection, features
from eskret.services.connection import Answer, Connection, LostError

Respond = Callable[[str, str, int], tuple[int, Any, dict[str, str]]]


class Host:
    """Answers as it is told: status, body and headers by method, path and number of the request."""

    def __init__(self) -> None:
        self.respond: Respond = lambda method, path, number: (200, {}, {})
        self.asked: list[tuple[str, str, str]] = []
        host = self

        class Handler(BaseHTTPRequestHandler):
            def answer(self) -> None:
                host.asked.append((self.command, self.path, self.headers.get("Authorization", "")))
                status, body, headers = host.respond(self.command, self.path.partition("?")[0], len(host.asked))
                raw = body if isinstance(body, bytes) else json.dumps(body).encode()
                self.send_response(status)
                for name, value in {"Content-Length": str(len(raw)), **headers}.items():
                    self.send_header(name, value)
                self.end_headers()
                self.wfile.write(raw)

            do_GET = do_POST = do_PUT = do_DELETE = do_OPTIONS = answer

            def log_message(self, *args: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.server.server_address[1]}/api"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


@pytest.fixture
def host(monkeypatch: pytest.MonkeyPatch) -> Generator[Host, None, None]:
    monkeypatch.setattr(connection, "PAUSE", 0.005)
    made = Host()
    yield made
    made.server.shutdown()
    made.server.server_close()


def test_how_long_is_waited_is_what_the_service_says_and_bounded(host: Host, monkeypatch: pytest.MonkeyPatch) -> None:
    host.respond = lambda method, path, number: (503, {}, {"Retry-After": "0.2"}) if number == 1 else (200, {"a": 1}, {})
    with Connection(host.address) as there:
        begun = time.monotonic()
        assert there.get(there.below("x")).json() == {"a": 1} and 0.19 < time.monotonic() - begun < 2
        monkeypatch.setattr(connection, "LONGEST_PAUSE", 0.05)
        begun = time.monotonic()
        there.pause(1, "86400")
        there.pause(3, "Wed, 21 Oct 2031 07:28:00 GMT")  # a date is not counted on; the pause is one's own
        assert time.monotonic() - begun < 1


def test_what_will_not_pass_is_not_asked_again(host: Host) -> None:
    host.respond = lambda method, path, number: (403, {"description": "not  for\nyou."}, {})
    with Connection(host.address, "s3cret") as there, pytest.raises(ServiceError) as caught:
        there.get(there.below("x"))
    assert len(host.asked) == 1 and host.asked[0][2] == "Bearer s3cret" and caught.value.status == 403
    assert "you may not do this (not for you)" in caught.value.sentence() and "s3cret" not in caught.value.sentence()


def test_a_redirect_is_not_followed_so_that_the_token_stays_here(host: Host) -> None:
    elsewhere = Host()
    host.respond = lambda method, path, number: (302, {}, {"Location": f"{elsewhere.address}/x"})
    with Connection(host.address, "s3cret") as there, pytest.raises(ServiceError, match="status 302"):
        there.get(there.below("x"))
    assert elsewhere.asked == [] and there.same_host(there.home, f"{elsewhere.address}/x") is None
    assert there.same_host(f"{there.home}/a", "b?c=1") == f"{there.home}/b?c=1"
    assert there.same_host(there.home, f"{host.address.removesuffix('/api')}@evil.example/api") is None
    elsewhere.server.shutdown()
    elsewhere.server.server_close()


def test_a_stop_ends_a_pause_and_a_halt_the_next_request(host: Host, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connection, "PAUSE", 30.0)
    host.respond = lambda method, path, number: (503, {}, {})
    asked = 0

    def stop() -> None:
        nonlocal asked
        asked += 1
        if asked > 2:
            raise StoppedError

    begun = time.monotonic()
    with Connection(host.address, stopped=stop) as there, pytest.raises(StoppedError):
        there.get(there.below("x"))
    assert time.monotonic() - begun < 5
    with Connection(host.address) as there:
        there.halt()
        with pytest.raises(StoppedError):
            there.once("GET", there.below("x"))


def test_tls_is_verified() -> None:
    context = connection._trusted()
    assert context.verify_mode is ssl.CERT_REQUIRED and context.check_hostname
    with pytest.raises(ServiceError, match="this is no address of a service"):
        Connection("data.example.org/features")


def test_an_answer_is_an_object_or_nonsense() -> None:
    assert Answer(200, b'{"a": 1}').json() == {"a": 1}
    for body in (b"", b"[1]", b"<html>", b'{"a"'):
        with pytest.raises(ServiceError, match="no JSON"):
            Answer(200, body, {}, "http://x").json()


COLLECTION: dict[str, Any] = {
    "id": "beds",
    "title": "Beds",
    "updated": "2031-09-03T06:40:00Z",
    "extent": {"spatial": {"bbox": [[-27, 46, 0, -26, 47, 9]]}},
    "links": [{"rel": features.SCHEMA, "href": "/api/collections/beds/schema", "type": "application/schema+json"}],
}
SCHEMA = {"properties": {"geometry": {"x-ogc-role": "primary-geometry"}, "shape": {"format": "geometry-polygon"}, "ha": {"type": "number"}}}


def described(host: Host, change: Callable[[dict[str, Any]], Any] = lambda c: c, items: Any = None, schema: Any = None) -> Any:
    def respond(method: str, path: str, number: int) -> tuple[int, Any, dict[str, str]]:
        if path.endswith("/items"):
            return (
                200,
                {"type": "FeatureCollection", "features": [], "numberMatched": 12} if items is None else items,
                {"Last-Modified": "yesterday"},
            )
        if path.endswith("/schema"):
            return (404, {}, {}) if schema is False else (200, SCHEMA if schema is None else schema, {})
        return 200, change(json.loads(json.dumps(COLLECTION))), {}

    host.respond = respond
    with Connection(host.address) as there:
        return features.describe(there, "beds")


def test_what_a_service_tells_of_a_dataset(host: Host) -> None:
    told = described(host)
    assert (told.title, told.count, told.extent, told.updated) == ("Beds", 12, (-27, 46, -26, 47), "2031-09-03T06:40:00Z")
    assert told.fields == {"ha": {"type": "number"}}  # what holds the geometry is no field


@pytest.mark.parametrize(
    ("change", "items", "schema", "expected"),
    [
        (lambda c: c, {"type": "FeatureCollection", "features": []}, None, {"count": None}),
        (lambda c: {**c, "links": []}, None, None, {"fields": None}),
        (lambda c: {**c, "links": None, "extent": None, "title": None}, None, None, {"fields": None, "extent": None, "title": "beds"}),
        (lambda c: c, None, False, {"fields": None}),
        (lambda c: c, None, [], {"fields": None}),
        (lambda c: c, None, {"properties": []}, {"fields": None}),
        (lambda c: {**c, "updated": None}, None, None, {"updated": "yesterday"}),
        (lambda c: {**c, "links": [{**c["links"][0], "href": "http://elsewhere.example/schema"}]}, None, None, {"fields": None}),
        (lambda c: {**c, "extent": {"spatial": {"bbox": [[1, 2]]}}}, None, None, {"extent": None}),
    ],
)
def test_what_it_does_not_tell_is_not_known(host: Host, change: Any, items: Any, schema: Any, expected: dict[str, Any]) -> None:
    told = described(host, change, items, schema)
    assert {n: getattr(told, n) for n in expected} == expected


def test_the_id_of_what_was_made_is_found_where_the_service_says_it(host: Host) -> None:
    """20-002: the place of a new feature is in the head; some services say it in the body."""
    assert changing._id_of(Answer(201, b"", {"location": "http://x/collections/b/items/a%20b/"})) == "a b"
    assert changing._id_of(Answer(201, b'{"id": 7}')) == "7" and changing._id_of(Answer(201, b"<ok/>")) == ""


@pytest.mark.parametrize(("status", "allow", "found"), [(200, "GET, POST", True), (204, "GET", False), (200, "", None), (405, "GET", None)])
def test_whether_changes_are_taken(host: Host, status: int, allow: str, found: bool | None) -> None:
    host.respond = lambda method, path, number: (status, b"", {"Allow": allow} if allow else {})
    with Connection(host.address) as there:
        assert changing.takes_changes(there, "beds") is found
    with Connection("http://127.0.0.1:9") as nowhere:
        assert changing.takes_changes(nowhere, "beds") is None
        with pytest.raises(LostError):
            nowhere.once("GET", nowhere.below("x"))
