"""One operation on some files, as the workflow that does it: load, the operation, save."""

from __future__ import annotations

import csv
import shlex
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from eskret.core.naming import AS_TYPED, clean_name, number_collisions
from eskret.core.words import did_you_mean
from eskret.errors import DocumentError
from eskret.formats import sources
from eskret.operations.base import Delivery, Source
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import SQL_KINDS, SettingInfo, setting_info
from eskret.operations.support.as_text import from_text
from eskret.workflow.model.document import Document, Step

INPUT, OUTPUT = "input", "saved"


def single(
    use: str,
    inputs: Sequence[str],
    settings: Mapping[str, str],
    out: Sequence[str] = (),
    *,
    crs: str = "",
    load_settings: Mapping[str, object] | None = None,
    if_exists: str = "replace",
) -> Document:
    """A workflow that does one operation.

    Parameters
    ----------
    use : the operation's id.
    inputs : files, folders or patterns, each with ``:layer`` behind it where only one of its layers is meant.
    settings : the operation's, as somebody types them; a layer that a setting names is a file, with ``:layer`` behind it.
    out : files to save to; none saves nothing.
    crs : the coordinate system to work in; empty leaves every layer in its own.
    load_settings : more settings for loading, such as ``crs`` for files that declare none.
    if_exists : what becomes of a file that is there where it saves to.

    Raises
    ------
    DocumentError : there is no such operation or setting, inputs are missing or too many, or a value is none.
    """
    operation = operation_by_id(use)
    infos = setting_info(operation.Settings)
    given = {name.replace("-", "_"): text for name, text in settings.items()}
    for name in given:
        if name not in infos:
            hint = did_you_mean(name, infos, f"It has {', '.join(infos) or 'none'}; see: eskret do {use} --help")
            raise DocumentError(f"'{use}' has no setting '{name}'", way_out=hint)
    steps: list[Step] = []
    source: tuple[str, ...] = ()
    values: dict[str, Any] = {}
    if isinstance(operation, Source):
        if inputs and "files" not in infos:
            raise DocumentError(f"'{use}' takes no files", way_out="Give only its settings")
        if inputs and "files" not in given:
            values["files"] = list(inputs)
    elif inputs:
        files, wanted = _parted(inputs)
        loading: dict[str, object] = {"files": files, **(load_settings or {})}
        if wanted:
            loading["layers"] = wanted
        steps.append(Step(INPUT, "load", (), loading))
        source = (INPUT,)
    else:
        raise DocumentError(f"'{use}' needs layers to work on", way_out="Name a file: eskret do OPERATION FILE ...")
    for name, text in given.items():
        values[name] = _value(infos[name], name, text, steps, load_settings or {})
    if isinstance(operation, Delivery) and "to" in infos and out:
        values["to"], out = out[0], out[1:]
        if out and "also" in infos:
            values["also"], out = list(out), ()
    id = clean_name(use.rpartition(":")[2]) or "done"
    steps.append(Step(id if id not in (INPUT, OUTPUT) else f"{id}_1", use, source, values))
    if out:
        saving: dict[str, object] = {"to": out[0], "if_exists": if_exists}
        if len(out) > 1:
            saving["also"] = list(out[1:])
        steps.append(Step(OUTPUT, "save", (steps[-1].id,), saving))
    elif isinstance(operation, Delivery) and "if_exists" in infos and "if_exists" not in values:
        steps[-1] = steps[-1].with_setting("if_exists", if_exists)
    return Document(f"{operation.title} ({use})", crs=crs, names=AS_TYPED, steps=tuple(steps))


def _parted(inputs: Sequence[str]) -> tuple[list[str], list[str]]:
    """Files, and the layers that are wanted of them."""
    files, layers = [], []
    for text in inputs:
        file, layer = of_layer(text)
        files.append(file)
        if layer:
            layers.append(layer)
    if layers and len(layers) != len(files):
        raise DocumentError("one input names a layer and another does not", way_out="Name the layer of each, or of none")
    return list(dict.fromkeys(files)), list(dict.fromkeys(layers))


def of_layer(text: str) -> tuple[str, str]:
    """``file.gpkg:layer`` as file and layer; the layer is empty where only a file is named."""
    file, colon, layer = text.rpartition(":")
    if colon and not Path(text).exists() and file and (Path(file).exists() or sources.is_source(Path(file))):
        return file, layer
    return text, ""


def _value(info: SettingInfo, name: str, text: str, steps: list[Step], loading: Mapping[str, object]) -> object:
    if info.kind == "layer":
        file, layer = of_layer(text)
        settings: dict[str, Any] = {"files": [file], **loading}
        if layer:
            settings["layers"] = [layer]
        ids = [s.id for s in steps]
        id = number_collisions([clean_name(Path(file).stem) or name], taken=[*ids, OUTPUT])[0]
        steps.append(Step(id, "load", (), settings))
        return id
    if info.kind in ("files", "choices", "patterns", "fields"):
        return _listed(text)
    if info.kind == "shapes" and text[:1] == "{":
        return text  # a shape of GeoJSON is its setting as it is
    if text[:1] in "[{" and info.kind not in ("text", *SQL_KINDS, "template"):
        try:
            return tomllib.loads(f"value = {text}")["value"]
        except tomllib.TOMLDecodeError as error:
            raise DocumentError(f"the value of '{name}' is no table or list: {error}") from error
    if info.kind == "features":
        return _listed(text)
    if info.kind == "box":
        return [float(t) if _is_number(t) else t for t in _listed(text)]
    if info.kind == "pairs":
        pairs = [pair.partition("=")[::2] for pair in _listed(text)]
        if pairs and all(a.strip() and b.strip() for a, b in pairs):
            return {a.strip(): b.strip() for a, b in pairs}
    if info.kind in ("pairs", "cells", "shapes"):
        example = info.example or "name = value"
        wanted = example if info.kind == "pairs" else f"[{example}]"
        option = f"--{name.replace('_', '-')} {shlex.quote(wanted)}"
        raise DocumentError(f"'{text}' is not what '{name}' takes", way_out=f"Write it so: {option}")
    return from_text(info, text)


def _listed(text: str) -> list[str]:
    """Texts between commas; one that holds a comma itself stands in double quotes."""
    return [t.strip() for t in next(csv.reader([text], skipinitialspace=True), []) if t.strip()]


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True
