"""What an operation is: one class, one file, everything about it in one place.

Four shapes. A ``Source`` brings layers in and takes none. An ``EachLayer`` sees one layer; the engine maps it over the
set. A ``Gathering`` sees the whole set at once. A ``Delivery`` takes the whole set and writes it. Each foretells from
facts alone what it will do, and then does it.
"""

from __future__ import annotations

import inspect
import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path
from typing import Any, ClassVar, Protocol, TypeVar

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import FIRST, ControlTotal, InputAccount, OutputAccount, Relation, Remark
from eskret.core.layer import Certainty, ChunkedLayer, Layer, LayerFacts
from eskret.core.measure.totals import totals_of
from eskret.core.naming import clean_name, fill_template, placeholders
from eskret.core.style.style import Style
from eskret.core.words import bold
from eskret.errors import Action, Code, EskretError
from eskret.formats.geopackage.in_place import LayerChange
from eskret.formats.reading import Watch, no_watch
from eskret.operations.sentences import fill_sentence
from eskret.operations.settings import OperationSettings, setting_info
from eskret.services.changing import FeatureChange
from eskret.services.journal import Push

T = TypeVar("T")


class Phase(StrEnum):
    """Where in the analyst's day an operation belongs."""

    GATHER = "Gather"
    CHOOSE = "Choose"
    SHAPE = "Shape"
    DESCRIBE = "Describe"
    CHECK = "Check"
    DELIVER = "Deliver"


class Takes(StrEnum):
    """How an operation takes a large layer."""

    WHOLE = "whole"
    ROWS = "rows"
    """A chunk at a time; what leaves is in the order of what enters."""
    PARTS = "parts"
    """In parts of rows that belong together, see ``EachLayer.places``; what leaves is in the order of the parts."""


class Level(StrEnum):
    """How much a finding weighs: an error stops the run, a look is worth seeing, a note is just told."""

    ERROR = "error"
    LOOK = "look"
    NOTE = "note"


@dataclass(frozen=True)
class Finding:
    """What a rehearsal has to say, with the place it is about. ``start`` and ``length`` mark text in the setting; ``code`` is
    what it is about, for programs, ``action`` what can be done about it at once, ``counts`` the figures in it."""

    level: Level
    text: str
    step: str = ""
    setting: str = ""
    layer: str = ""
    start: int = -1
    length: int = 0
    code: Code = Code.GENERAL
    action: Action | None = None
    counts: tuple[tuple[str, int], ...] = ()

    @classmethod
    def error(cls, text: str, setting: str = "", about: LayerFacts | None = None, **more: Any) -> Finding:
        """What stops a run; with the layer it is ``about`` before it."""
        return cls._about(Level.ERROR, text, setting, about, more)

    @classmethod
    def look(cls, text: str, setting: str = "", about: LayerFacts | None = None, **more: Any) -> Finding:
        """What is worth seeing; with the layer it is ``about`` before it."""
        return cls._about(Level.LOOK, text, setting, about, more)

    @classmethod
    def note(cls, text: str, setting: str = "", about: LayerFacts | None = None, **more: object) -> Finding:
        """What is just told; with the layer it is ``about`` before it."""
        return cls._about(Level.NOTE, text, setting, about, more)

    @classmethod
    def _about(cls, level: Level, text: str, setting: str, about: LayerFacts | None, more: dict[str, Any]) -> Finding:
        if about is not None:
            text, more = f"{about.key}: {text}", {"layer": about.key, **more}
        return cls(level, text, setting=setting, **more)

    @classmethod
    def of(cls, error: EskretError, **more: Any) -> Finding:
        """An error as a finding."""
        told: dict[str, Any] = {"step": error.step, "setting": error.setting, **more}
        return cls(
            told.pop("level", Level.ERROR),
            error.sentence(error.place != f"step '{error.step}'"),
            code=error.code,
            action=error.action,
            counts=tuple(error.counts.items()),
            **told,
        )

    def to_json(self) -> dict[str, Any]:
        return {
            "level": str(self.level),
            "step": self.step,
            "setting": self.setting,
            "layer": self.layer,
            "text": self.text,
            "start": self.start,
            "length": self.length,
            "code": str(self.code),
            "action": str(self.action or ""),
            "counts": dict(self.counts),
        }


@dataclass(frozen=True)
class PlannedOutput:
    """An output as foretold: the file, the layer in it (empty where a file holds one) and what will happen to it."""

    path: Path
    layer: str
    action: str
    features: int | None = None
    original: str = ""
    certainty: Certainty = Certainty.KNOWN
    weight: float = field(default=0.0, compare=False)
    """About how many bytes a feature takes; 0 where nobody knows."""


@dataclass(frozen=True)
class ServiceAccess:
    """A service that an operation asks: its address, the environment variable whose value goes there as a token, and whether
    it is for changing something."""

    address: str
    variable: str = ""
    changes: bool = False


@dataclass(frozen=True)
class Forecast:
    """What a step will make, as far as facts tell."""

    layers: tuple[LayerFacts, ...] = ()
    findings: tuple[Finding, ...] = ()
    outputs: tuple[PlannedOutput, ...] = ()
    known: bool = True
    """Whether what it will make is known at all before it runs."""
    unapproved: tuple[ServiceAccess, ...] = ()
    """Services that it would ask and nobody has allowed yet."""


@dataclass(frozen=True)
class Delivered:
    """An output as it was staged. ``sha256`` of the whole file is filled in at commit."""

    path: Path
    layer: str
    features: int
    crs: str | None
    step: str = ""
    sha256: str = ""
    content: str = ""
    """A digest of the layer's rows, for a layer of a container."""
    own: bool = True
    """Whether the whole of it is this workflow's; not where rows went into what was there already."""
    written: bool = True
    """Whether it was written now; not where an earlier run left it just so."""

    def to_json(self) -> dict[str, Any]:
        return {
            "path": str(self.path),
            "layer": self.layer,
            "features": self.features,
            "crs": self.crs,
            "step": self.step,
            "sha256": self.sha256,
            "written": self.written,
        }


@dataclass(frozen=True)
class PreparedPush:
    """A push that was prepared and not sent: the difference between a layer and a published dataset."""

    push: str
    service: str
    dataset: str
    step: str
    added: int
    changed: int
    removed: int
    unchanged: int

    @property
    def changes(self) -> int:
        return self.added + self.changed + self.removed

    def to_json(self) -> dict[str, Any]:
        return {
            "push": self.push,
            "service": self.service,
            "dataset": self.dataset,
            "step": self.step,
            "added": self.added,
            "changed": self.changed,
            "removed": self.removed,
            "unchanged": self.unchanged,
        }


@dataclass(frozen=True)
class Brought:
    """Which rows of a layer that a setting names went into which rows that leave: two arrays of one length (int64), made only where
    somebody follows features."""

    setting: str
    pairs: Callable[[], tuple[np.ndarray, np.ndarray]]


@dataclass(frozen=True)
class Outcome:
    """What came of one task: layers that leave, the accounts, and what there is to say.

    ``lineage`` gives, for every row of the layers that leave, the row of the first input it descends from; None where
    the operation vouches for its accounts, as a source does.
    """

    layers: tuple[Layer, ...] = ()
    inputs: tuple[InputAccount, ...] = ()
    outputs: tuple[OutputAccount, ...] = ()
    lineage: np.ndarray | None = None
    remarks: tuple[Remark, ...] = ()
    delivered: tuple[Delivered, ...] = ()
    prepared: tuple[PreparedPush, ...] = ()
    into: np.ndarray | None = None
    """Where several rows become one: for every row of the first input the row that leaves into which it went, -1 for none.
    Given instead of ``lineage``."""
    failed: str = ""
    """What a check found not to hold, where that must stop the run."""
    relation: Relation | None = None
    """How rows out relate to rows used, where a setting decides it; else as the operation says."""
    controls: tuple[ControlTotal, ...] = ()
    """Of the one layer that leaves, where ``outputs`` says nothing."""
    brought: tuple[Brought, ...] = ()
    """Rows of other layers that went into those that leave."""
    written: tuple[LayerFacts, ...] = ()
    """Facts of layers that were written, where they are not handed on as they were written."""

    def told(self) -> Outcome:
        """Without what is there only to keep the place of what may be said of another part of a layer."""
        inputs = tuple(replace(i, altered=tuple(a for a in i.altered if len(a))) if i.altered else i for i in self.inputs)
        return replace(self, inputs=inputs, remarks=tuple(r for r in self.remarks if r.text))

    def completed(self, entering: Sequence[Layer], totals: Sequence[str]) -> Outcome:
        """With the accounts that follow of themselves, where it says nothing: all rows used, and the totals of what leaves."""
        inputs, outputs = self.inputs, self.outputs
        if not any(a.first for a in inputs):
            inputs = (*(InputAccount(FIRST[0], x.key, len(x)) for x in entering), *inputs)
        if not outputs:
            outputs = tuple(OutputAccount(x.key, len(x), totals_of(x, totals), self.controls) for x in self.layers)
        return replace(self, inputs=inputs, outputs=outputs, controls=())


class Staging(Protocol):
    """Where deliveries are staged; the engine brings one."""

    def resolve(self, target: Path, layers: Sequence[str], if_exists: str) -> Sequence[PlannedOutput]:
        """Say what will happen to each of these layers (or to the file, for one empty name); write nothing."""

    def wrote(self, path: Path) -> frozenset[str] | None:
        """Of a file that this workflow wrote on an earlier run the layers it wrote into it, none for a file that is one layer
        itself; None for a file of somebody else."""

    def stage(self, target: Path, *, shared: bool = False, of: Path | None = None) -> Path:
        """A file on the target's file system to write instead of it; one that is ``shared`` holds what other steps staged for
        the same target in this run. ``of`` is the file that it belongs to."""

    def change_layer(self, target: Path, change: LayerChange) -> LayerChange:
        """Say what becomes of a layer of a GeoPackage, once what is staged for it goes there."""

    def digests_there(self, target: Path, layers: Sequence[str]) -> dict[str, str]:
        """Digests of layers that are there now; empty for one that is not."""

    def mark_written(self, target: Path, sha256: str = "") -> None:
        """Say that a staged file is written, as far as this step knows; with its digest, where that is known."""

    def lock(self, target: Path) -> Any:
        """Held while a staged file is written: two steps may deliver into one container."""

    def add_member(self, target: Path, companion: Path) -> Path:
        """A file that belongs to a staged one: where it is written; it goes with it into its place."""

    def delete(self, target: Path) -> None:
        """Take a file away together with the commit, if it is there: it belongs to what is replaced."""

    def backup(self, target: Path, *companions: Path) -> None:
        """Keep what a target and its companions hold now, so that the change of them can be taken back later."""

    def prepare(self, push: Push, entries: Sequence[tuple[str, FeatureChange]]) -> PreparedPush:
        """Write down a push that is to be sent once somebody says so."""


class Once:
    """Makes what all chunks of a layer share when the first of them asks for it."""

    def __init__(self) -> None:
        self._made: dict[object, Any] = {}
        self._lock = threading.RLock()  # what is made may ask for what else is shared

    def __call__(self, what: object, make: Callable[[], T]) -> T:
        with self._lock:
            if what not in self._made:
                self._made[what] = make()
            made: T = self._made[what]
            return made


def _anew(_: object, make: Callable[[], T]) -> T:
    return make()


@dataclass(frozen=True)
class Context:
    """Where and with what an operation works.

    ``values`` are the parameters' values; ``field_values`` those of parameters that stand for a field.
    """

    folder: Path = field(default_factory=Path)
    step: str = ""
    values: Mapping[str, Any] = field(default_factory=dict)
    field_values: Mapping[str, str] = field(default_factory=dict)
    crs: str | None = None
    names: str = ""
    """What becomes of the names of layers that are saved, where their step does not say."""
    totals: tuple[str, ...] = ()
    watch: Watch = no_watch
    transaction: Staging | None = None
    path_parameters: frozenset[str] = frozenset()
    others: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    """Layers that settings name, by setting; in a rehearsal their facts."""
    handles: Mapping[str, Sequence[Layer | ChunkedLayer]] = field(default_factory=dict)
    """These layers as they are there: large ones on disk, in chunks."""
    sld_of: Callable[[Layer, str], str] | None = None
    """The style of a layer as the text of an SLD file for this name; the engine brings it."""
    chain: tuple[Path, ...] = ()
    """The workflow files that are at work, each using the next; empty where the workflow has no file."""

    of_layer: Mapping[str, Mapping[str, object]] = field(default_factory=dict)
    """Settings of single layers that enter, by their key, for an operation that sees the whole set."""
    whole: LayerFacts | None = None
    """Facts of the whole layer, where the one that is given is a chunk of it: what is decided once is decided from these."""
    large: ChunkedLayer | None = None
    """The whole layer, where the one that is given is a chunk of it that begins with the row ``begins``."""
    begins: int = 0
    group: int = 0
    """The place of the first group of rows, where the layer that is given is a part of some groups."""
    once: Callable[[object, Callable[[], Any]], Any] = _anew
    """Makes what all chunks of a layer share, by what it is called."""

    def own_layers(self, path: Path) -> frozenset[str] | None:
        """What this workflow itself wrote into a file on an earlier run, as ``Staging.wrote`` has it."""
        return self.transaction.wrote(path) if self.transaction is not None else None

    def columns_of(self, layer: Layer, names: Sequence[str]) -> pa.Table:
        """Fields of a layer, or of all of that which it is a chunk of."""
        return layer.table.select(list(names)) if self.large is None else self.large.columns(names)

    def rows_of(self, layer: Layer) -> slice:
        """Where the rows of a layer stand in that which it is a chunk of."""
        return slice(self.begins, self.begins + len(layer))

    def extent_of(self, layer: Layer) -> tuple[float, float, float, float] | None:
        """The extent of a layer, or of that which it is a chunk of."""
        return layer.extent() if self.whole is None else self.whole.extent

    def sld(self, layer: Layer, name: str) -> str:
        """How a layer is drawn, as SLD; empty where nobody knows."""
        return self.sld_of(layer, name) if self.sld_of is not None else ""

    def other_layers(self, setting: str) -> Sequence[Layer]:
        """The layers that a setting names, in a run."""
        return self.others.get(setting, ())

    def other_chunks(self, setting: str) -> Generator[tuple[Layer, LayerFacts], None, None]:
        """The rows of the layers that a setting names, in a run, each with facts of the whole; of one that lies on disk so many at a
        time."""
        for one in self.handles.get(setting) or self.other_layers(setting):
            whole = one.facts()
            yield from ((x, whole) for x in ((one,) if isinstance(one, Layer) else one.chunks()))

    def other_facts(self, setting: str) -> Sequence[LayerFacts]:
        """Facts of the layers that a setting names, in a rehearsal."""
        return self.others.get(setting, ())

    def fill(self, template: str, extra: Mapping[str, object] | None = None) -> str:
        """Put parameters, and what a task adds, into a template."""
        return fill_template(template, {**self.values, **(extra or {})})

    def fill_path(self, template: str, extra: Mapping[str, object]) -> Path:
        """A path to write, from a template. Values are cleaned by the naming rule, so that none can climb out of its
        folder; only parameters that are files or folders, or the whole of the path, go in as they are."""
        cleaned = as_in_paths(template, self.values, self.path_parameters)
        return self.path(fill_template(template, {**cleaned, **{n: clean_name(str(v)) for n, v in extra.items()}}))

    def path(self, text: str) -> Path:
        """A path of the workflow file, absolute."""
        path = Path(text).expanduser()
        return path if path.is_absolute() else (self.folder / path)


def has_errors(findings: Iterable[Finding]) -> bool:
    """Whether one of these stops a run."""
    return any(f.level is Level.ERROR for f in findings)


def as_in_paths(template: str, values: Mapping[str, object], path_parameters: frozenset[str]) -> dict[str, object]:
    """Parameters' values as they go into a path to write: cleaned, but for files and folders, and for one that is all of it."""
    whole = template.strip()
    alone = whole[1:-1] if placeholders(whole) == [whole[1:-1]] else ""
    return {n: v if n in path_parameters or n == alone else clean_name(str(v)) for n, v in values.items()}


class Operation(ABC):
    """Base of all operations. The docstring of a subclass is its help: a first line, then how to use it."""

    id: ClassVar[str]
    title: ClassVar[str]
    phase: ClassVar[Phase]
    relation: ClassVar[Relation]
    also_known_as: ClassVar[tuple[str, ...]] = ()
    turns: ClassVar[tuple[tuple[str, str], ...]] = ()
    """What it makes into what, as it is looked for: kinds of shapes, or other words of ``core.finding``."""
    menu_order: ClassVar[int] = 50
    """Where it stands in its phase: what is needed more often comes first."""
    version: ClassVar[int] = 1
    says: ClassVar[str] = ""
    """The template of its sentence in the ledger: see ``sentences``."""
    limits: ClassVar[str] = ""
    """What it cannot do, or only so far; for the handbook."""
    has_input: ClassVar[bool] = True
    single: ClassVar[tuple[str, ...] | None] = ()
    """Settings that a single layer of the set may have for itself; None for all of them."""
    previews_text: ClassVar[bool] = False
    """Whether a form should show how the first lines of its text file are read."""
    only_figures: ClassVar[bool] = True
    """Whether it makes layers and figures and nothing else: it may then be done after every edit, unasked."""
    stands: ClassVar[bool] = False
    """Whether what it last made stands for it after an edit, though it may not be done unasked: until somebody has it done again."""
    Settings: ClassVar[type[OperationSettings]]

    def reach(self, settings: Any, context: Context) -> ServiceAccess | None:
        """The service that it asks, where it asks one; known before anything is sent there."""
        return None

    def reads(self, settings: Any, context: Context) -> Sequence[Path] | None:
        """The files that what it makes hangs on, beside its settings and the layers it works on; None where it asks what
        may change unseen, such as a service."""
        named = [n for n, i in setting_info(self.Settings).items() if i.kind in ("wordlist", "file")]
        texts = [str(getattr(settings, n)) for n in named if getattr(settings, n, "")]
        return [context.path(context.fill(text)) for text in texts]

    def code_digest(self) -> str:
        """A digest of its code, where that is not the program's own."""
        return ""

    def default_style(self, settings: Mapping[str, object]) -> Style | None:
        """How the layers it leaves are best drawn, where that is not as they were.

        Parameters
        ----------
        settings : as in the file, not checked.
        """
        return None

    @property
    def summary(self) -> str:
        """The first line of the help."""
        return (inspect.getdoc(type(self)) or "").split("\n")[0]

    @property
    def help(self) -> str:
        """The help after its first line."""
        return "\n".join((inspect.getdoc(type(self)) or "").split("\n")[1:]).strip()

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        """The step in the ledger; parts may be marked ``bold``.

        Parameters
        ----------
        settings : as in the file, not checked.
        entering : the layers that enter, in words.
        """
        if self.says:
            return fill_sentence(self.says, self.Settings, settings, entering)
        return f"{self.title} {bold(entering)}" if entering else self.title


class Source(Operation):
    """Brings layers in. A part is one task: what can be read on its own."""

    has_input = False

    @abstractmethod
    def forecast(self, settings: Any, context: Context) -> Forecast:
        """What will come in."""

    @abstractmethod
    def parts(self, settings: Any, context: Context) -> Sequence[Any]:
        """The tasks."""

    def part_inputs(self, part: Any, settings: Any, context: Context) -> Sequence[Path] | None:
        """As ``reads``, of one task alone."""
        return self.reads(settings, context)

    @abstractmethod
    def read(self, part: Any, settings: Any, context: Context) -> Sequence[Outcome]:
        """Do one task."""

    def chunks(self, part: Any, settings: Any, context: Context) -> Iterable[Outcome] | None:
        """Do one task a chunk at a time: outcomes of rows one behind the other, of one layer; None where it is done whole."""
        return None

    def joins(self, settings: Any) -> bool:
        """Whether ``gather`` looks at the rows of layers."""
        return True

    def gather(self, outcomes: Sequence[Outcome], settings: Any, context: Context) -> Sequence[Outcome]:
        """Put the tasks' results together; by default they stay as they are."""
        return outcomes


class EachLayer(Operation):
    """Makes of one layer what leaves in its place."""

    single = None

    @abstractmethod
    def forecast(self, facts: LayerFacts, settings: Any, context: Context) -> Forecast:
        """What will leave."""

    @abstractmethod
    def work(self, layer: Layer, settings: Any, context: Context) -> Outcome:
        """Do it; what follows of itself may be left out of the accounts."""

    others_in_chunks: ClassVar[frozenset[str]] = frozenset()
    """Settings whose layers are asked for in chunks (``Context.other_chunks``)."""

    def takes(self, facts: LayerFacts, settings: Any) -> Takes:
        """Whether a large layer can come in chunks or parts: each is then worked on by itself, and one layer leaves."""
        return Takes.WHOLE

    makes_many: ClassVar[bool] = False
    """Whether several layers leave, each made of rows of one group."""

    def fields_asked(self, settings: Any) -> Sequence[str] | None:
        """The fields it looks at, where those are all it looks at: nothing else of a large layer is read then; None otherwise."""
        return None

    def places(self, layer: ChunkedLayer, settings: Any) -> np.ndarray:
        """For an operation that takes ``PARTS``: for each row (int64) the place of its group among all of them, -1 for none.

        Each part holds all rows of some groups, and the parts follow each other as the groups do.
        """
        raise NotImplementedError

    def run(self, layer: Layer, settings: Any, context: Context) -> Outcome:
        """Do it, with whole accounts."""
        found = self.work(layer, settings, context).completed([layer], context.totals)
        return found.told() if context.whole is None else found


class Gathering(Operation):
    """Sees the whole set at once and makes of it what leaves."""

    @abstractmethod
    def forecast(self, facts: Sequence[LayerFacts], settings: Any, context: Context) -> Forecast:
        """What will leave."""

    @abstractmethod
    def work(self, layers: Sequence[Layer], settings: Any, context: Context) -> Outcome:
        """Do it; what follows of itself may be left out of the accounts."""

    def run(self, layers: Sequence[Layer], settings: Any, context: Context) -> Outcome:
        """Do it, with whole accounts."""
        return self.work(layers, settings, context).completed(layers, context.totals)


class Delivery(Operation):
    """Takes the whole set and writes it where others find it."""

    reads_chunks: ClassVar[bool] = False
    """Whether layers that lie on disk in chunks come as they are (``ChunkedLayer``), and not in memory."""

    @abstractmethod
    def forecast(self, facts: Sequence[LayerFacts], settings: Any, context: Context) -> Forecast:
        """What will be written, and what of it cannot be."""

    @abstractmethod
    def deliver(self, layers: Sequence[Any], settings: Any, context: Context) -> Sequence[Outcome]:
        """Stage it: layers, and such as ``reads_chunks`` says."""
