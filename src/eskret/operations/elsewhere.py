"""What is looked for and is not done here: said in a sentence, with the nearest ways there are."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import cache

from eskret.core.finding.terms import said, words_of


@dataclass(frozen=True)
class Elsewhere:
    """Something that is not done here.

    ``signs`` are words, or several together, with commas, that nobody says of what is done here (after ``=``: where nothing else is
    said; after ``~``: where no operation is named beside it); ``ways`` the operations that come nearest.
    """

    what: str
    signs: str
    ways: tuple[str, ...]

    @property
    def sentence(self) -> str:
        return f"Eskret has nothing for {self.what}." + (" Perhaps one of these helps:" if self.ways else "")


_TOPICS = (
    Elsewhere(
        "values of a raster within areas",
        """
        zonal statistic, pixel value, raster value, raster statistic, sample raster, extract by mask
        """,
        ("count_in_areas", "join_by_place"),
    ),
    Elsewhere(
        "rasters, images and elevation models: its layers are points, lines, areas and tables",
        """
        raster, dem, dtm, dsm, hillshade, =slope, slope from, slope map, steepness, aspect map, =aspect, ndvi, ~satellite, geotiff, tif,
        tiff, jpg, jpeg, png image, netcdf, orthophoto, aerial photo, drone image, pixel, imagery, ~elevation, contours from, make
        contours, extract contours, draw contours, viewshed, line of sight, watershed, flow direction, flow accumulation, drainage basin,
        lidar, las, laz, point cloud, map algebra, spectral band, satellite band, resample
        """,
        (),
    ),
    Elsewhere(
        "scanned maps and pictures that have no place yet. Shapes can be drawn on the map or typed",
        """
        scanned, scan of a, georeference, georeferencing, control points, rubber sheet
        """,
        ("sketch", "load_coordinates"),
    ),
    Elsewhere(
        "addresses: it asks no service for places. A table with an address or a postcode can be joined to a layer that has them",
        """
        geocode, geocoding, geocoder, =address, =addresses, address to, addresses to, find address, find an address, street address,
        street addresses, match addresses, locate addresses, ~postcode, ~zip code, ~postal code, gazetteer, place name lookup
        """,
        ("join_table", "load_coordinates", "join_by_place"),
    ),
    Elsewhere(
        "routing along a network. Straight distances are measured",
        """
        shortest path, shortest route, fastest route, quickest route, best route, routing, route optimisation, route optimization,
        optimise route, drive time, driving distance, travel time, walking time, walking distance, isochrone, along the network, network
        distance, network analysis, service area, travelling salesman, traveling salesman, turn by turn, driving directions, directions to,
        navigation, delivery route, least cost path
        """,
        ("nearest", "buffer"),
    ),
    Elsewhere(
        "surfaces of density or of values between points. Points can be counted in cells",
        """
        heat map, heatmap, kernel, density surface, density map, hot spot, hotspot, interpolate, interpolation, kriging, idw, inverse
        distance, spline, surface from, trend surface, isolines
        """,
        ("grid", "count_in_areas"),
    ),
    Elsewhere(
        "spatial statistics and models. Figures by group, and counts in areas, are there",
        """
        autocorrelation, moran, dbscan, k means, kmeans, cluster analysis, clustering, regression, machine learning, neural network, deep
        learning, principal component, supervised, unsupervised, prediction model, forecast model
        """,
        ("summarise", "count_in_areas"),
    ),
    Elsewhere(
        "pages to print. The map can be saved as PNG, SVG or PDF, and a run has a report",
        """
        print, printing, printable, layout, north arrow, atlas, poster, map series, scale bar, legend on a page, title block, cartographic
        """,
        (),
    ),
    Elsewhere(
        "tiles and maps in the background. Its map shows layers of files and of steps",
        """
        wms, wmts, basemap, base map, background map, web map, map tile, vector tile, mbtiles, street map, satellite background, tile
        cache, map server, story map, dashboard
        """,
        ("save", "publish"),
    ),
    Elsewhere(
        "the third dimension, though heights in coordinates are kept",
        """
        3d, three dimensional, extrude, cut and fill, earthwork volume, tin surface, triangulated, ~terrain, fly through, digital twin
        """,
        (),
    ),
    Elsewhere(
        "databases on a server. A GeoPackage is a database in a file, which others can query",
        """
        ~database, into a database, to a database, from a database, postgis, postgres, postgresql, oracle, mysql, mssql, sql server,
        mongodb, stored procedure
        """,
        ("save", "publish"),
    ),
    Elsewhere(
        "drawings of construction programs",
        """
        dwg, dxf, dgn, cad, bim, ifc
        """,
        ("load_coordinates",),
    ),
    Elsewhere(
        "collecting in the field or watching live positions. Recordings are loaded afterwards",
        """
        live position, real time, realtime, mobile app, field app, stream of, sensor feed, mqtt, tracking device live
        """,
        ("load", "fetch"),
    ),
)


def elsewhere(words: str, names: Collection[str]) -> Elsewhere | None:
    """What of that which is not done here somebody looks for; None where it may be something that is.

    Parameters
    ----------
    names : the words that operations are called by.
    """
    typed = words_of(words)
    plain, telling = _plain(typed), _plain(said(words).words)
    named = any(word in names for word in typed)
    for topic in _TOPICS:
        for kind, sign in _signs(topic.signs):
            there = sign == telling if kind == "=" else sign in plain or sign in telling
            if there and not (kind == "~" and named):
                return topic
    return None


@cache
def _signs(text: str) -> tuple[tuple[str, str], ...]:
    signs = (sign.strip() for sign in " ".join(text.split()).split(","))
    return tuple((s[0] if s[0] in "=~" else "", _plain(words_of(s))) for s in signs)


def _plain(words: Sequence[str]) -> str:
    """Words one after the other, each without the mark of the plural: stems would make one of *route* and *routing*."""
    return f" {' '.join(w.removesuffix('s') for w in words)} "


def topics() -> Sequence[Elsewhere]:
    """All that is said not to be done here."""
    return _TOPICS
