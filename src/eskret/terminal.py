"""What the command line prints for people: ledger, rehearsal, layers, progress."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Self

from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn
from rich.table import Table
from rich.text import Text

from eskret.core.accounts.account import FIRST
from eskret.core.crs import crs_facts
from eskret.core.layer import Certainty
from eskret.core.words import counted_kind, duration, moment, pieces, pluralise
from eskret.operations.base import Delivered
from eskret.workflow.faces import ledger
from eskret.workflow.faces.said_once import findings_once


def _console(aside: bool = False) -> Console:
    # figures must not be broken over lines where the output is no terminal
    return Console(width=None if (sys.stderr if aside else sys.stdout).isatty() else 150, highlight=False, stderr=aside)


class _Bars:
    """Bars with time left, where somebody can see them."""

    words = "{task.description}"

    def __init__(self, silent: bool) -> None:
        self._silent = silent or not sys.stderr.isatty()
        self._tasks: dict[str, Any] = {}

    def __enter__(self) -> Self:
        self._bars = Progress(
            TextColumn(self.words),
            BarColumn(),
            MofNCompleteColumn(),
            TimeRemainingColumn(),
            console=Console(stderr=True),
            transient=True,
            disable=self._silent,
        )
        self._bars.__enter__()
        return self

    def __exit__(self, *error: Any) -> None:
        self._bars.__exit__(*error)


class RunProgress(_Bars):
    """The run's events as a line a step, with time left; a line for every step that is done where there is no terminal."""

    def __init__(self, silent: bool) -> None:
        super().__init__(silent)
        self._lines = not silent and not sys.stderr.isatty()

    def take(self, event: dict[str, Any]) -> None:
        """Show one event."""
        if self._lines:
            if event["event"] == "step_finished":
                sys.stderr.write(_line(event) + "\n")
                sys.stderr.flush()
            return
        if event["event"] in ("round_started", "round_rehearsed"):
            words = "rounds" if event["event"] == "round_started" else "rehearsing"
            if words not in self._tasks:
                self._tasks[words] = self._bars.add_task(words, total=event["of"])
            self._bars.update(self._tasks[words], completed=event["round"])
        elif event["event"] == "step_started":
            self._tasks[event["step"]] = self._bars.add_task(event["step"], total=None)
        elif event["event"] == "progress" and event["step"] in self._tasks:
            whole = event["tasks"] > 1 or not event["of"]
            done, of = (event["tasks_done"], event["tasks"]) if whole else (event["done"], event["of"])
            self._bars.update(self._tasks[event["step"]], completed=done, total=of or None)
        elif event["event"] == "step_finished" and event["id"] in self._tasks:
            self._bars.remove_task(self._tasks.pop(event["id"]))


def _line(step: Mapping[str, Any]) -> str:
    """A step that is done, in a line."""
    entered = [one for one in step["inputs"] if one["setting"] in FIRST]
    rows, aside = sum(one["rows"] for one in entered), sum(a["count"] for one in entered for a in one["set_aside"])
    figures = [f"{rows:,} in"] * bool(entered) + [f"{sum(o['rows'] for o in step['outputs']):,} out"] * bool(step["outputs"])
    figures += [f"{aside:,} set aside"] * bool(aside)
    figures += [str(step["state"]), f"{step['seconds']:.1f} s"]
    return f"{step['id']}: {', '.join(figures)}"


class PushProgress(_Bars):
    """Changes sent, as a line with time left."""

    words = "changes"

    def __enter__(self) -> Self:
        super().__enter__()
        self._task = self._bars.add_task("changes", total=None)
        return self

    def sent(self, done: int, of: int) -> None:
        """Show how many were sent."""
        if of:
            self._bars.update(self._task, completed=done, total=of)


STATES = {"balanced": ("● balanced", "green"), "look": ("▲ look", "yellow"), "failed": ("■ failed", "red"), "stopped": ("■ stopped", "red")}


def _ledger_table(rows: list[Any], width: int) -> Table:
    """The ledger for a terminal this wide; a narrow one goes without the figures that matter least."""
    wide = {"Layers": width >= 110, "Control total": width >= 90, "Time": width >= 110}
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    table.add_column("#", justify="right", no_wrap=True)
    table.add_column("Step", overflow="fold", min_width=26, max_width=70)
    figures = ("Layers", "In", "Out", "Set aside", "Control total", "Time")
    shown = [title for title in figures if wide.get(title, True)]
    for title in shown:
        table.add_column(title, justify="right", no_wrap=True)
    table.add_column("State", no_wrap=True)

    def n(value: int | None) -> str:
        return "" if value is None else f"{value:,}"

    for row in rows:
        if row.heading:
            table.add_row("", Text(row.heading, "cyan"))
        state, colour = STATES.get(row.state, (row.state, ""))
        words = Text()
        for piece, strong in pieces(row.sentence):
            words.append(piece, "bold" if strong else "")
        cells: dict[str, Any] = {
            "Layers": n(row.layers),
            "In": n(row.rows_in),
            "Out": n(row.rows_out),
            "Set aside": Text(n(row.aside) if row.aside else "", "red"),
            "Control total": row.total,
            "Time": row.time,
        }
        table.add_row(str(row.number), words, *(cells[title] for title in shown), Text("off" if row.off else state, colour))
        for child in row.children:
            for reason, count in child.reasons:
                table.add_row("", Text(f"  {child.key}: {ledger.reason_text(reason, count)}", "dim"))
        for text, look_at in ledger.grouped_remarks(row.remarks):
            table.add_row("", Text(f"  {'▲' if look_at else '·'} {text}", "dim"))
    return table


def print_ledger(document: Any, told: Mapping[str, Any], aside: bool = False) -> None:
    """The ledger after a run, which is told as JSON; beside the output, where that is something else."""
    out = _console(aside)
    results = {s["id"]: s for s in told.get("steps", ())}
    out.print(_ledger_table(ledger.rows(document, results, values=told.get("values", {})), out.width))


def _print_saved(out: Console, outputs: Iterable[Delivered]) -> None:
    for one in outputs:
        layer = f", {one.layer}" if one.layer else ""
        verb = "Saved" if one.written else "Left as it was"
        out.print(f"{verb} {one.path}{layer}: {pluralise(one.features, 'feature')}", soft_wrap=True, markup=False)


def print_outputs(result: Any) -> None:
    """What was saved, what is left over, how it ended."""
    out = _console()
    _print_saved(out, result.outputs)
    for one in result.pushes:
        told = f"{one.added:,} to add, {one.changed:,} to change, {one.removed:,} to remove, {one.unchanged:,} as they are"
        out.print(f"Not sent yet: '{one.dataset}' at {one.service}, {told}", soft_wrap=True, markup=False)
    for remark in result.remarks:
        out.print(f"Note: {remark.text}", soft_wrap=True, markup=False)
    state, colour = STATES[result.state]
    out.print(f"[{colour}]{state}[/] in {duration(result.seconds)}")


def _plain_table(*columns: str, right: Sequence[str] = ()) -> Table:
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for name in columns:
        table.add_column(name, justify="right" if name in right else "left")
    return table


def print_runs(found: Sequence[Any], versions: Mapping[str, Mapping[str, int]]) -> None:
    """The runs of earlier, the last first."""
    out = _console()
    if not found:
        out.print("No run is known.")
        return
    table = _plain_table("Run", "When", "Workflow", "Version", "Round", "State", "Time", "Saved", right=("Run", "Version", "Time", "Saved"))
    for one in found:
        state, colour = STATES.get(one.state, (one.state, ""))
        name = f"{one.title or 'no title'} ({one.file})"
        number = versions.get(one.workflow, {}).get(one.version, 0)
        table.add_row(
            str(one.id),
            moment(one.started),
            Text(name),
            str(number or ""),
            Text(one.label),
            Text(state, colour),
            duration(one.seconds),
            f"{one.features:,}",
        )
    out.print(table)


def print_run(run: Any) -> None:
    """One run of earlier: its values, its ledger, what it left."""
    out, kept = _console(), run.kept
    label = f", round {kept.label}" if kept.label else ""
    out.print(f"Run {kept.id}: {kept.title or 'no title'} ({kept.file}{label}), {moment(kept.started)}, by {kept.how}", markup=False)
    for name, value in run.told.get("values", {}).items():
        out.print(f"  {name} = {value}", markup=False)
    print_ledger(run.document, run.told)
    for one in run.outputs:
        layer = f", {one.layer}" if one.layer else ""
        digest = (one.content or one.sha256).rpartition(":")[2][:16]
        out.print(f"{one.path}{layer}: {pluralise(one.features, 'feature')}, digest {digest}", soft_wrap=True, markup=False)
    state, colour = STATES.get(kept.state, (kept.state, ""))
    out.print(f"[{colour}]{state}[/] in {duration(kept.seconds)}")
    if kept.error:
        out.print(kept.error, soft_wrap=True, markup=False)


def print_compared(earlier: int, later: int, found: Any, counts: Mapping[str, Mapping[str, int]]) -> None:
    """Two runs side by side."""
    out = _console()

    def pair(a: object, b: object) -> Text:
        mine, theirs = ("" if x is None else f"{x:,}" if isinstance(x, int) else str(x) for x in (a, b))
        return Text(mine) if mine == theirs else Text(f"{mine or '-'} → {theirs or '-'}", "yellow")

    for name, a, b in found.values:
        out.print(f"{name}: {a} → {b}", markup=False)
    for line in found.text:
        out.print(f"  {line}", markup=False, style="green" if line[:1] == "+" else "red" if line[:1] == "-" else "dim")
    right = ("In", "Out", "Set aside", "Control total")
    table = _plain_table("Step", "", *right, "State", right=right)
    for one in found.steps:
        figures = [[getattr(r, n, None) for n in ("rows_in", "rows_out", "aside", "total", "state")] for r in (one.earlier, one.later)]
        cells = [pair(a, b) for a, b in zip(*figures, strict=True)]
        table.add_row(Text(one.id), Text(one.sentence), *cells)
    out.print(table)
    for one in found.outputs:
        told = ", ".join(f"{n:,} {kind}" for kind, n in counts.get(one.name, {}).items())
        out.print(f"{one.name}: {one.state}{': ' + told if told else ''}", markup=False)
    out.print(f"Run {earlier} → run {later}", style="dim")


def print_rounds(result: Any) -> None:
    """The rounds of a run, what was saved, how it ended."""
    out = _console()
    names = list(dict.fromkeys(n for r in result.rounds for n in r.values))
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for name in ("Round", *names):
        table.add_column(escape(name))
    for name in ("Steps", "Set aside", "Features saved"):
        table.add_column(name, justify="right")
    table.add_column("State", no_wrap=True)
    for one in result.rounds:
        run = one.run
        state, colour = STATES[one.state]
        aside = sum(len(i.set_aside) for s in run.steps for i in s.inputs if i.first) if run else 0
        saved = sum(o.features for o in run.outputs) if run else 0
        table.add_row(
            Text(one.label),
            *(Text(str(one.values.get(n, ""))) for n in names),
            f"{len(run.steps) if run else 0}",
            Text(f"{aside:,}" if aside else "", "red"),
            f"{saved:,}",
            Text(state, colour),
        )
    out.print(table)
    for one in result.rounds:
        if one.error:
            out.print(f"■ {one.label}: {one.error}", soft_wrap=True, markup=False)
    _print_saved(out, result.outputs)
    for remark in result.remarks:
        out.print(f"Note: {remark.text}", soft_wrap=True, markup=False)
    state, colour = STATES[result.state]
    out.print(f"[{colour}]{state}[/] in {duration(result.seconds)}")


def print_rehearsed_rounds(found: list[tuple[str, Any]]) -> None:
    """What the rehearsals of rounds foretell and find."""
    out = _console()
    for label, told in found:
        for plan in told.outputs:
            layer = f", {plan.layer}" if plan.layer else ""
            out.print(f"{label}: will {plan.action} {plan.path}{layer}", soft_wrap=True, markup=False)
        for level, step, text in findings_once(told.findings):
            mark = {"error": "■", "look": "▲", "note": "·"}[level]
            where = f"step '{step}': " if step else ""
            out.print(f"{mark} {label}: {where}{text}", soft_wrap=True, markup=False)
    wrong = sum(len(t.errors) for _, t in found)
    state = pluralise(wrong, "error") if wrong else f"{pluralise(len(found), 'round')} ready to run; nothing was written"
    out.print(state)


PUSH_STATES = {
    "prepared": "not sent",
    "sending": "cut short",
    "part": "sent in part",
    "pushed": "sent",
    "undoing": "taken back in part",
    "undone": "taken back",
}


def print_pushes(found: list[Any]) -> None:
    """Pushes, the latest first."""
    out = _console()
    if not found:
        out.print("Nothing was published yet.")
        return
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for title, right in (("Push", False), ("Dataset", False), ("Added", True), ("Changed", True), ("Removed", True), ("State", False)):
        table.add_column(title, justify="right" if right else "left", no_wrap=title != "Dataset")
    for p in found:
        where = f"{p.dataset} at {p.service.split('//')[-1]}"
        figures = [f"{n:,}" for n in (p.added, p.changed, p.removed)]
        table.add_row(p.id, Text(where), *figures, PUSH_STATES[p.state])
    out.print(table)


def print_push(push: Any, conflicts: list[Any], came: tuple[int, int] | None = None) -> None:
    """What became of a push; ``came`` says how many of its changes that is true of so far, and how many there are."""
    out = _console()
    told = f"{push.added:,} added, {push.changed:,} changed, {push.removed:,} removed, {push.unchanged:,} as they were"
    if came is not None and came[0] != came[1]:
        told = f"{came[0]:,} of {came[1]:,} changes; in all {told}"
    text = f"'{push.dataset}' at {push.service}: {PUSH_STATES[push.state]} ({told}). Push {push.id}."
    out.print(text, soft_wrap=True, markup=False)
    if push.says:
        out.print(push.says, soft_wrap=True, markup=False)
    for entry in conflicts:
        out.print(f"  {entry.key}: somebody else {'changed' if entry.theirs else 'removed'} it", markup=False)


def print_rehearsal(document: Any, found: Any, values: Mapping[str, Any]) -> None:
    """What a rehearsal with these values foretells and finds."""
    out = _console()
    out.print(_ledger_table(ledger.rows(document, {}, found.steps, values), out.width))
    for plan in found.outputs:
        word = "" if plan.certainty == Certainty.KNOWN else "at most "
        at_most = "" if plan.features is None else f" ({word}{pluralise(plan.features, 'feature')})"
        layer = f", {plan.layer}" if plan.layer else ""
        out.print(f"Will {plan.action} {plan.path}{layer}{at_most}", soft_wrap=True, markup=False)
    for level, step, text in findings_once(found.findings):
        mark = {"error": "■", "look": "▲", "note": "·"}[level]
        where = f"step '{step}': " if step else ""
        out.print(f"{mark} {where}{text}", soft_wrap=True, markup=False)
    state = pluralise(len(found.errors), "error") if found.errors else "Ready to run; nothing was written"
    out.print(f"{state} ({duration(found.seconds)})")


def print_layers(layers: list[Any], profiles: Mapping[int, Any]) -> None:
    """Facts of layers, and what their fields hold, for those of which it is known."""
    out = _console()
    for number, facts in enumerate(layers):
        crs = crs_facts(facts.crs) if facts.crs else None
        system = f"{facts.crs} {crs.name}, {crs.unit}" if crs else ("" if facts.kind == "table" else "no CRS declared")
        count = f"{facts.kind}, count unknown" if facts.count is None else counted_kind(facts.count, facts.kind)
        table = "table of " if facts.kind == "table" and facts.count is not None else ""
        head = Text.assemble((facts.name, "bold"), f"  {table}{count}  {system}  ", (facts.origin, "dim"))
        out.print(head, soft_wrap=True)
        if facts.extent:
            out.print("  extent " + " ".join(f"{v:.6g}" if abs(v) <= 360 else f"{v:.1f}" for v in facts.extent))
        if number in profiles:
            out.print(_fields_table(profiles[number]))
        else:
            out.print("  " + ", ".join(f"{f.name} ({f.word})" for f in facts.fields), soft_wrap=True, markup=False)
        for said in facts.told:
            out.print(f"  {'▲' if said.look else '·'} {said.text}", soft_wrap=True, markup=False)


def _fields_table(profiles: Any) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 2))
    for head, side in (
        ("  Field", "left"),
        ("Type", "left"),
        ("Empty", "right"),
        ("Different", "right"),
        ("Least", "left"),
        ("Greatest", "left"),
        ("Most frequent", "left"),
    ):
        table.add_column(head, justify=side, overflow="ellipsis", max_width=34)  # type: ignore[arg-type]
    for p in profiles:
        shown = ["" if v is None else _short(v) for v in (p.least, p.greatest)]
        sample = ", ".join(map(_short, p.sample))
        table.add_row(*map(escape, (f"  {p.name}", p.word, f"{p.nulls:,}", f"{p.distinct:,}", *shown, sample)))
    return table


def _short(value: object) -> str:
    return f"{value:.6g}" if isinstance(value, float) else str(value)
