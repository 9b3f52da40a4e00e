"""The colours, by what they are for. Every text and ground pair meets WCAG 2.2 AA; a test checks it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Palette:
    """One theme. Names say the use, not the hue."""

    name: str
    paper: str  # ground of ledger and panes
    band: str  # every other ledger row
    shelf: str  # sources
    shelf_chosen: str
    bar: str  # top bar
    bar_ink: str
    bar_faint: str
    bar_field: str  # chips on the bar
    ink: str
    faint: str  # secondary text
    line: str  # hairlines
    field: str  # ground of inputs
    field_line: str
    hand: str  # the thing in hand: straw
    hand_ink: str  # text on straw
    hand_row: str  # row in hand
    ring: str  # around what has the keys
    good: str  # what balances: verdigris
    bad: str  # what was set aside or failed: vermilion
    look: str  # asks for a look
    note: str  # ground of notes in the form
    status: str  # ground of the status line
    sea: str  # ground of the map
    grid: str
    mark_fill: str  # features on the map
    mark_line: str
    plain_fill: str  # features of no state
    plain_line: str
    threads: tuple[str, ...]


LIGHT = Palette(
    name="light",
    paper="#FFFDF7",
    band="#F1F6EC",
    shelf="#E9EEE3",
    shelf_chosen="#D3E0D4",
    bar="#16302F",
    bar_ink="#FFFDF7",
    bar_faint="#A9BDB7",
    bar_field="#25443F",
    ink="#1D2B2A",
    faint="#4E5E5B",
    line="#D9DFD2",
    field="#FFFFFF",
    field_line="#7C8B82",
    hand="#E9B44C",
    hand_ink="#1D2B2A",
    hand_row="#FDEFCF",
    ring="#9A6A00",
    good="#22695A",
    bad="#B23A22",
    look="#7A5600",
    note="#F3F4EA",
    status="#DFE6D7",
    sea="#EDF3F2",
    grid="#D5E0DF",
    mark_fill="#7DB6A3",
    mark_line="#22695A",
    plain_fill="#C9CFC0",
    plain_line="#4A5B59",
    threads=("#2A4D7A", "#8A4A92", "#8A5E00", "#22695A", "#8C4030", "#4F5D73"),
)

DARK = Palette(
    name="dark",
    paper="#131E1D",
    band="#182624",
    shelf="#101918",
    shelf_chosen="#27413C",
    bar="#0A1413",
    bar_ink="#EDF2EA",
    bar_faint="#9DB2AB",
    bar_field="#1F3733",
    ink="#E4EBE2",
    faint="#A1B0AA",
    line="#2B3B38",
    field="#1B2A28",
    field_line="#6E8680",
    hand="#E9B44C",
    hand_ink="#1D2B2A",
    hand_row="#3D3418",
    ring="#E9B44C",
    good="#7CCBB5",
    bad="#F4917A",
    look="#E3BE6A",
    note="#1C2B28",
    status="#0E1817",
    sea="#17252A",
    grid="#26383D",
    mark_fill="#3F7F6E",
    mark_line="#8AD6C1",
    plain_fill="#4A5652",
    plain_line="#B9C6BF",
    threads=("#8FB3E2", "#CF9AD6", "#DDB45C", "#7CCBB5", "#E79B89", "#A9B7CC"),
)

THEMES = {"light": LIGHT, "dark": DARK}

# Text on ground, for the contrast test and for whoever adds a pair.
TEXT_PAIRS = (
    ("ink", "paper"),
    ("ink", "band"),
    ("ink", "shelf"),
    ("ink", "shelf_chosen"),
    ("ink", "field"),
    ("ink", "hand_row"),
    ("ink", "note"),
    ("ink", "status"),
    ("faint", "paper"),
    ("faint", "band"),
    ("faint", "shelf"),
    ("faint", "note"),
    ("faint", "status"),
    ("faint", "field"),
    ("faint", "hand_row"),
    ("faint", "shelf_chosen"),
    ("bar_ink", "bar"),
    ("bar_faint", "bar"),
    ("bar_ink", "bar_field"),
    ("bar_faint", "bar_field"),
    ("hand_ink", "hand"),
    ("good", "paper"),
    ("good", "band"),
    ("good", "hand_row"),
    ("bad", "paper"),
    ("bad", "band"),
    ("bad", "hand_row"),
    ("bad", "note"),
    ("look", "paper"),
    ("look", "band"),
    ("look", "hand_row"),
    ("look", "note"),
    ("good", "note"),
    ("ink", "sea"),
    ("faint", "sea"),
    ("bad", "shelf"),
)

# Lines and marks that must be seen on their ground to know where one is: at least 3:1.
EDGE_PAIRS = (
    ("ring", "paper"),
    ("ring", "band"),
    ("ring", "shelf"),
    ("ring", "shelf_chosen"),
    ("ring", "field"),
    ("ring", "hand_row"),
    ("ring", "note"),
    ("ring", "sea"),
    ("bar_ink", "bar"),
    ("hand", "bar"),
    ("field_line", "paper"),
    ("field_line", "field"),
    ("field_line", "shelf"),
    ("field_line", "note"),
)
