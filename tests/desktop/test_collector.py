"""Objects of the window are freed on its own thread, however much other threads allocate meanwhile."""

from __future__ import annotations

import gc
import subprocess
import sys
from pathlib import Path

import pytest

# Threads that make cycles all the time would set the collector off at once if it were left to itself; a window that opens,
# runs and closes leaves cycles of its own. Where one is taken apart in a wrong thread, its finaliser says so.
STRESS = """
import gc, os, sys, threading, weakref
from pathlib import Path
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PySide6.QtCore import QObject, QSettings, QTimer, QCoreApplication, QEvent
from eskret.desktop.app import make_application
from eskret.desktop.window import Window

app = make_application()
gc.set_threshold(50, 2, 2)
wrong, freed, stop = [], [], threading.Event()
home = threading.get_ident()

class Watched(QObject):
    def __del__(self):
        (freed if threading.get_ident() == home else wrong).append(1)

def busy():
    while not stop.is_set():
        for _ in range(200):
            a, b = [], []
            a.append(b), b.append(a)
        stop.wait(0.0005)

threads = [threading.Thread(target=busy, daemon=True) for _ in range(2)]
for t in threads:
    t.start()
for turn in range(int(sys.argv[2])):
    window = Window(QSettings(sys.argv[1], QSettings.Format.IniFormat))
    window.show()
    bench = window.furnish(Path(sys.argv[3]))
    for _ in range(40):  # cycles with objects of Qt in them
        one = Watched()
        one.me = one
    del one
    ends = []
    QTimer.singleShot(700, lambda: ends.append(1))
    while not ends:
        app.processEvents()
    if turn == 0:
        bench.session.run()
        while not bench.session.last_run:
            app.processEvents()
    window.close()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    app.processEvents()
    del window, bench
assert gc.isenabled()
stop.set()
for t in threads:
    t.join()
gc.collect()
print(len(wrong), len(freed))
os._exit(0)
"""


@pytest.mark.parametrize("turns", [4])
def test_windows_open_run_and_close_while_threads_allocate(project: Path, tmp_path: Path, turns: int) -> None:
    command = [sys.executable, "-X", "faulthandler", "-c", STRESS, str(tmp_path / "x.ini"), str(turns), str(project)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr[-3000:]
    wrong, freed = map(int, done.stdout.split()[-2:])
    assert wrong == 0 and freed == 40 * turns


# A workflow opened and run again and again, with another file in its folder each time: what the window holds stays the same.
AGAIN = """
import collections, gc, os, sys, time
from pathlib import Path
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PySide6.QtCore import QEvent, QSettings
from eskret.desktop.app import make_application
from eskret.desktop.window import Window

app = make_application()
window = Window(QSettings(sys.argv[1], QSettings.Format.IniFormat))
window.show()
project = Path(sys.argv[2])
bench = window.furnish(project)

def turn(until):
    end = time.monotonic() + 30
    while not until() and time.monotonic() < end:
        app.processEvents()
        app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        time.sleep(0.003)

def held():
    gc.unfreeze()
    gc.collect()
    kinds = collections.Counter(type(o).__name__ for o in gc.get_objects() if str(type(o).__module__).startswith("PySide6"))
    return kinds + collections.Counter(Widgets=len(app.allWidgets()), Files=len(os.listdir("/proc/self/fd")))

counts = []
for k in range(5):
    bench.files.open_path(project)
    (project.parent / "beside.csv").write_text("x,y\\n" + "1,2\\n" * k)
    bench.sources.refresh()
    begun = time.monotonic()
    turn(lambda: time.monotonic() - begun > 1.2)
    bench.session.run()
    turn(lambda: bench.session.last_run and not bench.session.running)
    turn(lambda: time.monotonic() - begun > 3)
    counts.append(held())
print(dict(counts[-1] - counts[2]), sum(counts[-1].values()))
os._exit(0)
"""


def test_what_a_closed_workflow_held_is_not_kept(project: Path, tmp_path: Path) -> None:
    done = subprocess.run([sys.executable, "-c", AGAIN, str(tmp_path / "x.ini"), str(project)], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr[-3000:]
    grown, count = done.stdout.strip().rsplit(" ", 1)
    assert int(count) > 500 and grown == "{}"


def test_the_collector_is_left_to_itself_where_there_is_no_window() -> None:
    assert gc.isenabled()
