"""What memory a process has taken and no longer needs, given back."""

from __future__ import annotations

import ctypes
from contextlib import suppress

import pyarrow as pa


def give_back() -> None:
    """Give what lies unused in the allocators back to the system, where they let one ask for it; it takes some milliseconds."""
    pa.default_memory_pool().release_unused()
    with suppress(OSError, AttributeError):  # another system's library knows no such call
        ctypes.CDLL(None).malloc_trim(0)
