"""What exceptions of somebody's own code mean, in words."""

from __future__ import annotations

from eskret.core.unforeseen import as_sentence
from eskret.errors import EskretError


def exception_words(error: BaseException) -> tuple[str, str]:
    """What an exception of Python means, and what to do about it. What the code says itself stays as it says it."""
    if isinstance(error, EskretError):
        return error.problem, error.way_out
    text = " ".join(str(error).split())
    mend = "Mend it there and run again"
    if isinstance(error, ModuleNotFoundError) and error.name:
        return (f"it needs the Python library '{error.name}', which is not there", "Install it beside Eskret, or do without it")
    if isinstance(error, KeyError) and error.args:
        return (
            f"there is no {error.args[0]!r} where it looks for it",
            f"Give it what it asks for, or mend it there ({type(error).__name__})",
        )
    if isinstance(error, OSError) and error.errno is not None:
        said = as_sentence(error)
        named = f"{said.place}: {said.problem}" if said.place else said.problem
        return named, "See to that file and run again"
    if isinstance(error, ZeroDivisionError):
        return "it divides by zero", mend
    if isinstance(error, MemoryError | RecursionError):
        return as_sentence(error).problem, mend
    if isinstance(error, AssertionError):
        return f"what it takes for granted does not hold{': ' + text if text else ''}", mend
    if isinstance(error, UnicodeDecodeError):
        return f"it reads text that is not {error.encoding}", "Let it say what the text is in"
    if isinstance(error, ValueError) and text:
        return text, f"See to that value, or mend it there ({type(error).__name__})"
    return f"{text or 'it failed without a word'} ({type(error).__name__})", mend
