"""Vector files that GDAL reads, through pyogrio as Arrow: GeoPackage, shapefile, GeoJSON, FlatGeobuf."""

from __future__ import annotations

import csv
import io
import warnings
from collections.abc import Generator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any
from xml.parsers import expat

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.accounts.account import Remark
from eskret.core.ahead import ahead
from eskret.core.crs import Extent, crs_code, crs_facts, is_geographic, parse_crs
from eskret.core.files.missing import no_such_file
from eskret.core.geometry.curves import curved_rows, straight
from eskret.core.layer import Certainty, Field, GeometryColumn, GeometryKind, Layer, LayerFacts, kind_of, kind_of_types
from eskret.core.layer import chunks as chunking
from eskret.core.layer.chunks import rebatched
from eskret.core.layer.wkb import WkbArray, decode, slices
from eskret.core.naming import number_collisions
from eskret.core.tables.rows import remaining
from eskret.core.texts import codec_of, is_text, recoded, settled
from eskret.core.words import pluralise
from eskret.errors import Code, CrsError, InputError
from eskret.formats.dbf import SPELLED, Encoding, companion, encoding_of
from eskret.formats.gdal import library
from eskret.formats.geopackage import reader
from eskret.formats.reading import AS_DECLARED, NUMBERED, Reading, Texts, Watch, no_watch, numbered, numbers
from eskret.formats.xml_text import source_of, unknown_encoding

BATCH = 10_000
_DEGREES = 1e-8
"""How far a chord may be from its arc in degrees: about a millimetre."""


_SEQUENCES = (".geojsons", ".geojsonl")
"""Texts of one feature a line: one without any is a layer without rows."""
_XML = (".kml", ".gml")
_TEXTS = (".geojson", ".json", *_SEQUENCES)
IN_CHUNKS = (".gpkg", ".shp", ".fgb", *_TEXTS)
"""Formats of which any row can be read without those before it being kept."""
_COMPANIONS = {".shx": "the index of its shapes", ".dbf": "the table of its attributes"}


def failures() -> tuple[type[Exception], ...]:
    """What a file that cannot be read makes the libraries raise."""
    errors = library().errors
    return errors.DataSourceError, errors.DataLayerError, pa.ArrowInvalid, OSError, ValueError


def layer_names(path: Path) -> list[str]:
    """Names of the layers in a file, in its order.

    Raises
    ------
    InputError : the file is missing, empty, damaged or of another format.
    """
    check_readable(path)
    if _is_empty_sequence(path):
        return [path.stem]
    known = known_facts(path)
    if known is not None:
        return list(known)
    try:
        if path.suffix.lower() in _TEXTS:
            return list(_names_of_text(path, _state(path)))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            # reading GML can leave a file beside it: of its bytes alone it cannot
            place = _place(path)
            place = path.read_bytes() if path.suffix.lower() == ".gml" and place is path else place
            return [str(row[0]) for row in library().list_layers(place)]
    except failures() as error:
        raise unreadable(path, error) from error


def check_readable(path: Path) -> None:
    """Find what is plainly wrong with a file before a library words it.

    Raises
    ------
    InputError : naming the file and what to do.
    """
    if not path.exists():
        raise no_such_file(path)
    if path.is_file():
        if path.stat().st_size == 0 and path.suffix.lower() not in _SEQUENCES:
            raise InputError("the file is empty (0 bytes)", place=str(path), way_out="Fetch it again from its source")
        try:
            with path.open("rb"):
                pass
        except PermissionError as error:
            raise InputError("you may not read this file", place=str(path), way_out="Ask its owner, or copy it where you may") from error
    if path.suffix.lower() in _XML:
        state = path.stat()
        _check_xml(path, state.st_mtime_ns, state.st_size)
    if path.suffix.lower() == ".shp":
        for suffix, what in _COMPANIONS.items():
            if companion(path, suffix) is None:
                raise InputError(
                    f"{path.stem}{suffix} is missing, {what}",
                    place=str(path),
                    way_out="Put it beside the .shp file; a shapefile is several files that travel together",
                )
        _check_length(path)


def _check_length(path: Path) -> None:
    """Compare a shapefile's own words for its length with what is there: a reader may take a cut one for whole.

    From memory: the shapefile's technical description (length in 16-bit words at byte 24, big-endian) and its table's (number of
    records at byte 4, size of the header at 8 and of a record at 10, little-endian).

    Raises
    ------
    InputError : a member is shorter than it says.
    """
    with path.open("rb") as stream:
        head = stream.read(28)
    lengths = [(path, 2 * int.from_bytes(head[24:28], "big") if len(head) == 28 else 100)]
    table = companion(path, ".dbf")
    if table is not None:
        with table.open("rb") as stream:
            head = stream.read(12)
        rows, first, size = (int.from_bytes(head[a:b], "little") for a, b in ((4, 8), (8, 10), (10, 12)))
        lengths.append((table, first + rows * size if len(head) == 12 else 32))
    for member, length in lengths:
        if member.stat().st_size < length:
            raise InputError(
                f"{member.name} should be {length:,} bytes long and is {member.stat().st_size:,}; it was cut short",
                place=str(path),
                way_out="Fetch it again from its source",
            )


@lru_cache(maxsize=64)
def _check_xml(path: Path, changed: int, size: int) -> None:
    """Go through an XML file once: a library reads a broken one as far as it gets, and says nothing.

    Raises
    ------
    InputError : it is not well-formed to its end, or it defines entities, which can swell without end or reach for
        other files.
    """
    parser = expat.ParserCreate()

    def refuse(*_: object) -> None:
        raise InputError(
            "it defines entities, which no data needs; it is not read any further",
            place=f"{path}, line {parser.CurrentLineNumber}",
            way_out="Take the <!DOCTYPE ...> out, or ask where the file comes from",
        )

    parser.StartDoctypeDeclHandler = refuse
    try:
        source = source_of(path).file
        with io.BytesIO(source) if isinstance(source, bytes) else source.open("rb") as stream:
            parser.ParseFile(stream)
    except expat.ExpatError as error:
        raise InputError(
            f"it is not sound XML ({expat.errors.messages[error.code]}); it is damaged or was cut short",
            place=f"{path}, line {error.lineno}",
            way_out="Fetch it again from its source",
        ) from error
    except (LookupError, ValueError) as error:
        raise unknown_encoding(path) from error


def _place(path: Path) -> Path | bytes:
    """What the library is given to read."""
    return source_of(path).file if path.suffix.lower() in _XML else path


def _options(path: Path) -> dict[str, str]:
    """How a file is opened: reading must leave nothing beside it."""
    return {"WRITE_GFS": "NO"} if path.suffix.lower() == ".gml" else {}


def encoding(path: Path, texts: Texts = AS_DECLARED) -> Encoding | None:
    """What a shapefile's texts are in; None for formats that are UTF-8 by their standard or say it of themselves."""
    if path.suffix.lower() != ".shp":
        return None
    return encoding_of(path, "" if texts.always else texts.codec, texts.codec if texts.always else "")


def _spelled(encoding: Encoding | None) -> str | None:
    """What the library is told that the texts are in."""
    return None if encoding is None else "UTF-8" if encoding.as_it_is else SPELLED


def _read_as(table: pa.Table, encoding: Encoding | None, texts: Texts) -> tuple[pa.Table, list[Remark]]:
    """The table with its texts decoded, and what there is to say of that."""
    if encoding is None or encoding.as_it_is:
        table, said = settled(table, codec_of(texts.codec))
        return table, [Remark(s, look=True, code=Code.UNDECODABLE) for s in said] + list(encoding.remarks() if encoding else ())
    for number, field in enumerate(table.schema):
        if is_text(field.type):
            column, _ = recoded(table.column(number), lambda raw: (encoding.text(raw.decode("utf-8")), ""))
            table = table.set_column(number, field.name, column)
    return table, list(encoding.remarks())


def unreadable(path: Path, error: Exception) -> InputError:
    """What to say of a file that the library could not read."""
    said = str(error).split(";")[0].strip()
    said = said if len(said) < 160 and str(path) not in said else ""
    return InputError(
        "it cannot be read; it is damaged, cut short, or not what its ending says" + (f" ({said})" if said else ""),
        place=str(path),
        way_out="Open it where it was made and save it again",
    )


def _kind(name: str | None) -> GeometryKind:
    """Kind of a declared geometry type; MIXED where the file leaves it open."""
    if name is None:
        return GeometryKind.TABLE
    plain = name.replace("Multi", "").split(" ")[0].replace("25D", "")
    return {
        "Point": GeometryKind.POINT,
        "LineString": GeometryKind.LINE,
        "CompoundCurve": GeometryKind.LINE,
        "CircularString": GeometryKind.LINE,
        "Curve": GeometryKind.LINE,
        "Polygon": GeometryKind.POLYGON,
        "CurvePolygon": GeometryKind.POLYGON,
        "Surface": GeometryKind.POLYGON,
    }.get(plain, GeometryKind.MIXED)


def _crs(declared: str | None) -> str | None:
    if not declared or reader.is_undefined(declared):
        return None
    try:
        return crs_code(parse_crs(declared))
    except CrsError:
        return None


def plain_type(kind: pa.DataType) -> pa.DataType:
    """One Arrow type a meaning: small integers, dictionaries and views are widened, nothing is narrowed."""
    if pa.types.is_dictionary(kind):
        return plain_type(kind.value_type)
    if pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_string_view(kind):
        return pa.string()
    if pa.types.is_integer(kind) and kind.bit_width < 64 and not pa.types.is_unsigned_integer(kind):
        return pa.int64()
    if pa.types.is_float16(kind) or pa.types.is_float32(kind):
        return pa.float64()
    return kind


def _fields(
    schema: pa.Schema, geometry: str, whole: Mapping[str, str] | None = None, encoding: Encoding | None = None
) -> tuple[tuple[Field, ...], list[str]]:
    """Attribute fields under names that differ by more than case, and the names they have in the file."""
    columns = [f for f in schema if f.name != geometry]
    known = whole or {}
    names = [f.name if encoding is None or encoding.as_it_is else encoding.text(f.name) for f in columns]
    unique = number_collisions([known.get(n, n) for n in names], limit=10_000)
    return tuple(Field(n, plain_type(f.type)) for n, f in zip(unique, columns, strict=True)), [f.name for f in columns]


def _is_empty_sequence(path: Path) -> bool:
    return path.suffix.lower() in _SEQUENCES and path.is_file() and path.stat().st_size == 0


def _nothing(path: Path, key: str) -> Reading:
    """What a text sequence without features holds."""
    layer = Layer(key, pa.table({}), np.empty(0, object), "EPSG:4326", path.stem, str(path), kind=GeometryKind.MIXED)
    return Reading(layer, 0, (), (Remark("it holds no features, so nothing is known of its fields"),))


def facts(path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
    """Facts of one layer, without its rows.

    Raises
    ------
    InputError : the layer cannot be opened.
    """
    if _is_empty_sequence(path):
        return _nothing(path, key).facts()
    known = (known_facts(path) or {}).get(name)
    if known is not None:
        return numbered(replace(known, key=key))
    inside = encoding(path, texts)
    try:
        info = _info(path, name, inside)
        schema, column = _schema(path, name, inside)
        listed = whole_names(path)
        fields, originals = _fields(schema, column, listed, inside)
    except failures() as error:
        raise unreadable(path, error) from error
    told = inside.remarks() if inside else source_of(path).remarks if path.suffix.lower() in _XML else ()
    told = (*told, *_renamed(fields, originals, listed, inside), *_foretold_curves(path, name, _crs(info["crs"])))
    count = int(info["features"])
    box = info.get("total_bounds")
    found = LayerFacts(
        key=key,
        name=name,
        kind=_kind(info["geometry_type"]),
        crs=_crs(info["crs"]),
        fields=fields,
        count=count if count >= 0 else None,
        certainty=Certainty.KNOWN if count >= 0 else Certainty.UNKNOWN,
        extent=None if box is None else (float(box[0]), float(box[1]), float(box[2]), float(box[3])),
        origin=str(path),
        told=told,
    )
    return numbered(found)


# Opening a text means to read all of it, since only then its fields are known: what was found is kept for as long as it is as it was.


def _state(path: Path) -> tuple[int, ...]:
    found = path.stat()
    return found.st_ino, found.st_ctime_ns, found.st_mtime_ns, found.st_size


@lru_cache(maxsize=256)
def _names_of_text(path: Path, state: tuple[int, ...]) -> tuple[str, ...]:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return tuple(str(row[0]) for row in library().list_layers(path))


def _info(path: Path, name: str, inside: Encoding | None) -> dict[str, Any]:
    """What the library says of a layer, its features counted."""
    return dict(_info_of_text(path, name, _state(path)) if path.suffix.lower() in _TEXTS else _ask_info(path, name, inside))


def _ask_info(path: Path, name: str, inside: Encoding | None) -> dict[str, Any]:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        told = library().read_info(
            _place(path), layer=name, encoding=_spelled(inside), force_feature_count=True, force_total_bounds=False, **_options(path)
        )
    return dict(told)


@lru_cache(maxsize=256)
def _info_of_text(path: Path, name: str, state: tuple[int, ...]) -> dict[str, Any]:
    return _ask_info(path, name, None)


def _schema(path: Path, name: str, inside: Encoding | None) -> tuple[pa.Schema, str]:
    """The columns of a layer as the library hands them on, and which of them has the shapes."""
    return _schema_of_text(path, name, _state(path)) if path.suffix.lower() in _TEXTS else _ask_schema(path, name, inside)


def _ask_schema(path: Path, name: str, inside: Encoding | None) -> tuple[pa.Schema, str]:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        opened = library().open_arrow(_place(path), layer=name, encoding=_spelled(inside), use_pyarrow=True, **_options(path))
        with opened as (meta, stream):
            return stream.schema, _geometry_column(meta)


@lru_cache(maxsize=256)
def _schema_of_text(path: Path, name: str, state: tuple[int, ...]) -> tuple[pa.Schema, str]:
    return _ask_schema(path, name, None)


def _renamed(fields: Sequence[Field], originals: Sequence[str], listed: Mapping[str, str], inside: Encoding | None) -> list[Remark]:
    """What there is to say of fields that are called otherwise than in the file."""
    out = []
    for field, spelled in zip(fields, originals, strict=True):
        original = inside.text(spelled) if inside is not None and not inside.as_it_is else spelled
        if field.name != original and original not in listed:
            out.append(Remark(f"field '{original}' differs from another only in case and is called '{field.name}'"))
    return out


def _titles(path: Path, name: str) -> dict[str, str]:
    return reader.titles_of(path, name) if path.suffix.lower() == ".gpkg" else {}


def whole_names(path: Path) -> dict[str, str]:
    """Field names that were shortened for a shapefile, by the list beside it; none where there is no such list."""
    listed = path.with_suffix(".fields.csv")
    if path.suffix.lower() != ".shp" or not listed.exists():
        return {}
    try:
        with listed.open(encoding="utf-8", newline="") as stream:
            return {r["name_in_file"]: r["name"] for r in csv.DictReader(stream) if r.get("name_in_file") and r.get("name")}
    except (OSError, ValueError, KeyError, csv.Error):
        return {}


def _geometry_column(meta: dict[str, object]) -> str:
    return str(meta.get("geometry_name") or "wkb_geometry")


def read(path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch, box: Extent | None = None) -> Reading:
    """Read one layer.

    Parameters
    ----------
    path, name : the file and the layer in it.
    key : the layer's key.
    texts : what they are in, where the file does not say or is wrong about it.
    watch : told of progress in records; may raise StoppedError.
    box : what does not meet it may be left out.

    Raises
    ------
    InputError : the layer cannot be read to its end.
    """
    check_readable(path)
    if _is_empty_sequence(path):
        return _nothing(path, key)
    known = (known_facts(path) or {}).get(name)
    if known is not None and known.count is not None and known.count <= reader.SMALL:
        small = _read_small(path, known, key)
        if small is not None:
            watch(known.count, known.count)
            return small
    stream = _Stream(path, name, key, texts, box)
    with closing(stream.batches(watch)) as coming:
        return stream.reading([stream.taken(batch) for batch in coming])


def chunks(
    path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch, least: int = 0, box: Extent | None = None
) -> Generator[Reading, None, None] | None:
    """One layer, ``CHUNK`` records at a time; None where it is small, or a reader has to see all of it at once. ``box`` as ``read``
    has it.

    Raises
    ------
    InputError : the layer cannot be read to its end; it may be found out on the way.
    """
    check_readable(path)
    if path.suffix.lower() not in IN_CHUNKS:
        return None
    stream = _Stream(path, name, key, texts, box)
    try:
        info = stream.info
    except failures() as error:
        raise unreadable(path, error) from error
    if int(info["features"]) <= least or not len(info["fields"]):
        return None
    return stream.chunks(watch)


@dataclass(frozen=True)
class _Taken:
    """Some records: their fields, their shapes as binary, and these as an array where the binary can be that."""

    fields: pa.RecordBatch
    shapes: pa.Array | None = None
    flat: WkbArray | None = None


class _Stream:
    """A layer as the library reads it: batches, and what is made of them."""

    def __init__(self, path: Path, name: str, key: str, texts: Texts, box: Extent | None = None) -> None:
        self.path, self.name, self.key, self.texts, self._box = path, name, key, texts, box
        self.inside = encoding(path, texts)
        self._flat = True
        """Whether shapes were so far of a form whose bytes tell boxes and sizes."""

    @cached_property
    def info(self) -> dict[str, Any]:
        return _info(self.path, self.name, self.inside)

    def batches(self, watch: Watch) -> Generator[pa.RecordBatch, None, None]:
        """Records as they come.

        Raises
        ------
        InputError : fewer can be read than there should be.
        """
        path, done = self.path, 0
        try:
            expected = int(self.info["features"])
            with (
                warnings.catch_warnings(),
                library().open_arrow(
                    _place(path),
                    layer=self.name,
                    encoding=_spelled(self.inside),
                    use_pyarrow=True,
                    batch_size=BATCH,
                    return_fids=True,
                    bbox=self._box,
                    **_options(path),
                ) as (meta, stream),
            ):
                warnings.simplefilter("ignore")
                self.meta, self.schema, self.column = meta, stream.schema, _geometry_column(meta)
                with closing(ahead(stream)) as coming:
                    for batch in coming:
                        done += batch.num_rows
                        watch(done, max(expected, 0))
                        yield batch
        except failures() as error:
            raise unreadable(path, error) from error
        if expected >= 0 and (done > expected or (done < expected and self._box is None)):
            raise InputError(
                f"it says that it holds {pluralise(expected, 'feature')} in '{self.name}', and {done:,} could be read",
                place=str(path),
                way_out="It was probably cut short; fetch it again from its source",
            )

    def chunks(self, watch: Watch) -> Generator[Reading, None, None]:
        """What is made of so many records at a time."""
        some = False
        with closing(self.batches(watch)) as coming:
            for batch in rebatched(coming, chunking.CHUNK):
                some = True
                yield self.reading([self.taken(batch)])
        if not some:
            yield self.reading([])

    def taken(self, batch: pa.RecordBatch) -> _Taken:
        """Fields and shapes of records. Boxes and sizes of shapes are worked out here, while the library reads on."""
        if self.column not in self.schema.names:
            return _Taken(batch)
        # some formats say by no bytes at all that there is no shape
        binary = batch.column(self.column)
        nothing = pc.equal(pc.binary_length(binary), 0)
        binary = pc.if_else(nothing, None, binary) if pc.any(nothing).as_py() else binary
        flat = WkbArray.from_arrow(pa.chunked_array([binary])) if self._flat else None
        self._flat = flat is not None and (flat.xy is not None or flat.measured is not None)
        return _Taken(batch.drop_columns([self.column]), binary, flat)

    def reading(self, batches: Sequence[_Taken]) -> Reading:
        """What is made of records."""
        path, info, column = self.path, self.info, self.column
        geometry = whole = None
        made: GeometryColumn | None = None
        straightened = 0
        if column in self.schema.names:
            flat = [t.flat for t in batches if t.flat is not None]
            binary = pa.chunked_array([t.shapes for t in batches], self.schema.field(column).type)
            whole = WkbArray.joined(flat) if flat and len(flat) == len(batches) else WkbArray.from_arrow(binary)
            if whole is None:
                binary, straightened = without_curves(path, binary, _crs(info["crs"]))
            if whole is None:
                geometry = _decoded(path, binary)
            elif path.suffix.lower() == ".gpkg" and whole.xy is None and whole.measured is None:
                # the library hands on what stands in the file, unread: what does not end where it says is found out here
                decoded = _decoded(path, binary)
                if shapely.is_missing(decoded).any():
                    geometry, whole = decoded, None
                else:
                    made = GeometryColumn(whole, decoded)
        rest = pa.schema([f for f in self.schema if f.name != column])
        table, ids = _without_ids(pa.Table.from_batches([t.fields for t in batches], rest), self.meta)
        table, remarks = _read_as(table, self.inside, self.texts)
        listed = whole_names(path)
        fields, originals = _fields(table.schema, column, listed, self.inside)
        remarks += _renamed(fields, originals, listed, self.inside)
        table = table.rename_columns([f.name for f in fields]).cast(pa.schema([pa.field(f.name, f.type) for f in fields]))
        remarks.extend(source_of(path).remarks if path.suffix.lower() in _XML else ())
        remarks.extend(_losses(info["geometry_type"]))
        crs = _crs(info["crs"])
        if straightened:
            text = f"{{n|shape}} with curves made straight, to within {straight_words(crs)}"
            remarks.append(Remark.counted(text, look=True, n=straightened))
        kind = _settled_kind(info["geometry_type"], geometry, whole)
        if not table.num_columns and column in self.schema.names:
            table = numbers(sum(t.fields.num_rows for t in batches))
            remarks.append(NUMBERED)
        layer = Layer(self.key, table, geometry if whole is None else whole, crs, self.name, str(path), _titles(path, self.name), kind, ids)
        if made is not None:
            layer = replace(layer, column=made)
        reading = Reading(layer, table.num_rows, (), tuple(remarks))
        return _without_damaged(path, self.name, reading) if path.suffix.lower() == ".gpkg" else reading


def _sound(binary: pa.ChunkedArray) -> bool:
    """Whether every shape can be decoded to its end; for few rows, since it takes as long as decoding them."""
    values = np.asarray(binary.to_pylist(), object)
    there = np.array([v is not None for v in values], bool)
    return not (shapely.is_missing(shapely.from_wkb(values, on_invalid="ignore")) & there).any()


def _without_damaged(path: Path, name: str, reading: Reading) -> Reading:
    """The rows whose shapes are damaged in the file, aside: the library takes them for rows without a shape."""
    layer = reading.layer
    if layer.wkb is not None or layer.geometry is None or layer.ids is None:
        return reading
    missing = np.flatnonzero(shapely.is_missing(layer.geometry))
    if not len(missing):
        return reading
    told = reader.with_shape(path, name, layer.ids[missing].tolist())
    damaged = missing[np.isin(layer.ids[missing], list(told))]
    if not len(damaged):
        return reading
    rest = layer.take(remaining(len(layer), damaged))
    return replace(reading, layer=rest, set_aside=(*reading.set_aside, ("its shape is damaged in the file", damaged)))


def columns(path: Path, name: str, fields: Sequence[str], texts: Texts = AS_DECLARED) -> pa.Table | None:
    """Some fields of a layer, all rows, without geometry; None where it has no such field."""
    known = (known_facts(path) or {}).get(name)
    if known is not None and known.count is not None and known.count <= reader.SMALL:
        small = reader.read_small(path, known)
        if small is not None:
            there = all(f in small[0].column_names for f in fields)
            return small[0].select(list(fields)) if there else None
    inside = encoding(path, texts)
    schema, column = _schema(path, name, inside)
    shown, originals = _fields(schema, column, whole_names(path), inside)
    by_name = {f.name: (original, f.type) for f, original in zip(shown, originals, strict=True)}
    if any(f not in by_name for f in fields):
        return None
    wanted = [by_name[f][0] for f in fields]
    with library().open_arrow(
        _place(path), layer=name, columns=wanted, read_geometry=False, encoding=_spelled(inside), use_pyarrow=True, **_options(path)
    ) as (_, stream):
        table, _ = _read_as(stream.read_all(), inside, texts)
    return pa.table([table.column(by_name[f][0]).cast(by_name[f][1]) for f in fields], names=list(fields))


def known_facts(path: Path) -> dict[str, LayerFacts] | None:
    """Facts of a GeoPackage's layers, where they can be told without the library."""
    return reader.all_facts(path) if path.suffix.lower() == ".gpkg" else None


def _read_small(path: Path, facts: LayerFacts, key: str) -> Reading | None:
    found = reader.read_small(path, facts)
    if found is None:
        return None
    table, binary, ids = found
    geometry = whole = None
    kind = facts.kind
    if binary is not None and (len(curved_rows(binary)) or not _sound(binary)):
        return None  # the library says what it makes of it
    if binary is not None:
        whole = WkbArray.from_arrow(binary)
        geometry = None if whole is not None else _decoded(path, binary)
        kind = _settled_kind(None, geometry, whole)
        if kind is GeometryKind.TABLE or not len(ids) or (geometry is not None and not shapely.is_geometry(geometry).any()):
            kind = facts.kind
        if whole is not None and not len(ids):
            geometry, whole = np.empty(0, object), None
    titles = {f.name: f.title for f in facts.fields if f.title}
    bare = not table.num_columns and binary is not None
    if bare:
        table = numbers(len(ids))
    layer = Layer(key, table, geometry if whole is None else whole, facts.crs, facts.name, str(path), titles, kind, ids)
    return Reading(layer, len(table), remarks=(NUMBERED,) if bare else ())


def _without_ids(table: pa.Table, meta: dict[str, object]) -> tuple[pa.Table, np.ndarray | None]:
    """Take the file's own numbers of the features out of its fields."""
    name = str(meta.get("fid_column") or "OGC_FID")
    if table.column_names[:1] != [name]:
        return table, None
    ids = np.asarray(table.column(0).combine_chunks().cast(pa.int64()).fill_null(-1))
    return table.remove_column(0), ids


def _decoded(path: Path, binary: pa.ChunkedArray) -> np.ndarray:
    try:
        parts = [decode(chunk) for chunk in binary.chunks]
    except shapely.errors.ShapelyError as error:
        if path.suffix.lower() != ".gpkg":
            raise unreadable(path, error) from error
        # single shapes are damaged: those rows are set aside
        parts = [shapely.from_wkb(np.asarray(c.to_pylist(), object), on_invalid="ignore") for c in binary.chunks]
    return np.concatenate(parts) if parts else np.empty(0, object)


def _settled_kind(declared: str | None, geometry: np.ndarray | None, binary: WkbArray | None) -> GeometryKind:
    """What the rows are, where there are any; else what the file declares."""
    if binary is not None:
        return kind_of_types(binary.library_types()) if len(binary) else _kind(declared)
    if geometry is None:
        return GeometryKind.TABLE
    found = kind_of(geometry)
    return _kind(declared) if found is GeometryKind.MIXED and not (shapely.get_type_id(geometry) >= 0).any() else found


def _losses(declared: str | None) -> list[Remark]:
    out = []
    if declared and (" M" in declared or declared.startswith("Measured")):
        out.append(Remark("measures (M values) are not kept", look=True))
    return out


def straight_words(crs: str | None) -> str:
    """How far a chord may be from its arc, for a person."""
    if is_geographic(crs):
        return "a hundred-millionth of a degree"
    return "1 mm" if _unit(crs) else "a thousandth of its unit"


def without_curves(path: Path, binary: pa.ChunkedArray, crs: str | None) -> tuple[pa.ChunkedArray, int]:
    """Shapes with curves made straight, to within a millimetre or what that is in degrees; and how many there were."""
    rows = curved_rows(binary)
    if not len(rows):
        return binary, 0
    values = [b for chunk in binary.chunks for b in slices(chunk)]
    tolerance = _DEGREES if is_geographic(crs) else 0.001 / (_unit(crs) or 1.0)
    had = 0
    try:
        for row in rows:
            values[row], curves = straight(values[row] or b"", tolerance)
            had += curves
    except ValueError as error:
        raise unreadable(path, error) from error
    return pa.chunked_array([pa.array(values, binary.type)]), had


def _foretold_curves(path: Path, name: str, crs: str | None) -> list[Remark]:
    """That a layer of a type with curves will be made straight; the library tells only what it would become."""
    if path.suffix.lower() != ".gpkg" or not reader.is_curved(reader.declared_type(path, name)):
        return []
    return [Remark(f"curves are made straight, to within {straight_words(crs)}", look=True)]


def _unit(crs: str | None) -> float | None:
    return crs_facts(crs).unit_metres if crs else None
