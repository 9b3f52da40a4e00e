"""Where the threads run in the ledger's gutter: pure arithmetic, no painting.

Each step that is taken from has a lane, which runs from its own row down to the last step that takes from it. Lanes are
given out anew once they are free, so the gutter stays narrow.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field


@dataclass(frozen=True)
class RowThreads:
    """What to paint in the gutter of one step's row.

    ``knot`` is the lane of the step itself; ``through`` are lanes that pass by; ``starts`` says that the step's own
    lane goes on downwards; ``joins`` are lanes that bend into the knot here, with whether each goes on below.
    ``colours`` gives each lane's colour number in this row.
    """

    knot: int
    colour: int
    through: tuple[int, ...] = ()
    starts: bool = False
    joins: tuple[tuple[int, bool], ...] = ()
    colours: Mapping[int, int] = field(default_factory=dict)


def lanes(ids: Sequence[str], takes: Mapping[str, Sequence[str]]) -> list[RowThreads]:
    """Lay out the gutter.

    Parameters
    ----------
    ids : steps in the ledger's order.
    takes : for each step, the steps it takes from; those that come later or are missing are left out.
    """
    place = {id: n for n, id in enumerate(ids)}
    last: dict[str, int] = {}
    for n, id in enumerate(ids):
        for source in takes.get(id, ()):
            if place.get(source, n) < n:
                last[source] = n
    lane_of: dict[str, int] = {}
    colour_of: dict[str, int] = {}
    open_until: dict[int, int] = {}
    owner: dict[int, str] = {}
    rows = []
    for n, id in enumerate(ids):
        sources = [s for s in dict.fromkeys(takes.get(id, ())) if place.get(s, n) < n]
        ending = [lane_of[s] for s in sources if last[s] == n]
        # a step goes on in the lane of the first thread that ends in it; else in the first that is free
        taken = {lane for lane, end in open_until.items() if end > n or (end == n and lane not in ending)}
        knot = ending[0] if ending else next(i for i in range(len(ids) + 1) if i not in taken)
        inherits = ending and len(sources) == 1
        colour_of[id] = colour_of[sources[0]] if inherits else len(set(colour_of.values()))
        through = tuple(
            sorted(
                lane
                for lane, end in open_until.items()
                if end > n and lane_of[owner[lane]] == lane and lane != knot and owner[lane] not in sources
            )
        )
        joins = tuple((lane_of[s], last[s] > n) for s in sources)
        colours = {lane_of[s]: colour_of[s] for s in sources}
        colours.update({lane: colour_of[owner[lane]] for lane in through})
        rows.append(RowThreads(knot, colour_of[id], through, id in last, joins, colours))
        for lane in [lane for lane, end in open_until.items() if end <= n]:
            del open_until[lane]
        if id in last:
            lane_of[id], open_until[knot], owner[knot] = knot, last[id], id
    return rows


def between(rows: Sequence[RowThreads], index: int) -> Mapping[int, int]:
    """Lanes, with colours, that run through what stands under row ``index`` (an opened row, a heading)."""
    row = rows[index]
    out = {lane: row.colours[lane] for lane in row.through}
    out.update({lane: row.colours[lane] for lane, on in row.joins if on})
    if row.starts:
        out[row.knot] = row.colour
    return out


def width(rows: Sequence[RowThreads]) -> int:
    """How many lanes the gutter needs."""
    return 1 + max((max((r.knot, *r.through, *(lane for lane, _ in r.joins))) for r in rows), default=0)
