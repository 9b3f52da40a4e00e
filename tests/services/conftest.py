"""A practice server on loopback, and layers to publish there."""

from __future__ import annotations

from collections.abc import Generator
from pathlib import Path

import pytest

from eskret.practice_server import PracticeServer
from eskret.services import connection

TOKEN = "open-sesame"


@pytest.fixture
def server(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Generator[PracticeServer, None, None]:
    monkeypatch.setattr(connection, "PAUSE", 0.005)
    monkeypatch.setattr(connection, "TIMEOUT", 5.0)
    with PracticeServer(tmp_path / "published", token=TOKEN) as made:
        yield made
