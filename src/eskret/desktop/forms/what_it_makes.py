"""What a step will make, as far as the rehearsal knows, or what it made: the text at the end of its form."""

from __future__ import annotations

from pathlib import Path

from eskret.core.layer import Certainty
from eskret.core.words import pluralise
from eskret.desktop.state.session import Session
from eskret.operations.sentences import join_words
from eskret.workflow.faces.ledger import grouped_remarks, reason_text
from eskret.workflow.faces.said_once import findings_once
from eskret.workflow.model.document import Step


def makes_text(session: Session, step: Step) -> str:
    """What the step will make, as far as the rehearsal knows."""
    found = session.forecast.steps.get(step.id)
    if step.off:
        return "Switched off: what enters goes on unchanged."
    if step.id in session.results:
        return _made_text(session, step)
    told = [f for f in session.findings(step.id) if f.level in ("note", "look")]
    notes = [text for _, _, text in findings_once(told)]
    if found is not None and not found.known:
        return "\n".join(dict.fromkeys(notes))
    if found is None or any(f.level == "error" for f in session.findings(step.id)):
        return ""
    lines = []
    for plan in found.outputs[:6]:
        at_most = "" if plan.certainty == Certainty.KNOWN else "at most "
        count = "" if plan.features is None else f", {at_most}{pluralise(plan.features, 'feature')}"
        what = f"{Path(plan.path).name}, layer {plan.layer}" if plan.layer else Path(plan.path).name
        was = f" (from {plan.original})" if plan.layer and plan.original not in (plan.layer, "") else ""
        verb = {"write": "Writes", "replace": "Replaces", "skip": "Leaves as it is", "append": "Appends to", "update": "Brings up to date"}[
            plan.action
        ]
        lines.append(f"{verb} {what}{was}{count}")
    if len(found.outputs) > 6:
        lines.append(f"and {len(found.outputs) - 6} more")
    if not found.outputs and found.leaving:
        counts = [x.count for x in found.leaving]
        uncertain = any(x.certainty != Certainty.KNOWN for x in found.leaving)
        total = sum(c or 0 for c in counts)
        word = "at most " if uncertain else ""
        keys = join_words([x.key for x in found.leaving], 4)
        lines.append(f"Leaves {pluralise(len(found.leaving), 'layer')}: {keys}; {word}{pluralise(total, 'feature')}.")
    return "\n".join([*lines, *dict.fromkeys(notes)])


def _made_text(session: Session, step: Step) -> str:
    """What the step made in the last run."""
    result = session.results[step.id]
    if result["error"]:
        return str(result["error"])
    lines = []
    for one in result["inputs"]:
        aside = sum(r["count"] for r in one["set_aside"])
        if aside:
            lines.append(f"{one['layer']}: {aside:,} of {pluralise(one['rows'], 'feature')} set aside")
            lines += ["   " + reason_text(r["reason"], r["count"]) for r in one["set_aside"]]
    saved = [o for o in session.last_run.get("outputs", ()) if o.get("step") == step.id]
    for output in saved:
        layer = f", layer {output['layer']}" if output["layer"] else ""
        verb = "Saved" if output.get("written", True) else "Left as it was"
        lines.append(f"{verb} {Path(output['path']).name}{layer}: {pluralise(output['features'], 'feature')}.")
    if not saved:
        outputs = result["outputs"]
        keys = join_words([o["layer"] for o in outputs], 4)
        rows = sum(o["rows"] for o in outputs)
        lines.append(f"Left {pluralise(len(outputs), 'layer')}: {keys}; {pluralise(rows, 'feature')}.")
    lines += [text + "." for text, _ in grouped_remarks(result["remarks"])]
    return "\n".join(lines)
