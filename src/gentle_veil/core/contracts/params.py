"""How a follower or a veil kind declares its parameters, so that panels, schemas and checks are drawn from it.

A parameter set is a frozen dataclass whose fields are made by `number`, `switch`, `choice` or `vector`.
"""

from dataclasses import dataclass, field, fields, replace
from typing import Any


@dataclass(frozen=True)
class ParamSpec:
    """What is known of one parameter. ``keyable``: the value may change over frames."""

    # number | switch | choice | vector | points | artwork | plate | plates | colour | names | strokes | selection |
    # places | placings
    type: str
    label: str
    help: str
    group: str
    unit: str = ""
    low: float | None = None
    high: float | None = None
    step: float | None = None
    choices: tuple[str, ...] = ()
    keyable: bool = False
    #: The parameter counts only while the choice ``when`` is one of ``among``; always where it is empty.
    when: str = ""
    among: tuple[str, ...] = ()


def number(
    default: float,
    *,
    label: str,
    help: str,
    group: str,
    low: float,
    high: float,
    step: float,
    unit: str = "",
    keyable: bool = True,
) -> Any:
    spec = ParamSpec("number", label, help, group, unit, low, high, step, keyable=keyable)
    return field(default=default, metadata={"spec": spec})


def switch(default: bool, *, label: str, help: str, group: str) -> Any:
    return field(default=default, metadata={"spec": ParamSpec("switch", label, help, group)})


def choice(default: str, choices: tuple[str, ...], *, label: str, help: str, group: str) -> Any:
    return field(default=default, metadata={"spec": ParamSpec("choice", label, help, group, choices=choices)})


def vector(default: tuple[float, float] | None, *, label: str, help: str, group: str, unit: str = "px") -> Any:
    return field(default=default, metadata={"spec": ParamSpec("vector", label, help, group, unit)})


def points(*, label: str, help: str, group: str, unit: str = "px") -> Any:
    """A list of (x, y); empty unless it is set."""
    return field(default=(), metadata={"spec": ParamSpec("points", label, help, group, unit)})


def artwork(*, label: str, help: str, group: str) -> Any:
    """The name of a piece of artwork on the library's shelf; empty unless it is set."""
    return field(default="", metadata={"spec": ParamSpec("artwork", label, help, group)})


def plate(*, label: str, help: str, group: str) -> Any:
    """The name of a plate on the library's shelf: a picture without loss, of the size that was sent out."""
    return field(default="", metadata={"spec": ParamSpec("plate", label, help, group)})


def plates(*, label: str, help: str, group: str) -> Any:
    """A list of (frame number k, name of a plate); empty unless it is set."""
    return field(default=(), metadata={"spec": ParamSpec("plates", label, help, group)})


def colour(default: str, *, label: str, help: str, group: str) -> Any:
    """A colour as ``#rrggbb``, encoded as sRGB."""
    return field(default=default, metadata={"spec": ParamSpec("colour", label, help, group)})


def names(*, label: str, help: str, group: str) -> Any:
    """A list of names, for example of faces; empty unless it is set."""
    return field(default=(), metadata={"spec": ParamSpec("names", label, help, group)})


def strokes(*, label: str, help: str, group: str) -> Any:
    """Brush strokes as plain data, see `core.retouch.strokes`; empty unless it is set."""
    return field(default=(), metadata={"spec": ParamSpec("strokes", label, help, group)})


def selection(*, label: str, help: str, group: str) -> Any:
    """Brush strokes that add to a selection or take from it; empty unless it is set."""
    return field(default=(), metadata={"spec": ParamSpec("selection", label, help, group)})


def places(*, label: str, help: str, group: str) -> Any:
    """A list of `contracts.keyed.Place`; empty unless it is set."""
    return field(default=(), metadata={"spec": ParamSpec("places", label, help, group)})


def placings(*, label: str, help: str, group: str) -> Any:
    """A list of `contracts.follower.Placing`; empty unless it is set."""
    return field(default=(), metadata={"spec": ParamSpec("placings", label, help, group)})


def only(when: str, among: tuple[str, ...], declared: Any) -> Any:
    """A declared parameter that counts only while the choice ``when`` is one of ``among``."""
    spec = replace(declared.metadata["spec"], when=when, among=among)
    return field(default=declared.default, metadata={"spec": spec})


def specs_of(params_type: type) -> dict[str, tuple[ParamSpec, Any]]:
    """Name -> (spec, default) of a parameter dataclass, in its order."""
    return {f.name: (f.metadata["spec"], f.default) for f in fields(params_type)}
