"""Layers put into a GeoPackage, each in the way that is fastest for its size."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import groupby
from pathlib import Path

from eskret.core.layer import Layer
from eskret.formats.geopackage import bulk, metadata, writer
from eskret.formats.geopackage.writer import GeoPackageWriter
from eskret.formats.reading import Watch, no_watch


def section_crs(path: Path, staged: Path, section: str) -> str | None:
    """The CRS of a section in a file, or in what is staged for it; None where there is no such section yet."""
    there = writer.sections_of(path)
    with writer.writing(staged) as container:
        known = {**there, **container.sections()}.get(section)
    return known.crs if known else None


def put_layers(
    staged: Path, pairs: Sequence[tuple[Layer, str]], words: Mapping[str, str], section: str = "", crs: str = "", watch: Watch = no_watch
) -> dict[str, str]:
    """Add layers under names that are not taken: many small ones in one transaction, a large one by itself, by columns.

    Parameters
    ----------
    words : title, description and licence, of each of them.
    section : what they are kept under, with its ``crs``; empty for none.

    Returns
    -------
    Digests of rows by name, of those of which they are known without reading them.
    """
    digests: dict[str, str] = {}
    large: dict[str, bulk.LargeLayer] = {}
    description = words.get("description", "")

    def finish(container: GeoPackageWriter) -> None:
        for layer, name in pairs:
            if name in large:
                large[name].finish(container, watch)
                container.put_titles(name, layer.titles)
            if section:
                container.put_in_section(name, section, crs)
            metadata.put_about(container, name, words)

    # a file of thousands of layers takes seconds to be opened: where all are small, once is enough
    alone = not any(bulk.is_large(layer) for layer, _ in pairs)
    for many_rows, group in groupby(pairs, key=lambda pair: bulk.is_large(pair[0])):
        if many_rows:
            for layer, name in group:
                large[name] = one = bulk.write_large(staged, layer, name, description, watch)
                digests |= {name: one.digest} if one.digest else {}
        else:
            with writer.writing(staged, in_parts=True) as container:
                for layer, name in group:
                    container.add(layer, name, description, watch)
                if alone:
                    finish(container)
    if not alone:
        with writer.writing(staged) as container:
            finish(container)
    return digests
