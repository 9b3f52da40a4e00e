"""Talk to a service over HTTP: short time-outs, bounded retries with growing pauses, answers bounded in size.

What a service answers is not trusted. Redirects are not followed, TLS is verified, and the token goes to the service's own
host alone.
"""

from __future__ import annotations

import re
import ssl
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import cache
from typing import Any
from urllib.parse import urljoin, urlsplit, urlunsplit

import orjson

from eskret.errors import ServiceError, StoppedError

TIMEOUT = 30.0
TRIES = 4
PAUSE = 0.5
LONGEST_PAUSE = 30.0
MOST_BYTES = 512 << 20
"""An answer longer than this is not read to its end."""
PASSING = (429, 500, 502, 503, 504)
"""Statuses that may pass: the request is tried again, as the service says or after a pause."""


@dataclass(frozen=True)
class Answer:
    """A whole answer. ``headers`` are by lower-case name."""

    status: int
    body: bytes = field(repr=False)
    headers: Mapping[str, str] = field(default_factory=dict)
    url: str = ""

    def json(self) -> dict[str, Any]:
        """The body as an object.

        Raises
        ------
        ServiceError : it is none.
        """
        try:
            found = orjson.loads(self.body)
        except orjson.JSONDecodeError as error:
            raise nonsense(self.url, "its answer is no JSON") from error
        if not isinstance(found, dict):
            raise nonsense(self.url, "its answer is no JSON object")
        return found


class LostError(Exception):
    """No answer came: whether the request was carried out is not known. ``why`` names the failure."""

    def __init__(self, why: str) -> None:
        self.why = why
        super().__init__(why)


@cache
def _trusted() -> ssl.SSLContext:
    """Who is trusted over TLS; made once, since it takes a while."""
    import httpx

    return httpx.create_ssl_context()


class Connection:
    """Requests to one service. May be used by several threads; a context manager.

    Parameters
    ----------
    address : of the landing page.
    token : sent as a bearer token where it is not empty.
    stopped : called before each request and in pauses; may raise StoppedError.

    Raises
    ------
    ServiceError : this is no address of a service.
    """

    def __init__(self, address: str, token: str = "", stopped: Callable[[], None] = lambda: None) -> None:
        import httpx

        try:
            parts = urlsplit(address.strip())
            sound = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
            httpx.URL(address.strip())
        except (ValueError, httpx.InvalidURL):
            sound = False
        if not sound:
            raise ServiceError("this is no address of a service", place=address, way_out="It begins with https:// or http://")
        self.home = urlunsplit((parts.scheme, parts.netloc, parts.path.rstrip("/"), "", ""))
        self._origin = (parts.scheme, parts.netloc)
        self._asked = stopped
        self._halted = threading.Event()
        headers = {"Accept": "application/geo+json, application/json"}
        token = token.strip()
        if not (token.isascii() and all("!" <= c <= "~" for c in token)):
            raise ServiceError("the token holds signs that no token has", place=self.home, way_out="Copy it again, it and nothing else")
        if token:
            headers["Authorization"] = f"Bearer {token}"
        verify = _trusted() if parts.scheme == "https" else False
        self._client = httpx.Client(timeout=TIMEOUT, headers=headers, follow_redirects=False, verify=verify)
        self._lost = (httpx.TransportError, httpx.DecodingError)

    def __enter__(self) -> Connection:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def halt(self) -> None:
        """Begin no request any more: those under way end, whoever waits for another hears that it was stopped."""
        self._halted.set()

    def _stopped(self) -> None:
        if self._halted.is_set():
            raise StoppedError
        self._asked()

    def below(self, path: str) -> str:
        """The address of something of the service."""
        return f"{self.home}/{path}"

    def same_host(self, base: str, href: str) -> str | None:
        """A link of an answer as an address; None where it leads to another host."""
        target = urljoin(base, href)
        parts = urlsplit(target)
        return target if (parts.scheme, parts.netloc) == self._origin else None

    def pause(self, attempt: int, told: str = "") -> None:
        """Wait before the next try: as long as the service says, or longer each time."""
        wait = seconds_told(told)
        until = time.monotonic() + min(PAUSE * 2 ** (attempt - 1) if wait is None else wait, LONGEST_PAUSE)
        while (left := until - time.monotonic()) > 0:
            self._stopped()
            time.sleep(min(left, 0.1))

    def once(
        self,
        method: str,
        url: str,
        *,
        params: Mapping[str, Any] | None = None,
        body: bytes | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> Answer:
        """One request, not repeated.

        Raises
        ------
        LostError : no whole answer came.
        ServiceError : the answer is too long.
        """
        self._stopped()
        try:
            with self._client.stream(
                method, url, params=params or None, content=body, headers=dict(headers or {})
            ) as answer:  # no params: the address has its own
                read = bytearray()
                for piece in answer.iter_bytes():
                    read += piece
                    if len(read) > MOST_BYTES:
                        raise nonsense(url, f"its answer is longer than {MOST_BYTES >> 20} MB")
                return Answer(answer.status_code, bytes(read), {k.lower(): v for k, v in answer.headers.items()}, url)
        except self._lost as error:
            raise LostError(type(error).__name__) from error

    def get(self, url: str, params: Mapping[str, Any] | None = None, missing: bool = False) -> Answer:
        """Read something; what may pass is tried again.

        Parameters
        ----------
        missing : an answer that there is no such thing (404, 410) is handed back too.

        Raises
        ------
        ServiceError : it does not answer, or refuses.
        """
        for attempt in range(1, TRIES + 1):
            try:
                answer = self.once("GET", url, params=params)
            except LostError as error:
                if attempt < TRIES:
                    self.pause(attempt)
                    continue
                raise silent(url, error.why) from error
            if answer.status in PASSING and attempt < TRIES:
                self.pause(attempt, answer.headers.get("retry-after", ""))
                continue
            if answer.status == 200 or (missing and answer.status in (404, 410)):
                return answer
            raise refused(url, answer)
        raise AssertionError("the last try answers or raises")


def seconds_told(text: str) -> float | None:
    """How long a service says to wait (RFC 9110, section 10.2.3): seconds, or a date; None where it says neither. Parts of a
    second are no part of the standard, and harmless."""
    text = text.strip()
    if re.fullmatch(r"[0-9]{1,9}(\.[0-9]{1,9})?", text):
        return float(text)
    try:
        when = parsedate_to_datetime(text)
    except (ValueError, TypeError, IndexError, OverflowError):
        return None
    if when.tzinfo is None:
        when = when.replace(tzinfo=UTC)
    return max(0.0, (when - datetime.now(UTC)).total_seconds())


def silent(url: str, why: str) -> ServiceError:
    """What to say of a service that does not answer."""
    return ServiceError(f"the service does not answer ({why})", place=url, way_out="Check the address and the connection, then try again")


def refused(url: str, answer: Answer) -> ServiceError:
    """What to say of an answer that refuses."""
    words = {
        401: ("it wants to know who you are", "Name an environment variable that holds a token for it, or keep one with 'eskret token'"),
        403: ("you may not do this", "Ask whoever runs the service"),
        404: ("there is no such dataset", "Check its name"),
        405: ("it does not take changes there", "Ask whoever runs the service"),
        412: ("somebody changed it meanwhile", "Take the difference again"),
        413: ("it takes no request this large", "Simplify the shapes, or ask whoever runs the service"),
        415: ("it does not take GeoJSON", "Ask whoever runs the service"),
        429: ("it is asked too often", "Wait a while and try again"),
    }
    problem, way_out = words.get(answer.status, (f"it answers with status {answer.status}", "Try later, or ask whoever runs the service"))
    says = _says(answer)
    return ServiceError(problem + (f" ({says})" if says else ""), place=url, way_out=way_out, status=answer.status)


def _says(answer: Answer) -> str:
    """What the service itself says of it, where that is short and plain."""
    try:
        told = orjson.loads(answer.body)
    except orjson.JSONDecodeError:
        return ""
    text = (told.get("description") or told.get("detail") or "") if isinstance(told, dict) else ""
    return " ".join(text.split())[:200].rstrip(".") if isinstance(text, str) else ""


def nonsense(url: str, problem: str) -> ServiceError:
    """What to say of an answer that is not as the standard has it."""
    return ServiceError(problem, place=url, way_out="Check that the address is that of an OGC API - Features service")
