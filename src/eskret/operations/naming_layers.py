"""The names under which layers are delivered: a template filled, cleaned, cut to what the format can hold, made unique."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from eskret.core.layer import Layer, LayerFacts
from eskret.core.naming import clean_name, number_collisions
from eskret.errors import DeliveryError
from eskret.formats import geopackage, targets
from eskret.operations.base import Context


@dataclass(frozen=True)
class Named:
    """A layer on its way to its name. ``filled`` is the template with all put in, ``name`` what comes of it, ``notes`` what
    was done to it, ``clash`` whether another layer came out the same."""

    key: str
    filled: str
    name: str
    notes: tuple[str, ...] = ()
    clash: bool = False


def names_of(
    layers: Sequence[LayerFacts | Layer], template_of: Callable[[str], str], context: Context, target: targets.Target
) -> list[Named]:  # fmt: skip
    """The names of layers, in their order.

    Parameters
    ----------
    template_of : the template of a layer, by its key.

    Raises
    ------
    SettingError : a template names what stands for nothing.
    DeliveryError : a name comes out empty.
    """
    filled, cleaned, notes = [], [], []
    limit = target.name_limit
    for number, layer in enumerate(layers, 1):
        template = template_of(layer.key)
        extra = {"layer": layer.key, "step": layer.step or context.step, "n": number}
        text = context.fill(template, extra)
        name, told = clean_name(text, limit=limit), []
        if not name:
            raise DeliveryError(
                f"the name of layer '{layer.key}' comes out empty", place=template,
                way_out="Put something into the template that is never empty",
            )  # fmt: skip
        if len(clean_name(text, limit=10_000)) > limit:
            told.append(f"cut to the {limit} characters that {target.title} can hold")
        if name.startswith(geopackage.RESERVED_PREFIXES):
            name = f"layer_{name}"[:limit]
            told.append("such a beginning is the format's own")
        filled.append(text)
        cleaned.append(name)
        notes.append(told)
    unique = number_collisions(cleaned, limit=limit)
    seen: dict[str, int] = {}
    for name in cleaned:
        seen[name.casefold()] = seen.get(name.casefold(), 0) + 1
    out = []
    for layer, text, clean, name, told in zip(layers, filled, cleaned, unique, notes, strict=True):
        clash = seen[clean.casefold()] > 1
        if name != clean:
            told.append("numbered, since another came out the same")
        out.append(Named(layer.key, text, name, tuple(told), clash))
    return out


def deliver_name(template: str, layer: LayerFacts | Layer, context: Context, number: int, limit: int) -> str:
    """The name of one layer: the template filled, then cleaned by the naming rule; empty where nothing is left."""
    extra = {"layer": layer.key, "step": layer.step or context.step, "n": number}
    return clean_name(context.fill(template, extra), limit=limit)
