"""One search over everything: what can be done, steps, layers, fields, parameters and pages of the handbook."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from eskret.core.finding.terms import words_of
from eskret.core.words import strip_markup
from eskret.desktop.views.finder import Found, SearchBox
from eskret.operations.finding import Findings, find_operations
from eskret.operations.registry import all_operations

if TYPE_CHECKING:
    from eskret.desktop.frame.workbench import Workbench

MOST, PAGES = 60, 5


@dataclass(frozen=True)
class Thing:
    """Something that can be gone to or done; ``also`` are other words for it."""

    title: str
    summary: str
    kind: str
    do: Callable[[], object]
    also: tuple[str, ...] = ()
    page: str = ""
    """The operation whose page it is."""


def _fit(wanted: list[str], thing: Thing) -> int:
    """How well a thing fits: its name weighs most, then other words for it, then what is told of it."""
    texts = ((8, words_of(thing.title)), (6, words_of(" ".join(thing.also))), (3, words_of(thing.summary)), (1, words_of(thing.kind)))
    score = 0
    for word in wanted:
        score += next((w * (2 if word in there else 1) for w, there in texts if any(t.startswith(word) for t in there)), 0)
    # a name for the whole of it says more than words of its title
    return score + 20 * (" ".join(wanted) in [k.lower() for k in thing.also])


class FindAnything(SearchBox):
    """What is found is done, or gone to, when it is taken."""

    def __init__(self, bench: Workbench) -> None:
        nothing = "Nothing here goes by that name. Try another word."
        super().__init__(bench, "Find anything", "Find what can be done, a step, a layer, a field, a parameter, a page …", nothing)
        self._bench = bench
        self._things: list[Thing] = []
        self._texts: list[str] = []  # all that is said of each, in small letters
        self.taken.connect(lambda thing: thing.do())

    def open_over(self, top: int) -> None:
        self._things = [*self._acts(), *self._steps(), *self._layers(), *self._fields(), *self._parameters(), *self._pages()]
        self._texts = [f"{t.title} {' '.join(t.also)} {t.summary} {t.kind}".lower() for t in self._things]
        super().open_over(top)

    def found_for(self, words: str) -> Findings[Found]:
        if not words_of(words):
            return Findings(self._things[:MOST])
        wanted = words_of(words)
        # of thousands of layers only those are weighed, at every letter, that hold all the words
        held = [(n, t) for n, (t, text) in enumerate(zip(self._things, self._texts, strict=True)) if all(w in text for w in wanted)]
        scored = [(_fit(wanted, t), n, t) for n, t in held]
        found = [t for _, _, t in sorted(scored, key=lambda s: (-s[0], s[1]))]
        # pages are found by what their operations are found by, whatever words stand there
        pages = {t.page: t for t in self._things if t.page}
        more = [pages[o.id] for o in find_operations(words)[:PAGES] if o.id in pages and pages[o.id] not in found]
        return Findings([*found, *more][:MOST])

    def _acts(self) -> Generator[Thing]:
        for act in self._bench.actions_.can_be_done():
            keys = act.keys or ("in the workflow menu" if act.group is not None else "")
            yield Thing(act.wording() if act.wording is not None else act.text, act.also or keys, keys or "Action", act.do, (act.also,))

    def _steps(self) -> Generator[Thing]:
        for row in self._bench.session.rows():
            state = f", {row.state}" if row.state else ""
            yield Thing(f"{row.number}  {strip_markup(row.sentence)}", f"Step {row.id}{state}", "Step", partial(self._go, row.id))

    def _go(self, id: str) -> None:
        self._bench.pages.turn_to("work")
        self._bench.session.select(id)
        self._bench.ledger.setFocus()

    def _layers(self) -> Generator[Thing]:
        for row in self._bench.sources.model.rows():
            told = row.told
            if told.get("layer") and told.get("path"):
                file, show = Path(told["path"]).name, partial(self._bench.sources.take_in_hand, row)
                yield Thing(row.text, f"{told.get('figures', '')} in {file}", "Source", show, (file,))
        for step in self._bench.session.rows():
            for child in step.children:
                if child.rows_out is not None:
                    said, show = f"{child.rows_out:,} left step {step.number}, {step.id}", partial(self._go_layer, step.id, child.key)
                    yield Thing(child.key, said, "Layer", show)

    def _go_layer(self, id: str, key: str) -> None:
        self._go(id)
        self._bench.viewer.choose_layer(key)

    def _fields(self) -> Generator[Thing]:
        seen: set[str] = set()
        for step in self._bench.session.document.steps:
            for name, word in self._bench.session.fields_entering(step.id):
                if name not in seen:
                    seen.add(name)
                    yield Thing(name, f"{word}, first in what enters step {step.id}", "Field", partial(self._go_field, step.id))

    def _go_field(self, id: str) -> None:
        self._go(id)
        self._bench.viewer.choose_view("entering")
        self._bench.viewer.toggle_fields(True)

    def _parameters(self) -> Generator[Thing]:
        for parameter in self._bench.session.document.parameters:
            show = partial(self._bench.show_parameters, True, parameter.name)
            yield Thing(parameter.title, parameter.help or f"${parameter.name}", "Parameter", show, (parameter.name,))

    def _pages(self) -> Generator[Thing]:
        for operation in all_operations().values():
            show = partial(self._bench.boxes.show_handbook, operation.id)
            yield Thing(operation.title, operation.summary, "Handbook", show, tuple(operation.also_known_as), operation.id)
