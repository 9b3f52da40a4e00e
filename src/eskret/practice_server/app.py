"""The practice server's answers: one function a resource."""

from __future__ import annotations

import hmac
import re
from collections.abc import Awaitable, Callable, Mapping
from typing import Any
from urllib.parse import urlencode

import orjson
import shapely
from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from eskret.practice_server import documents, pages
from eskret.practice_server.asking import BadRequestError, asked
from eskret.practice_server.faults import Faults, FaultyApp
from eskret.practice_server.storage import Storage, StoredDataset, StoredItem, schema_of

MOST_BYTES = 64 << 20
"""A request with a longer body is refused (413)."""
MOST_DEEP = 64
"""Lists and objects of a geometry stand in each other no deeper than this; a multipolygon in a collection takes six."""
_NAME = re.compile(r"[A-Za-z0-9_\-.]{1,120}")
_SAFE = {"Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'", "X-Content-Type-Options": "nosniff"}
_LOCAL = ("127.0.0.1", "localhost", "[::1]")
Answer = Callable[[Request], Awaitable[Response]]


class Service:
    """All resources over one storage.

    Parameters
    ----------
    token : must come as a bearer token with every change, where it is not empty.
    private : must come with every request.
    """

    def __init__(self, storage: Storage, token: str = "", private: bool = False, faults: Faults | None = None) -> None:
        self._storage = storage
        self._token = token
        self._private = private
        at = "/collections/{name}"
        routes = [
            self._route("/", self.landing),
            self._route("/conformance", self.conformance),
            self._route("/api", self.interface),
            self._route("/collections", self.collections, POST=self.make),
            self._route(at, self.collection, DELETE=self.drop),
            self._route(f"{at}/schema", self.schema),
            self._route(f"{at}/items", self.items, POST=self.create),
            self._route(f"{at}/items/{{id}}", self.item, PUT=self.replace, PATCH=self.update, DELETE=self.remove),
            self._route("/practice/faults", self.told_faults, PUT=self.set_faults),
        ]
        self.faulty = FaultyApp(Starlette(routes=routes, exception_handlers={HTTPException: self._lost}), faults)

    # -- around every request

    def _route(self, path: str, read: Answer, **changes: Answer) -> Route:
        ways = {"GET": read, "HEAD": read, **changes}
        allowed = ", ".join([*ways, "OPTIONS"])

        async def answer(request: Request) -> Response:
            way = request.method
            try:
                self._check_host(request)
                if way == "OPTIONS":
                    return Response(status_code=200, headers={"Allow": allowed, **_patches(ways)})
                if way not in ways:
                    raise BadRequestError(f"{way} is not possible here; {allowed} are", 405)
                if self._private or way in changes:
                    self._check_token(request)
                return await ways[way](request)
            except BadRequestError as error:
                more = {"WWW-Authenticate": "Bearer"} if error.status == 401 else {}
                more |= {"Allow": allowed} if error.status == 405 else {}
                return _problem(request, error.status, error.says, more)

        return Route(path, answer, methods=["GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE"])

    async def _lost(self, request: Request, error: Exception) -> Response:
        return _problem(request, getattr(error, "status_code", 500), "there is nothing at this address")

    def _check_host(self, request: Request) -> None:
        """Answer only to names of this machine, so that a page from elsewhere cannot reach in under a name of its own."""
        host = request.headers.get("host", "").rsplit(":", 1)[0]
        if host not in _LOCAL:
            raise BadRequestError("this server answers on this machine only", 403)

    def _check_token(self, request: Request) -> None:
        given = request.headers.get("authorization", "")
        if self._token and not hmac.compare_digest(given.encode(), f"Bearer {self._token}".encode()):
            raise BadRequestError("the token is missing or is not the right one", 401)

    def _dataset(self, request: Request) -> StoredDataset:
        found = self._storage.dataset(request.path_params["name"])
        if found is None:
            raise BadRequestError(f"there is no dataset '{request.path_params['name']}'", 404)
        return found

    def _item(self, request: Request, dataset: StoredDataset) -> StoredItem:
        id = request.path_params["id"]
        plain = id.isascii() and id.isdigit() and len(id) < 19
        found = self._storage.item(dataset.name, int(id)) if plain else None
        if found is None:
            raise BadRequestError(f"there is no feature '{id}' in '{dataset.name}'", 404)
        return found

    # -- reading

    async def landing(self, request: Request) -> Response:
        form, home = _form(request), _home(request)
        return _html(pages.landing(home)) if form == "html" else _json(documents.landing(home, form))

    async def conformance(self, request: Request) -> Response:
        form, home = _form(request), _home(request)
        if form == "html":
            return _html(pages.conformance(home, documents.CONFORMS))
        return _json(documents.conformance(home, form))

    async def interface(self, request: Request) -> Response:
        form, home = _form(request), _home(request)
        told = documents.openapi(home, self._storage.datasets())
        return _html(pages.interface(home, told)) if form == "html" else _json(told, documents.OPENAPI)

    async def collections(self, request: Request) -> Response:
        form, home = _form(request), _home(request)
        found = [(self._told(home, d, form), self._storage.count(d.name, _ALL)) for d in self._storage.datasets()]
        if form == "html":
            return _html(pages.collections(home, found))
        return _json(documents.collections(home, form, [told for told, _ in found]))

    async def collection(self, request: Request) -> Response:
        form, home = _form(request), _home(request)
        dataset = self._dataset(request)
        told = self._told(home, dataset, form)
        if form == "html":
            return _html(pages.collection(home, told, self._storage.count(dataset.name, _ALL), dataset.properties))
        return _json(told)

    def _told(self, home: str, dataset: StoredDataset, form: str) -> dict[str, Any]:
        return documents.collection(home, dataset, form, *self._storage.extent(dataset.name))

    async def schema(self, request: Request) -> Response:
        _form(request)
        return _json(documents.schema(_home(request), self._dataset(request)), documents.SCHEMA)

    async def items(self, request: Request) -> Response:
        dataset = self._dataset(request)
        what = asked(request.query_params.multi_items(), dataset)
        form, home = what.form or _preferred(request), _home(request)
        found = self._storage.page(dataset.name, what.wanted, what.after, what.limit + 1)
        matched = self._storage.count(dataset.name, what.wanted)
        page, more = found[: what.limit], len(found) > what.limit
        at = f"{home}/collections/{dataset.name}/items"

        def address(after: int | None) -> str:
            words = [*what.rest, ("limit", str(what.limit)), *([("after", str(after))] if after else [])]
            return f"{at}?{urlencode(words)}"

        links = documents.both(address(what.after), form, json=documents.GEOJSON)
        if what.after:
            links.append(documents.link(f"{address(None)}&f={form}", "first", documents.GEOJSON))
        if more:
            links.append(documents.link(f"{address(page[-1].id)}&f={form}", "next", documents.GEOJSON))
        links.append(documents.link(f"{home}/collections/{dataset.name}", "collection", documents.JSON))
        head = {
            "type": "FeatureCollection",
            "links": links,
            "numberMatched": matched,
            "numberReturned": len(page),
            "timeStamp": dataset.updated,
        }
        if form == "html":
            features = [orjson.loads(i.text()) for i in page]
            return _html(pages.items(home, dataset.name, dataset.title, {**head, "features": features}, [*dataset.properties]))
        body = orjson.dumps(head)[:-1] + b',"features":[' + b",".join(i.text() for i in page) + b"]}"
        return Response(body, media_type=documents.GEOJSON, headers=_SAFE)

    async def item(self, request: Request) -> Response:
        form, home = _form(request), _home(request)
        dataset = self._dataset(request)
        found = self._item(request, dataset)
        at = f"{home}/collections/{dataset.name}/items/{found.id}"
        if form == "html":
            told = orjson.loads(found.text())
            return _html(pages.item(home, told, orjson.dumps(told["geometry"]).decode()))
        links = [
            *documents.both(at, form, json=documents.GEOJSON),
            documents.link(f"{home}/collections/{dataset.name}", "collection", documents.JSON),
        ]
        heads = {"ETag": found.etag, **_SAFE}
        return Response(found.text(orjson.dumps(links)), media_type=documents.GEOJSON, headers=heads)

    # -- changing

    async def make(self, request: Request) -> Response:
        told = await _body(request, (documents.JSON,))
        name = told.get("id")
        if not isinstance(name, str) or not _NAME.fullmatch(name):
            raise BadRequestError("a dataset needs an 'id' of letters, digits, '_', '-' and '.'")
        if self._storage.dataset(name) is not None:
            raise BadRequestError(f"the dataset '{name}' is there already", 409)
        fields = told.get("properties") or {}
        if not isinstance(fields, dict) or not all(isinstance(s, dict) and s.get("type") for s in fields.values()):
            raise BadRequestError("'properties' must be JSON schemas by name")
        words = [told.get(w) or "" for w in ("title", "description")]
        if not all(isinstance(w, str) for w in words):
            raise BadRequestError("'title' and 'description' are texts")
        self._storage.make(StoredDataset(name, words[0] or name, words[1], fields))
        return Response(status_code=201, headers={"Location": f"{_home(request)}/collections/{name}"})

    async def drop(self, request: Request) -> Response:
        dataset = self._dataset(request)
        if self._storage.count(dataset.name, _ALL):
            raise BadRequestError("only a dataset without features can be taken away", 409)
        self._storage.drop(dataset.name)
        return Response(status_code=204)

    async def create(self, request: Request) -> Response:
        dataset = self._dataset(request)
        feature = _feature(await _body(request, (documents.GEOJSON, documents.JSON)), dataset)
        made = self._storage.create(dataset, feature)
        at = f"{_home(request)}/collections/{dataset.name}/items/{made.id}"
        return Response(status_code=201, headers={"Location": at, "ETag": made.etag})

    async def replace(self, request: Request) -> Response:
        dataset = self._dataset(request)
        there = self._item(request, dataset)
        feature = _feature(await _body(request, (documents.GEOJSON, documents.JSON)), dataset)
        self._check_match(request, there)
        return self._put(dataset, there, feature)

    async def update(self, request: Request) -> Response:
        dataset = self._dataset(request)
        there = self._item(request, dataset)
        patch = await _body(request, (documents.MERGE, documents.JSON))
        self._check_match(request, there)
        feature = orjson.loads(there.text())
        if "geometry" in patch:
            # a geometry is changed as a whole: merged member by member, its parts would not fit each other
            feature["geometry"] = patch["geometry"]
        feature["properties"] = _merged(feature["properties"], patch.get("properties", {}))
        return self._put(dataset, there, _feature(feature, dataset))

    def _put(self, dataset: StoredDataset, there: StoredItem, feature: Mapping[str, Any]) -> Response:
        made = self._storage.replace(dataset, there.id, feature)
        return Response(status_code=204, headers={"ETag": made.etag})

    async def remove(self, request: Request) -> Response:
        dataset = self._dataset(request)
        there = self._item(request, dataset)
        self._check_match(request, there)
        self._storage.remove(dataset, there.id)
        return Response(status_code=204)

    def _check_match(self, request: Request, there: StoredItem) -> None:
        """Optimistic locking (RFC 9110, 13.1.1): a change meant for another version is refused."""
        wanted = request.headers.get("if-match")
        if wanted is not None and wanted.strip() != "*" and there.etag not in [w.strip() for w in wanted.split(",")]:
            raise BadRequestError("somebody changed this feature since you read it", 412)

    # -- faults for practice

    async def told_faults(self, request: Request) -> Response:
        return _json({**self.faulty.faults.__dict__, "requests": self.faulty.count})

    async def set_faults(self, request: Request) -> Response:
        try:
            self.faulty.set(Faults.told(await _body(request, (documents.JSON,))))
        except ValueError as error:
            raise BadRequestError(str(error)) from error
        return Response(status_code=204)


_ALL = asked([], StoredDataset("", "")).wanted


def _patches(ways: Mapping[str, Answer]) -> dict[str, str]:
    return {"Accept-Patch": documents.MERGE} if "PATCH" in ways else {}


def _home(request: Request) -> str:
    return str(request.base_url).rstrip("/")


def _preferred(request: Request) -> str:
    """The form that whoever asks likes best: a browser gets pages, everybody else JSON."""
    accept = request.headers.get("accept", "")
    places = {t: accept.find(t) for t in (documents.HTML, "json") if t in accept}
    return "html" if places and min(places, key=places.__getitem__) == documents.HTML else "json"


def _form(request: Request) -> str:
    """The form asked for, where that is the only word of the query."""
    for name, value in request.query_params.multi_items():
        if name != "f" or value not in ("json", "html"):
            raise BadRequestError(f"there is no parameter '{name}' here" if name != "f" else "'f' can be json or html")
    return request.query_params.get("f") or _preferred(request)


async def _body(request: Request, types: tuple[str, ...]) -> dict[str, Any]:
    kind = request.headers.get("content-type", "").split(";")[0].strip().lower()
    if kind not in types:
        raise BadRequestError(f"the body must be {' or '.join(types)}", 415)
    raw = bytearray()
    async for piece in request.stream():
        raw += piece
        if len(raw) > MOST_BYTES:
            raise BadRequestError(f"the body is longer than {MOST_BYTES >> 20} MB", 413)
    try:
        told = orjson.loads(raw)
    except orjson.JSONDecodeError as error:
        raise BadRequestError(f"the body is no JSON: {error}") from error
    if not isinstance(told, dict):
        raise BadRequestError("the body is no JSON object")
    return told


def _feature(told: Mapping[str, Any], dataset: StoredDataset) -> Mapping[str, Any]:
    """A feature as GeoJSON has it, whose values fit the fields.

    Raises
    ------
    BadRequestError : naming what does not.
    """
    if told.get("type") != "Feature" or "geometry" not in told:
        raise BadRequestError("this is no GeoJSON feature")
    held = told.get("properties")
    if held is not None and not isinstance(held, dict):
        raise BadRequestError("the 'properties' of a feature are an object")
    for name, value in (held or {}).items():
        known = dataset.properties.get(name, {}).get("type")
        if value is not None and known is not None and not _fits(schema_of(value)["type"], known):
            raise BadRequestError(f"'{name}' is of the type {known} here, and {value!r} is not")
    shape = told["geometry"]
    if shape is not None:
        if _depth(shape) > MOST_DEEP:
            raise BadRequestError(f"the 'geometry' of this feature is nested more than {MOST_DEEP} deep")
        read = shapely.from_geojson(orjson.dumps(shape), on_invalid="ignore") if isinstance(shape, dict) else None
        if read is None:
            raise BadRequestError("the 'geometry' of this feature cannot be understood")
    return told


def _depth(value: Any) -> int:
    """How deep lists and objects stand in each other, found without going deep itself."""
    depth, level = 0, [value]
    while level and depth <= MOST_DEEP:
        level = [
            x for v in level if isinstance(v, dict | list) for x in (v.values() if isinstance(v, dict) else v) if isinstance(x, dict | list)
        ]
        depth += 1
    return depth


def _fits(given: str, known: str | list[str]) -> bool:
    types = [known] if isinstance(known, str) else known
    return given in types or (given == "integer" and "number" in types)


def _merged(value: Any, patch: Any) -> Any:
    """A merge patch applied (RFC 7386): null takes a member out."""
    if not isinstance(patch, dict):
        return patch
    out = dict(value) if isinstance(value, dict) else {}
    for name, new in patch.items():
        if new is None:
            out.pop(name, None)
        else:
            out[name] = _merged(out.get(name), new)
    return out


def _json(told: Mapping[str, Any], type: str = documents.JSON) -> Response:
    return Response(orjson.dumps(told), media_type=type, headers=_SAFE)


def _html(page: str) -> Response:
    return Response(page, media_type=documents.HTML, headers=_SAFE)


def _problem(request: Request, status: int, says: str, more: Mapping[str, str] | None = None) -> Response:
    if request.query_params.get("f", _preferred(request)) == "html":
        body, type = pages.problem(_home(request), str(status), says).encode(), documents.HTML
    else:
        body, type = orjson.dumps({"code": str(status), "description": says}), documents.JSON
    return Response(body, status, headers={**_SAFE, **(more or {})}, media_type=type)
