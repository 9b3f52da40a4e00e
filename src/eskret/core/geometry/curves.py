"""Curves of well-known binary made straight: circular arcs as chords that stay within a tolerance of them.

The binary is that of OGC 06-103r4 and ISO/IEC 13249-3 (type numbers 8 to 12, thousands for Z and M), or with PostGIS's flags.
An arc runs through three positions; where the first and the last are one, it is the circle of which the second lies opposite.
"""

from __future__ import annotations

import struct

import numpy as np
import pyarrow as pa

from eskret.core.layer.wkb import buffers

CIRCULAR, COMPOUND, CURVE_POLYGON, MULTI_CURVE, MULTI_SURFACE = 8, 9, 10, 11, 12
_POINT, _LINE, _POLYGON, _MULTI_POINT, _MULTI_LINE, _MULTI_POLYGON, _COLLECTION = 1, 2, 3, 4, 5, 6, 7
_Z, _M, _SRID = 0x80000000, 0x40000000, 0x20000000
_MOST = 20_000
"""Chords of one arc, at the most."""
_TURN = np.pi / 180
"""How far a chord turns, at the most, so that areas of small circles come out right too: to 5 in 100,000."""
_DEEP = 200


def curved_rows(column: pa.ChunkedArray) -> np.ndarray:
    """Positions of the values of binary that are of a type of curves, or a collection, which may hold some (int64)."""
    found, before = [], 0
    for chunk in column.chunks:
        found.append(before + _candidates(chunk))
        before += len(chunk)
    return np.concatenate(found) if found else np.empty(0, np.int64)


def _candidates(chunk: pa.Array) -> np.ndarray:
    ends, raw = buffers(chunk)
    at = np.flatnonzero(np.diff(ends) >= 5)
    if not len(at):
        return at
    heads = raw[ends[at][:, None] + np.arange(5)].astype(np.uint32)
    little = heads[:, 1] | heads[:, 2] << 8 | heads[:, 3] << 16 | heads[:, 4] << 24
    big = heads[:, 4] | heads[:, 3] << 8 | heads[:, 2] << 16 | heads[:, 1] << 24
    number = np.where(heads[:, 0] == 1, little, big) & 0x1FFFFFFF
    kind = np.where(number >= 1000, number % 1000, number)
    kept = np.isin(kind, (_COLLECTION, CIRCULAR, COMPOUND, CURVE_POLYGON, MULTI_CURVE, MULTI_SURFACE))
    return at[kept & np.asarray(chunk.is_valid())[at]]


def straight(value: bytes, tolerance: float) -> tuple[bytes, bool]:
    """A geometry without curves, as ISO binary in little-endian order, and whether it had any; heights and measures go evenly
    along an arc.

    Parameters
    ----------
    tolerance : how far a chord may be from its arc, in the unit of the coordinates.

    Raises
    ------
    ValueError : it is no well-known binary.
    """
    walk = _Walk(value, tolerance)
    try:
        out, _ = walk.made(0, 0)
    except (struct.error, IndexError) as error:
        raise ValueError("it ends too early") from error
    return out, walk.arcs > 0


def _head(value: bytes, at: int) -> tuple[int, bool, bool, str, int]:
    """Type number, whether heights and measures are there, the order of bytes, and where the rest begins."""
    order = {0: ">", 1: "<"}.get(value[at])
    if order is None:
        raise ValueError("no order of bytes")
    (number,) = struct.unpack_from(f"{order}I", value, at + 1)
    z, m = bool(number & _Z), bool(number & _M)
    begin = at + 5 + (4 if number & _SRID else 0)
    number &= 0x1FFFFFFF
    if number >= 1000:
        thousands, number = divmod(number, 1000)
        z, m = thousands in (1, 3), thousands in (2, 3)
    return number, z, m, order, begin


class _Walk:
    """Goes once through a geometry."""

    def __init__(self, value: bytes, tolerance: float) -> None:
        self.value, self.tolerance, self.arcs = value, tolerance, 0

    def made(self, at: int, depth: int) -> tuple[bytes, int]:
        """The geometry that begins here, made straight, and where what follows it begins."""
        if depth > _DEEP:
            raise ValueError("it is nested too deeply")
        kind, z, m, order, at = _head(self.value, at)
        width = 2 + z + m
        if kind == _POINT:
            return _wkb(_POINT, z, m) + _plain(_positions(self.value, at, 1, width, order)), at + 8 * width
        if kind in (_LINE, CIRCULAR, COMPOUND):
            line, at = self.line(kind, at, width, order, depth)
            return _wkb(_LINE, z, m) + _counted(line), at
        (count,) = struct.unpack_from(f"{order}I", self.value, at)
        at += 4
        if count > len(self.value):
            raise ValueError("it says that it holds more than it does")
        parts = []
        several = {MULTI_CURVE: _MULTI_LINE, MULTI_SURFACE: _MULTI_POLYGON, CURVE_POLYGON: _POLYGON}.get(kind, kind)
        if several not in (_POLYGON, _MULTI_POINT, _MULTI_LINE, _MULTI_POLYGON, _COLLECTION):
            raise ValueError(f"geometry of type {kind} is not known")
        for _ in range(count):
            if several == _POLYGON:
                of, begin, inner = _LINE, at, order
                if kind == CURVE_POLYGON:
                    of, _, _, inner, begin = _head(self.value, at)
                ring, at = self.line(of, begin, width, inner, depth + 1)
                parts.append(_counted(ring))
            else:
                part, at = self.made(at, depth + 1)
                parts.append(part)
        return _wkb(several, z, m) + struct.pack("<I", count) + b"".join(parts), at

    def line(self, kind: int, at: int, width: int, order: str, depth: int) -> tuple[np.ndarray, int]:
        """Positions (n, 2 to 4) of a line, an arc or a chain of these, and where what follows begins."""
        if depth > _DEEP:
            raise ValueError("it is nested too deeply")
        (count,) = struct.unpack_from(f"{order}I", self.value, at)
        at += 4
        if kind == COMPOUND:
            pieces: list[np.ndarray] = []
            for _ in range(count):
                of, _, _, inner, begin = _head(self.value, at)
                piece, at = self.line(of, begin, width, inner, depth + 1)
                joined = bool(pieces) and len(piece) > 0 and (pieces[-1][-1, :2] == piece[0, :2]).all()
                pieces.append(piece[1:] if joined else piece)
            return np.concatenate(pieces) if pieces else np.empty((0, width)), at
        if kind not in (_LINE, CIRCULAR):
            raise ValueError(f"a curve cannot have a part of type {kind}")
        found = _positions(self.value, at, count, width, order)
        at += 8 * width * count
        if kind == _LINE:
            return found, at
        self.arcs += len(found) > 2
        return _chords(found, self.tolerance), at


def _positions(value: bytes, at: int, count: int, width: int, order: str) -> np.ndarray:
    if at + 8 * width * count > len(value):
        raise ValueError("it ends too early")
    return np.frombuffer(value, f"{order}f8", width * count, at).reshape(count, width).astype(np.float64)


def _chords(positions: np.ndarray, tolerance: float) -> np.ndarray:
    """Arcs through each two positions and the one between them, as chords."""
    if len(positions) < 3:
        return positions
    out = [positions[:1]]
    for begin in range(0, len(positions) - 2, 2):
        out.append(_arc(positions[begin], positions[begin + 1], positions[begin + 2], tolerance))
    return np.concatenate(out)


def _arc(a: np.ndarray, b: np.ndarray, c: np.ndarray, tolerance: float) -> np.ndarray:
    """The positions after the first of an arc made straight; its own three stay exactly."""
    circle = (a[:2] == c[:2]).all()
    if circle:
        centre = (a[:2] + b[:2]) / 2
    else:
        # about the first position, so that large coordinates lose nothing
        p, q = b[:2] - a[:2], c[:2] - a[:2]
        twice = 2 * (p[0] * q[1] - p[1] * q[0])
        if abs(twice) <= 1e-12 * (np.hypot(*p) * np.hypot(*q)):
            return np.array([b, c])  # a straight line
        pp, qq = p @ p, q @ q
        centre = a[:2] + np.array([q[1] * pp - p[1] * qq, p[0] * qq - q[0] * pp]) / twice
    radius = float(np.hypot(*(a[:2] - centre)))
    if not np.isfinite(radius) or radius == 0:
        return np.array([b, c])
    at = [np.arctan2(*(x[:2] - centre)[::-1]) for x in (a, b, c)]
    turn = 2 * np.pi
    if circle:
        first = second = np.pi
    else:
        first, whole = (at[1] - at[0]) % turn, (at[2] - at[0]) % turn
        if first > whole:  # the other way round
            first, whole = first - turn, whole - turn
        second = whole - first
    step = min(2 * np.arccos(max(0.0, 1 - min(tolerance, radius) / radius)) or _TURN, _TURN)
    parts = []
    for begin, angle, start, end in ((at[0], first, a, b), (at[0] + first, second, b, c)):
        count = int(min(_MOST, max(1, np.ceil(abs(angle) / step))))
        share = np.arange(1, count + 1) / count
        made = start + share[:, None] * (end - start)  # heights and measures
        made[:, 0] = centre[0] + radius * np.cos(begin + share * angle)
        made[:, 1] = centre[1] + radius * np.sin(begin + share * angle)
        made[-1] = end
        parts.append(made)
    return np.concatenate(parts)


def _wkb(kind: int, z: bool, m: bool) -> bytes:
    return b"\x01" + struct.pack("<I", kind + 1000 * z + 2000 * m)


def _plain(positions: np.ndarray) -> bytes:
    return positions.astype("<f8").tobytes()


def _counted(positions: np.ndarray) -> bytes:
    return struct.pack("<I", len(positions)) + _plain(positions)
