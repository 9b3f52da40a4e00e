"""The operations as methods of a workflow. Editors and type checkers know them from the stub beside this."""

from __future__ import annotations

import inspect
from collections.abc import Callable

from eskret.operations.registry import all_operations, operation_by_id
from eskret.operations.settings import wrongly_said
from eskret.workflow.faces.handles import STEP_PROPERTIES, StepHandle, plain
from eskret.workflow.faces.python_help import help_of, signature_of

_FIRST = (
    inspect.Parameter("id", inspect.Parameter.POSITIONAL_ONLY, annotation="str"),
    inspect.Parameter(
        "entering", inspect.Parameter.POSITIONAL_ONLY, default=(), annotation="StepHandle | str | Iterable[StepHandle | str]"
    ),
)


class OperationMethods:
    """Whatever an operation is called is a method that adds a step of it."""

    def __getattr__(self, name: str) -> Callable[..., StepHandle]:
        if name.startswith("_") or name not in all_operations():
            raise AttributeError(f"a workflow has no '{name}'; operations are {', '.join(all_operations())}")
        operation = operation_by_id(name)

        def add(id, entering=(), /, **given):  # type: ignore[no-untyped-def]
            said = plain({k: v for k, v in given.items() if k not in STEP_PROPERTIES})
            for problem in wrongly_said(operation.Settings, said):
                raise problem.at(f"step '{id}'")
            return self.step(name, id, entering, **given)

        add.__name__ = name
        add.__doc__ = help_of(operation)
        add.__signature__ = signature_of(operation, _FIRST)  # type: ignore[attr-defined]
        return add

    def __dir__(self) -> list[str]:
        return sorted({*super().__dir__(), *all_operations()})
