"""What is to be done next, so that the open workflow becomes that of a lesson. No widgets.

Nothing is written for each lesson: a task follows from the first thing in which the two differ, and is done when they do so no more,
whichever way it was done.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from eskret.core.naming import fill_known
from eskret.core.words import pluralise
from eskret.errors import EskretError
from eskret.formats.sources import find_files
from eskret.operations.registry import operation_by_id
from eskret.operations.sentences import join_words
from eskret.operations.settings import SettingInfo, default_of, setting_info, with_lists
from eskret.services import practice
from eskret.workflow.model import edits
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.references import Reference, reference_settings

SERVE, ADD, ENTER, SET, ROUNDS, RUN = "serve", "add", "enter", "set", "rounds", "run"


@dataclass(frozen=True)
class Task:
    """One thing to do.

    Parameters
    ----------
    kind : start the practice server, add a step, let layers enter it, set a setting, have it done in rounds, run.
    text : what to do, in words.
    target : the step of the lesson that it is about.
    step : that step's id in the open workflow; empty where it is not there yet.
    setting : of which it is.
    files : that are to be loaded.
    """

    kind: str
    text: str
    target: str = ""
    step: str = ""
    setting: str = ""
    files: tuple[str, ...] = ()
    from_sources: bool = False
    """Whether it is added by choosing those files."""


def begin(lesson: Document) -> Document:
    """A lesson's workflow without its steps: what one begins with."""
    return replace(lesson, steps=())


def server_wanted(lesson: Document) -> str:
    """The address on this machine that a lesson publishes to or fetches from; empty where it asks nobody."""
    given = {p.name: p.default for p in lesson.parameters}
    for step in lesson.steps:
        if step.use in ("publish", "fetch") and isinstance(step.settings.get("service"), str):
            address = fill_known(str(step.settings["service"]), given)
            if urlsplit(address).hostname in ("127.0.0.1", "localhost"):
                return address
    return ""


def serving(lesson: Document) -> Task | None:
    """To start the practice server, where the lesson wants it and none is there."""
    address = server_wanted(lesson)
    if not address or any(s.address == address for s in practice.running()):
        return None
    text = "Press Publish at the top and there “Start the practice server”, which stands in for a service; then come back to the ledger."
    return Task(SERVE, text)


def tasks(lesson: Document, now: Document, folder: Path) -> list[Task]:
    """All that is still to be done, in its order, but for the run."""
    there = _pairs(lesson, now, folder)
    names = {target: step.id for target, step in there.items()}
    out: list[Task] = []
    for target in lesson.steps:
        step = there.get(target.id)
        if step is None:
            out.append(_adding(target, lesson))
            out += _settings_of(target, None, lesson, names, folder)
        else:
            out += _settings_of(target, step, lesson, names, folder)
    return out


def whole(lesson: Document, folder: Path) -> int:
    """How many things there are to do from nothing, the run among them."""
    return len(tasks(lesson, begin(lesson), folder)) + 1 + bool(server_wanted(lesson))


def done_for(task: Task, lesson: Document, now: Document, folder: Path) -> Document:
    """The open workflow with a task done."""
    names = {target: step.id for target, step in _pairs(lesson, now, folder).items()}
    target = lesson.step(task.target)
    if task.kind == ADD:
        at_once = ("files", "layers", "parts", "totals") if target.use in _LOADS else ("totals",)
        settings = {n: v for n, v in target.settings.items() if n in at_once}
        at = max((i + 1 for i, s in enumerate(now.steps) if s.id in names.values()), default=0)
        added = Step(target.id, target.use, (), settings, target.heading, target.note, style=target.style, result=target.result)
        return edits.add_step(now, added, at)
    step = now.step(task.step)
    if task.kind == ENTER:
        changed = replace(step, source=tuple(_translated(s, names) for s in target.source))
    elif task.kind == ROUNDS:
        each = target.each
        assert each is not None
        changed = replace(step, each=replace(each, of=_translated(each.of, names)), settings=_values(target, names))
    else:
        changed = step.with_setting(task.setting, _values(target, names)[task.setting])
    return edits.replace_step(now, step.id, changed)


_LOADS = ("load", "load_coordinates")


def _pairs(lesson: Document, now: Document, folder: Path) -> dict[str, Step]:
    """Which step of the open workflow stands for which of the lesson: the one of the same name, else the first of the same operation."""
    left = [s for s in now.steps if not s.off]
    out: dict[str, Step] = {}
    for target in lesson.steps:
        alike = [s for s in left if s.use == target.use]
        if target.use in _LOADS:
            wanted = _found(target.settings.get("files"), folder)
            alike = [s for s in alike if wanted & _found(s.settings.get("files"), folder)] or alike
        chosen = next((s for s in alike if s.id == target.id), alike[0] if alike else None)
        if chosen is not None:
            out[target.id] = chosen
            left.remove(chosen)
    return out


def _found(files: object, folder: Path) -> set[Path]:
    try:
        return set(find_files([str(f) for f in files], folder)) if isinstance(files, Sequence) and not isinstance(files, str) else set()
    except EskretError:
        return {folder / str(f) for f in files} if isinstance(files, list) else set()


def _adding(target: Step, lesson: Document) -> Task:
    given = {p.name: p.default for p in lesson.parameters}
    files = tuple(fill_known(str(f), given) for f in target.settings.get("files", ()))
    if target.use == "load":
        names = [(str(Path(f).parent) if "*" in f else f).replace("/", " / ") for f in files]
        folder = any("*" in f for f in files)
        several = " (Ctrl and click chooses several)" if len(files) > 1 else ""
        what = f"the folder {join_words(names)}" if folder and len(files) == 1 else join_words(names, 12)
        return Task(
            ADD,
            f"In Sources, choose {what}{several} and press Enter: that loads {'it' if len(files) == 1 else 'them'}.",
            target.id,
            files=files,
            from_sources=True,
        )
    title = _title(target.use)
    return Task(ADD, f"Press Insert, type “{title}” and press Enter: that adds the step.", target.id, files=files)


def _title(use: str) -> str:
    try:
        return operation_by_id(use).title
    except EskretError:
        return use.rpartition(":")[2].replace("_", " ")


def _settings_of(target: Step, step: Step | None, lesson: Document, names: Mapping[str, str], folder: Path) -> list[Task]:
    try:
        operation = operation_by_id(target.use)
    except EskretError:
        return []
    out: list[Task] = []
    id = step.id if step is not None else ""
    where = f"Step {lesson.index(target.id) + 1}, {operation.title}: " if step is None else f"{operation.title}: "
    source = tuple(_translated(s, names) for s in target.source)
    if target.source and (step is None or set(step.source) != set(source)):
        out.append(
            Task(ENTER, f"{where}let {join_words([_layer_words(s) for s in source], 6)} enter it, and nothing else.", target.id, id, "from")
        )
    if target.each is not None and (step is None or step.each is None or step.each.kind != target.each.kind):
        out.append(Task(ROUNDS, f"{where}under “The step itself”, have it done {target.each.words()}.", target.id, id, "step.each"))
    infos = setting_info(operation.Settings)
    wanted = _values(target, names)
    for name, value in wanted.items():
        if name in ("totals",) or (step is None and target.use in _LOADS and name == "files"):
            continue
        has = step.settings.get(name, default_of(operation.Settings, name)) if step is not None else object()
        if step is None or not _same(operation.Settings, name, has, value, folder):
            info = infos.get(name)
            label = info.label if info is not None else name
            out.append(Task(SET, f"{where}set “{label}” to {_value_words(value, info, lesson).removesuffix('.')}.", target.id, id, name))
    return out


def _values(target: Step, names: Mapping[str, str]) -> dict[str, Any]:
    """A step's settings, with the names that steps have in the open workflow."""
    layers = reference_settings(target)
    return {n: _translated(v, names) if n in layers and isinstance(v, str) else v for n, v in target.settings.items()}


def _translated(reference: str, names: Mapping[str, str]) -> str:
    if reference.startswith("$") or not reference:
        return reference
    parsed = Reference.parse(reference)
    return str(replace(parsed, step=names.get(parsed.step, parsed.step)))


def _same(model: Any, name: str, has: object, wanted: object, folder: Path) -> bool:
    a, b = with_lists(model, {name: has})[name], with_lists(model, {name: wanted})[name]
    if name == "files":
        return _found(a, folder) == _found(b, folder)
    if isinstance(a, str) and isinstance(b, str):
        return " ".join(a.split()) == " ".join(b.split())
    return a == b


def _layer_words(reference: str) -> str:
    if reference.startswith("$"):
        return f"what the parameter {reference} names"
    parsed = Reference.parse(reference)
    if parsed.pattern == "*":
        return f"all that leaves {parsed.step}"
    return f"the layers {parsed.pattern}" if "*" in parsed.pattern else parsed.pattern


def _value_words(value: object, info: SettingInfo | None, lesson: Document) -> str:
    if isinstance(value, Mapping) and set(value) == {"parameter"}:
        title = next((p.title for p in lesson.parameters if p.name == value["parameter"]), str(value["parameter"]))
        return f"the value of the parameter {title} (the $ beside it)"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if info is not None and info.kind == "layer":
        return _layer_words(str(value))
    choices = info.choices if info is not None else {}
    if value in ("yes", "no") and value not in choices:
        return f"“{value}”"  # a name, not an answer
    if isinstance(value, Mapping):
        return ", ".join(f"{k} = {v}" for k, v in value.items())
    if isinstance(value, list):
        if value and isinstance(value[0], Mapping):
            return pluralise(len(value), "entry", "entries")
        return ", ".join(str(choices.get(v, v)) for v in value)
    return str(choices.get(str(value), value))
