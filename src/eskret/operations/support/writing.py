"""Layers on their way into files: written, appended or brought up to date, with the accounts of it and what stands beside them."""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping, Sequence
from contextlib import closing
from dataclasses import replace
from datetime import datetime
from itertools import groupby
from pathlib import Path
from typing import Any

import numpy as np

from eskret.core.accounts.account import ControlTotal, InputAccount, OutputAccount, Remark, Role, SetAside, added_up
from eskret.core.ahead import ahead
from eskret.core.crs import crs_facts, same_crs
from eskret.core.geometry.globe.moving import stays_together
from eskret.core.layer import ChunkedLayer, Layer
from eskret.core.measure.totals import totals_of
from eskret.core.tables.rows import remaining
from eskret.core.words import pluralise
from eskret.errors import DeliveryError
from eskret.formats import geopackage, sources
from eskret.formats.format import CRS84, Coming, Format, Put, Writing
from eskret.formats.geopackage import bulk, digest, metadata
from eskret.formats.geopackage.columns import sql_type
from eskret.formats.geopackage.in_place import CHANGE, PUT, LayerChange, keep_rows
from eskret.formats.geopackage.layers import put_layers, section_crs
from eskret.formats.index_page import Listed, index_page
from eskret.formats.known import GEOPACKAGE
from eskret.operations.base import Context, Delivered, Outcome, PlannedOutput, Staging
from eskret.operations.support import saving, updating

INDEX = "index.html"


class Writer:
    """Writes what one step saves, through the transaction that stages it.

    Parameters
    ----------
    beside : files that stand beside others and were written already; several writers of a step share them.
    """

    def __init__(self, settings: Any, context: Context, beside: set[Path]) -> None:
        assert context.transaction is not None
        self.settings, self.context, self.beside = settings, context, beside
        self.transaction: Staging = context.transaction
        self.words = {n: context.fill(getattr(settings, n)) for n in ("title", "description", "licence") if getattr(settings, n)}

    def _key(self, plan: PlannedOutput) -> Sequence[str]:
        return self.settings.key if plan.action == "update" else []

    def to_geopackage(self, path: Path, writing: Sequence[tuple[Layer | ChunkedLayer, PlannedOutput]]) -> list[Outcome]:
        """Stage layers for a GeoPackage: new ones, and changes of some that are there; one that comes in chunks is written so where
        that can be."""
        out: list[Outcome] = []
        section, crs = self._section(path, writing)
        for chunked, group in groupby(writing, key=lambda pair: self._as_they_come(pair[0], pair[1], crs)):
            if chunked:
                out += [self._chunks_to_geopackage(path, x, plan, section, crs) for x, plan in group if not isinstance(x, Layer)]
            else:
                whole = [(x if isinstance(x, Layer) else x.load(), p) for x, p in group]
                out += self._whole_to_geopackage(path, whole, section, crs)
        if self.settings.sld:
            self._styles(path, [(x, p.layer) for x, p in writing if p.action not in ("append", "update")])
        return out

    def _section(self, path: Path, writing: Sequence[tuple[Layer | ChunkedLayer, PlannedOutput]]) -> tuple[str, str]:
        """The section that layers go into, empty for none, and the CRS they are brought to, empty for their own."""
        if not self.settings.section:
            return "", self.settings.crs
        section = self.context.fill(self.settings.section)
        known = section_crs(path, self.transaction.stage(path, shared=True), section)
        return section, known if known is not None else self.settings.crs or next((x.crs for x, _ in writing if x.crs), "") or ""

    def _as_they_come(self, layer: Layer | ChunkedLayer, plan: PlannedOutput, crs: str) -> bool:
        """Whether a layer comes in chunks and can be written so: nothing of it hangs on the whole."""
        if isinstance(layer, Layer):
            return False
        fresh = plan.action not in ("append", "update")
        return fresh and _comes_through(layer, crs) and bulk.takes_chunks(layer)

    def _chunks_to_geopackage(self, path: Path, layer: ChunkedLayer, plan: PlannedOutput, section: str, crs: str) -> Outcome:
        """Stage a layer that comes in chunks."""
        staged = self.transaction.stage(path, shared=True)
        told = _Told(layer, tuple(self.context.totals))
        writer = bulk.LargeLayer(staged, plan.layer, layer.types, layer.kind)
        extent = layer.facts().extent
        ready = (told.take(saving.ready(chunk, GEOPACKAGE, self.settings, crs, extent)) for chunk in layer.chunks())
        writer.write(ready, len(layer), self.words.get("description", ""), self.context.watch)
        with geopackage.writing(staged) as container:
            writer.finish(container, self.context.watch)
            container.put_titles(plan.layer, told.titles)
            if section:
                container.put_in_section(plan.layer, section, crs)
            metadata.put_about(container, plan.layer, self.words)
        self.transaction.mark_written(path)
        known = {plan.layer: writer.digest} if writer.digest else {}
        found, content = self._put(path, staged, [plan], known)[plan.layer]
        return told.outcome(plan, found, content, self.context)

    def _put(self, path: Path, staged: Path, plans: Sequence[PlannedOutput], known: Mapping[str, str]) -> dict[str, tuple[int, str]]:
        """Say of layers that are staged what becomes of them at the commit; their rows and digests, as they stand there, of which
        some are ``known`` already."""
        if not plans:
            return {}
        there = digest.counted(staged, [p.layer for p in plans], known, self.context.watch)
        before = self.transaction.digests_there(path, [p.layer for p in plans if p.action == "replace"])
        for plan in plans:
            rows, after = there[plan.layer]
            self.transaction.change_layer(path, LayerChange(plan.layer, PUT, before.get(plan.layer, ""), after, rows))
        return there

    def _whole_to_geopackage(self, path: Path, writing: Sequence[tuple[Layer, PlannedOutput]], section: str, crs: str) -> list[Outcome]:
        staged = self.transaction.stage(path, shared=True)
        out = [self._change_layer(staged, x, p) for x, p in writing if p.action in ("append", "update")]
        fresh = [(x, p) for x, p in writing if p.action not in ("append", "update")]
        brought = [saving.ready(layer, GEOPACKAGE, self.settings, crs) for layer, _ in fresh]
        pairs = [(one.layer, plan.layer) for one, (_, plan) in zip(brought, fresh, strict=True)]
        digests = put_layers(staged, pairs, self.words, section, crs, self.context.watch)
        self.transaction.mark_written(path)
        there = self._put(path, staged, [p for _, p in fresh], digests)
        return out + [self._saved(layer, plan, one, *there[plan.layer]) for (layer, plan), one in zip(fresh, brought, strict=True)]

    def _change_layer(self, staged: Path, layer: Layer, plan: PlannedOutput) -> Outcome:
        """Stage rows that are appended to a layer of a GeoPackage or replace some of it; at the commit they go in row by row."""
        before = self.transaction.digests_there(plan.path, [plan.layer])[plan.layer]
        old = sources.read(plan.path, plan.layer, plan.layer).layer
        one = saving.ready(layer, GEOPACKAGE, self.settings, old.crs or "")
        done = updating.update(old, one.layer, self._key(plan))
        if old.has_geometry and one.layer.has_geometry and old.crs and one.layer.crs and not same_crs(old.crs, one.layer.crs):
            raise DeliveryError(f"the layer '{plan.layer}' is in {old.crs}", way_out="Bring the new rows to it")
        rows = np.concatenate([done.added, done.changed]).astype(np.int64)
        ids = old.ids if old.ids is not None else np.arange(1, len(old) + 1)
        with geopackage.writing(staged) as container:
            container.add(done.aligned.take(rows), plan.layer, watch=self.context.watch)
        columns = tuple((f.name, sql_type(f.type)) for f in done.aligned.table.schema if f.name not in old.table.column_names)
        change = self.transaction.change_layer(
            plan.path, LayerChange(plan.layer, CHANGE, before, rows=len(rows), added=len(done.added), columns=columns)
        )
        keep_rows(staged, plan.path, change, ids[done.was].tolist())
        staged_rows = next(e.rows for e in geopackage.entries(staged) if e.name == plan.layer)
        return _changed(layer, plan, one, done, len(old), len(old) + staged_rows - len(done.changed), self.context)

    def to_file(self, target: Format, writing: Sequence[tuple[Layer | ChunkedLayer, PlannedOutput, str]]) -> list[Outcome]:
        """Stage layers for a file: one, or all of the step where the format holds a set."""
        first, plan, name = writing[0]
        if len(writing) == 1 and not isinstance(first, Layer) and self._fits_in_chunks(target, first, plan):
            done = self._chunks_to_file(target, first, plan, name)
            if done is not None:
                return [done]
        return self._whole_to_file(target, [(x if isinstance(x, Layer) else x.load(), p, n) for x, p, n in writing])

    def _fits_in_chunks(self, target: Format, layer: ChunkedLayer, plan: PlannedOutput) -> bool:
        crs = saving.crs_for(target, self.settings, layer.crs)
        fresh = plan.action not in ("append", "update") and not self.settings.sld
        moved = bool(crs) and not same_crs(layer.crs, crs)
        return fresh and not (moved and target.says_extent) and _comes_through(layer, crs) and target.takes_chunks(layer)

    def _chunks_to_file(self, target: Format, layer: ChunkedLayer, plan: PlannedOutput, name: str) -> Outcome | None:
        """Stage a layer that comes in chunks; None where it must be looked at whole after all."""
        told = _Told(layer, tuple(self.context.totals))
        crs, extent = saving.crs_for(target, self.settings, layer.crs), layer.facts().extent
        how = replace(self._how(target, layer.crs), name=name)

        def ready() -> Generator[saving.Ready, None, None]:
            yield from (saving.ready(chunk, target, self.settings, crs, extent) for chunk in layer.chunks())

        looked = target.looks_first((one.layer for one in ready()), layer, how, self.context.watch)
        if looked is None:
            return None
        staged = self.transaction.stage(plan.path)
        with closing(ahead(told.take(one) for one in ready())) as coming:
            put = target.write_chunks(staged, Coming(coming, layer, looked), how, self.context.watch)
        self.transaction.mark_written(plan.path, put.sha256)
        return told.outcome(plan, put.found, "", self.context, crs if target.native else "")

    def _how(self, target: Format, own: str | None) -> Writing:
        decimals = self.settings.decimals if self.settings.decimals >= 0 else None
        crs = saving.crs_for(target, self.settings, own) or CRS84
        return Writing(decimals, self.settings.layout == "indented", crs, self.words)

    def _whole_to_file(self, target: Format, writing: Sequence[tuple[Layer, PlannedOutput, str]]) -> list[Outcome]:
        path = writing[0][1].path
        if writing[0][1].action in ("append", "update"):
            return [self._change_file(target, *writing[0])]
        ready = [saving.ready(x, target, self.settings, saving.crs_for(target, self.settings, x.crs)) for x, _, _ in writing]
        put = self._write(target, path, [(r.layer, n) for r, (_, _, n) in zip(ready, writing, strict=True)])
        names = ready[0].names
        if names:
            text = saving.names_list(names, ready[0].layer.titles)
            self._beside(path, path.with_suffix(".fields.csv"), text)
        if self.settings.sld:
            self._styles(path, [(x, n) for x, _, n in writing], alone=len(writing) == 1)
        if len(writing) > 1:
            counts = [len(r.layer) for r in ready]
            whole = put.found - sum(counts)
            return [
                self._saved(x, p, r, len(r.layer) + (whole if n == 0 else 0))
                for n, ((x, p, _), r) in enumerate(zip(writing, ready, strict=True))
            ]
        layer, plan, _ = writing[0]
        one = ready[0]
        lost = np.asarray(put.lost, np.int64)
        if len(lost):
            aside = SetAside.from_reasons([("has no place in WGS 84", lost)])
            one = replace(one, layer=one.layer.take(remaining(len(one.layer), lost)), aside=aside)
        if put.cut:
            text = f"{pluralise(put.cut, 'feature')} cut at the antimeridian, as RFC 7946 wants it"
            one = replace(one, remarks=(*one.remarks, Remark(text, layer.key)))
        crs = saving.crs_for(target, self.settings, layer.crs) or layer.crs
        return [self._saved(layer, plan, one, put.found, crs=crs)]

    def _write(self, target: Format, path: Path, pairs: Sequence[tuple[Layer, str]]) -> Put:
        staged = self.transaction.stage(path)
        for ending in target.companions:
            self.transaction.add_member(path, path.with_suffix(ending))
        put = target.write(staged, pairs, self._how(target, pairs[0][0].crs), self.context.watch)
        for ending in target.companions:
            if not staged.with_suffix(ending).exists():
                staged.with_suffix(ending).touch()  # one that says nothing, such as of a CRS that is not known
        for ending in target.left_over:
            self.transaction.delete(path.with_suffix(ending))
        self.transaction.mark_written(path, put.sha256)
        return put

    def _change_file(self, target: Format, layer: Layer, plan: PlannedOutput, name: str) -> Outcome:
        """Append to a file of one layer, or bring it up to date: it is read and written anew."""
        there = sources.layer_names(plan.path)
        old = sources.read(plan.path, there[0], name).layer
        # what the format itself wants, such as WGS 84, is seen to when the whole is written
        one = saving.ready(layer, GEOPACKAGE if target.crs else target, self.settings, old.crs or "")
        one = replace(one, layer=target.as_stored(one.layer))
        done = updating.update(old, one.layer, self._key(plan), widen=True)
        self.transaction.backup(plan.path, *(plan.path.with_suffix(e) for e in target.companions))
        put = self._write(target, plan.path, [(done.layer, name)])
        return _changed(layer, plan, one, done, len(old), put.found, self.context)

    def _saved(
        self, layer: Layer, plan: PlannedOutput, one: saving.Ready, found: int, content: str = "", crs: str | None = None
    ) -> Outcome:
        """The outcome of a layer written; the count comes from the file, not from what was handed to it."""
        lineage = remaining(len(layer), one.aside.rows)
        totals = totals_of(one.layer, tuple(t for t in self.context.totals if t in one.layer.table.column_names))
        counted_there = ControlTotal("number of features in the file", "", len(lineage), found, 0.0)
        output = OutputAccount(layer.key, len(lineage), totals, (counted_there,))
        delivered = Delivered(plan.path, plan.layer, len(lineage), crs or one.layer.crs, self.context.step, content=content)
        account = InputAccount.of(layer, one.aside)
        return Outcome((one.layer.with_key(layer.key),), (account,), (output,), lineage, one.remarks, (delivered,))

    # -- what stands beside

    def _beside(self, path: Path, file: Path, text: str) -> None:
        """Write a text that belongs to a file; what stands there from another file of this step says the same."""
        if file in self.beside:
            return
        self.beside.add(file)
        self.transaction.resolve(file, [""], "own")
        staged = self.transaction.stage(file, of=path)
        staged.write_text(text, encoding="utf-8")

    def _styles(self, path: Path, layers: Sequence[tuple[Layer | ChunkedLayer, str]], alone: bool = False) -> None:
        """How each layer is drawn, as SLD beside what is saved."""
        for given, name in layers:
            layer = given if isinstance(given, Layer) else given.load()
            text = self.context.sld(layer, name) if layer.has_geometry else ""
            if text:
                file = path.with_suffix(".sld") if alone else path.with_name(f"{name}.sld")
                self._beside(path, file, text)

    def index(self, outcomes: Sequence[Outcome]) -> None:
        """A page in each folder that lists what was saved there."""
        folders: dict[Path, list[Listed]] = {}
        for outcome in outcomes:
            for one in outcome.delivered:
                if not outcome.layers and outcome.inputs[0].setting == Role.ALSO:
                    layer = next(o.layers[0] for o in outcomes if o.layers and o.inputs[0].layer == outcome.inputs[0].layer)
                else:
                    layer = outcome.layers[0]
                staged = self.transaction.stage(one.path, shared=True)
                fields = [(f.title or f.name, f.word) for f in layer.fields]
                crs = crs_facts(one.crs).name if one.crs and layer.has_geometry else ""
                kind = "table" if not layer.has_geometry else str(layer.kind)
                size = staged.stat().st_size
                listed = Listed(one.path.name, one.layer, one.features, kind, crs, fields, size)
                folders.setdefault(one.path.parent, []).append(listed)
        made = datetime.now().astimezone().strftime("on %-d %B %Y")
        for folder, files in folders.items():
            page = index_page(files, self.words, made)
            self._beside(folder / files[0].file, folder / INDEX, page)


def _comes_through(layer: ChunkedLayer, crs: str) -> bool:
    """Whether a layer in chunks stays in its CRS, or comes to another one without a shape that becomes another on the way."""
    if not crs or not layer.has_geometry:
        return True
    if layer.crs is None:
        return False  # which is refused, in words
    return same_crs(layer.crs, crs) or stays_together(layer.facts().extent, layer.crs, crs)


class _Told:
    """What there is to tell of a layer written in chunks."""

    def __init__(self, layer: ChunkedLayer, totals: Sequence[str]) -> None:
        self._layer, self._fields = layer, totals
        self._like: Layer | None = None
        self._read = self._kept = 0
        self._aside: dict[str, list[np.ndarray]] = {}
        self._remarks: list[Remark] = []
        self._totals: dict[tuple[str, str], list[float]] = {}

    def take(self, one: saving.Ready) -> Layer:
        """A chunk as it goes into the file."""
        for n, reason in enumerate(one.aside.reasons):
            self._aside.setdefault(reason, []).append(one.aside.rows[one.aside.codes == n] + self._read)
        self._read += len(one.layer) + len(one.aside)
        self._kept += len(one.layer)
        self._remarks = added_up(self._remarks, one.remarks)
        self._like = one.layer.slice(0, 0)
        for name, value, unit in totals_of(one.layer, tuple(t for t in self._fields if t in one.layer.table.column_names)):
            self._totals.setdefault((name, unit), []).append(value)
        return one.layer

    @property
    def titles(self) -> Mapping[str, str]:
        """Of the fields that were written."""
        return {} if self._like is None else self._like.titles

    def outcome(self, plan: PlannedOutput, found: int, content: str, context: Context, crs: str = "") -> Outcome:
        """The outcome; the count comes from the file, not from what was handed to it.

        Parameters
        ----------
        crs : the one that the writer brought shapes to, where it did.
        """
        layer = self._layer
        counted_there = ControlTotal("number of features in the file", "", self._kept, found, 0.0)
        totals = tuple((name, math.fsum(values), unit) for (name, unit), values in self._totals.items())
        output = OutputAccount(layer.key, self._kept, totals, (counted_there,))
        assert self._like is not None
        written = replace(self._like.facts(), key=layer.key, kind=layer.kind)
        delivered = Delivered(plan.path, plan.layer, self._kept, crs or written.crs, context.step, content=content)
        account = InputAccount.of(layer, SetAside.from_reasons([(r, np.concatenate(rows)) for r, rows in self._aside.items()]))
        # what was written is kept to be looked at; it lies nowhere where it is not what came
        layers: tuple[Any, ...] = (layer,) if not self._aside and written.crs == layer.crs else ()
        return Outcome(layers, (account,), (output,), None, tuple(self._remarks), (delivered,), written=(written,))


def _changed(
    layer: Layer, plan: PlannedOutput, one: saving.Ready, done: updating.Updated, before: int, found: int, context: Context
) -> Outcome:
    """The outcome of rows that went into a layer that was there."""
    kept = remaining(len(layer), one.aside.rows)
    aside = [(reason, one.aside.rows[one.aside.codes == n]) for n, reason in enumerate(one.aside.reasons)]
    aside += [("is there as it is", kept[done.same]), ("its key is empty or not its own", kept[done.unkeyed])]
    used = np.sort(np.concatenate([done.added, done.changed])).astype(np.int64)
    where = f"layer '{plan.layer}' of {plan.path.name}" if plan.layer else plan.path.name
    told = f"{len(done.added):,} added to {where}, {len(done.changed):,} changed, {len(done.same):,} as they were; it can be taken back"
    output = OutputAccount(
        layer.key,
        len(used),
        totals_of(one.layer.take(used), context.totals),
        (ControlTotal("number of features in the file", "", before + len(done.added), found, 0.0),),
    )
    delivered = Delivered(plan.path, plan.layer, found, one.layer.crs, context.step, own=False)
    account = InputAccount.of(layer, SetAside.from_reasons(aside))
    remarks = (*one.remarks, *done.remarks, Remark(told, layer.key))
    return Outcome((one.layer.take(used),), (account,), (output,), kept[used], remarks, (delivered,))
