"""Change a published dataset feature by feature (OGC API - Features, Part 4), so that no request does harm if its answer is lost.

A change is sent only where the feature is still as it was seen: it is read first, and the change carries its ``ETag`` where
the service gives one. Where no answer comes, what is there decides whether the change was carried out; a feature is never
added a second time unseen.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

import orjson

from eskret.errors import ServiceError
from eskret.services import features, likeness
from eskret.services.connection import PASSING, Answer, Connection, LostError, refused, silent

TRIES = 6
_GEOJSON = {"Content-Type": "application/geo+json"}
Feature = Mapping[str, Any]


@dataclass(frozen=True)
class FeatureChange:
    """What is to become of one feature: ``before`` is what was seen (None where it is new), ``wanted`` what it shall be (None
    where it shall go). ``id`` is the service's, where it is known; ``twins`` how many features just like it there are besides."""

    before: Feature | None
    wanted: Feature | None
    id: str = ""
    twins: int = 0


@dataclass(frozen=True)
class Done:
    """What became of it. ``theirs`` is what somebody else made of it, where that is neither; then nothing was sent."""

    id: str
    conflict: bool = False
    theirs: Feature | None = None


class FeatureEditor:
    """Sends changes to one dataset. May be used by several threads.

    Parameters
    ----------
    decimals : of coordinates; two that are the same when rounded are the same.
    own : the fields that these changes are about. Others stay as they are there when a feature is replaced.
    """

    def __init__(self, there: Connection, dataset: str, decimals: int, own: likeness.Fields = None) -> None:
        self._there = there
        self._dataset = dataset
        self._decimals = decimals
        self._own = own
        self._home = features.items_of(there, dataset)

    def carry_out(self, change: FeatureChange) -> Done:
        """Send a change until it is known what became of it.

        Raises
        ------
        ServiceError : the service refuses it, or does not answer.
        """
        if change.before is None:
            assert change.wanted is not None
            return self._create(change.wanted, change.twins)
        return self._change(change)

    def _same(self, a: Feature | None, b: Feature | None) -> bool:
        return likeness.same(a, b, self._decimals, self._own)

    def _create(self, wanted: Feature, twins: int = 0) -> Done:
        body = orjson.dumps(wanted)
        for attempt in range(1, TRIES + 1):
            answer = self._try("POST", self._home, body, _GEOJSON)
            if answer is not None and answer.status in (200, 201, 202, 204):
                return Done(_id_of(answer))
            if answer is not None and answer.status not in PASSING:
                raise refused(self._home, answer)
            # it may have been carried out all the same: look before sending it again
            there = self._made(wanted, twins)
            if there is not None:
                return Done(there)
            if attempt == TRIES:
                raise silent(self._home, "no answer") if answer is None else refused(self._home, answer)
            self._there.pause(attempt, _wait(answer))
        raise AssertionError("the last try answers or raises")

    def _made(self, wanted: Feature, twins: int) -> str | None:
        """The id of a feature just like this one at its place, where there are more of them than known before."""
        box = likeness.box_of(wanted)
        around = 10.0**-self._decimals
        asked = (box[0] - around, box[1] - around, box[2] + around, box[3] + around) if box else ()
        near = features.read_items(self._there, self._dataset, box=asked).features
        like = [str(one.get("id", "")) for one in near if self._same(one, wanted)]
        return like[-1] if len(like) > twins else None

    def _change(self, change: FeatureChange) -> Done:
        url = f"{self._home}/{quote(change.id, safe='')}"
        for attempt in range(1, TRIES + 1):
            now = self._there.get(url, missing=True)
            present = now.json() if now.status == 200 else None
            if self._same(present, change.wanted):
                return Done(change.id)
            if present is None or not self._same(present, change.before):
                return Done(change.id, True, present)
            match = {"If-Match": now.headers["etag"]} if "etag" in now.headers else {}
            if change.wanted is None:
                answer = self._try("DELETE", url, None, match)
            else:
                answer = self._try("PUT", url, orjson.dumps(self._whole(change.wanted, present)), {**_GEOJSON, **match})
            if answer is not None and answer.status in (200, 202, 204):
                return Done(change.id)
            if answer is not None and answer.status not in (*PASSING, 404, 409, 410, 412):
                raise refused(url, answer)
            if attempt == TRIES:
                raise silent(url, "no answer") if answer is None else refused(url, answer)
            if answer is None or answer.status in PASSING:
                self._there.pause(attempt, _wait(answer))
        raise AssertionError("the last try answers or raises")

    def _whole(self, wanted: Feature, present: Feature) -> Feature:
        """What is sent in place of a feature: what it shall be, and what nobody asked to change."""
        if self._own is None:
            return wanted
        own = {n: v for n, v in (wanted.get("properties") or {}).items() if n in self._own}
        others = {n: v for n, v in (present.get("properties") or {}).items() if n not in self._own}
        return {"type": "Feature", "geometry": wanted.get("geometry"), "properties": {**others, **own}}

    def _try(self, method: str, url: str, body: bytes | None, headers: Mapping[str, str]) -> Answer | None:
        try:
            return self._there.once(method, url, body=body, headers=headers)
        except LostError:
            return None


def make_dataset(there: Connection, id: str, title: str, description: str, fields: Mapping[str, Any]) -> None:
    """Make a dataset, where a service lets one (Part 4 on the resource of collections).

    Raises
    ------
    ServiceError : it does not.
    """
    url = there.below("collections")
    body = orjson.dumps({"id": id, "title": title, "description": description, "itemType": "feature", "properties": fields})
    answer: Answer | None = None
    for attempt in range(1, TRIES + 1):
        try:
            answer = there.once("POST", url, body=body, headers={"Content-Type": "application/json"})
        except LostError:
            answer = None
        if answer is not None and answer.status in (200, 201, 202, 204):
            return
        if answer is not None and answer.status not in (*PASSING, 409):
            raise refused(url, answer)
        if there.get(features.collection_of(there, id), missing=True).status == 200:
            return
        there.pause(attempt, _wait(answer))
    raise silent(url, "no answer") if answer is None else refused(url, answer)


def drop_dataset(there: Connection, id: str) -> bool:
    """Take a dataset without features away again; whether that could be done."""
    url = features.collection_of(there, id)
    for attempt in range(1, TRIES + 1):
        try:
            answer = there.once("DELETE", url)
        except LostError:
            there.pause(attempt)
            continue
        if answer.status in PASSING:
            there.pause(attempt, _wait(answer))
            continue
        return answer.status in (200, 202, 204, 404, 410)
    return False


def takes_changes(there: Connection, dataset: str) -> bool | None:
    """Whether a service says that features can be added; None where it does not say."""
    try:
        answer = there.once("OPTIONS", features.items_of(there, dataset))
    except (LostError, ServiceError):
        return None
    allowed = answer.headers.get("allow", "")
    return "POST" in allowed.upper() if answer.status < 300 and allowed else None


def _id_of(answer: Answer) -> str:
    """The id of what was made: the end of its address, or as the body has it."""
    from urllib.parse import unquote, urlsplit

    place = answer.headers.get("location", "")
    if place:
        return unquote(urlsplit(place).path.rstrip("/").rsplit("/", 1)[-1])
    try:
        told = orjson.loads(answer.body)
    except orjson.JSONDecodeError:
        return ""
    return str(told.get("id", "")) if isinstance(told, dict) else ""


def _wait(answer: Answer | None) -> str:
    return answer.headers.get("retry-after", "") if answer is not None else ""
