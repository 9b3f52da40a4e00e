"""Hand acts become steps: features chosen on the map or in the table, shapes drawn, cells changed. No widgets here."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.expression import as_written
from eskret.core.naming import AS_TYPED, clean_name
from eskret.desktop.state.paths import relative
from eskret.desktop.state.session import Session
from eskret.errors import InputError
from eskret.workflow.cache.stored import StoredLayer
from eskret.workflow.model import edits
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.references import Reference, with_references

MOST_PICKED = 5_000
"""More features than this are no hand act: a condition says better what they have in common."""


@dataclass(frozen=True)
class ViewContext:
    """What is looked at when a hand act happens: a layer, and where it comes from.

    ``step`` is the step in hand and ``entering`` says that the layer enters it; ``source`` is a file that no step has
    loaded yet (path, layer, number of layers in the file).
    """

    layer: StoredLayer
    step: str = ""
    entering: bool = False
    source: tuple[str, str, int] | None = None


def key_field(layer: StoredLayer) -> str:
    """The first field that has another value in every feature and is no decimal number; empty for none."""
    table = layer.table
    for field in table.schema:
        column = table.column(field.name)
        plain = pa.types.is_string(field.type) or pa.types.is_integer(field.type)
        if plain and column.null_count == 0 and len(column) and pc.count_distinct(column).as_py() == len(column):
            return str(field.name)
    return ""


class EditActions:
    """Writes hand acts into the workflow; each is one edit that can be undone."""

    def __init__(self, session: Session) -> None:
        self._session = session

    # -- choosing

    def pick(self, at: ViewContext, rows: np.ndarray, all_but: bool = False) -> str:
        """Add a step that picks these features; its id.

        Raises
        ------
        InputError : they cannot be told from the others, or they are too many.
        """
        settings = self._picked(at, rows)
        if all_but:
            settings["take"] = "all but these"
        document, added = self._after(at, lambda reference: Step("picked", "pick", (reference,), settings))
        return self._edit(document, added, "pick by hand")

    def keep(self, at: ViewContext, rows: np.ndarray) -> str:
        """Add a step that keeps these features by a condition on their key; its id.

        Raises
        ------
        InputError : as ``pick``, and where there is no key field.
        """
        settings = self._picked(at, rows)
        if "key" not in settings:
            raise InputError(
                "no field has another value in every feature, so a condition cannot name these",
                place=at.layer.key,
                way_out="Pick them instead",
            )
        where = condition_for(settings["key"], settings["features"])
        document, added = self._after(at, lambda reference: Step("kept", "keep", (reference,), {"where": where}))
        return self._edit(document, added, "keep by hand")

    def isolated_name(self, at: ViewContext, rows: np.ndarray) -> str:
        """What a layer of these features may be called.

        Raises
        ------
        InputError : as ``pick``.
        """
        words = [str(v) for v in self._picked(at, rows)["features"]]
        return clean_name(f"{at.layer.key}_{words[0]}" if len(words) == 1 else f"{at.layer.key}_isolated")

    def isolated_places(self, at: ViewContext) -> dict[str, str]:
        """Where they may go, with how it is told: the container that they came from first, where it is one that can be added to."""
        folder = self._session.folder
        stem = self._session.path.stem if self._session.path else "workflow"
        own = folder / "out" / f"{stem}_isolated.gpkg"
        places = {}
        origin = str(at.source[0] if at.source is not None else at.layer.info.get("origin") or "")
        file = folder / origin if origin else None
        if file is not None and file.suffix.lower() == ".gpkg" and file.is_file():
            places[str(file)] = f"{file.name}, the container they came from"
        return {**places, str(own): f"a file beside the outputs, out/{own.name}"}

    def isolate(self, at: ViewContext, rows: np.ndarray, name: str, to: str) -> str:
        """Give these features a layer of their own on disk: a step that picks them and one that saves them.

        Parameters
        ----------
        name : of the layer.
        to : the file that it goes into.

        Raises
        ------
        InputError : as ``pick``.
        """
        settings = self._picked(at, rows)
        document, added = self._after(at, lambda reference: Step(clean_name(name) or "isolated", "pick", (reference,), settings))
        save = Step(f"save_{added}", "save", (added,), {"to": relative(to, self._session.folder), "name": name, "names": AS_TYPED})
        document = edits.add_step(document, save, document.index(added) + 1)
        return self._edit(document, added, "isolate")

    def take_back(self, at: ViewContext, rows: np.ndarray) -> str:
        """Put features that the step in hand set aside with those that it left: a step that picks them from what entered, and one
        that merges; later steps take what is merged. Returns the id of the latter.

        Raises
        ------
        InputError : as ``pick``.
        """
        settings = self._picked(at, rows)
        document = self._session.document
        place = document.index(at.step) + 1
        document, picked = _added(document, Step("back_in", "pick", (self._reference(at, document),), settings), place)
        later = {s.id for s in document.steps[place + 1 :]}
        document, merged = _added(
            document, Step(clean_name(at.layer.key) or "with_them", "merge", (at.step, picked), {"source": ""}), place + 1
        )

        def follow(reference: str) -> str:
            return merged if Reference.parse(reference).step == at.step else reference

        steps = tuple(with_references(s, follow) if s.id in later else s for s in document.steps)
        return self._edit(replace(document, steps=steps), merged, "take features back in")

    def _picked(self, at: ViewContext, rows: np.ndarray) -> dict[str, Any]:
        if not len(rows):
            raise InputError("nothing is chosen", way_out="Click a feature on the map or a row of the table first")
        if len(rows) > MOST_PICKED:
            raise InputError(
                f"{len(rows):,} features are too many to be picked one by one",
                place=at.layer.key,
                way_out="Say in a condition what they have in common",
            )
        key = key_field(at.layer)
        if key:
            return {"features": at.layer.table.column(key).take(pa.array(np.sort(rows))).to_pylist(), "key": key}
        if at.layer.ids is None:
            raise InputError(
                "no field has another value in every feature, and the features have no numbers of their own",
                place=at.layer.key,
                way_out="Choose them where the layer is loaded, or add a key first",
            )
        return {"features": [int(i) for i in at.layer.ids[np.sort(rows)]]}

    # -- drawing and changing

    def sketch(self, kind: str, xy: np.ndarray, system: Mapping[str, object] | None) -> str:
        """Add a step that holds what was drawn; where the step in hand compares with a layer not named yet, with it.

        Parameters
        ----------
        system : the map's CRS as stored layers have it.
        """
        # about a centimetre either way
        decimals = 7 if system is None or system["geographic"] else 2
        crs = str(system["code"]) if system else None
        ring = [[round(float(x), decimals), round(float(y), decimals)] for x, y in xy]
        geometry: dict[str, object]
        if kind == "points":
            geometry = {"type": "MultiPoint", "coordinates": ring}
        elif kind == "line":
            geometry = {"type": "LineString", "coordinates": ring}
        else:
            geometry = {"type": "Polygon", "coordinates": [[*ring, ring[0]]]}
        session = self._session
        settings: dict[str, object] = {"shapes": json.dumps(geometry, separators=(",", ":"))}
        if crs is not None and crs not in ("EPSG:4326", "OGC:CRS84"):
            settings["crs"] = crs
        target = session.step()
        at = session.document.index(target.id) if target is not None else len(session.document.steps)
        document, added = _added(session.document, Step("sketch", "sketch", (), settings), at)
        if target is not None and target.use in ("keep_by_place", "flag") and not target.settings.get("to"):
            document = edits.replace_step(document, target.id, target.with_setting("to", added))
            session.edit(document, "sketch")
            return target.id
        return self._edit(document, added, "sketch")

    def correct(self, at: ViewContext, row: int, field: str, new: object) -> str:
        """Write a changed cell down: in the correct step in hand, in one that follows, or in a new one.

        Raises
        ------
        InputError : no field tells this feature from the others.
        """
        key = key_field(at.layer)
        if not key or key == field:
            raise InputError(
                f"'{field}' is the key itself, and no other field has another value in every feature"
                if key
                else "no field has another value in every feature, so the change cannot be remembered",
                place=at.layer.key,
                way_out="Compute the field by a condition instead",
            )
        table = at.layer.table
        change: dict[str, object] = {"key": table.column(key)[row].as_py(), "field": field}
        old = table.column(field)[row].as_py()
        change.update({n: _plain(v) for n, v in (("old", old), ("new", new)) if v is not None})
        session = self._session
        here = session.step()
        follower = self._correcting(at, key)
        if follower is not None:
            changes = [c for c in follower.settings["changes"] if (c["key"], c["field"]) != (change["key"], field)]
            before = next((c for c in follower.settings["changes"] if (c["key"], c["field"]) == (change["key"], field)), None)
            if before is not None and here is not None and here.id == follower.id and not at.entering:
                # the cell shown was corrected before: what stood there at first is the old value
                change.pop("old", None)
                change.update({"old": before["old"]} if "old" in before else {})
            if change.get("old") != change.get("new"):
                changes.append(change)
            if not changes:
                return self._edit(edits.remove_step(session.document, follower.id), "", "take a correction back")
            document = edits.replace_step(session.document, follower.id, follower.with_setting("changes", changes))
            return self._edit(document, follower.id, "correct a cell")
        document, added = self._after(at, lambda reference: Step("corrected", "correct", (reference,), {"key": key, "changes": [change]}))
        return self._edit(document, added, "correct a cell")

    def _correcting(self, at: ViewContext, key: str) -> Step | None:
        """The correct step that this change belongs to, if there is one."""
        if at.source is not None:
            return None
        document = self._session.document
        here = next((s for s in document.steps if s.id == at.step), None)
        if here is not None and here.use == "correct" and here.settings.get("key") == key:
            return here
        reference = self._reference(at, document)
        return next((s for s in document.steps if s.use == "correct" and reference in s.source and s.settings.get("key") == key), None)

    # -- where a step goes

    def _after(self, at: ViewContext, make: Any) -> tuple[Document, str]:
        """The document with a step put right after the one that the layer comes from, which is loaded first if need be."""
        session = self._session
        document = session.document
        if at.source is not None:
            load, place = session.load_step(*at.source)
            document, loaded = _added(document, load, place)
            return _added(document, make(loaded), document.index(loaded) + 1)
        reference = self._reference(at, document)
        place = document.index(Reference.parse(reference).step) + 1
        return _added(document, make(reference), place)

    def _reference(self, at: ViewContext, document: Document) -> str:
        """How a step refers to the layer that is looked at."""
        if not at.entering:
            made = self._session.view(at.step) or {"leaving": ()}
            return at.step if len(made["leaving"]) == 1 else f"{at.step}:{at.layer.key}"
        step = document.step(at.step)
        for text in step.source:
            origin = Reference.parse(text).step
            made = self._session.view(origin) or {"leaving": ()}
            if any(i["key"] == at.layer.key for i in made["leaving"]):
                return origin if len(made["leaving"]) == 1 else f"{origin}:{at.layer.key}"
        raise InputError("the step that this layer comes from has not been run", place=at.layer.key, way_out="Run first")

    def _edit(self, document: Document, added: str, what: str) -> str:
        self._session.edit(document, what)
        if added:
            self._session.select(added)
        return added


def _added(document: Document, step: Step, at: int) -> tuple[Document, str]:
    before = {s.id for s in document.steps}
    after = edits.add_step(document, step, at)
    return after, next(s.id for s in after.steps if s.id not in before)


def _plain(value: object) -> object:
    """A value as the workflow file holds it."""
    return value if isinstance(value, bool | int | float | str) else str(value)


def literal(value: object) -> str:
    """A value as SQL has it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return repr(value)
    return "'" + str(value).replace("'", "''") + "'"


def condition_for(field: str, values: Sequence[object]) -> str:
    """A condition that holds for these values of a field."""
    name = as_written(field)
    if len(values) == 1:
        return f"{name} = {literal(values[0])}"
    return f"{name} IN ({', '.join(map(literal, values))})"
