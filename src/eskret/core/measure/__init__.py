"""Measuring: units, sizes in the plane and along the ellipsoid, aggregates of values, and fields that hold measures."""
