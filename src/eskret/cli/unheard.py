"""Output whose reader has left, as ``head`` does: the work goes on to its end, and the exit code says how it went."""

from __future__ import annotations

import io
import os
import sys


class Unheard(io.TextIOWrapper):
    """A text stream that is written nowhere once nobody reads it."""

    def write(self, text: str) -> int:
        try:
            return super().write(text)
        except BrokenPipeError:
            self._leave()
            return len(text)

    def flush(self) -> None:
        try:
            super().flush()
        except BrokenPipeError:
            self._leave()

    def _leave(self) -> None:
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, self.fileno())
        os.close(nowhere)


def speak_on() -> None:
    """From now on what is printed where nobody reads any more ends nothing."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if isinstance(stream, io.TextIOWrapper) and not isinstance(stream, Unheard):
            buffered, ways = stream.line_buffering, (stream.encoding, stream.errors)
            setattr(sys, name, Unheard(stream.detach(), *ways, line_buffering=buffered, write_through=False))
