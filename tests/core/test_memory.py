"""Memory that tasks share, and sizes as people write them."""

from __future__ import annotations

import threading
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.memory import Room, of_machine
from eskret.core.words import byte_words, bytes_in
from eskret.errors import SettingError, StoppedError


def test_a_task_waits_until_there_is_room_and_one_alone_never_does() -> None:
    room, order = Room(100), []
    within, go_on = threading.Event(), threading.Event()

    def first() -> None:
        with room.take(500, lambda: None):  # more than there is, and alone
            within.set()
            go_on.wait(5)
            order.append("first")

    def second() -> None:
        with room.take(10, lambda: None):
            order.append("second")

    threads = [threading.Thread(target=first)]
    threads[0].start()
    assert within.wait(5)
    threads.append(threading.Thread(target=second))
    threads[1].start()
    with room.take(0, lambda: None):  # what needs nothing worth speaking of waits for nobody
        order.append("small")
    time.sleep(0.05)
    assert order == ["small"]
    go_on.set()
    for thread in threads:
        thread.join(5)
    assert order == ["small", "first", "second"]


def test_waiting_for_room_can_be_ended() -> None:
    room = Room(100)

    def stop() -> None:
        raise StoppedError

    with room.take(90, lambda: None):
        with pytest.raises(StoppedError), room.take(20, stop):
            pytest.fail("there was no room")
        with room.take(10, stop):
            pass


@given(st.integers(1, 10**13))
def test_sizes_are_read_as_they_are_written(size: int) -> None:
    assert bytes_in(byte_words(size).replace("bytes", "").replace(",", "")) == pytest.approx(size, rel=0.06)


@pytest.mark.parametrize(("text", "size"), [("500MB", 5 * 10**8), ("2 gb", 2 * 10**9), ("1.5k", 1500), ("7", 7)])
def test_sizes_in_words(text: str, size: int) -> None:
    assert bytes_in(text) == size


@pytest.mark.parametrize("text", ["", "much", "-1GB", "1e9", "2GiB", "1,5GB"])
def test_what_is_no_size_is_said(text: str) -> None:
    with pytest.raises(SettingError, match="is no size"):
        bytes_in(text)


def test_the_machine_has_some() -> None:
    assert 10**8 < of_machine() < 10**14
