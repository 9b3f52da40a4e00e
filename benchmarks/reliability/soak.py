"""The window driven over all its views for a while: memory, threads, open files and files left on disk stay flat.

QT_QPA_PLATFORM=offscreen python benchmarks/reliability/soak.py [MINUTES]
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))
_OWN = tempfile.mkdtemp(prefix="trial-data-")
os.environ.update(XDG_DATA_HOME=_OWN, XDG_CACHE_HOME=f"{_OWN}/cache", XDG_STATE_HOME=f"{_OWN}/state")
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QSettings, Qt  # noqa: E402
from PySide6.QtTest import QTest  # noqa: E402
from PySide6.QtWidgets import QApplication  # noqa: E402

from eskret.demo.generate import lessons, make  # noqa: E402
from eskret.desktop.app import make_application  # noqa: E402
from eskret.desktop.window import Window  # noqa: E402

VIEWS = ("F3", "F10", "F11", "F12")
KEYS = {"F3": Qt.Key.Key_F3, "F10": Qt.Key.Key_F10, "F11": Qt.Key.Key_F11, "F12": Qt.Key.Key_F12}


def measured() -> tuple[float, int, int, int]:
    """Memory in MB, threads, open files, files in the places that the program writes."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    scratch = Path(_OWN, "cache", "eskret", "scratch")
    files = sum(1 for p in scratch.rglob("*") if p.is_file()) if scratch.is_dir() else 0
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6, threading.active_count(), len(os.listdir("/proc/self/fd")), files


def main(minutes: float) -> int:
    """Drive; 1 where something grew."""
    chance = random.Random(1)
    app = make_application()
    home = make(Path(tempfile.mkdtemp(prefix="trial-")) / "demo")
    workflows = lessons(home)
    window = Window(QSettings(str(home / "x.ini"), QSettings.Format.IniFormat))
    window.show()
    bench = window.furnish(workflows[0])

    def turn(seconds: float) -> None:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            app.processEvents()
            app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)  # a loop of one's own leaves these out
            time.sleep(0.005)

    turn(3)
    samples: list[tuple[float, int, int, int]] = []
    begun = time.monotonic()
    rounds = 0
    while time.monotonic() - begun < minutes * 60:
        workflow = chance.choice([w for w in workflows if w.name not in ("publish.toml",)])
        bench.session.saved_at = None  # type: ignore[attr-defined]
        bench.files.open_path(workflow)
        turn(0.8)
        bench.session.run()
        until = time.monotonic() + 60
        while bench.session.running and time.monotonic() < until:
            turn(0.1)
        for step in bench.session.document.steps[:6]:
            bench.session.select(step.id)
            turn(0.1)
        for view in VIEWS:
            QTest.keyClick(QApplication.focusWidget() or bench, KEYS[view])
            turn(0.25)
            QTest.keyClick(QApplication.focusWidget() or bench, KEYS[view])
            turn(0.1)
        rounds += 1
        samples.append(measured())
        if rounds % 10 == 0:
            memory, threads, handles, files = samples[-1]
            print(
                f"{time.monotonic() - begun:6.0f} s, {rounds} rounds: {memory:.0f} MB, {threads} threads, {handles} open files, "
                f"{files} files",
                flush=True,
            )
    window.close()
    turn(0.5)
    third = max(1, len(samples) // 3)
    warm, last = samples[third : 2 * third] or samples, samples[-third:]
    grown = []
    for name, at, room in (("memory", 0, 1.15), ("threads", 1, 1.2), ("open files", 2, 1.2), ("files", 3, 1.5)):
        before, after = (sorted(s[at] for s in part)[len(part) // 2] for part in (warm, last))
        print(f"{name}: {before:,.0f} in the middle third, {after:,.0f} in the last")
        if after > before * room + 2:
            grown.append(name)
    print(f"soak: {minutes:g} minutes, {rounds} workflows opened, run and looked at, grown: {', '.join(grown) or 'nothing'}")
    return int(bool(grown))


if __name__ == "__main__":
    code = main(float(sys.argv[1]) if len(sys.argv) > 1 else 30)
    sys.stdout.flush()
    os._exit(code)
