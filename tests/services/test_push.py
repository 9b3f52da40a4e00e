"""Publishing as a difference: after every fault at every request the dataset can be brought to the old or the wanted state.

The faults are those that a service or the way to it can have: connections cut before or after a request was carried out,
statuses that pass and that do not, answers that are no JSON.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eskret.core.layer import Layer
from eskret.errors import EskretError, InputError, ServiceError, StoppedError
from eskret.practice_server import PracticeServer
from eskret.practice_server.faults import Faults
from eskret.services import changing, connection, difference, features, journal, push
from eskret.services.connection import Connection
from tests.conftest import TOKEN
from tests.length import examples

Rows = dict[str, tuple[float, float, Any]]
OLD: Rows = {"A": (1, 1, "sand"), "B": (2, 2, "mud"), "C": (3, 3, None), "D": (4, 4, "rock"), "E": (5, 5, "silt")}
NEW: Rows = {"A": (1, 1, "sand"), "C": (3, 3, "clay"), "D": (4.5, 4, "rock"), "F": (6, 6, "mud"), "G": (7, 7, None)}


def layer(rows: Rows) -> Layer:
    table = pa.table({"bed": pa.array(rows, pa.string()), "bottom": pa.array([r[2] for r in rows.values()], pa.string())})
    shapes = np.array([shapely.Point(-26 + x / 1000, 47 + y / 1000) for x, y, _ in rows.values()] + [None], object)[:-1]
    return Layer("beds", table, shapes, "EPSG:4326")


def there(server: PracticeServer, dataset: str) -> Rows:
    """What is published, by key; a key that two have shows twice."""
    out: Rows = {}
    for one in features.items(server.address, dataset).features:
        held, (x, y) = one["properties"], one["geometry"]["coordinates"]
        key = held["bed"] if held["bed"] not in out else f"{held['bed']} again"
        out[key] = (round((x + 26) * 1000, 4), round((y - 47) * 1000, 4), held.get("bottom"))
    return out


def prepared(
    server: PracticeServer,
    rows: Rows,
    folder: Path,
    dataset: str = "beds",
    mode: str = "update",
    key: tuple[str, ...] = ("bed",),
    remove: bool = True,
) -> journal.PushJournal:
    with Connection(server.address, TOKEN) as open_:
        known = features.describe(open_, dataset)
        found = features.read_items(open_, dataset).features if known else []
    d = difference.take(layer(rows), difference.published(found), mode=mode, key=key, remove=remove)
    words = journal.Push(
        journal.new_id(dataset),
        server.address,
        dataset,
        mode,
        key,
        d.decimals,
        None if d.own is None else tuple(d.own),
        journal.PREPARED,
        added=len(d.found.added),
        changed=len(d.found.changed),
        removed=len(d.found.removed),
        unchanged=d.same,
        count_before=len(found),
        make={"title": "Beds", "description": "", "fields": {}},
    )
    return journal.PushJournal.create(words, d.entries, folder)


def publish(server: PracticeServer, rows: Rows, folder: Path, dataset: str = "beds", **more: Any) -> journal.PushJournal:
    made = prepared(server, rows, folder, dataset, **more)
    assert push.send(made, TOKEN).state == journal.PUSHED
    return made


def edit(server: PracticeServer, key: str, bottom: str | None, dataset: str = "beds") -> None:
    """Somebody else changes a feature, or removes it."""
    found = features.items(server.address, dataset, where={"bed": key}).features[0]
    url, head = f"{server.address}/collections/{dataset}/items/{found['id']}", {"Authorization": f"Bearer {TOKEN}"}
    if bottom is None:
        assert httpx.delete(url, headers=head).status_code == 204
    else:
        body = {**found, "properties": {**found["properties"], "bottom": bottom}}
        assert httpx.put(url, json=body, headers=head).status_code == 204


def test_from_nothing_to_the_next_state_back_and_there_again(server: PracticeServer, tmp_path: Path) -> None:
    first = publish(server, OLD, tmp_path)
    assert there(server, "beds") == OLD and first.push.made
    second = prepared(server, NEW, tmp_path)
    told = second.push
    assert (told.added, told.changed, told.removed, told.unchanged) == (2, 2, 2, 1)
    assert there(server, "beds") == OLD  # a difference sends nothing
    ids = {f["properties"]["bed"]: f["id"] for f in features.items(server.address, "beds").features}
    assert push.send(second, TOKEN).state == "pushed" and there(server, "beds") == NEW
    after = {f["properties"]["bed"]: f["id"] for f in features.items(server.address, "beds").features}
    assert {k: after[k] for k in "ACD"} == {k: ids[k] for k in "ACD"}  # changed in place, not removed and added
    assert push.undo(second, TOKEN).state == "undone" and there(server, "beds") == OLD
    assert push.send(second, TOKEN).state == "pushed" and there(server, "beds") == NEW
    assert push.undo(second, TOKEN).state == "undone" and push.undo(first, TOKEN).state == "undone"
    with Connection(server.address, TOKEN) as open_:
        assert features.describe(open_, "beds") is None  # it made the dataset, so the dataset is gone


FAULTS = [
    {"lose": 1},
    {"lose_answer": 1},
    {"nonsense": 1},
    {"answer": 500, "answer_times": 1},
    {"answer": 429, "answer_times": 1, "retry_after": 0.01},
    {"answer": 503},
    {"answer": 401},
    {"answer": 409, "answer_times": 1},
    {"answer": 413, "answer_times": 1},
]


@pytest.mark.parametrize("fault", FAULTS, ids=str)
def test_a_fault_at_every_request_in_turn_loses_nothing(
    server: PracticeServer, tmp_path: Path, fault: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(changing, "TRIES", 3)
    outcomes = set()
    publish(server, OLD, tmp_path)
    for number in range(1, 20):
        dataset = "beds"
        second = prepared(server, NEW, tmp_path, dataset)
        at = {n: number if n in ("lose", "lose_answer", "nonsense") else v for n, v in fault.items()}
        server.set_faults(Faults.told({**at, **({"answer_from": number} if "answer" in at else {})}))
        with pytest.MonkeyPatch.context() as still:
            still.setattr(push, "AT_ONCE", 1 if number % 3 else 4)
            try:
                outcomes.add(push.send(second, TOKEN).state)
            except EskretError as error:
                outcomes.add(second.push.state)
                assert server.address in error.sentence() and second.push.says == error.sentence()
        reached = server.requests >= number
        server.set_faults(Faults())
        with journal.open_push(second.push.id, tmp_path) as again:  # as another process would
            if again.push.state == "pushed":
                assert there(server, dataset) == NEW
            elif number % 2:
                assert again.push.state == "part" and push.send(again, TOKEN).state == "pushed"
                assert there(server, dataset) == NEW
            assert push.undo(again, TOKEN).state == "undone" and there(server, dataset) == OLD
        if not reached:
            break
    assert number > 8, "the faults never ran out of requests to be at"
    assert outcomes == ({"part", "pushed"} if _breaks(fault) else {"pushed"})


def _breaks(fault: dict[str, Any]) -> bool:
    """Whether a push can be expected to end early: what passes is tried again."""
    return bool(fault.get("answer") in (401, 409, 413) or fault.get("nonsense") or fault == {"answer": 503})


@pytest.mark.parametrize("number", range(1, 16, 2))
def test_a_push_that_is_taken_back_under_faults_is_taken_back_in_the_end(server: PracticeServer, tmp_path: Path, number: int) -> None:
    publish(server, OLD, tmp_path)
    second = publish(server, NEW, tmp_path)
    server.set_faults(Faults(answer=401, answer_from=number))
    with pytest.raises(ServiceError, match="wants to know who you are"):
        push.undo(second, "wrong")
    server.set_faults(Faults())
    assert second.push.state == "undoing"
    assert push.undo(second, TOKEN).state == "undone" and there(server, "beds") == OLD


def test_a_stop_in_the_middle_is_completed_or_undone(server: PracticeServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(push, "AT_ONCE", 1)
    publish(server, OLD, tmp_path)
    for keep_on in (False, True):
        second = prepared(server, NEW, tmp_path)

        def stop(done: int, of: int) -> None:
            if done > 2:
                raise StoppedError

        with pytest.raises(StoppedError):
            push.send(second, TOKEN, stop)
        assert second.push.state == "part" and second.push.says == "It was stopped."
        assert there(server, "beds") not in (OLD, NEW)
        (push.send if keep_on else push.undo)(second, TOKEN)
        assert there(server, "beds") == (NEW if keep_on else OLD)


@pytest.mark.parametrize(("key", "edited"), [("C", "gravel"), ("B", "gravel"), ("D", None), ("C", None)])
def test_what_somebody_else_changed_is_shown_and_not_overwritten_unasked(
    server: PracticeServer, tmp_path: Path, key: str, edited: str | None
) -> None:
    publish(server, OLD, tmp_path)
    second = prepared(server, NEW, tmp_path)
    edit(server, key, edited)
    theirs = {k: (*v[:2], edited) if k == key else v for k, v in OLD.items() if k != key or edited}
    assert push.send(second, TOKEN).state == "part"
    assert "Somebody else changed 1 feature since the difference was taken; it was not touched" in second.push.says
    found = second.entries([journal.CONFLICT])
    assert [e.key for e in found] == [key]
    assert (found[0].theirs or {}).get("properties", {}).get("bottom") == edited
    now = there(server, "beds")
    assert now.get(key) == theirs.get(key) and {k: v for k, v in now.items() if k != key} == {k: v for k, v in NEW.items() if k != key}
    assert push.send(second, TOKEN, theirs=push.OVERWRITE).state == "pushed" and there(server, "beds") == NEW
    assert push.undo(second, TOKEN).state == "undone" and there(server, "beds") == theirs  # their edit comes back


def test_theirs_can_be_left_and_a_key_somebody_else_took_is_one_of_them(server: PracticeServer, tmp_path: Path) -> None:
    publish(server, OLD, tmp_path)
    second = prepared(server, NEW, tmp_path)
    theirs = {"type": "Feature", "geometry": None, "properties": {"bed": "F", "bottom": "theirs"}}
    url, head = f"{server.address}/collections/beds/items", {"Authorization": f"Bearer {TOKEN}"}
    assert httpx.post(url, json=theirs, headers=head).status_code == 201
    assert push.send(second, TOKEN).state == "part" and [e.key for e in second.entries(["conflict"])] == ["F"]
    assert push.send(second, TOKEN, theirs=push.LEAVE).state == "pushed"
    assert second.push.says == "1 feature stayed as somebody else made them."
    found = features.items(server.address, "beds", where={"bed": "F"}).features
    assert [f["properties"]["bottom"] for f in found] == ["theirs"] and len(features.items(server.address, "beds").features) == 5


def test_an_edit_between_reading_and_changing_is_refused_by_the_lock(server: PracticeServer, tmp_path: Path) -> None:
    """OGC 20-002, optimistic locking: a change made after the feature was read, and before it is replaced, is not lost."""
    publish(server, {"A": (1, 1, "sand")}, tmp_path)
    with Connection(server.address, TOKEN) as open_:
        before = features.read_items(open_, "beds").features[0]
        editor = changing.FeatureEditor(open_, "beds", 7)
        once = open_.once

        def slow(method: str, url: str, **more: Any) -> Any:
            if method == "PUT":
                open_.once = once  # type: ignore[method-assign]
                edit(server, "A", "gravel")
            return once(method, url, **more)

        open_.once = slow  # type: ignore[method-assign]
        wanted = {**before, "properties": {"bed": "A", "bottom": "mine"}}
        done = editor.carry_out(changing.FeatureChange(before, wanted, before["id"]))
    assert done.conflict and done.theirs is not None and done.theirs["properties"]["bottom"] == "gravel"
    assert there(server, "beds")["A"][2] == "gravel"


def test_a_service_that_is_too_slow_is_given_up_and_asked_again_later(
    server: PracticeServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    publish(server, OLD, tmp_path)
    second = prepared(server, NEW, tmp_path)
    monkeypatch.setattr(connection, "TIMEOUT", 0.15)
    server.set_faults(Faults(slow=0.6))
    with pytest.raises(ServiceError, match="does not answer .ReadTimeout."):
        push.send(second, TOKEN)
    server.set_faults(Faults())
    monkeypatch.setattr(connection, "TIMEOUT", 5.0)
    assert second.push.state == "part" and push.send(second, TOKEN).state == "pushed" and there(server, "beds") == NEW


def test_modes(server: PracticeServer, tmp_path: Path) -> None:
    publish(server, OLD, tmp_path)
    added = publish(server, NEW, tmp_path, mode="append")
    assert (added.push.added, added.push.changed, added.push.removed) == (2, 0, 0)
    assert there(server, "beds") == {**OLD, "F": NEW["F"], "G": NEW["G"]}
    kept = publish(server, NEW, tmp_path, remove=False)
    assert (kept.push.added, kept.push.changed, kept.push.removed) == (0, 2, 0)
    assert there(server, "beds") == {**OLD, **NEW}
    whole = publish(server, NEW, tmp_path, mode="replace", key=())
    assert (whole.push.added, whole.push.changed, whole.push.removed) == (0, 0, 2) and there(server, "beds") == NEW


@pytest.mark.parametrize("fault", [{"lose": 3}, {"lose_answer": 3}, {"lose_answer": 5}, {"answer": 500, "answer_from": 4}], ids=str)
def test_features_just_alike_are_added_as_many_times_as_there_are(server: PracticeServer, tmp_path: Path, fault: dict[str, Any]) -> None:
    """Without a key a lost answer could make twins: they are counted."""
    publish(server, {}, tmp_path, mode="replace", key=())
    one = layer({"A": (1, 1, "sand")})
    three = Layer("beds", pa.concat_tables([one.table] * 3), np.repeat(one.geometry, 3), one.crs)  # type: ignore[arg-type]
    for round_ in (1, 2):
        known = features.items(server.address, "beds").features
        d = difference.take(three, difference.published(known), mode="append")
        assert len(d.entries) == 3
        words = journal.Push(
            journal.new_id("beds"),
            server.address,
            "beds",
            "append",
            own=tuple(d.own or ()),
            state="prepared",
            added=3,
            count_before=len(known),
        )
        made = journal.PushJournal.create(words, d.entries, tmp_path)
        server.set_faults(Faults.told(fault))
        try:
            push.send(made, TOKEN)
        except ServiceError:
            server.set_faults(Faults())
            push.send(made, TOKEN)
        server.set_faults(Faults())
        assert made.push.state == "pushed" and made.push.says == ""
        assert len(features.items(server.address, "beds").features) == 3 * round_
    push.undo(made, TOKEN)
    assert len(features.items(server.address, "beds").features) == 3


def test_fields_that_only_the_service_has_stay(server: PracticeServer, tmp_path: Path) -> None:
    publish(server, OLD, tmp_path)
    found = features.items(server.address, "beds", where={"bed": "C"}).features[0]
    url, head = f"{server.address}/collections/beds/items/{found['id']}", {"Authorization": f"Bearer {TOKEN}"}
    httpx.patch(url, json={"properties": {"inspector": "Ottaway"}}, headers=head)
    second = publish(server, NEW, tmp_path)
    held = features.items(server.address, "beds", where={"bed": "C"}).features[0]["properties"]
    assert held == {"bed": "C", "bottom": "clay", "inspector": "Ottaway"}
    httpx.patch(url, json={"properties": {"inspector": "Penrose"}}, headers=head)
    assert push.undo(second, TOKEN).state == "undone"
    held = features.items(server.address, "beds", where={"bed": "C"}).features[0]["properties"]
    assert held == {"bed": "C", "inspector": "Penrose"} or held == {"bed": "C", "bottom": None, "inspector": "Penrose"}


def test_a_journal_holds_no_token_and_a_damaged_one_says_so(server: PracticeServer, tmp_path: Path) -> None:
    made = publish(server, OLD, tmp_path)
    assert TOKEN.encode() not in made.file.read_bytes()
    assert [p.id for p in journal.pushes(folder=tmp_path)] == [made.push.id]
    made.close()
    made.file.write_bytes(made.file.read_bytes()[:700])
    with pytest.raises(InputError, match="damaged"):
        journal.open_push(made.push.id, tmp_path)
    for name in ("nowhere", "../nowhere"):
        with pytest.raises(InputError, match="there is no such push"):
            journal.open_push(name, tmp_path)
    assert journal.pushes(folder=tmp_path) == []


ROWS = st.dictionaries(
    st.sampled_from("ABCDEFGH"),
    st.tuples(st.integers(0, 9), st.integers(0, 9), st.sampled_from([None, "sand", "Røck", "1", "2031-01-02"])),
    max_size=7,
)


@settings(max_examples=examples(25), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(ROWS, ROWS, st.booleans(), st.integers(1, 25))
def test_any_state_is_brought_to_any_other_and_back(
    server: PracticeServer, tmp_path: Path, old: Rows, new: Rows, keyed: bool, lost: int
) -> None:
    key = ("bed",) if keyed else ()
    publish(server, old, tmp_path, mode="replace", key=())
    made = prepared(server, new, tmp_path, mode="replace", key=key)
    server.set_faults(Faults(lose_answer=lost))
    assert push.send(made, TOKEN).state == "pushed"
    server.set_faults(Faults())
    assert there(server, "beds") == {k: (*v[:2], v[2]) for k, v in new.items()}
    assert push.undo(made, TOKEN).state == "undone" and there(server, "beds") == old
    assert json.dumps(made.push.to_json())
