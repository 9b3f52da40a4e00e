"""Read published datasets of an OGC API - Features service (17-069r4, Part 1: Core), page by page."""

from __future__ import annotations

import gc
from collections.abc import Generator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote

from eskret.core.words import pluralise
from eskret.errors import InputError, ServiceError
from eskret.formats.reading import Watch, no_watch
from eskret.services.connection import Answer, Connection, nonsense

PAGE = 5000
"""Features asked for at once; a service may send fewer."""
SCHEMA = "http://www.opengis.net/def/rel/ogc/1.0/schema"


@dataclass(frozen=True)
class PublishedDataset:
    """A published dataset. What the service does not tell is None, or empty.

    ``extent`` is west, south, east, north in degrees; ``fields`` are JSON schemas by name; ``updated`` a time as text.
    """

    id: str
    title: str
    extent: tuple[float, float, float, float] | None = None
    description: str = ""
    updated: str = ""
    count: int | None = None
    fields: Mapping[str, Mapping[str, Any]] | None = None


@dataclass(frozen=True)
class Items:
    """Features as they came (GeoJSON), and how many the service says there are; None where it does not say."""

    features: list[Mapping[str, Any]] = field(default_factory=list)
    matched: int | None = None


def datasets(address: str, token: str = "") -> list[PublishedDataset]:
    """The datasets that a service publishes.

    Raises
    ------
    ServiceError : it does not answer, or not as the standard has it.
    """
    with Connection(address, token) as there:
        url = there.below("collections")
        listed = there.get(url).json().get("collections")
    if not isinstance(listed, list):
        raise nonsense(url, "it lists no collections")
    return [_dataset(one) for one in listed if isinstance(one, dict) and isinstance(one.get("id"), str)]


def describe(there: Connection, id: str) -> PublishedDataset | None:
    """A dataset with its count and fields, as far as the service tells; None where there is no such dataset.

    Raises
    ------
    ServiceError : it does not answer, or not as the standard has it.
    """
    answer = there.get(collection_of(there, id), missing=True)
    if answer.status != 200:
        return None
    told = answer.json()
    first = there.get(items_of(there, id), {"limit": 1, "f": "json"})
    page = first.json()
    matched = page.get("numberMatched")
    base = _dataset({**told, "id": id})
    return PublishedDataset(
        base.id,
        base.title,
        base.extent,
        base.description,
        base.updated or first.headers.get("last-modified", ""),
        matched if isinstance(matched, int) else None,
        _fields(there, told, answer.url),
    )


def _fields(there: Connection, told: Mapping[str, Any], url: str) -> Mapping[str, Mapping[str, Any]] | None:
    """The properties by the schema that the service offers (OGC API - Features, Part 5), where it does."""
    for link in told.get("links") or ():
        if not isinstance(link, dict) or link.get("rel") != SCHEMA or "html" in str(link.get("type")):
            continue
        target = there.same_host(url, str(link.get("href")))
        if target is None:
            return None
        try:
            known = there.get(target).json().get("properties")
        except ServiceError:
            return None  # it is offered and cannot be had: not known
        if not isinstance(known, dict):
            return None
        return {
            n: s
            for n, s in known.items()
            if isinstance(s, dict) and "x-ogc-role" not in s and not str(s.get("format", "")).startswith("geometry")
        }
    return None


def _dataset(told: Mapping[str, Any]) -> PublishedDataset:
    space = told["extent"].get("spatial") if isinstance(told.get("extent"), dict) else None
    boxes = space.get("bbox") if isinstance(space, dict) else None
    box = boxes[0] if isinstance(boxes, list) and boxes and isinstance(boxes[0], list) else []
    extent = None
    if len(box) in (4, 6) and all(isinstance(v, int | float) for v in box):
        half = len(box) // 2
        extent = (float(box[0]), float(box[1]), float(box[half]), float(box[half + 1]))
    return PublishedDataset(
        told["id"], str(told.get("title") or told["id"]), extent, str(told.get("description") or ""), str(told.get("updated") or "")
    )


def collection_of(there: Connection, id: str) -> str:
    """The address of a dataset."""
    return there.below(f"collections/{quote(id, safe='')}")


def items_of(there: Connection, id: str) -> str:
    """The address of a dataset's features."""
    return f"{collection_of(there, id)}/items"


def items(
    address: str,
    dataset: str,
    *,
    box: Sequence[float] = (),
    where: Mapping[str, str] | None = None,
    token: str = "",
    most: int | None = None,
    watch: Watch = no_watch,
) -> Items:
    """All features of a dataset, in WGS 84 (longitude, latitude).

    Parameters
    ----------
    address : of the service's landing page.
    box : west, south, east, north in degrees, to ask only for what meets it.
    where : property filters of the standard (7.15.5): a property and the value it must have.
    most : stop after so many, for a look; None for all.
    watch : told of features read and of those matched (0 where unknown).

    Raises
    ------
    ServiceError : as ``datasets``.
    InputError : fewer or more features came than the service counts.
    """
    with Connection(address, token) as there:
        return read_items(there, dataset, box=box, where=where, most=most, watch=watch)


def read_items(
    there: Connection,
    dataset: str,
    *,
    box: Sequence[float] = (),
    where: Mapping[str, str] | None = None,
    most: int | None = None,
    watch: Watch = no_watch,
) -> Items:
    """As ``items``, over a connection that is open."""
    with _no_collection():
        return _pages(there, dataset, box, where, most, watch)


@contextmanager
def _no_collection() -> Generator[None, None, None]:
    """While this lasts, nobody looks for rings among the objects: in what was read from JSON there are none, and looking through
    millions of them again and again takes longer than reading."""
    before = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if before:
            gc.enable()


def _pages(there: Connection, dataset: str, box: Sequence[float], where: Mapping[str, str] | None, most: int | None, watch: Watch) -> Items:
    params: dict[str, Any] = {"limit": min(PAGE, most or PAGE), "f": "json", **(where or {})}
    if box:
        params["bbox"] = ",".join(f"{v:.9g}" for v in box)
    home = items_of(there, dataset)
    found: list[Mapping[str, Any]] = []
    matched: int | None = None
    seen: set[str] = set()
    url: str | None = home
    while url is not None:
        answer = there.get(url, params if url == home else None)
        page = answer.json()
        features = page.get("features")
        if page.get("type") != "FeatureCollection" or not isinstance(features, list):
            raise nonsense(url, "it sends no collection of features")
        found += [f for f in features if isinstance(f, dict)]
        if isinstance(page.get("numberMatched"), int):
            matched = page["numberMatched"]
        watch(len(found), matched or 0)
        seen.add(url)
        url = _next(there, page, answer)
        if url in seen:
            raise nonsense(url or home, "its pages go in a circle")
        if most is not None and len(found) >= most:
            return Items(found[:most], matched)
    if matched is not None and matched != len(found):
        raise InputError(
            f"it counts {pluralise(matched, 'feature that matches', 'features that match')}, and {len(found):,} came",
            place=home,
            way_out="Somebody may have changed the dataset meanwhile; run again",
        )
    return Items(found, matched)


def _next(there: Connection, page: Mapping[str, Any], answer: Answer) -> str | None:
    """The address of the next page; none where this is the last."""
    links = page.get("links")
    for link in links if isinstance(links, list) else ():
        if isinstance(link, dict) and link.get("rel") == "next" and isinstance(link.get("href"), str):
            target = there.same_host(answer.url, link["href"])
            if target is None:
                raise nonsense(answer.url, "its next page lies on another host")
            return target if page["features"] else None
    return None
