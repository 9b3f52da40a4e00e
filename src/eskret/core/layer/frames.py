"""Layers as data frames of others, for notebooks and operations of somebody's own; copies, both ways."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from eskret.core.crs import crs_code, parse_crs
from eskret.core.layer import Layer


def to_frame(layer: Layer, index: object = None) -> object:
    """A copy as a GeoDataFrame (a DataFrame for a plain table), Arrow types kept.

    Parameters
    ----------
    index : labels of the rows; else they are numbered from 0.
    """
    import geopandas
    import pandas

    frame = layer.table.to_pandas(types_mapper=pandas.ArrowDtype)
    if index is not None:
        frame.index = index
    if not layer.has_geometry:
        return frame
    return geopandas.GeoDataFrame(frame, geometry=np.array(layer.geometry, dtype=object), crs=layer.crs)


def from_frame(frame: object, key: str = "layer") -> Layer:
    """A layer of a GeoDataFrame or DataFrame; its index is left out."""
    import geopandas

    if isinstance(frame, geopandas.GeoDataFrame):
        geometry = np.array(frame.geometry.to_numpy(), dtype=object)
        table = pa.Table.from_pandas(frame.drop(columns=frame.geometry.name), preserve_index=False)
        crs = crs_code(parse_crs(frame.crs.to_wkt())) if frame.crs else None
        return Layer(key, _spelled_out(table), geometry, crs)
    return Layer(key, _spelled_out(pa.Table.from_pandas(frame, preserve_index=False)))


def _spelled_out(table: pa.Table) -> pa.Table:
    """A table whose categories are values like any others."""
    for number, field in enumerate(table.schema):
        if pa.types.is_dictionary(field.type):
            table = table.set_column(number, field.name, table.column(number).cast(field.type.value_type))
    return table.replace_schema_metadata(None)
