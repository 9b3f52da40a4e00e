"""The frame library's own tests of clip, overlay, join by place and dissolve, every call of which Eskret's operations do too.

Reference: GeoPandas' test suite as its package carries it. A difference must be one of those listed here, with its reason.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest

from tests.exact import FRAMES, counted
from tests.length import LONG

HERE = Path(__file__).parent.parent.parent
MODULES = (
    "geopandas.tools.tests.test_clip",
    "geopandas.tests.test_overlay",
    "geopandas.tests.test_dissolve",
    "geopandas.tools.tests.test_sjoin",
)
CRS = "layers in two coordinate systems are laid over each other as they are, with a warning; Eskret brings one to the other, or asks"
OBSERVED = "a group is made of categories that no row has, without a shape; Eskret makes groups of rows"
HOWS = ("union", "intersection", "difference", "symmetric_difference", "identity")
DIFFERENT = {
    "::test_warning_crs_mismatch": CRS,
    **{f"::test_crs_mismatch[{how}]": CRS for how in HOWS},
    **{f"::TestSpatialJoin::test_crs_mismatch[{index}-index]": CRS for index in ("default", "string")},
    "::test_dissolve_categorical": OBSERVED,
}
SHORT = ("clip", "dissolve")  # the tests of laying over and joining take most of the time
LEAST = {"clip": 80, "overlay": 110, "sjoin": 70, "dissolve": 10} if LONG else {"clip": 80, "dissolve": 8}


@pytest.fixture(scope="module")
def calls(tmp_path_factory: pytest.TempPathFactory) -> list[dict]:
    told = tmp_path_factory.mktemp("spy") / "calls.jsonl"
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-q",
        "-p",
        "tests.reference.spy",
        "-p",
        "no:cacheprovider",
        "-p",
        "no:xdist",
        "-c",
        os.devnull,
        f"--rootdir={told.parent}",
        "--pyargs",
        *[m for m in MODULES if LONG or m.endswith(SHORT)],
    ]
    more = {"ESKRET_SPY": str(told), "PYTHONPATH": os.pathsep.join([str(HERE), *sys.path]), "PYTEST_ADDOPTS": ""}
    # what fails there for want of its data, or of a newer library, is the library's own business: the calls count
    subprocess.run(command, env={**os.environ, **more}, cwd=told.parent, capture_output=True, timeout=300, check=False)
    return [json.loads(line) for line in told.read_text().splitlines()]


def test_what_the_frame_library_does_eskret_does_too(calls: list[dict]) -> None:
    asked = [c for c in calls if c["asked"]]
    wrong = {c["case"]: c["why"] for c in asked if c["why"] and c["case"] not in DIFFERENT}
    assert wrong == {}
    for what, use in {"clip": "clip", "overlay": "overlay", "sjoin": "join_by_place", "dissolve": "dissolve"}.items():
        mine = [c for c in asked if c["what"] == what]
        counted(use, FRAMES, len(mine), sum(not c["why"] for c in mine))
    agree = Counter(c["what"] for c in asked if not c["why"])
    assert all(agree[what] >= least for what, least in LEAST.items()), agree


@pytest.mark.long
def test_every_difference_that_is_listed_is_one(calls: list[dict]) -> None:
    """A reason that no call bears out any more is taken off the list."""
    assert {c["case"] for c in calls if c["asked"] and c["why"]} == set(DIFFERENT)
