"""Which operation is shown on which of the tiny layers, with which settings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Case:
    """One operation tried.

    Parameters
    ----------
    entering : names of the layers of the scene that enter; none for a source.
    settings : as a workflow file has them; a layer of the scene is named as it is called.
    mapped : whether the shapes are drawn.
    fields : columns to show of what entered and of what left; none where no table helps.
    files : text files that settings name.
    corners : whether corners are marked, since it is about them.
    """

    entering: tuple[str, ...]
    settings: Mapping[str, Any] = field(default_factory=dict)
    mapped: bool = True
    fields: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    files: Mapping[str, str] = field(default_factory=dict)
    corners: bool = False


_WORDS = """field,spelling,count,suggestion,word
bottom,sand,1,sand,sand
bottom,Sand,1,sand,sand
bottom,sannd,1,sand,sand
bottom,mud,2,mud,mud
"""
_TRIANGLE = '{"type":"Polygon","coordinates":[[[560400,5200300],[562500,5200500],[561400,5201600],[560400,5200300]]]}'
_CHANGE = {"key": "A2", "field": "bottom", "old": "sannd", "new": "sand"}

CASES: Mapping[str, Case] = {
    # what stays
    "keep": Case(("beds",), {"where": "tonnes > 5"}),
    "keep_by_place": Case(("beds",), {"to": "closure", "relation": "intersects"}),
    "pick": Case(("beds",), {"features": ["A2", "B3"], "key": "bed"}),
    "sketch": Case((), {"shapes": _TRIANGLE, "crs": "EPSG:32626"}),
    "take_rows": Case(("beds",), {"which": "first", "number": 1, "within": ["bay"]}, fields=(("bed", "bay"), ("bed", "bay"))),
    "drop_repeats": Case(("twice",), {"geometry": True}, fields=(("bed",), ("bed",))),
    # shapes
    "clip": Case(("beds",), {"to": "closure"}),
    "erase": Case(("beds",), {"by": "closure"}),
    "dissolve": Case(
        ("parcels",),
        {"by": ["holder"], "figures": {"parcels": "count", "tonnes": "sum tonnes"}},
        fields=(("parcel", "holder", "tonnes"), ("*",)),
    ),
    "split": Case(("beds",), {"by": ["bay"]}),
    "split_by_area": Case(("beds",), {"areas": "bays", "name_field": "name"}),
    "overlay": Case(("beds",), {"other": "channel", "keep": "first"}),
    "merge": Case(("north", "south"), {}, fields=((), ("*",))),
    "reproject": Case(("beds",), {"crs": "EPSG:4326"}, mapped=False, fields=(("bed", "centre"), ("bed", "centre"))),
    "buffer": Case(("marks",), {"distance": "250 m"}),
    "zones": Case(("marks",), {"distances": "70, 140 m"}),
    "centre_points": Case(("beds",), {}),
    "fill_holes": Case(("ring",), {}),
    "declare_crs": Case(("undeclared",), {"crs": "EPSG:32626"}, False, (("bed", "system"), ("bed", "system"))),
    "outlines": Case(("ring",), {}),
    "corner_points": Case(("beds",), {}, corners=True),
    "nearest_areas": Case(("marks",), {}),
    "absorb": Case(("patchwork",), {"below": "10 ha", "add_up": ["tonnes"]}, fields=(("plot", "tonnes"), ("plot", "tonnes"))),
    "points_along": Case(("shore",), {"every": "250 m"}),
    "snap_points": Case(("soundings",), {"to": "shore", "within": "300 m"}),
    "snap_shapes": Case(("loose",), {"to": "channel", "within": "150 m"}, corners=True),
    "separate_parts": Case(("pieces",), {"number": "part"}, fields=(("owner",), ("*",))),
    "gather_parts": Case(("beds",), {"by": ["bay"], "figures": {"beds": "count"}}, fields=(("bed", "bay"), ("*",))),
    "simplify": Case(("ragged",), {"tolerance": "120 m"}, corners=True),
    "densify": Case(("plain",), {"longest": "300 m"}, corners=True),
    "hull": Case(("soundings",), {"around": "group"}),
    "connect_points": Case(("track",), {"by": ["boat"], "order": "time"}),
    "enclose": Case(("lines",), {"tolerance": "80 m"}),
    "cut_lines": Case(("crossed",), {"at": "buoys", "within": "20 m"}, corners=True),
    "cut_crossings": Case(("streets",), {"mend": "120 m"}, corners=True),
    "reverse_lines": Case(("shore",), {}, fields=(("shore", "begins"), ("shore", "begins"))),
    "extend_lines": Case(("crossed",), {"by": "150 m"}, corners=True),
    "offset_lines": Case(("shore",), {"distance": "90 m", "side": "right"}),
    "grid": Case(("closure",), {"size": "250 m"}),
    "make_valid": Case(("broken",), {}),
    # figures and fields
    "compute": Case(("beds",), {"field": "kilos", "value": "tonnes * 1000"}, False, (("bed", "tonnes"), ("bed", "tonnes", "kilos"))),
    "measure": Case(("beds",), {"what": ["area"]}, False, (("bed",), ("bed", "area_ha"))),
    "flag": Case(("beds",), {"field": "closed", "to": "closure", "value": "yes"}, fields=(("bed",), ("bed", "closed"))),
    "pace": Case(("track",), {"time": "time", "by": ["boat"]}, fields=(("time",), ("leg_m", "leg_s", "speed_kmh", "pause"))),
    "join_table": Case(("beds",), {"table": "landings", "key": "bed"}, False, (("bed", "tonnes"), ("bed", "tonnes", "landed"))),
    "join_by_place": Case(("marks",), {"other": "beds", "fields": ["bed"]}, fields=(("mark",), ("mark", "bed"))),
    "count_in_areas": Case(("beds",), {"other": "marks"}, fields=(("bed",), ("bed", "count"))),
    "nearest": Case(("marks",), {"other": "shore", "fields": ["shore"], "unit": "m"}, fields=(("mark",), ("mark", "shore", "distance_m"))),
    "correct": Case(("beds",), {"key": "bed", "changes": [_CHANGE]}, False, (("bed", "bottom"), ("bed", "bottom"))),
    "summarise": Case(
        ("catch",), {"by": ["bay"], "figures": {"rows": "count", "tonnes": "sum tonnes"}}, False, (("bay", "species", "tonnes"), ("*",))
    ),
    "pivot": Case(("catch",), {"by": ["bay"], "columns": "species", "cell": "sum tonnes"}, False, (("bay", "species", "tonnes"), ("*",))),
    "unpivot": Case(
        ("yields",), {"columns": ["mussel", "oyster"], "name_field": "species", "value_field": "tonnes"}, False, (("*",), ("*",))
    ),
    "sort": Case(("beds",), {"by": ["tonnes down"]}, False, (("bed", "tonnes"), ("bed", "tonnes"))),
    "number": Case(
        ("beds",), {"within": ["bay"], "order": ["tonnes down"]}, False, (("bed", "bay", "tonnes"), ("bed", "bay", "tonnes", "number"))
    ),
    "rank": Case(("beds",), {"by": "tonnes", "within": ["bay"]}, False, (("bed", "bay", "tonnes"), ("bed", "bay", "tonnes", "rank"))),
    "classify": Case(
        ("beds",), {"by": "tonnes", "limits": "4, 8", "write": "range"}, False, (("bed", "tonnes"), ("bed", "tonnes", "class"))
    ),
    "sql": Case(
        ("beds", "landings"),
        {"query": "SELECT bay, sum(landed) AS landed FROM beds JOIN landings USING (bed) GROUP BY bay ORDER BY bay"},
        False,
        ((), ("*",)),
    ),
    "arrange_fields": Case(("beds",), {"drop": ["bay"], "rename": {"bed": "lease"}}, False, (("bed", "bay", "bottom", "tonnes"), ("*",))),
    "draft_words": Case(("beds",), {"fields": ["bottom"]}, False, (("bed", "bottom"), ("*",))),
    "apply_words": Case(
        ("beds",),
        {"words": "words.csv", "fields": ["bottom"]},
        False,
        (("bed", "bottom"), ("bed", "bottom", "bottom_tidy")),
        {"words.csv": _WORDS},
    ),
    # what is proved
    "tally": Case(("beds",), {"by": ["bay"]}, False, (("bed", "bay"), ("bay", "features", "areas", "share"))),
    "find_gaps": Case(("lines",), {}, fields=((), ("gap_m", "row", "end", "other_row", "other_end"))),
    "compare": Case(("beds",), {"earlier": "earlier", "key": ["bed"]}, fields=(("bed", "tonnes"), ("bed", "change", "changed_fields"))),
}
