"""Faults on demand, for tests and for practice: be slow, lose a request or its answer, answer something else."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

import orjson


@dataclass
class Faults:
    """What is to go wrong. Requests are counted from 1, from when this was set.

    Parameters
    ----------
    slow : seconds to wait before every answer.
    lose : the number of the request that is cut off before it is carried out; 0 for none.
    lose_answer : the number of the request that is carried out, and its answer cut off.
    answer : the status to answer with instead of carrying requests out.
    answer_from, answer_times : from which request on, and how many times; 0 for always.
    retry_after : seconds told with a status, where not 0.
    nonsense : the number of the request that is answered with something that is no JSON.
    """

    slow: float = 0.0
    lose: int = 0
    lose_answer: int = 0
    answer: int = 0
    answer_from: int = 1
    answer_times: int = 0
    retry_after: float = 0.0
    nonsense: int = 0

    @classmethod
    def told(cls, words: Mapping[str, Any]) -> Faults:
        """Faults as JSON has them.

        Raises
        ------
        ValueError : a word is not known or has a value it cannot have.
        """
        usual = cls()
        kinds: dict[str, type] = {f.name: type(getattr(usual, f.name)) for f in fields(cls)}
        for name, value in words.items():
            if name not in kinds:
                raise ValueError(f"there is no fault '{name}'; there are {', '.join(kinds)}")
            if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < 1e6:
                raise ValueError(f"'{name}' must be a number that is not negative")
            if kinds[name] is int and value != int(value):
                raise ValueError(f"'{name}' must be a whole number")
        if not words.get("answer", 0) == 0 and not 200 <= words["answer"] < 600:
            raise ValueError("'answer' must be a status of HTTP")
        return cls(**{n: kinds[n](v) for n, v in words.items()})


class FaultyApp:
    """Stands before the application and does what the faults say."""

    def __init__(self, app: Any, faults: Faults | None = None) -> None:
        self._app = app
        self.count = 0
        self.faults = faults or Faults()

    def set(self, faults: Faults) -> None:
        """Have other faults; counting begins anew."""
        self.faults, self.count = faults, 0

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http" or scope["path"].startswith("/practice"):
            await self._app(scope, receive, send)
            return
        self.count += 1
        number, faults = self.count, self.faults
        if faults.slow:
            await asyncio.sleep(faults.slow)
        if number == faults.lose:
            await _cut(send)
        elif number == faults.lose_answer:
            await self._app(scope, receive, _nowhere)
            await _cut(send)
        elif number == faults.nonsense:
            await _answer(send, 200, b"<p>This is no JSON.", {})
        elif faults.answer and 0 <= number - faults.answer_from < (faults.answer_times or float("inf")):
            more = {"retry-after": f"{faults.retry_after:g}"} if faults.retry_after else {}
            body = orjson.dumps({"code": str(faults.answer), "description": "a fault for practice"})
            await _answer(send, faults.answer, body, more)
        else:
            await self._app(scope, receive, send)


async def _nowhere(message: Any) -> None:
    pass


async def _answer(send: Any, status: int, body: bytes, more: Mapping[str, str]) -> None:
    heads = {"content-type": "application/json", "content-length": str(len(body)), **more}
    listed = [(k.encode(), v.encode()) for k, v in heads.items()]
    await send({"type": "http.response.start", "status": status, "headers": listed})
    await send({"type": "http.response.body", "body": body})


async def _cut(send: Any) -> None:
    """Promise more than is sent: the server then closes the connection, and whoever asked has no answer."""
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"4096")]})
    await send({"type": "http.response.body", "body": b"{"})
