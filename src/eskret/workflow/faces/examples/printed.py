"""The example of each operation in the handbook, as a workflow in Python and as a command: both run in the demo's folder as they stand."""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from eskret.operations.base import Delivery, Operation
from eskret.operations.registry import OWN
from eskret.operations.settings import setting_info

LAYERS: Mapping[str, tuple[str, str]] = {
    "beds": ("register/register.gpkg", "lease_beds"),
    "districts": ("register/register.gpkg", "districts"),
    "moorings": ("register/register.gpkg", "moorings"),
    "breakwater": ("register/breakwater.shp", "breakwater"),
    "landings": ("register/landings_2031.csv", "landings_2031"),
    "islands": ("chart/islands.geojson", "islands"),
    "soundings": ("chart/soundings.fgb", "soundings"),
    "tracks": ("field/2031-09/boat-a.gpx", "tracks"),
    "fixes": ("field/2031-09/boat-a.gpx", "track_points"),
    "third_quarter": ("register/quarters/2031-Q3.gpkg", "leases"),
    "fourth_quarter": ("register/quarters/2031-Q4.gpkg", "leases"),
}
"""Layers of the demo, by what the examples call them: file and layer."""


@dataclass(frozen=True)
class Printed:
    """What an example takes, by the names above, and its settings; a layer that one names stands behind ``@``."""

    takes: Sequence[str] = ()
    settings: Mapping[str, Any] = field(default_factory=dict)
    out: str = "made.gpkg"


def _of(takes: str, out: str = "made.gpkg", **settings: Any) -> Printed:
    return Printed(tuple(takes.split()), settings, out)


_AREA = '{"type": "Polygon", "coordinates": [[[566000, 5205000], [574000, 5205000], [574000, 5212000], [566000, 5205000]]]}'

_QUERY = "SELECT district, sum(l.tonnes) AS landed FROM lease_beds JOIN landings_2031 l USING (lease) GROUP BY district ORDER BY district"

PRINTED: Mapping[str, Printed] = {
    # gather
    "load": _of("", files=["field/*/*.gpx"]),
    "load_coordinates": _of("", files=["text/stations.txt"], crs="EPSG:4326"),
    "fetch": _of("", service="http://127.0.0.1:8731", dataset="leases"),
    # choose
    "keep": _of("beds", where="species = 'oyster' AND tonnes > 20"),
    "keep_by_place": _of("moorings", to="@beds", relation="near", distance="200 m"),
    "pick": _of("beds", features=["OS-0101", "OS-0102"], key="lease"),
    "take_rows": _of("beds", which="random", number=40, within=["district"]),
    "sketch": _of("", shapes=_AREA, crs="EPSG:32626"),
    "drop_repeats": _of("beds", fields=["holder", "district"]),
    # shape
    "clip": _of("beds", to="@districts"),
    "erase": _of("districts", by="@islands"),
    "dissolve": _of("beds", by=["licence"], figures={"tonnes": "sum tonnes", "beds": "count"}),
    "split": _of("beds", by=["district"]),
    "split_by_area": _of("beds", areas="@districts", name_field="name"),
    "overlay": _of("beds", other="@districts"),
    "merge": _of("third_quarter fourth_quarter"),
    "reproject": _of("beds", crs="EPSG:4326"),
    "declare_crs": _of("beds", crs="EPSG:32626"),
    "buffer": _of("moorings", distance="50 m"),
    "zones": _of("moorings", distances="50, 100 m"),
    "centre_points": _of("beds"),
    "outlines": _of("districts"),
    "corner_points": _of("districts"),
    "nearest_areas": _of("moorings", margin="2 km"),
    "absorb": _of("beds", below="10 ha", add_up=["tonnes"]),
    "points_along": _of("tracks", every="1 km", last=True),
    "snap_points": _of("moorings", to="@beds", within="250 m"),
    "snap_shapes": _of("beds", to="@districts", within="5 m"),
    "separate_parts": _of("islands"),
    "gather_parts": _of("beds", by=["licence"]),
    "fill_holes": _of("districts"),
    "simplify": _of("islands", tolerance="20 m"),
    "densify": _of("districts", longest="500 m"),
    "hull": _of("beds", around="group", by=["licence"]),
    "connect_points": _of("fixes", by=["track"], order="time"),
    "enclose": _of("tracks", tolerance="50 m"),
    "cut_lines": _of("tracks", at="@moorings", within="100 m"),
    "cut_crossings": _of("tracks", mend="5 m"),
    "reverse_lines": _of("tracks"),
    "extend_lines": _of("breakwater", by="20 m"),
    "offset_lines": _of("breakwater", distance="15 m", side="both"),
    "grid": _of("districts", size="2 km"),
    "make_valid": _of("districts"),
    # describe
    "compute": _of("beds", field="kilos", value="tonnes * 1000"),
    "measure": _of("beds", what=["area", "perimeter"]),
    "flag": _of("beds", field="large", where="tonnes > 40"),
    "pace": _of("fixes", time="time", by=["track"]),
    "join_table": _of("beds", table="@landings", key="lease", several="first"),
    "join_by_place": _of("moorings", other="@districts", fields=["name"]),
    "count_in_areas": _of("districts", other="@moorings"),
    "nearest": _of("moorings", other="@beds", fields=["lease"]),
    "correct": _of("beds", key="lease", changes=[{"key": "OS-0101", "field": "bottom", "old": "gravel (coarse)", "new": "gravel"}]),
    "summarise": _of("beds", by=["district"], figures={"beds": "count", "tonnes": "sum tonnes"}),
    "pivot": _of("beds", by=["district"], columns="species", cell="sum tonnes"),
    "unpivot": _of("moorings", columns=["mooring", "licensed_to"]),
    "sort": _of("beds", by=["district", "tonnes down"]),
    "number": _of("beds", within=["district"], order=["tonnes down"]),
    "rank": _of("beds", by="tonnes", within=["district"]),
    "classify": _of("beds", by="tonnes", limits="10, 30", write="names", names=["small", "middle", "large"]),
    "sql": _of("beds landings", query=_QUERY),
    "arrange_fields": _of("beds", rename={"lease": "bed"}, drop=["granted"]),
    "draft_words": _of("beds", fields=["bottom", "species"], out="spellings.csv"),
    "apply_words": _of("beds", words="words.csv", fields=["bottom", "species"]),
    # check
    "check": _of("beds", that="unique", fields=["lease"]),
    "find_gaps": _of("tracks", out="gaps.gpkg"),
    "compare": _of("fourth_quarter", earlier="@third_quarter", key=["lease"]),
    "tally": _of("beds districts", out="tally.csv"),
    # deliver
    "save": _of("beds", to="handed_over/beds.gpkg"),
    "publish": _of("third_quarter", service="http://127.0.0.1:8731", dataset="leases", key=["lease"], create=True),
    "workflow": _of("", file="district.toml", values={"district": "North"}),
}
ON_A_SERVICE = ("fetch", "publish")
"""Those that need the practice server: ``eskret practice-server``."""


def in_python(operation: Operation) -> str:
    """The example as a workflow in Python."""
    shown = PRINTED[operation.id]
    named = list(dict.fromkeys([*shown.takes, *(v[1:] for v in shown.settings.values() if _is_layer(v))]))
    lines = ["from eskret import Workflow", "", 'workflow = Workflow("An example", crs="EPSG:32626")']
    for name in named:
        file, layer = LAYERS[name]
        lines.append(f'{name} = workflow.load("{name}", files=["{file}"], layers=["{layer}"])')
    enters = f", {shown.takes[0]}" if len(shown.takes) == 1 else f", [{', '.join(shown.takes)}]" if shown.takes else ""
    given = "".join(f", {n}={v[1:] if _is_layer(v) else _python(v)}" for n, v in shown.settings.items())
    step = "made" if "made" not in named else "result"
    lines.append(f'{step} = workflow.{operation.id}("{step}"{enters}{given})')
    if not isinstance(operation, Delivery):
        lines.append(f'workflow.save("handed_over", {step}, to="out/{shown.out}")')
    lines.append("result = workflow.run()")
    return "\n".join(lines)


def on_the_command_line(operation: Operation) -> str:
    """The example as a command."""
    if operation.id == "workflow":
        return "eskret run district.toml --for-each district"
    shown = PRINTED[operation.id]
    words = ["eskret", "do", operation.id, *(_place(name) for name in shown.takes)]
    infos = setting_info(operation.Settings)
    for name, value in shown.settings.items():
        if name == "files":
            words += map(shlex.quote, value)
        elif name == "to" and isinstance(operation, Delivery):
            words += ["--out", shlex.quote(value)]
        else:
            words += [f"--{name.replace('_', '-')}", shlex.quote(_typed(value, infos[name].kind))]
    if not isinstance(operation, Delivery):
        words += ["--out", f"out/{shown.out}"]
    return " ".join(words)


def _is_layer(value: object) -> bool:
    return isinstance(value, str) and value[:1] == "@"


def _place(name: str) -> str:
    file, layer = LAYERS[name]
    return f"{file}:{layer}"


def _typed(value: Any, kind: str) -> str:
    """A setting as it is typed."""
    if _is_layer(value):
        return _place(value[1:])
    if isinstance(value, bool):
        return "yes" if value else "no"
    if kind in ("cells", "shapes") or isinstance(value, Mapping):
        return value if isinstance(value, str) else _toml(value)
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _toml(value: Any) -> str:
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{k} = {_toml(v)}" for k, v in value.items()) + " }"
    return "[" + ", ".join(map(_toml, value)) + "]" if isinstance(value, list) else json.dumps(value, ensure_ascii=False)


def _python(value: Any) -> str:
    return repr(value) if isinstance(value, bool) else json.dumps(value, ensure_ascii=False)


def has_example(operation: Operation) -> bool:
    """Whether there is one; operations of somebody's own have none here."""
    return not operation.id.startswith(OWN) and operation.id in PRINTED
