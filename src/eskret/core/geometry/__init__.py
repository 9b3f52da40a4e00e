"""Vectorised geometry: pure functions on numpy arrays of shapely geometry."""
