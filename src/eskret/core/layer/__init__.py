"""Layers: a table of attributes with a column of geometry, and what is known of them without their rows.

``layer`` has the layer itself, ``geometry`` its column of shapes, ``wkb`` shapes as binary, ``schema`` fields and facts, ``frames`` the way
to data frames and back.
"""

from eskret.core.layer.chunks import CHUNK, ChunkedLayer
from eskret.core.layer.column import GeometryColumn, GeometryKind, kind_of, kind_of_types
from eskret.core.layer.layer import Layer, LayerSet, matches
from eskret.core.layer.schema import Called, Certainty, Field, HasProvenance, LayerFacts, own_name, type_word
from eskret.core.layer.wkb import WkbArray

__all__ = [
    "CHUNK",
    "Called",
    "Certainty",
    "ChunkedLayer",
    "Field",
    "GeometryColumn",
    "GeometryKind",
    "HasProvenance",
    "Layer",
    "LayerFacts",
    "LayerSet",
    "WkbArray",
    "kind_of",
    "kind_of_types",
    "matches",
    "own_name",
    "type_word",
]
