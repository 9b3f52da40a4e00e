"""What every operation takes alike: edges, the globe, lengths, values, and what a ledger's words promise; a page of the handbook."""

from __future__ import annotations

TITLE = "What holds everywhere"
SUMMARY = "What every step takes an edge, a length and a value for, and what balanced means."

RULES: tuple[tuple[str, str], ...] = (
    (
        "Edges",
        """
An edge between two corners is straight in the coordinates of its layer. Where those are longitude and latitude, both run evenly from
one corner to the next, as GeoJSON (RFC 7946, section 3.1.1) and the OGC's Simple Features have it: an edge between two places of one
latitude stays on that parallel. Every step takes it so: what intersects, is near, nearest or within a buffer never contradicts another.
Whoever measures such an edge, or brings it into a plane, follows it to a stated tolerance.

Brought to another coordinate system, an edge bends, and only its ends are moved. How far it lies off its course then is told from a
centimetre on; Reproject keeps the course where you give it a tolerance, and Densify puts corners in before.

An edge of more than half a turn, such as from 179 to -179, goes the long way round as it is drawn, and is told where it comes in. Make
valid can let it take the short way, cut at 180 degrees.
""",
    ),
    (
        "180 degrees and the poles",
        """
180 and -180 degrees are one meridian, and a pole is one place whatever longitude it has, for choosing by place, joining, counting and
distances. What goes over the meridian comes out in parts that meet there; what lies about a pole is closed over it. Centres, hulls and
ways are taken across the meridian, not round the globe.

A map of the world comes apart somewhere: half a turn from its middle. What lies across is cut there on the way to it, and joined on
the way back. What has no place on it, such as a pole in a Mercator projection, is set aside.
""",
    ),
    (
        "Lengths and areas",
        """
A length carries its unit. It is taken in the plane of the layer's coordinate system, or along the ellipsoid: there where coordinates
are degrees, or where the plane is the square map of the whole world, whose metres are none but at the equator. You can choose either.
Where the scale of a plane is off by more than one per cent at the layer's place, that is told.

Control totals of layers in degrees are those on the ellipsoid.
""",
    ),
    (
        "Heights and measures",
        """
Heights (Z) and measures (M) stay with their corners through every step that keeps corners, and lie evenly between two where a new one
comes in. Bringing a layer to another coordinate system leaves them as they are: no vertical datum is changed.
""",
    ),
    (
        "Values",
        """
What is no number (NaN) is no value: it counts as empty in conditions, figures, keys and joins, and how many there were is told. So
does what a division by zero comes to, and a root of what is below zero. Infinity is a value and stays. -0.0 and 0.0 are one number.
Decimals are added up as decimals, to the last digit. The fields themselves pass through as they came.

A comparison with an empty value is neither true nor false (ISO 9075): such a row is not kept, and is told apart.
""",
    ),
    (
        "Balanced",
        """
In is used and set aside, row by row; every row that leaves comes of one that entered, or its step asks for a look. Control totals are
measured on the layer that leaves, on another way than it was made, and stay where shapes were mended. A step asks for a look where
there is something to see although all agrees: rows that met nothing, shapes that were mended, a coarse way to another system, a total
that stands twice or is another one than before. Totals of layers that are not alike are not added up.
""",
    ),
)
