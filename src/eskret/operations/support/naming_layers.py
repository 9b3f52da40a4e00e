"""The names under which layers are delivered: a template filled, cleaned, cut to what the format can hold, made unique."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

from eskret.core.layer import ChunkedLayer, Layer, LayerFacts, own_name
from eskret.core.naming import AS_TYPED, clean_name, number_collisions
from eskret.errors import DeliveryError
from eskret.formats import geopackage
from eskret.formats.format import Capacity, Format
from eskret.operations.base import Context


@dataclass(frozen=True)
class Named:
    """A layer on its way to its name. ``filled`` is the template with all put in, ``name`` what comes of it, ``notes`` what
    was done to it, ``clash`` whether another layer came out the same, ``unnumbered`` the name before it was told apart from that."""

    key: str
    filled: str
    name: str
    notes: tuple[str, ...] = ()
    clash: bool = False
    unnumbered: str = ""


def names_of(
    layers: Sequence[LayerFacts | Layer | ChunkedLayer],
    template_of: Callable[[str], str],
    context: Context,
    target: Format,
    mode: str = "",
    there: Collection[str] = (),
) -> list[Named]:
    """The names of layers, in their order.

    Parameters
    ----------
    template_of : the template of a layer, by its key.
    mode : ``AS_TYPED``, where names stay as they are but for what the format forces; ``TIDY``, where the naming rule is
        applied; empty for that, save where a layer of just the typed name is there.
    there : names of the layers that the file holds.

    Raises
    ------
    SettingError : a template names what stands for nothing.
    DeliveryError : a name comes out empty.
    """
    filled, cleaned = [], []
    notes: list[list[str]] = []
    for number, layer in enumerate(layers, 1):
        template = template_of(layer.key)
        extra: dict[str, object] = {"step": layer.step or context.step, "n": number}
        plain = context.fill(template, {**extra, "layer": layer.unnumbered or layer.key})
        own = context.fill(template, {**extra, "layer": own_name(layer, layer.unnumbered)})
        meant = next((t for t in (own, plain) if t in there), "") if not mode else ""
        typed = mode == AS_TYPED and target.capacity is not Capacity.ONE
        text = meant or (own if typed else plain)
        if meant:
            name, told = meant, list[str]()
        elif typed:
            name, told = _as_typed(text, target)
        else:
            name, told = clean_name(text, limit=target.name_limit), []
            if len(clean_name(text, limit=10_000)) > target.name_limit:
                told.append(f"cut to the {target.name_limit} characters that {target.title} can hold")
        if not name:
            raise DeliveryError(
                f"the name of layer '{layer.key}' comes out empty",
                place=template,
                way_out="Put something into the template that is never empty",
            )
        if name.lower().startswith(geopackage.RESERVED_PREFIXES):
            name = f"layer_{name}"
            name = name if typed else name[: target.name_limit]
            told.append("such a beginning is the format's own")
        filled.append(text)
        cleaned.append(name)
        notes.append(told)
    limit = target.typed_limit if mode == AS_TYPED else target.name_limit
    unique = number_collisions(cleaned, limit=limit)
    seen: dict[str, int] = {}
    for name in cleaned:
        seen[name.casefold()] = seen.get(name.casefold(), 0) + 1
    out = []
    for layer, text, clean, name, told in zip(layers, filled, cleaned, unique, notes, strict=True):
        clash = seen[clean.casefold()] > 1
        if name != clean:
            told.append("numbered, since another came out the same")
        out.append(Named(layer.key, text, name, tuple(told), clash, clean))
    return out


def _as_typed(text: str, target: Format) -> tuple[str, list[str]]:
    """A name as it is, but for what a format cannot hold, and what was done to it."""
    told = []
    name = text.strip()
    if name != text:
        told.append("blanks around it are left out")
    barred = "".join(c for c in dict.fromkeys(name) if c in target.barred or not c.isprintable())
    if barred:
        name = "".join("_" if c in barred else c for c in name)
        shown = " ".join(c for c in barred if c.isprintable()) or "signs that cannot be seen"
        told.append(f"{target.title} does not hold {shown} in a name")
    if target.barred and name.strip("'") != name:
        name = name.strip("'")
        told.append(f"{target.title} has no ' around a name")
    if len(name) > target.typed_limit:
        name = name[: target.typed_limit].rstrip(" _")
        told.append(f"cut to the {target.typed_limit} characters that {target.title} can hold")
    return name, told


def deliver_name(template: str, layer: LayerFacts | Layer, context: Context, number: int, limit: int) -> str:
    """The name of one layer: the template filled, then cleaned by the naming rule; empty where nothing is left."""
    extra = {"layer": layer.key, "step": layer.step or context.step, "n": number}
    return clean_name(context.fill(template, extra), limit=limit)
