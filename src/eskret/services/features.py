"""Read a published dataset of an OGC API - Features service (17-069r4, Part 1: Core), page by page.

Time-outs are short, a request that may be repeated is, with growing pauses, and what a service answers is not trusted:
it is bounded in size, and a next page on another host is not followed.
"""

from __future__ import annotations

import json
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urljoin, urlsplit, urlunsplit

from eskret.errors import InputError
from eskret.formats.reading import Watch, no_watch

PAGE = 1000
TIMEOUT = 30.0
TRIES = 4
PAUSE = 0.5
MOST_BYTES = 512 << 20
"""An answer longer than this is not read to its end."""


@dataclass(frozen=True)
class Dataset:
    """A published dataset: its id, title, and extent in degrees where it is told."""

    id: str
    title: str
    extent: tuple[float, float, float, float] | None = None


@dataclass(frozen=True)
class Items:
    """Features as they came (GeoJSON), and how many the service says there are; None where it does not say."""

    features: list[Mapping[str, Any]] = field(default_factory=list)
    matched: int | None = None


def datasets(address: str, token: str = "") -> list[Dataset]:
    """The datasets that a service publishes.

    Raises
    ------
    InputError : it does not answer, or not as the standard has it.
    """
    with _client(token) as client:
        found = _get(client, _below(address, "collections"), {})
    listed = found.get("collections")
    if not isinstance(listed, list):
        raise _nonsense(address, "it lists no collections")
    out = []
    for one in listed:
        if isinstance(one, dict) and isinstance(one.get("id"), str):
            box = (
                one.get("extent", {}).get("spatial", {}).get("bbox", [[]])[0]
                if isinstance(one.get("extent"), dict)
                else []
            )
            extent = (float(box[0]), float(box[1]), float(box[2]), float(box[3])) if len(box) == 4 else None
            out.append(Dataset(one["id"], str(one.get("title") or one["id"]), extent))
    return out


def items(
    address: str, dataset: str, *, box: Sequence[float] = (), where: Mapping[str, str] | None = None, token: str = "",
    most: int | None = None, watch: Watch = no_watch,
) -> Items:  # fmt: skip
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
    InputError : as ``datasets``; also where fewer or more features came than the service counts.
    """
    params: dict[str, Any] = {"limit": min(PAGE, most or PAGE), "f": "json", **(where or {})}
    if box:
        params["bbox"] = ",".join(f"{v:.9g}" for v in box)
    home = _below(address, f"collections/{dataset}/items")
    found: list[Mapping[str, Any]] = []
    matched: int | None = None
    seen: set[str] = set()
    url: str | None = home
    with _client(token) as client:
        while url is not None:
            page = _get(client, url, params if url == home else {})
            features = page.get("features")
            if page.get("type") != "FeatureCollection" or not isinstance(features, list):
                raise _nonsense(url, "it sends no collection of features")
            found += features
            if isinstance(page.get("numberMatched"), int):
                matched = page["numberMatched"]
            watch(len(found), matched or 0)
            seen.add(url)
            url = _next(page, url, features)
            if url in seen:
                raise _nonsense(url or home, "its pages go in a circle")
            if most is not None and len(found) >= most:
                return Items(found[:most], matched)
    if matched is not None and matched != len(found):
        raise InputError(
            f"it counts {matched:,} features that match, and {len(found):,} came", place=home,
            way_out="Somebody may have changed the dataset meanwhile; run again",
        )  # fmt: skip
    return Items(found, matched)


def _client(token: str) -> Any:
    import httpx

    headers = {"Accept": "application/geo+json, application/json"}
    if token:
        headers["Authorization"] = f"Bearer {token}"
    return httpx.Client(timeout=TIMEOUT, headers=headers, follow_redirects=False)


def _below(address: str, path: str) -> str:
    parts = urlsplit(address.strip())
    if parts.scheme not in ("http", "https") or not parts.netloc:
        raise InputError("this is no address of a service", place=address, way_out="It begins with https:// or http://")
    return urlunsplit((parts.scheme, parts.netloc, f"{parts.path.rstrip('/')}/{path}", "", ""))


def _next(page: Mapping[str, Any], url: str, features: Sequence[Any]) -> str | None:
    """The address of the next page; none where this is the last, or where it leads to another host."""
    links = page.get("links")
    for link in links if isinstance(links, list) else ():
        if isinstance(link, dict) and link.get("rel") == "next" and isinstance(link.get("href"), str):
            target = urljoin(url, link["href"])
            if urlsplit(target).netloc != urlsplit(url).netloc or urlsplit(target).scheme != urlsplit(url).scheme:
                raise _nonsense(url, "its next page lies on another host")
            return target if features else None
    return None


def _get(client: Any, url: str, params: Mapping[str, Any]) -> dict[str, Any]:
    """One answer; what may pass is tried again, as the service says or after growing pauses."""
    import httpx

    for attempt in range(1, TRIES + 1):
        pause = PAUSE * 2 ** (attempt - 1)
        try:
            with client.stream("GET", url, params=params or None) as answer:  # none: the address has its own
                if answer.status_code in (429, 500, 502, 503, 504) and attempt < TRIES:
                    told = answer.headers.get("Retry-After", "")
                    time.sleep(min(float(told), 30.0) if told.replace(".", "", 1).isdigit() else pause)
                    continue
                if answer.status_code != 200:
                    raise _refused(url, answer.status_code)
                body = bytearray()
                for piece in answer.iter_bytes():
                    body += piece
                    if len(body) > MOST_BYTES:
                        raise _nonsense(url, f"its answer is longer than {MOST_BYTES >> 20} MB")
        except (httpx.TransportError, httpx.DecodingError) as error:
            if attempt < TRIES:
                time.sleep(pause)
                continue
            raise InputError(
                f"the service does not answer ({type(error).__name__})", place=url,
                way_out="Check the address and the connection, then run again",
            ) from error  # fmt: skip
        try:
            found = json.loads(body)
        except (json.JSONDecodeError, UnicodeDecodeError) as error:
            raise _nonsense(url, "its answer is no JSON") from error
        if not isinstance(found, dict):
            raise _nonsense(url, "its answer is no JSON object")
        return found
    raise AssertionError("the last try answers or raises")


def _refused(url: str, status: int) -> InputError:
    words = {
        401: ("it wants to know who you are", "Give the name of an environment variable with a token for it"),
        403: ("you may not read this", "Ask whoever runs the service"), 404: ("there is no such dataset", "Check its name"),
        429: ("it is asked too often", "Wait a while and run again"),
    }  # fmt: skip
    problem, way_out = words.get(
        status, (f"it answers with status {status}", "Try later, or ask whoever runs the service")
    )
    return InputError(problem, place=url, way_out=way_out)


def _nonsense(url: str, problem: str) -> InputError:
    return InputError(problem, place=url, way_out="Check that the address is that of an OGC API - Features service")
