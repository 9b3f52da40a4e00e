"""What editors, type checkers and ``help()`` know of the operations: from the settings, and current."""

from __future__ import annotations

import ast
import inspect
import pydoc
import subprocess
import sys
from pathlib import Path

import pytest

from eskret import Workflow, use
from eskret.operations.registry import all_operations, operation_by_id
from eskret.operations.settings import setting_info
from eskret.workflow.faces.python_help import stub_path, stub_text

EVERY = list(all_operations())


def test_the_stub_is_current() -> None:
    assert stub_path().read_text(encoding="utf-8") == stub_text(), "make handbook writes it anew"


def test_every_operation_is_a_method_with_its_settings_and_no_others() -> None:
    methods = next(n for n in ast.parse(stub_text()).body if isinstance(n, ast.ClassDef) and n.name == "OperationMethods").body
    told = {m.name: m for m in methods if isinstance(m, ast.FunctionDef)}
    assert list(told) == EVERY
    for id, method in told.items():
        infos = setting_info(operation_by_id(id).Settings)
        assert [a.arg for a in method.args.kwonlyargs] == list(infos)
        needed = [a.arg for a, default in zip(method.args.kwonlyargs, method.args.kw_defaults, strict=True) if default is None]
        assert needed == [n for n in infos if operation_by_id(id).Settings.model_fields[n].is_required()]


@pytest.mark.parametrize("id", EVERY)
def test_help_reads_like_the_handbook(id: str) -> None:
    operation = operation_by_id(id)
    for function in (getattr(Workflow(), id), use(id)):
        assert set(setting_info(operation.Settings)) <= set(inspect.signature(function).parameters)
        shown = " ".join(pydoc.plain(pydoc.render_doc(function)).split())
        assert operation.summary in shown
        for name, info in setting_info(operation.Settings).items():
            assert f"{name} : " in shown and info.label in shown and all(repr(value) in shown for value in info.choices)


def test_completion_offers_the_operations() -> None:
    assert set(EVERY) <= set(dir(Workflow())) and "rehearse" in dir(Workflow())
    with pytest.raises(AttributeError, match="a workflow has no 'kepe'; operations are"):
        _ = Workflow().kepe


@pytest.mark.long
def test_a_type_checker_tells_a_wrong_setting(tmp_path: Path) -> None:
    file = tmp_path / "mine.py"
    file.write_text(
        "from eskret import Workflow\n\n"
        "flow = Workflow()\n"
        'marks = flow.load("marks", files=["a.gpx"])\n'
        'least = flow.parameter("least", type="number", default=1)\n'
        'flow.keep("some", marks["a_*"], where="n > 1", note="why", totals=["n"])\n'
        'flow.buffer("wide", marks, distance=least)\n'
        'flow.keep("wrong", marks, were="n > 1")\n'
        'flow.load("more", files=["a.gpx"], if_unreadable="never")\n'
        'flow.kepe("x")\n'
    )
    done = subprocess.run([sys.executable, "-m", "mypy", "--strict", str(file)], capture_output=True, text=True, cwd=tmp_path)
    lines = [line.partition("mine.py:")[2] for line in done.stdout.splitlines() if "mine.py:" in line and ": error:" in line]
    assert sorted({int(line.split(":")[0]) for line in lines}) == [8, 9, 10], done.stdout
