"""Arrays in files: what comes back is what went in, in any number of threads, and what is not whole is not taken."""

from __future__ import annotations

import gc
import threading
import time
from collections.abc import Generator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays, scalar_dtypes

from eskret.core.files.arrays import read_arrays, write_arrays

ANY = arrays(scalar_dtypes(), array_shapes(min_dims=0, max_dims=3, min_side=0, max_side=4))


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(ANY, max_size=4), st.booleans())
def test_whatever_goes_in_comes_back(tmp_path: Path, given_: list[np.ndarray], mapped: bool) -> None:
    path = tmp_path / "any.arrays"
    write_arrays(path, given_)
    found = read_arrays(path, mapped=mapped)
    assert [(a.dtype, a.shape, a.tobytes()) for a in found] == [(a.dtype, a.shape, a.tobytes()) for a in given_]


def test_in_another_order_of_memory_too(tmp_path: Path) -> None:
    whole = np.arange(12).reshape(3, 4)
    write_arrays(tmp_path / "a", [np.asfortranarray(whole), whole[:, 1]])
    for array, wanted in zip(read_arrays(tmp_path / "a"), (whole, [1, 5, 9]), strict=True):
        np.testing.assert_array_equal(array, wanted)


def test_what_is_mapped_outlives_its_name_and_is_read_only(tmp_path: Path) -> None:
    write_arrays(tmp_path / "a", [np.arange(1000)])
    (mapped,) = read_arrays(tmp_path / "a", mapped=True)
    (tmp_path / "a").unlink()
    assert mapped.sum() == 499_500
    with pytest.raises(ValueError, match="read-only"):
        mapped[0] = 1


@pytest.mark.parametrize("left", [0, 5, 40, 100, -1])
def test_a_file_that_is_not_whole_is_refused(tmp_path: Path, left: int) -> None:
    write_arrays(tmp_path / "a", [np.arange(10), np.zeros((3, 2))])
    raw = (tmp_path / "a").read_bytes()
    (tmp_path / "a").write_bytes(raw[:left])
    with pytest.raises(ValueError):
        read_arrays(tmp_path / "a")


def test_objects_are_refused(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="objects"):
        write_arrays(tmp_path / "a", [np.array(["a", None], object)])


class _Busy:
    """Something whose end lets another thread work: what libraries leave to be collected does that at any instant."""

    def __del__(self) -> None:
        time.sleep(1e-5)


@pytest.fixture
def collected_all_the_time() -> Generator[None, None, None]:
    before, over = gc.get_threshold(), threading.Event()

    def leave() -> None:
        while not over.is_set():
            one = _Busy()
            one.me = one  # type: ignore[attr-defined]
            del one
            time.sleep(0)

    gc.set_threshold(2, 2, 2)
    thread = threading.Thread(target=leave)
    thread.start()
    yield
    over.set()
    thread.join()
    gc.set_threshold(*before)


def test_threads_at_any_depth_read_at_once(tmp_path: Path, collected_all_the_time: None) -> None:
    """The library's own files fail here in a few of thousands of reads: "AST constructor recursion depth mismatch"."""
    path, wrong = tmp_path / "a", []
    write_arrays(path, [np.arange(5)])

    def read(depth: int) -> None:
        if depth:
            return read(depth - 1)
        for _ in range(1500):
            try:
                read_arrays(path)
            except BaseException as error:
                wrong.append(error)

    threads = [threading.Thread(target=read, args=(3 * n,)) for n in range(4)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert wrong == []
