"""The public Python face: build, read, write, rehearse and run a workflow; use an operation straight on a layer."""

from __future__ import annotations

import inspect
import warnings
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from eskret.core.layer import Layer
from eskret.core.layer.frames import from_frame as from_geopandas
from eskret.core.layer.frames import to_frame as to_geopandas
from eskret.core.naming import AS_TYPED, TIDY, folded
from eskret.core.style.style import style_of
from eskret.core.texts import codec_of
from eskret.core.words import pluralise
from eskret.errors import DocumentError, EskretError, InputError, SettingError
from eskret.formats import geopackage, sources
from eskret.formats.known import format_to_write
from eskret.formats.reading import Texts
from eskret.operations.base import Operation
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import layer_settings
from eskret.workflow.cache import ResultCache, the_store
from eskret.workflow.cache.cached_layer import LayerHandle
from eskret.workflow.faces.follow import Followed
from eskret.workflow.faces.follow import follow as follow_features
from eskret.workflow.faces.handles import ParameterHandle, StepHandle, plain
from eskret.workflow.faces.operation_methods import OperationMethods
from eskret.workflow.faces.python_help import help_of, signature_of
from eskret.workflow.faces.results import Foretold, Ran, Result
from eskret.workflow.faces.script import to_script
from eskret.workflow.history.runs import PYTHON, write_down
from eskret.workflow.model import document, edits
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.iteration import each_of
from eskret.workflow.model.map_spec import map_of
from eskret.workflow.model.parameters import Parameter, parameter_of
from eskret.workflow.run.engine import Run, run_on_layers
from eskret.workflow.run.rehearsal import rehearse


class _Unsaid:
    """An option of which nothing was said: what its name means is not in question."""


_UNSAID = _Unsaid()


class Workflow(OperationMethods):
    """A workflow being built or read; changes in place, unlike the document inside it.

    Every operation is a method: ``workflow.keep("piles", recordings, where="desc LIKE 'Pile%'")``.

    Examples
    --------
    >>> workflow = Workflow(title="Marks", crs="EPSG:32626")
    >>> marks = workflow.load("marks", files=["field/*.gpx"])
    >>> piles = workflow.keep("piles", marks["*_waypoints"], where="desc LIKE 'Pile%'")
    >>> [step.id for step in workflow.steps]
    ['marks', 'piles']
    """

    def __init__(
        self,
        title: str = "",
        summary: str = "",
        crs: str = "",
        *,
        help: str = "",
        keywords: Sequence[str] = (),
        author: str = "",
        limits: str = "",
        names: str = AS_TYPED,
    ) -> None:
        if names not in ("", AS_TYPED, TIDY):
            raise DocumentError(f"'names' cannot be '{names}'", way_out=f"It can be '{AS_TYPED}' or '{TIDY}'")
        self.document = Document(title, summary, crs, help, tuple(keywords), author, limits, names)
        self.path: Path | None = None

    @classmethod
    def read(cls, path: str | Path) -> Workflow:
        """The workflow in a file.

        Raises
        ------
        DocumentError : it is missing or no workflow.
        """
        workflow = cls()
        workflow.path = Path(path).resolve()
        workflow.document = document.read(workflow.path)
        return workflow

    def write(self, path: str | Path | None = None) -> None:
        """Write the canonical file, by default where it was read from."""
        target = Path(path).resolve() if path is not None else self.path
        if target is None:
            raise DocumentError("this workflow has no file yet", way_out="Give one: workflow.write('name.toml')")
        document.write(self.document, target)
        self.path = target

    @property
    def steps(self) -> tuple[Step, ...]:
        return self.document.steps

    @property
    def parameters(self) -> tuple[Parameter, ...]:
        return self.document.parameters

    def parameter(self, name: str, **properties: object) -> ParameterHandle:
        """Add a parameter: type, label, default, choices, choices_from, enabled_by, min, max, help, as in the file.

        Raises
        ------
        DocumentError : one of them is wrong.
        """
        parameter = parameter_of(name, properties, "workflow")
        self.document = edits.put_parameter(self.document, parameter)
        return ParameterHandle(name)

    def step(
        self,
        use: str,
        id: str,
        source: StepHandle | str | Iterable[StepHandle | str] = (),
        /,
        *,
        heading: str = "",
        note: str = "",
        off: bool = False,
        layer: Mapping[str, Mapping[str, object]] | None = None,
        style: Mapping[str, Mapping[str, object]] | None = None,
        each: Mapping[str, object] | None = None,
        result: bool = False,
        **settings: object,
    ) -> StepHandle:
        """Add a step at the end.

        Parameters
        ----------
        use : the operation's id.
        id : the step's own name.
        source : what enters: a step, ``step["key"]``, or a list of these.
        heading, note, off, layer, style, each, result : as in the file.
        settings : the operation's.

        Raises
        ------
        DocumentError : the id is taken.
        SettingError : a style says what it cannot.
        """
        if any(s.id == id for s in self.document.steps):
            raise DocumentError(f"there is a step '{id}' already", way_out="Choose another name")
        given = [source] if isinstance(source, StepHandle | str) else list(source)
        styles = {key: style_of(table) for key, table in (style or {}).items()}
        references = tuple(s.id if isinstance(s, StepHandle) else s for s in given)
        rounds = each_of(plain(each), f"step '{id}'") if each else None
        step = Step(id, use, references, plain(settings), heading, note, off, plain(layer or {}), styles, rounds, result)
        self.document = replace(self.document, steps=(*self.document.steps, step))
        return StepHandle(id)

    def map(self, layers: Sequence[Mapping[str, object]] = (), lines: str = "grid") -> None:
        """Say what lies on the map beside the layer in hand, from the topmost down: as the file's ``[map]``.

        Raises
        ------
        DocumentError : something of it cannot be.
        """
        table = {"layers": [dict(x) for x in layers], "lines": lines}
        self.document = replace(self.document, map=map_of(table, "workflow"))

    def comment(self, path: Sequence[str], before: Sequence[str] = (), behind: str = "") -> None:
        """Put comments of the file where they belong: ``("steps", "piles", "where")``; at the end for ``()``."""
        notes = self.document.comments
        if not path:
            notes = replace(notes, end=tuple(before))
        else:
            place = tuple(path)
            if before:
                notes = replace(notes, before={**notes.before, place: tuple(before)})
            if behind:
                notes = replace(notes, behind={**notes.behind, place: behind})
        self.document = replace(self.document, comments=notes)

    def rehearse(self, values: Mapping[str, object] | None = None, **named: object) -> Foretold:
        """Check everything and foretell the outputs; nothing is written. Parameters are given as for ``run``."""
        given = self._values(values, named, {})
        return Foretold.of(rehearse(self.document, given, workflow=self.path, folder=self._folder()), self.document, given)

    def run(
        self,
        values: Mapping[str, object] | None = None,
        *,
        if_exists: str | _Unsaid | None = _UNSAID,
        hold: bool | _Unsaid = _UNSAID,
        fresh: bool | _Unsaid = _UNSAID,
        record: bool | _Unsaid = _UNSAID,
        **named: object,
    ) -> Ran:
        """Run it; the result holds the accounts and, unless ``hold`` is False, every step's layers. What an earlier run made is
        taken up again where nothing has changed that it hangs on, but for ``fresh=True``.

        Parameters
        ----------
        values : of parameters, by name.
        if_exists : in place of what the steps say: own, stop, replace, number, skip.
        record : whether the run is kept among the runs that can be looked at later.
        named : of parameters too: ``run(district="North")``. One whose name means something here is given in ``values``.

        Raises
        ------
        DocumentError : there is no such parameter, or what its name stands for here is not clear.
        RehearsalError : the rehearsal found errors; nothing was run.
        """
        said = {"if_exists": if_exists, "hold": hold, "fresh": fresh, "record": record}
        given = self._values(values, named, {n: v for n, v in said.items() if not isinstance(v, _Unsaid)})
        holding = isinstance(hold, _Unsaid) or hold
        entered: dict[str, list[tuple[str, tuple[str, str]]]] = {}

        def keep(id: str, entering: Sequence[LayerHandle], *_: object) -> Mapping[str, Any]:
            entered[id] = [(x.key, x.provenance[0]) for x in entering if x.provenance]
            return {}

        run = Run(
            self.document,
            given,
            workflow=self.path,
            folder=self._folder(),
            if_exists=None if isinstance(if_exists, _Unsaid) else if_exists,
            hold=holding,
            keep=keep if holding else None,
            result_cache=ResultCache(the_store(), fresh=not isinstance(fresh, _Unsaid) and fresh),
        )
        result = run.execute()
        if isinstance(record, _Unsaid) or record:
            write_down(run, result, PYTHON)
        return Ran.of(result, self.document, entered)

    def follow(
        self,
        name: str,
        where: str = "",
        *,
        rows: Sequence[int] | None = None,
        source: bool = False,
        values: Mapping[str, object] | None = None,
    ) -> Followed:
        """Follow features: back to the records they came of, step by step, and on to all that came of them. Nothing is written.

        Parameters
        ----------
        name : a step, ``step:layer``, or a layer by its name as the last step left it.
        where : a condition that holds for the features; or ``rows``, their positions in the layer.
        source : look for the layer from the first step on.
        values : of parameters, by name.

        Returns
        -------
        The way: ``.frame()`` as a frame of pandas, ``.table()`` as a table of Arrow, ``.lines()`` in words.

        Raises
        ------
        InputError : there is no such layer, or none or too many of its features are meant.
        """
        return follow_features(self.document, name, where, rows, values, source=source, workflow=self.path, folder=self._folder())

    def _values(self, values: Mapping[str, object] | None, named: Mapping[str, object], options: Mapping[str, object]) -> dict[str, object]:
        names = [p.name for p in self.parameters]
        table = isinstance(values, Mapping)
        for name in ("values", *options):
            if name in names and (name in options or values is not None) and not (table and name in (values or {})):
                raise DocumentError(
                    f"'{name}' is a parameter of this workflow and means something else here",
                    place="values",
                    way_out=f"Give it as values={{'{name}': ...}}",
                )
        if values is not None and not table:
            raise DocumentError("'values' must be a table of parameters' values", way_out="Write values={'name': value}")
        twice = [n for n in named if n in (values or {})]
        if twice:
            raise DocumentError(f"'{twice[0]}' is given twice", place="values", way_out="Give it once")
        return {**(values or {}), **named}

    def script(self, file: str = "workflow.toml") -> str:
        """Python that builds this workflow again."""
        return to_script(self.document, file)

    def _folder(self) -> Path:
        return self.path.parent if self.path else Path.cwd()


def use(name: str) -> Callable[..., Result]:
    """An operation to be called straight on a layer, or on a GeoDataFrame.

    A layer that a setting names is given by name or, behind the first, by place. An operation that gathers layers takes a list.

    Examples
    --------
    ``use("keep")(beds, where="desc LIKE $word", values={"word": "Pile%"}).layer``
    ``use("clip")(beds, districts).to_geopandas()``
    ``use("split")(beds, by="district")["north"]``
    ``use("merge")([north, south]).layer``
    """
    known = operation_by_id(name)

    def call(layer: object, *others: object, values: Mapping[str, object] | None = None, **settings: object) -> Result:
        entering = [
            _layer(one, f"layer_{n}" if n else "layer") for n, one in enumerate(layer if isinstance(layer, list | tuple) else [layer])
        ]
        given = _by_place(known, others, settings)
        outcome = run_on_layers(known, entering, given, values or {})
        return Result(outcome.layers, outcome.inputs, outcome.outputs, outcome.remarks, {x.key: x for x in entering})

    call.__name__ = name
    call.__doc__ = help_of(known)
    call.__signature__ = signature_of(known, _ON_A_LAYER, "Layer | GeoDataFrame")  # type: ignore[attr-defined]
    return call


_ON_A_LAYER = (
    inspect.Parameter("layer", inspect.Parameter.POSITIONAL_OR_KEYWORD, annotation="Layer | GeoDataFrame | list"),
    inspect.Parameter("others", inspect.Parameter.VAR_POSITIONAL, annotation="Layer | GeoDataFrame"),
    inspect.Parameter("values", inspect.Parameter.KEYWORD_ONLY, default=None, annotation="Mapping[str, object] | None"),
)


def _by_place(operation: Operation, others: Sequence[object], settings: Mapping[str, object]) -> dict[str, object]:
    """Settings with the layers that were given by place, and frames as layers."""
    names = layer_settings(operation.Settings)
    free = [n for n in names if n not in settings]
    if len(others) > len(free):
        takes = f"{pluralise(len(names), 'more layer')} ({', '.join(names)})" if names else "no second layer"
        raise SettingError(f"'{operation.id}' takes {takes}", way_out="Give other settings by their names")
    given = {**settings, **dict(zip(free, others, strict=False))}
    for name in names:
        value = given.get(name)
        if isinstance(value, list | tuple):
            given[name] = [_framed(one, name) for one in value]
        elif name in given:
            given[name] = _framed(value, name)
    return given


def _framed(value: object, key: str) -> object:
    """A frame as a layer; anything else as it is."""
    return from_geopandas(value, key) if hasattr(value, "columns") and not isinstance(value, Layer) else value


def _layer(value: object, key: str) -> Layer:
    found = _framed(value, key)
    if not isinstance(found, Layer):
        raise InputError(f"{value!r} is no layer", way_out="Give it a layer, as eskret.read(...) has it, or a GeoDataFrame")
    return found


def read(path: str | Path, layer: str | None = None, *, encoding: str = "") -> Layer:
    """One layer of a file; the name may be left out where there is just one.

    What there is to say of how it was read comes as warnings: texts in an encoding that had to be assumed, rows left out.

    Parameters
    ----------
    encoding : what its texts are in, whatever it declares; empty for what it declares.

    Raises
    ------
    InputError : it cannot be read, or there are several and none was named.
    """
    file = Path(path)
    names = sources.layer_names(file)
    if layer is None and len(names) != 1:
        raise InputError(f"it holds {len(names)} layers", place=str(file), way_out=f"Name one of {', '.join(names)}")
    name = layer if layer is not None else names[0]
    if name not in names:
        raise InputError(f"it has no layer '{name}'", place=str(file), way_out=f"It has {', '.join(names)}")
    if encoding and not codec_of(encoding):
        raise InputError(f"no encoding is called '{encoding}'", way_out="It can be utf-8, cp1252, cp850 and the like")
    texts = Texts(encoding, always=True) if encoding else Texts()
    reading = sources.read(file, name, sources.key_for(file, name, len(names)), texts)
    for said in [r.text for r in reading.remarks if r.look] + [
        f"{pluralise(len(rows), 'row')} left out: {why}" for why, rows in reading.set_aside
    ]:
        warnings.warn(f"{path}: {said}", stacklevel=2)
    return reading.layer


def write(layer: Layer, path: str | Path, name: str = "") -> None:
    """Write one layer to a file that is not there yet, or as a new layer of a GeoPackage.

    What the format cannot hold comes as warnings.

    Raises
    ------
    DeliveryError : the ending is not known, or the file or layer is there already.
    """
    file = Path(path)
    target = format_to_write(file)
    if not target.many and file.exists():
        raise EskretError("the file is there already", place=str(file), way_out="Choose another name, or remove it")
    called = name or layer.key
    if target.many and file.exists() and folded(called) in map(folded, geopackage.layer_list(file)):
        raise EskretError(f"layer '{called}' is there already", place=str(file), way_out="Choose another name")
    for said in target.write_one(file, layer, called):
        if said.look:
            warnings.warn(f"{path}: {said.text}", stacklevel=2)


__all__ = ["ParameterHandle", "Result", "StepHandle", "Workflow", "from_geopandas", "read", "to_geopandas", "use", "write"]
