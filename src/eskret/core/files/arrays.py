"""Arrays of numbers in one file, which can be mapped into memory.

The library's own files say what they hold as Python's text, and reading that text is not safe in threads: the interpreter
(3.11) counts how deep it is in one place for all of them, and now and then ends a read with a fault. Here JSON says it.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

import numpy as np

_ALIGNED = 64  # where an array may begin: what the widest instructions of a processor like


def write_arrays(path: Path, arrays: Sequence[np.ndarray]) -> None:
    """Write arrays into one file.

    Parameters
    ----------
    arrays : of any shape, of numbers, truth values or instants.

    Raises
    ------
    ValueError : one holds objects of Python.
    """
    if any(a.dtype.hasobject for a in arrays):
        raise ValueError("objects of Python are not written as arrays")
    whole = [np.asarray(a, order="C") for a in arrays]
    told = json.dumps([{"dtype": a.dtype.str, "shape": a.shape} for a in whole]).encode()
    with path.open("wb") as stream:
        stream.write(len(told).to_bytes(8, "little") + told)
        for array in whole:
            stream.write(b"\0" * (-stream.tell() % _ALIGNED))
            stream.write(array.reshape(-1).view(np.uint8).data)


def read_arrays(path: Path, *, mapped: bool = False) -> list[np.ndarray]:
    """The arrays of a file, as ``write_arrays`` got them.

    Parameters
    ----------
    mapped : leave them on the disk, read only, until somebody asks for their values; the file may lose its name meanwhile.

    Raises
    ------
    OSError : it cannot be read.
    ValueError : it is not whole, or no such file.
    """
    raw = np.memmap(path, np.uint8, "r") if mapped else np.fromfile(path, np.uint8)
    begin = 8 + int.from_bytes(raw[:8].tobytes(), "little")
    if begin > len(raw):
        raise ValueError(f"'{path.name}' is not whole")
    out = []
    for one in json.loads(raw[8:begin].tobytes()):
        dtype, shape = np.dtype(one["dtype"]), tuple(one["shape"])
        begin += -begin % _ALIGNED
        end = begin + dtype.itemsize * int(np.prod(shape, dtype=np.int64))
        if dtype.hasobject or end > len(raw):
            raise ValueError(f"'{path.name}' is not whole")
        out.append(np.ndarray(shape, dtype, raw[begin:end]))
        begin = end
    return out
