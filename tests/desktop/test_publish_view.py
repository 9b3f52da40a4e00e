"""The Publish view by clicks and keys: practice server, difference, push, stop, edits by others, back again."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit, QMessageBox

from eskret import Workflow, read
from eskret.desktop.views.published_list import mark_of, moment, state_words
from eskret.formats import geopackage
from eskret.practice_server import PracticeServer
from eskret.practice_server.faults import Faults
from eskret.services import features, journal, practice
from tests.conftest import TOKEN, points
from tests.desktop.conftest import Hand
from tests.desktop.test_runs_view import cells


@pytest.fixture
def lesson(make_hand: Callable[..., Hand], demo: Path, server: PracticeServer, monkeypatch: pytest.MonkeyPatch) -> Hand:
    """The lesson on publishing, with its service on a practice server that runs."""
    practice.note(server.address, TOKEN)
    path = demo / "publish.toml"
    path.write_text(path.read_text().replace("http://127.0.0.1:8731", server.address))
    return make_hand(path)


def shown(hand: Hand) -> dict[str, Any]:
    """What a person reads in the view."""
    view = hand.bench.views.publish
    kinds = {k: b.text() for k, b in view.changes.buttons.items() if b.isVisible()}
    acts = [a.text() for a in view.acts if a.isVisible()]
    return {
        "title": view.title.text(),
        "state": view.state.text(),
        "facts": view.facts.text(),
        "acts": acts,
        "kinds": kinds,
        "says": view.says.text() if view.says.isVisible() else "",
        "rows": view.changes.table.model_.rowCount(),
    }


def run_and_look(hand: Hand, changes: int) -> None:
    hand.settled()
    hand.run()
    hand.until(hand.bench.look_button.isVisible)
    hand.click(hand.bench.look_button)
    hand.until(lambda: shown(hand)["rows"] == changes and shown(hand)["state"] == "not sent yet")


def sent(hand: Hand, state: str) -> None:
    hand.until(lambda: hand.bench.publisher.sending is None and shown(hand)["state"] == state)


def listed(hand: Hand, address: str, id: str) -> str:
    """How many features the list of services says that a dataset has; empty where it is not there."""
    tree = hand.bench.views.publish.tree
    tops = [tree.topLevelItem(n) for n in range(tree.topLevelItemCount())]
    rows = [top.child(n).data(0, Qt.ItemDataRole.UserRole) for top in tops for n in range(top.childCount())]
    return next((str(r["figures"]) for r in rows if (r["address"], r["id"]) == (address, id)), "")


def there(server: PracticeServer) -> dict[str, dict[str, Any]]:
    return {f["properties"]["lease"]: f["properties"] for f in features.items(server.address, "leases").features}


def quarter(hand: Hand, name: str) -> None:
    """Choose a quarter in the chip at the top."""
    box = hand.bench.bar.open_parameter("quarter")
    assert box.field.box is not None
    box.field.box.setCurrentText(name)
    hand.click(box.use_button)


def test_two_quarters_are_published_and_one_is_taken_back(lesson: Hand, server: PracticeServer) -> None:
    hand, bench = lesson, lesson.bench
    run_and_look(hand, 412)
    assert "412 to add, 0 to change" in bench.banner_text.text() and features.datasets(server.address) == []
    assert shown(hand)["acts"] == ["Send", "Save the difference …", "Discard"]
    assert shown(hand)["facts"].startswith("412 to add; 0 features stay as they are. Bring it up to date by lease.")
    hand.click(bench.views.publish.send)
    sent(hand, "sent")
    assert len(there(server)) == 412 and "'leases' is up to date: 412 added" in shown(hand)["says"]
    hand.keys("Escape", bench.views.publish.tree)
    assert bench.pages.page == "work"
    quarter(hand, "2031-Q4")
    run_and_look(hand, 58)
    assert shown(hand)["kinds"] == {"all": "All 58", "added": "Added 12", "changed": "Changed 37", "removed": "Removed 9"}
    hand.click(bench.views.publish.changes.buttons["changed"])
    assert shown(hand)["rows"] == 37
    model = bench.views.publish.changes.table.model_
    texts = [str(model.value(n, 3)) for n in range(37)]
    assert any(t.startswith("holder: ") and " → " in t for t in texts) and any(t.startswith("moved ") for t in texts)
    # a row of the table marks its feature on the map
    bench.views.publish.changes.table.selectRow(4)
    assert bench.views.publish.changes.canvas.chosen.tolist() == [model.position(4)]
    before = there(server)
    hand.click(bench.views.publish.send)
    sent(hand, "sent")
    assert len(there(server)) == 415
    tree = bench.views.publish.tree
    hand.until(lambda: "415" in tree.topLevelItem(0).child(0).data(0, 256)["figures"])  # type: ignore[union-attr]
    assert bench.views.publish.list.count() == 2
    hand.click(bench.views.publish.back)
    sent(hand, "taken back")
    assert there(server) == before and shown(hand)["says"] == "'leases' is as it was before."
    hand.click(bench.views.publish.send)
    assert bench.views.publish.send.text() == "Send again"
    sent(hand, "sent")
    assert len(there(server)) == 415


def test_a_push_is_stopped_completed_and_settled_with_others(lesson: Hand, server: PracticeServer) -> None:
    hand, bench = lesson, lesson.bench
    view = bench.views.publish
    run_and_look(hand, 412)
    hand.click(view.send)
    sent(hand, "sent")
    hand.click(bench.bar.publish)
    quarter(hand, "2031-Q4")
    run_and_look(hand, 58)
    server.set_faults(Faults(slow=0.08))
    hand.click(view.send)
    hand.until(lambda: "of 58 changes sent" in view.progress_text.text())
    assert shown(hand)["acts"] == [] and view.stop.isVisible()
    hand.click(view.stop)
    sent(hand, "sent in part")
    server.set_faults(Faults())
    hand.until(lambda: shown(hand)["acts"] == ["Complete it", "Take back"])
    assert "it can be completed, or taken back" in shown(hand)["says"]
    waiting = next(e for e in journal.open_push(bench.publisher.pushes[0]["id"]).entries() if e.action == "removed")
    url = f"{server.address}/collections/leases/items/{waiting.change.id}"
    assert httpx.patch(url, json={"properties": {"holder": "Ottaway"}}, headers={"Authorization": f"Bearer {TOKEN}"}).is_success
    hand.click(view.send)
    hand.until(lambda: shown(hand)["acts"] == ["Take back", "Leave theirs", "Send ours over theirs"])
    hand.until(lambda: shown(hand)["kinds"].get("conflict") == "By others 1")
    assert "Somebody else changed 1 feature" in shown(hand)["says"]
    hand.click(view.changes.buttons["conflict"])
    assert "somebody else: holder = Ottaway" in str(view.changes.table.model_.value(0, 3))
    hand.click(view.leave)
    sent(hand, "sent")
    assert len(there(server)) == 416 and there(server)[waiting.key]["holder"] == "Ottaway"


def test_a_dataset_is_looked_at_fetched_and_published_to(lesson: Hand, server: PracticeServer) -> None:
    hand, bench = lesson, lesson.bench
    run_and_look(hand, 412)
    hand.click(bench.views.publish.send)
    sent(hand, "sent")
    # the service is asked again after that: only what is in the list can be chosen
    hand.until(lambda: listed(hand, server.address, "leases") == "412")
    bench.views.publish.tree.choose(server.address, "leases")
    hand.until(lambda: shown(hand)["rows"] == 412 and shown(hand)["title"] == "Leases of Orrel Sound")
    told = shown(hand)
    assert "412 features; changed today at" in told["facts"] and "granted (date)" in told["facts"]
    assert told["acts"] == ["Publish to it", "Fetch it", "Token …"] and told["kinds"] == {}
    hand.click(bench.views.publish.fetch)
    step = bench.session.step()
    assert bench.pages.page == "work" and step is not None and step.use == "fetch"
    assert step.settings == {"service": server.address, "dataset": "leases"}
    hand.click(bench.bar.publish)
    bench.views.publish.tree.choose(server.address, "leases")
    hand.until(lambda: bench.views.publish.publish_to.isVisible())
    hand.click(bench.views.publish.publish_to)
    step = bench.session.step()
    assert step is not None and (step.use, step.source) == ("publish", ("leases",))
    hand.click(bench.bar.rehearse)
    hand.settled()
    assert "features must be told apart: name the fields of a key" in " ".join(f.text for f in bench.session.findings(step.id))


def test_a_difference_is_thrown_away_or_saved(lesson: Hand, monkeypatch: pytest.MonkeyPatch) -> None:
    hand, bench = lesson, lesson.bench
    run_and_look(hand, 412)
    hand.click(bench.views.publish.keep)
    step = bench.session.step()
    assert step is not None and (step.use, step.source) == ("save", ("online",)) and bench.pages.page == "work"
    hand.keys("F11", bench)
    hand.until(lambda: bench.pages.page == "publish" and shown(hand)["state"] == "not sent yet")
    monkeypatch.setattr(QMessageBox, "question", lambda *a: QMessageBox.StandardButton.Yes)
    hand.click(bench.views.publish.discard)
    hand.until(lambda: bench.views.publish.list.count() == 0)
    assert journal.pushes() == [] and "its publish step takes the difference" in shown(hand)["facts"]


def test_services_are_added_and_one_that_does_not_answer_says_so(lesson: Hand, server: PracticeServer) -> None:
    hand, bench = lesson, lesson.bench
    hand.click(bench.bar.publish)
    hand.until(lambda: bench.views.publish.tree.topLevelItemCount() == 1)
    add = next(b for b in bench.views.publish.findChildren(type(bench.views.publish.send)) if b.text() == "Add a service …")
    hand.click(add)
    box = next(w for w in QApplication.topLevelWidgets() if w.windowTitle() == "Add a service")
    line = box.findChild(QLineEdit)
    hand.type("no address", line)
    hand.keys("Return", line)
    assert "An address begins with" in box.wrong.text()  # type: ignore[attr-defined]
    hand.keys("Ctrl+A", line)
    hand.type("http://127.0.0.1:9/far", line)
    hand.keys("Return", line)
    hand.until(lambda: bench.views.publish.tree.topLevelItemCount() == 2)
    hand.until(lambda: bench.publisher.services["http://127.0.0.1:9/far"].problem)
    bench.views.publish.tree.choose("http://127.0.0.1:9/far", "")
    hand.until(lambda: "the service does not answer" in shown(hand)["facts"])
    assert shown(hand)["acts"] == ["Token …", "Forget the service"]
    hand.click(bench.views.publish.forget)
    hand.until(lambda: bench.views.publish.tree.topLevelItemCount() == 1)


def test_published_datasets_stand_among_the_sources(lesson: Hand, server: PracticeServer) -> None:
    hand, bench = lesson, lesson.bench
    run_and_look(hand, 412)
    hand.click(bench.views.publish.send)
    sent(hand, "sent")
    hand.keys("Escape", bench.views.publish.tree)
    hand.click_source("Practice server", "Leases of Orrel Sound")
    hand.until(lambda: bench.viewer.subject.source is not None and bench.viewer.table.model_.rowCount() == 412)
    assert bench.viewer.subject.title.startswith("leases · 127.0.0.1")
    hand.keys("Return", bench.sources.tree)
    step = bench.session.step()
    assert step is not None and (step.use, step.settings["dataset"]) == ("fetch", "leases")


def test_a_report_is_saved_from_the_window(lesson: Hand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    hand = lesson
    hand.settled()
    hand.run()
    path = tmp_path / "report.html"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(path), ""))
    hand.menu("Save the report")
    hand.until(lambda: "The report is saved as" in hand.banner())
    page = path.read_text()
    heads = [f"<h2>{h}" for h in ("Ledger", "Maps", "Checks", "Sources", "Published datasets", "Settings")]
    for part in (*heads, "register/quarters/2031-Q3.gpkg"):
        assert part in page, part
    assert page.count("<svg") == 1 and "http://127" in page and page.count("<script") == 1 and TOKEN not in page


def test_a_change_of_a_file_is_taken_back_from_the_sources(
    make_hand: Callable[..., Hand], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "marks.gpkg"
    with geopackage.writing(path) as container:
        container.add(points({"bed": ["A", "B"]}, key="marks"), "marks")
    more = tmp_path / "in" / "more.gpkg"
    more.parent.mkdir()
    with geopackage.writing(more) as container:
        container.add(points({"bed": ["C"]}, key="marks"), "marks")
    made = Workflow()
    made.save("out", made.load("in", files=[str(more)]), to="marks.gpkg", if_exists="append")
    file = tmp_path / "append.toml"
    made.write(file)
    hand = make_hand(file)
    hand.settled()
    hand.run()
    assert len(read(path)) == 3
    index = hand.source("marks.gpkg")
    tree = hand.bench.sources.tree
    hand.bench.sources._menu(tree.visualRect(index).center())
    action = next(a for a in hand.bench.sources.menu.actions() if a.text() == "Undo its last change")
    # the rehearsal that follows may have its own say before anybody looks at the banner
    told: list[str] = []
    tell = hand.bench.tell
    monkeypatch.setattr(hand.bench, "tell", lambda kind, text, *more, **ways: (told.append(text), tell(kind, text, *more, **ways)))
    action.trigger()
    hand.until(lambda: told)
    assert "is as it was before its last change" in told[0], told
    assert len(read(path)) == 2


def test_faults_are_practised(lesson: Hand, server: PracticeServer) -> None:
    hand, bench = lesson, lesson.bench
    run_and_look(hand, 412)
    hand.click(bench.views.publish.faults)
    box = next(w for w in QApplication.topLevelWidgets() if w.windowTitle() == "Faults to practise on")
    box.lines["answer"].setText("many")  # type: ignore[attr-defined]
    hand.click(box.ok)  # type: ignore[attr-defined]
    assert "must be a whole number" in box.wrong.text()  # type: ignore[attr-defined]
    for name, text in (("answer", "401"), ("answer_from", "30")):
        box.lines[name].setText(text)  # type: ignore[attr-defined]
    hand.click(box.ok)  # type: ignore[attr-defined]
    hand.until(lambda: "does as it was told" in shown(hand)["says"])
    hand.click(bench.views.publish.send)
    sent(hand, "sent in part")
    assert "it wants to know who you are" in shown(hand)["says"] and server.requests > 0
    server.set_faults(Faults())
    hand.until(lambda: bench.views.publish.send.isVisible())
    hand.click(bench.views.publish.send)
    sent(hand, "sent")
    assert len(there(server)) == 412


@pytest.mark.screen
def test_the_practice_server_is_started_and_stopped(make_hand: Callable[..., Hand], demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("eskret.desktop.state.publisher._PRACTICE_PORT", "0")
    hand = make_hand(demo / "publish.toml")
    view, publisher = hand.bench.views.publish, hand.bench.publisher
    hand.click(hand.bench.bar.publish)
    hand.click(view.practice)
    hand.until(lambda: any(s.practice and s.datasets == [] for s in publisher.services.values()))
    assert view.practice.text() == "Stop the practice server"
    address = practice.running()[0].address
    assert httpx.get(f"{address}/", headers={"Accept": "text/html"}).text.startswith("<!doctype html>")
    hand.click(view.practice)
    hand.until(lambda: not publisher.practising and view.practice.text() == "Start the practice server")
    with pytest.raises(httpx.TransportError):
        httpx.get(f"{address}/")


def test_words_for_states_and_times() -> None:
    for state in (journal.PREPARED, journal.SENDING, journal.PART, journal.PUSHED, journal.UNDOING, journal.UNDONE):
        assert state_words(state) != state or state not in ("prepared", "part", "pushed")
        assert mark_of(state) in ("look", "good", "")
    assert moment("2019-03-04T05:06:07+00:00") == "on 4 March 2019" and moment("not a time") == "not a time"


def test_a_push_stands_among_the_runs(lesson: Hand) -> None:
    hand = lesson
    run_and_look(hand, 412)
    hand.keys("F3", hand.bench)
    view = hand.bench.views.runs
    hand.until(lambda: bool(cells(view.outputs, "name")))
    assert cells(view.outputs, "name")[-1].startswith("leases at 127.0.0.1") and cells(view.outputs, "features")[-1] == "412"
    assert cells(view.outputs, "now")[-1] == state_words(journal.PREPARED)
