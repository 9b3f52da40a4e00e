"""The lessons that are offered: the demo's workflows, what one learns in each and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from eskret.desktop.theme.style import RESOURCES

PICTURES = RESOURCES / "lessons"


@dataclass(frozen=True)
class Lesson:
    """A workflow of the demo by its file; ``minutes`` of somebody who does it for the first time."""

    file: str
    title: str
    learns: str
    minutes: int

    @property
    def picture(self) -> Path:
        return PICTURES / f"{Path(self.file).stem}.png"


LESSONS = (
    Lesson("piles.toml", "Piles of the September survey", "Load recordings, keep some of the features, save them", 3),
    Lesson("gather.toml", "Everything into one place", "Many files and formats into one container; choose by place and by hand", 9),
    Lesson("harbour.toml", "Beds of the harbour", "Clip, erase, dissolve with sums, one file for each district", 8),
    Lesson("breakwater.toml", "Close the breakwater", "Find a gap nobody can see, close it, count what lies behind it", 6),
    Lesson("tracks.toml", "How fast the boats were", "Points into lines; distance, time and speed of every leg", 5),
    Lesson("returns.toml", "Quarterly lease returns", "Join a table whose keys do not all match, tidy spellings", 8),
    Lesson("publish.toml", "The register online", "Bring a published dataset up to date, and take it back", 6),
    Lesson("district.toml", "Return of one district", "Parameters: change a value at the top and run again", 5),
    Lesson("districts.toml", "All districts, one layer each", "A workflow as a step of another, once for each district", 4),
    Lesson("closure.toml", "Beds within a closure", "An operation of your own, in Python", 3),
)
