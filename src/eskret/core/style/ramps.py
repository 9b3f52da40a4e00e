"""Colours for maps, made in a space where equal steps look equal.

The space is OKLab (Björn Ottosson, 2020, published for free use; its matrices are given from memory, and the tests hold
the ramps against another model of colour vision). A ramp is a path through lightness, chroma and hue that is then walked
in steps of equal length; the colours for values are picked one by one, each as far as can be from those before.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

_LMS_OF_RGB = np.array(
    [[0.4122214708, 0.5363325363, 0.0514459929], [0.2119034982, 0.6806995451, 0.1073969566], [0.0883024619, 0.2817188376, 0.6299787005]]
)
_LAB_OF_LMS = np.array(
    [[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099], [0.0259040371, 0.7827717662, -0.8086757660]]
)
_RGB_OF_LMS = np.linalg.inv(_LMS_OF_RGB)
_LMS_OF_LAB = np.linalg.inv(_LAB_OF_LMS)


@dataclass(frozen=True)
class Ramp:
    """A path of colours. ``corners`` are lightness (0 to 1), chroma and hue in degrees, passed through in order."""

    title: str
    corners: tuple[tuple[float, float, float], ...]
    diverging: bool = False


RAMPS: Mapping[str, Ramp] = {
    "tide": Ramp("Tide", ((0.92, 0.045, 175), (0.66, 0.10, 205), (0.33, 0.10, 262))),
    "kelp": Ramp("Kelp", ((0.93, 0.08, 112), (0.66, 0.12, 138), (0.33, 0.07, 168))),
    "heather": Ramp("Heather", ((0.92, 0.05, 62), (0.66, 0.13, 12), (0.32, 0.11, 318))),
    "slate": Ramp("Slate", ((0.93, 0.006, 210), (0.32, 0.012, 210))),
    "ebb_and_flood": Ramp("Ebb and flood", ((0.40, 0.10, 250), (0.94, 0.012, 150), (0.40, 0.10, 62)), True),
}
"""By the name a workflow file calls them."""

NO_VALUE = "#E4E2DA"
OTHERS = "#A5A79F"


def to_lab(colours: Sequence[str]) -> np.ndarray:
    """OKLab of colours such as ``#22695A``: lightness, a, b (n, 3)."""
    rgb = np.array([[int(c[i : i + 2], 16) for i in (1, 3, 5)] for c in colours], float).reshape(-1, 3) / 255
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    return np.cbrt(linear @ _LMS_OF_RGB.T) @ _LAB_OF_LMS.T


def _linear(lab: np.ndarray) -> np.ndarray:
    return (lab @ _LMS_OF_LAB.T) ** 3 @ _RGB_OF_LMS.T


def to_hex(lab: np.ndarray) -> list[str]:
    """The nearest colours of a screen."""
    linear = np.clip(_linear(np.atleast_2d(lab)), 0, 1)
    rgb = np.where(linear <= 0.0031308, linear * 12.92, 1.055 * linear ** (1 / 2.4) - 0.055)
    return ["#{:02X}{:02X}{:02X}".format(*c) for c in np.rint(rgb * 255).astype(int).tolist()]


def _within(lightness: np.ndarray, chroma: np.ndarray, hue: np.ndarray) -> np.ndarray:
    """OKLab with the chroma lowered where a screen cannot show it."""
    low, high = np.zeros(len(hue)), np.ones(len(hue))
    angle = np.radians(hue)

    def lab(share: np.ndarray) -> np.ndarray:
        c = chroma * share
        return np.column_stack([lightness, c * np.cos(angle), c * np.sin(angle)])

    def shown(share: np.ndarray) -> np.ndarray:
        found = _linear(lab(share))
        return np.asarray(((found >= -1e-6) & (found <= 1 + 1e-6)).all(axis=1))

    high = np.where(shown(high), 1.0, high)
    full = shown(np.ones(len(hue)))
    for _ in range(24):
        middle = (low + high) / 2
        good = shown(middle)
        low, high = np.where(good, middle, low), np.where(good, high, middle)
    return lab(np.where(full, 1.0, low))


@lru_cache(maxsize=16)
def _path(name: str) -> tuple[np.ndarray, np.ndarray]:
    """Fine steps along a ramp, and how far along it each is (0 to 1)."""
    corners = np.array(RAMPS[name].corners)
    corners[:, 2] = np.degrees(np.unwrap(np.radians(corners[:, 2])))
    at = np.linspace(0, len(corners) - 1, 513)
    lab = _within(*(np.interp(at, np.arange(len(corners)), corners[:, i]) for i in range(3)))
    far = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(lab, axis=0), axis=1))])
    return lab, far / far[-1]


def ramp_colours(name: str, count: int, turned: bool = False) -> list[str]:
    """``count`` colours along a ramp in equal steps, pale first unless ``turned``; of a single one, the middle.

    Raises
    ------
    KeyError : there is no such ramp.
    """
    lab, far = _path(name)
    at = np.linspace(0, 1, count) if count > 1 else np.array([0.5])
    found = to_hex(np.column_stack([np.interp(at, far, lab[:, i]) for i in range(3)]))
    return found[::-1] if turned else found


_KEPT_FREE = ("#C4432B", "#E9B44C", "#EDF3F2", "#FFFDF7", OTHERS, NO_VALUE)
"""What stands for set aside, for chosen, for the ground and for the rest must not be taken for a value."""
MANY = 12
"""As many values as can be told apart by colour; more are drawn as others."""


def _apart(lab: np.ndarray, colour: np.ndarray) -> np.ndarray:
    """How far colours are from one, for eyes that tell red from green and for those that do not, whichever is less."""
    step = lab - colour
    return np.minimum(np.linalg.norm(step, axis=1), 1.7 * np.linalg.norm(step * (1.0, 0.25, 1.0), axis=1))


@lru_cache(maxsize=1)
def value_colours() -> tuple[str, ...]:
    """``MANY`` colours for values that have no order: each as far as can be from those before it, also for
    eyes that do not tell red from green."""
    hues = np.arange(0, 360, 6.0)
    grid = np.array(np.meshgrid(np.linspace(0.46, 0.84, 7), [0.07, 0.105, 0.14], hues)).reshape(3, -1)
    lab = np.unique(np.round(_within(*grid), 6), axis=0)
    lab = lab[(np.hypot(lab[:, 1], lab[:, 2]) > 0.05) & (np.linalg.norm(lab - to_lab(_KEPT_FREE[:1]), axis=1) > 0.17)]
    nearest = np.min([_apart(lab, c) for c in to_lab(_KEPT_FREE)], axis=0)
    out = [to_lab(["#3E8E7E"])[0]]
    while len(out) < MANY:
        nearest = np.minimum(nearest, _apart(lab, out[-1]))
        out.append(lab[int(np.argmax(nearest))])
    return tuple(to_hex(np.array(out)))


def darker(colour: str, by: float = 0.2) -> str:
    """The colour with less lightness, for its outline."""
    lab = to_lab([colour])
    lab[:, 0] = np.maximum(0.15, lab[:, 0] - by)
    return to_hex(lab)[0]
