"""Where results are kept: entries whole or not at all, room made for the new, whatever else touches the folder."""

from __future__ import annotations

import os
import sqlite3
import stat
import subprocess
import sys
import time
from pathlib import Path

import pytest

from eskret.core.files.hashing import hash_file
from eskret.workflow.cache.file_hashes import FileHashes, with_companions
from eskret.workflow.cache.store import Store

KEYS = [f"{n:02x}" * 32 for n in range(12)]


def put(store: Store, key: str, size: int = 1000, told: object = "told") -> None:
    def fill(folder: Path) -> object:
        (folder / "rows").write_bytes(b"x" * size)
        return told

    store.put(key, fill)


def test_an_entry_comes_back_and_belongs_to_its_owner_alone(tmp_path: Path) -> None:
    store = Store(tmp_path / "cache" / "results")
    put(store, KEYS[0], told={"a": [1, 2]})
    assert store.get(KEYS[0]) == {"a": [1, 2]} and (store.home(KEYS[0]) / "rows").read_bytes() == b"x" * 1000
    assert store.get(KEYS[1]) is None and store.size()[0] == 1
    assert stat.S_IMODE(store.folder.stat().st_mode) == 0o700
    put(store, KEYS[0], told="again")
    assert store.get(KEYS[0]) == {"a": [1, 2]}, "what is there stays"
    store.drop(KEYS[0])
    assert store.get(KEYS[0]) is None and store.size() == (0, 0)


@pytest.mark.parametrize("content", [b"", b"\x80", b"nothing of the kind", b"{", b'{"a": [1, 2'])
def test_an_entry_that_is_not_whole_is_none(tmp_path: Path, content: bytes) -> None:
    store = Store(tmp_path)
    put(store, KEYS[0])
    (store.home(KEYS[0]) / "entry.json").write_bytes(content)
    assert store.get(KEYS[0]) is None and not store.home(KEYS[0]).exists()
    put(store, KEYS[0])
    assert store.get(KEYS[0]) == "told"


def test_what_cannot_be_filled_leaves_nothing_behind(tmp_path: Path) -> None:
    store = Store(tmp_path)

    def full(folder: Path) -> object:
        (folder / "half").write_bytes(b"x")
        raise OSError(28, "No space left on device")

    store.put(KEYS[0], full)
    store.put(KEYS[1], lambda folder: lambda: None)  # no process could read it again
    assert store.get(KEYS[0]) is None and store.get(KEYS[1]) is None and list(tmp_path.iterdir()) == []


def test_the_one_used_longest_ago_makes_room(tmp_path: Path) -> None:
    store = Store(tmp_path)
    for n, key in enumerate(KEYS[:5]):
        put(store, key)
        os.utime(store.home(key) / "entry.json", (n, n))
    assert store.get(KEYS[0]) == "told"  # now it was used last
    each = store.size()[1] // 5
    store.set_limit(3 * each)
    assert [store.get(k) is not None for k in KEYS[:5]] == [True, False, False, True, True]
    assert store.limit() == 3 * each and Store(tmp_path).limit() == 3 * each
    for key in KEYS[5:9]:
        put(store, key)
    store.flush()
    assert store.size()[1] <= 3 * each and store.get(KEYS[8]) == "told"
    store.set_limit(0)
    put(store, KEYS[9])
    assert store.size() == (0, 0), "nothing is kept where nothing may be"
    store.clear()


def test_a_limit_that_cannot_be_read_is_the_usual_one(tmp_path: Path) -> None:
    store = Store(tmp_path)
    usual = store.limit()
    for text in ("", "[]", '{"bytes": "many"}', "{"):
        (tmp_path / "limit.json").write_text(text)
        assert store.limit() == usual


def test_what_a_killed_process_left_goes_with_the_next_trim(tmp_path: Path) -> None:
    code = (
        "import os, sys; from pathlib import Path; from eskret.workflow.cache.store import Store\n"
        "def fill(folder):\n    (folder / 'half').write_bytes(b'x' * 1000); os._exit(9)\n"
        f"Store(Path({str(tmp_path)!r})).put({KEYS[0]!r}, fill)"
    )
    assert subprocess.run([sys.executable, "-c", code]).returncode == 9
    assert [p.name.split("-")[0] for p in tmp_path.iterdir()] == [".new"]
    store = Store(tmp_path)
    assert store.get(KEYS[0]) is None
    store.trim()
    assert list(tmp_path.glob(".new-*")) == []


def test_two_processes_that_keep_the_same_find_one_whole(tmp_path: Path) -> None:
    code = (
        "from pathlib import Path; from eskret.workflow.cache.store import Store\n"
        f"store = Store(Path({str(tmp_path)!r}))\n"
        "for n in range(40):\n"
        "    key = f'{n:02x}' * 32\n"
        "    store.put(key, lambda folder: [(folder / 'rows').write_bytes(b'y' * 5000), key][1])\n"
        "    assert store.get(key) in (key, None)\n"
    )
    both = [subprocess.Popen([sys.executable, "-c", code]) for _ in range(2)]
    assert [p.wait(60) for p in both] == [0, 0]
    store = Store(tmp_path)
    assert [store.get(f"{n:02x}" * 32) for n in range(40)] == [f"{n:02x}" * 32 for n in range(40)]


# -- hashes of files


def settled(path: Path, content: bytes) -> Path:
    """A file that was written some time ago, so that its time tells."""
    path.write_bytes(content)
    os.utime(path, (time.time() - 100, time.time() - 100))
    return path


def test_a_file_is_hashed_once_until_it_is_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from eskret.workflow.cache import file_hashes

    read: list[Path] = []
    monkeypatch.setattr(file_hashes, "hash_file", lambda p: [read.append(p), hash_file(p)][1])
    monkeypatch.setattr(file_hashes, "is_racy", lambda changed: False)  # as some seconds later
    path = settled(tmp_path / "a", b"one")
    hashes = FileHashes(tmp_path / "kept" / "hashes.sqlite")
    assert hashes.digest(path) == hashes.digest(path) == hash_file(path) and len(read) == 1
    hashes.save()
    again = FileHashes(tmp_path / "kept" / "hashes.sqlite")
    assert again.digest(path) == hash_file(path) and len(read) == 1, "another process remembers it"
    settled(path, b"two")
    assert again.digest(path) == hash_file(path) and len(read) == 2
    (tmp_path / "b").write_bytes(b"three")
    os.replace(tmp_path / "b", path)
    os.utime(path, (time.time() - 100, time.time() - 100))
    assert again.digest(path) == hash_file(path) and len(read) == 3, "another file in its place, with any time"


def test_what_was_written_this_instant_is_never_taken_as_known(tmp_path: Path) -> None:
    path, hashes = tmp_path / "a", FileHashes(tmp_path / "hashes.sqlite")
    for content in (b"aa", b"bb", b"cc"):
        path.write_bytes(content)  # the same size within one tick of the clock
        assert hashes.digest(path) == hash_file(path)


@pytest.mark.parametrize("damage", ["junk", "folder", "older"])
def test_hashes_that_cannot_be_kept_cost_time_and_nothing_else(tmp_path: Path, damage: str) -> None:
    kept = tmp_path / "hashes.sqlite"
    if damage == "junk":
        kept.write_bytes(b"this is no database" * 100)
    elif damage == "folder":
        kept.mkdir()
    else:
        with sqlite3.connect(kept) as db:
            db.execute("CREATE TABLE stamps (path TEXT)")
    path = settled(tmp_path / "a", b"one")
    hashes = FileHashes(kept)
    assert hashes.digest(path) == hash_file(path)
    hashes.save()
    assert FileHashes(kept).digest(path) == hash_file(path)
    with pytest.raises(OSError):
        hashes.digest(tmp_path / "gone")


def test_files_that_belong_together_are_found(tmp_path: Path) -> None:
    names = ["a.shp", "a.dbf", "a.shx", "a.shp.xml", "ab.dbf", "b.gpkg", "b.gpkg-wal"]
    for name in names:
        (tmp_path / name).write_bytes(b"x")
    assert [p.name for p in with_companions(tmp_path / "a.shp")] == ["a.shp", "a.dbf", "a.shp.xml", "a.shx"]
    assert [p.name for p in with_companions(tmp_path / "b.gpkg")] == ["b.gpkg", "b.gpkg-wal"]
    (tmp_path / "b.gpkg-wal").write_bytes(b"")
    assert [p.name for p in with_companions(tmp_path / "b.gpkg")] == ["b.gpkg"]
    assert with_companions(tmp_path / "c.csv") == [tmp_path / "c.csv"]


def test_what_somebody_works_with_stays_whoever_makes_room(tmp_path: Path) -> None:
    """What a run made or took up lies in the store while it goes on; another process that makes room leaves it there."""
    mine, other = Store(tmp_path), Store(tmp_path)
    for key in KEYS[:3]:
        put(mine, key)
        os.utime(mine.home(key) / "entry.json", (1, 1))
    with mine.in_use():
        assert mine.get(KEYS[0]) == "told"  # taken up
        put(mine, KEYS[3])  # made
        other.clear()
        assert [other.home(k).exists() for k in KEYS[:4]] == [True, False, False, True]
        put(other, KEYS[0], told="anew")
        other.put(KEYS[0], lambda folder: "anew", anew=True)
        assert mine.get(KEYS[0]) == "anew" and not list(tmp_path.glob(".new-*"))
    other.clear()
    assert other.size()[0] == 0 and not list(tmp_path.glob("use-*"))


def test_whoever_was_killed_holds_nothing(tmp_path: Path) -> None:
    code = f"""
import os, signal
from pathlib import Path
from eskret.workflow.cache.store import Store
store = Store(Path({str(tmp_path)!r}))
with store.in_use():
    store.put({KEYS[0]!r}, lambda folder: "told")
    os.kill(os.getpid(), signal.SIGKILL)
"""
    subprocess.run([sys.executable, "-c", code], check=False)
    assert Store(tmp_path).get(KEYS[0]) == "told" and list(tmp_path.glob("use-*"))
    Store(tmp_path).clear()
    assert Store(tmp_path).size()[0] == 0 and not list(tmp_path.glob("use-*"))


def test_many_edits_drive_nothing_out_that_runs_keep(tmp_path: Path) -> None:
    """Two stores side by side: each looks in the other, a run has what it took up for itself, and each has its own limit."""
    kept, live = tmp_path / "results", tmp_path / "live"

    def of_runs() -> Store:
        return Store(kept, Store(live, most=3000), takes=True)

    def of_edits() -> Store:
        return Store(live, Store(kept), most=3000)

    put(of_runs(), KEYS[0], 2000)
    edits = of_edits()
    assert edits.get(KEYS[0]) == "told" and edits.home(KEYS[0]).is_relative_to(kept), "what runs kept stays where it is"
    for n, key in enumerate(KEYS[1:]):
        put(edits, key, 900, told=n)
        os.utime(edits.home(key) / "entry.json", (n, n))
        edits.flush()
    assert 0 < Store(live).size()[1] <= 3000 and Store(kept).size()[0] == 1
    assert of_runs().get(KEYS[1]) is None
    last = len(KEYS) - 2
    run = of_runs()
    with run.in_use():
        assert run.get(KEYS[-1]) == last and run.home(KEYS[-1]).is_relative_to(kept)
        with edits.in_use():
            edits.clear()
            assert Store(live).size()[0] >= 0
    Store(live).clear()
    assert of_runs().get(KEYS[-1]) == last, "a run has it for itself"
    assert (of_runs().home(KEYS[-1]) / "rows").read_bytes() == b"x" * 900
    of_runs().drop(KEYS[-1])
    assert of_edits().get(KEYS[-1]) is None
    of_runs().set_limit(0)
    assert of_edits().limit() == 0, "who keeps nothing keeps nothing of edits either"


def test_what_a_run_takes_up_of_edits_is_not_taken_away_meanwhile(tmp_path: Path) -> None:
    live = Store(tmp_path / "live", most=3000)
    put(live, KEYS[0])
    run = Store(tmp_path / "results", Store(tmp_path / "live", most=3000), takes=True)
    with run.in_use():
        assert run.beside is not None and run.beside.get(KEYS[0]) == "told"
        live.clear()
        assert run.get(KEYS[0]) == "told"
    live.clear()
    assert live.get(KEYS[0]) is None and run.get(KEYS[0]) == "told"
