"""What the practice server says of itself, as the standard lays it out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from eskret.practice_server.asking import LIMIT, MOST
from eskret.practice_server.storage import StoredDataset

JSON, HTML, GEOJSON = "application/json", "text/html", "application/geo+json"
OPENAPI = "application/vnd.oai.openapi+json;version=3.0"
SCHEMA = "application/schema+json"
MERGE = "application/merge-patch+json"
CRS84 = "http://www.opengis.net/def/crs/OGC/1.3/CRS84"
CRS84H = "http://www.opengis.net/def/crs/OGC/0/CRS84h"
TITLE = "Practice server"
SUMMARY = "A stand-in for a service that publishes datasets. It runs on this machine alone."

_FEATURES = "http://www.opengis.net/spec/ogcapi-features-"
CONFORMS = (
    *(f"{_FEATURES}1/1.0/conf/{part}" for part in ("core", "geojson", "html", "oas30")),
    *(f"{_FEATURES}4/1.0/conf/{part}" for part in ("create-replace-delete", "update", "optimistic-locking", "features")),
    f"{_FEATURES}5/1.0/conf/schemas",
)
"""Conformance classes; those of Part 4 and Part 5 are named from memory of their drafts."""


def link(href: str, rel: str, type: str, title: str = "") -> dict[str, str]:
    """A link as RFC 8288 and the standard have it."""
    return {"href": href, "rel": rel, "type": type, **({"title": title} if title else {})}


def both(href: str, form: str, rel: str = "self", json: str = JSON) -> list[dict[str, str]]:
    """Links to a resource in the form it is seen in, and in the other."""
    ways = {"json": json, "html": HTML}
    other = "html" if form == "json" else "json"
    join = "&" if "?" in href else "?"
    return [
        link(f"{href}{join}f={form}", rel, ways[form], "This document"),
        link(f"{href}{join}f={other}", "alternate", ways[other], f"This document as {other.upper()}"),
    ]


def landing(home: str, form: str) -> dict[str, object]:
    """The landing page (17-069r4, requirement 2)."""
    return {
        "title": TITLE,
        "description": SUMMARY,
        "links": [
            *both(f"{home}/", form),
            link(f"{home}/api", "service-desc", OPENAPI, "The interface in OpenAPI"),
            link(f"{home}/api?f=html", "service-doc", HTML, "The interface, to read"),
            link(f"{home}/conformance", "conformance", JSON, "What of the standard is kept"),
            link(f"{home}/collections", "data", JSON, "The datasets"),
        ],
    }


def conformance(home: str, form: str) -> dict[str, object]:
    """The conformance classes (requirement 6)."""
    return {"conformsTo": list(CONFORMS), "links": both(f"{home}/conformance", form)}


def collections(home: str, form: str, found: Sequence[dict[str, object]]) -> dict[str, object]:
    """The list of datasets (requirements 13 to 15)."""
    return {"links": both(f"{home}/collections", form), "collections": list(found)}


def collection(home: str, dataset: StoredDataset, form: str, box: Sequence[float] | None, span: Sequence[str | None]) -> dict[str, Any]:
    """A dataset's description (requirements 15 to 18)."""
    at = f"{home}/collections/{dataset.name}"
    extent: dict[str, Any] = {}
    if box is not None:
        extent["spatial"] = {"bbox": [list(box)], "crs": CRS84}
    if any(span):
        extent["temporal"] = {"interval": [[None if t is None else f"{t[:19]}Z" for t in span]]}
    return {
        "id": dataset.name,
        "title": dataset.title,
        "description": dataset.description,
        "itemType": "feature",
        "crs": [CRS84],
        **({"extent": extent} if extent else {}),
        "updated": dataset.updated,
        "links": [
            *both(at, form),
            link(f"{at}/items", "items", GEOJSON, dataset.title),
            link(f"{at}/items?f=html", "items", HTML, dataset.title),
            link(f"{at}/schema", "http://www.opengis.net/def/rel/ogc/1.0/schema", SCHEMA, "The fields"),
        ],
    }


def schema(home: str, dataset: StoredDataset) -> dict[str, object]:
    """The schema of a dataset's features (20-002 and 23-058r1, Part 5)."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": f"{home}/collections/{dataset.name}/schema",
        "type": "object",
        "title": dataset.title,
        "properties": {"geometry": {"x-ogc-role": "primary-geometry", "format": "geometry-any"}, **dataset.properties},
    }


def openapi(home: str, datasets: Sequence[StoredDataset]) -> dict[str, object]:
    """The definition of the interface in OpenAPI 3.0 (requirement class oas30)."""
    paths: dict[str, object] = {
        "/": {"get": _get("landing", "The landing page", JSON)},
        "/conformance": {"get": _get("conformance", "The conformance classes", JSON)},
        "/collections": {"get": _get("collections", "The datasets", JSON), "post": _change("make", "Make a dataset", JSON, "201")},
    }
    for one in datasets:
        at = f"/collections/{one.name}"
        paths[at] = {"get": _get(f"{one.name}.describe", one.title, JSON)}
        paths[f"{at}/schema"] = {"get": _get(f"{one.name}.schema", "The fields", SCHEMA)}
        known = [_parameter(n) for n in ("limit", "after", "bbox", "datetime")]
        own = [
            {
                "name": n,
                "in": "query",
                "required": False,
                "style": "form",
                "explode": False,
                "schema": {"type": s["type"] if s["type"] not in ("array", "object") else "string"},
            }
            for n, s in one.properties.items()
        ]
        paths[f"{at}/items"] = {
            "get": {**_get(f"{one.name}.items", f"Features of {one.title}", GEOJSON), "parameters": known + own},
            "post": _change(f"{one.name}.create", "Add a feature", GEOJSON, "201"),
        }
        number = {"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}
        paths[f"{at}/items/{{id}}"] = {
            "parameters": [number],
            "get": _get(f"{one.name}.item", "A feature", GEOJSON),
            "put": _change(f"{one.name}.replace", "Replace a feature", GEOJSON, "204", True),
            "patch": _change(f"{one.name}.update", "Change parts of a feature", MERGE, "204", True),
            "delete": _change(f"{one.name}.remove", "Take a feature out", "", "204", True),
        }
    return {
        "openapi": "3.0.3",
        "info": {"title": TITLE, "description": SUMMARY, "version": "1"},
        "servers": [{"url": home}],
        "paths": paths,
        "components": {
            "parameters": _PARAMETERS,
            "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}},
            "schemas": {
                "problem": {
                    "type": "object",
                    "required": ["code"],
                    "properties": {"code": {"type": "string"}, "description": {"type": "string"}},
                }
            },
        },
    }


_PARAMETERS: dict[str, object] = {
    "limit": {
        "name": "limit",
        "in": "query",
        "required": False,
        "style": "form",
        "explode": False,
        "description": "How many features a page has at most",
        "schema": {"type": "integer", "minimum": 1, "maximum": MOST, "default": LIMIT},
    },
    "after": {
        "name": "after",
        "in": "query",
        "required": False,
        "style": "form",
        "explode": False,
        "description": "Begin behind the feature with this number",
        "schema": {"type": "integer", "minimum": 0},
    },
    "bbox": {
        "name": "bbox",
        "in": "query",
        "required": False,
        "style": "form",
        "explode": False,
        "description": "West, south, east, north in degrees",
        "schema": {"type": "array", "oneOf": [{"minItems": 4, "maxItems": 4}, {"minItems": 6, "maxItems": 6}], "items": {"type": "number"}},
    },
    "datetime": {
        "name": "datetime",
        "in": "query",
        "required": False,
        "style": "form",
        "explode": False,
        "description": "A time, or two with a slash between",
        "schema": {"type": "string"},
    },
}


def _parameter(name: str) -> dict[str, str]:
    return {"$ref": f"#/components/parameters/{name}"}


def _answers(status: str, type: str) -> dict[str, object]:
    content = {"content": {type: {"schema": {"type": "object"}}}} if type else {}
    wrong = {"description": "What is wrong", "content": {JSON: {"schema": {"$ref": "#/components/schemas/problem"}}}}
    return {status: {"description": "Done", **content}, "default": wrong}


def _get(id: str, summary: str, type: str) -> dict[str, object]:
    return {"operationId": id, "summary": summary, "responses": _answers("200", type)}


def _change(id: str, summary: str, takes: str, status: str, locks: bool = False) -> dict[str, object]:
    out: dict[str, Any] = {"operationId": id, "summary": summary, "responses": _answers(status, ""), "security": [{"token": []}]}
    if takes:
        out["requestBody"] = {"required": True, "content": {takes: {"schema": {"type": "object"}}}}
    if locks:
        out["parameters"] = [{"name": "If-Match", "in": "header", "required": False, "schema": {"type": "string"}}]
    return out
