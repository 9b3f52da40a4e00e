"""GeoPackages (OGC 12-128r18, 1.4): read, written, changed in place, and what they say of themselves.

``writer`` writes many layers in one transaction, ``bulk`` a large one by columns, ``reader`` reads small ones and facts,
``in_place`` changes files of others at a commit (``in_child`` in a process of its own), ``digest`` says what the rows of a layer are.
"""

from eskret.formats.geopackage.writer import (
    APPLICATION_ID,
    APPLICATION_IDS,
    MAX_FIELDS,
    RESERVED_PREFIXES,
    RTREE_DEFINITION,
    GeoPackageWriter,
    LayerEntry,
    entries,
    holds_only,
    index_triggers,
    layer_list,
    now,
    sections_of,
    writing,
)

__all__ = [
    "APPLICATION_ID",
    "APPLICATION_IDS",
    "MAX_FIELDS",
    "RESERVED_PREFIXES",
    "RTREE_DEFINITION",
    "GeoPackageWriter",
    "LayerEntry",
    "entries",
    "holds_only",
    "index_triggers",
    "layer_list",
    "now",
    "sections_of",
    "writing",
]
