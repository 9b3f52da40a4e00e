"""A process that runs a script to see which workflows it builds. They are told on standard output; nothing of them is written
or run.

Usage: python -m eskret.process.script_runner SCRIPT < SOURCE

What runs is the source that was read and allowed, not what may lie in the file by now; what lies beside it is not imported.
"""

from __future__ import annotations

import json
import os
import sys
import traceback
import types
from pathlib import Path
from typing import Any


class _Enough(BaseException):
    """What is built is run now: the script goes no further."""


def build(script: Path, source: str) -> dict[str, Any]:
    """The workflows that a script builds: those that it writes or runs, or else all of them; and what stopped it."""
    import eskret
    from eskret.api import Workflow

    made: list[Any] = []
    told: dict[int, str] = {}
    begin = Workflow.__init__

    def init(self: Any, *given: Any, **named: Any) -> None:
        begin(self, *given, **named)
        made.append(self)

    def write(self: Any, path: Any = None) -> None:
        told[id(self)] = Path(path or self.path or "workflow.toml").name

    def run(self: Any, *_: Any, **__: Any) -> None:
        told.setdefault(id(self), Path(self.path or "workflow.toml").name)
        raise _Enough

    Workflow.__init__ = init  # type: ignore[method-assign]
    Workflow.write = write  # type: ignore[method-assign]
    Workflow.run = run  # type: ignore[method-assign,assignment]
    Workflow.rehearse = run  # type: ignore[method-assign,assignment]
    assert eskret.Workflow is Workflow
    error, line = "", 0
    sys.argv = [str(script)]
    module = types.ModuleType("__main__")
    module.__file__ = str(script)
    try:
        exec(compile(source, str(script), "exec"), module.__dict__)  # its hash was allowed
    except _Enough:
        pass
    except SystemExit as end:
        error = str(end.code) if isinstance(end.code, str) else ""
    except SyntaxError as problem:
        error, line = f"this is not sound Python: {problem.msg}", problem.lineno or 0
    except Exception as problem:
        error = problem.sentence() if isinstance(problem, eskret.EskretError) else f"{type(problem).__name__}: {problem}"
        frames = [f for f in traceback.extract_tb(problem.__traceback__) if Path(f.filename) == script]
        line = frames[-1].lineno or 0 if frames else 0
    chosen = [w for w in made if id(w) in told] or made
    built = [{"name": told.get(id(w), ""), "text": w.document.to_text()} for w in chosen if w.document.steps]
    return {"built": built, "error": error, "line": line}


def main() -> None:
    """Answer on standard output; what the script prints goes to standard error."""
    answers = os.fdopen(os.dup(sys.stdout.fileno()), "w", encoding="utf-8")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    json.dump(build(Path(sys.argv[1]).resolve(), sys.stdin.read()), answers)
    answers.flush()


if __name__ == "__main__":
    main()
