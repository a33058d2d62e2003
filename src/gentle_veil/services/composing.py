"""From a recipe to pictures: veils made ready, frames composed and kept."""

from functools import partial
from typing import Any

import numpy as np

from gentle_veil.core.contracts.keyed import Keyed, constant
from gentle_veil.core.contracts.params import specs_of
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.errors import RuleError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.render import Layer, Rendered, render_frame
from gentle_veil.core.veils import VEILS
from gentle_veil.domain.keys import content_key, prepared_key
from gentle_veil.domain.recipe import Keys, Recipe, Value, Veil
from gentle_veil.services.following import Followed, known_track, polygon_of, reference_polygon
from gentle_veil.services.workspace import Workspace


def keyed_of(value: Value, offset: int) -> Keyed:
    """A recipe's value as a function of k; ``offset`` is the first frame's number."""
    if isinstance(value, Keys):
        return Keyed(tuple(sorted((f - offset, v) for f, v in value.keys.items())), value.ease)
    return constant(value)


def placement_of(workspace: Workspace, recipe: Recipe, veil: Veil, followed: Followed) -> Placement:
    """Where a veil rests. Raises RuleError when its design frame has not been followed."""
    drape = recipe.drape(veil.drape)
    assert drape is not None  # a recipe is checked before it gets here
    track = followed.track
    marks = tuple(
        polygon
        for other in recipe.veils
        if other.drape == veil.drape and other.name != veil.name and other.kind == veil.kind
        for polygon in [_polygon_on_reference(workspace, other, followed)]
        if polygon is not None
    )
    polygon = _polygon_on_reference(workspace, veil, followed)
    if polygon is None:
        raise RuleError(
            f"Veil '{veil.name}' is drawn on frame {veil.frame}, to which '{veil.drape}' has not been followed; "
            "follow it there first."
        )
    return Placement(track, polygon, reference_polygon(drape), marks)


def _polygon_on_reference(workspace: Workspace, veil: Veil, followed: Followed) -> np.ndarray | None:
    row = followed.track.row(veil.frame - workspace.info.first_frame)
    return None if row is None else followed.track.to_reference(polygon_of(veil.outline), row)


def _split_params(veil: Veil, offset: int) -> tuple[dict[str, Any], dict[str, Keyed]]:
    """Constant parameters and keyed ones of a veil."""
    constants: dict[str, Any] = {}
    keyed: dict[str, Keyed] = {}
    for name, value in veil.params.items():
        if isinstance(value, dict):
            keyed[name] = keyed_of(Keys.model_validate(value), offset)
        else:
            constants[name] = tuple(value) if isinstance(value, list) else value
    return constants, keyed


def layer_keys(workspace: Workspace, recipe: Recipe) -> list[str] | None:
    """What the veils that are on depend on, as content keys; None while one of them is not prepared yet."""
    keys = []
    for veil in recipe.veils:
        ready = _ready(workspace, recipe, veil)
        if ready is None:
            continue
        followed, key = ready
        if not workspace.cache.has("prepared", key, ".json"):
            return None
        keys.append(content_key(key, followed.content, veil.model_dump(mode="json")))
    return keys


def _ready(workspace: Workspace, recipe: Recipe, veil: Veil) -> tuple[Followed, str] | None:
    """A veil's track and preparation key, or None when it is off or its surface is not known."""
    drape = recipe.drape(veil.drape)
    if not veil.enabled or drape is None:
        return None
    followed = known_track(workspace, drape)
    if followed is None or followed.track.row(veil.frame - workspace.info.first_frame) is None:
        return None
    marks = [v for v in recipe.veils if v.drape == veil.drape and v.name != veil.name and v.kind == veil.kind]
    return followed, prepared_key(followed.content, drape, veil, marks)


def build_layers(
    workspace: Workspace, recipe: Recipe, *, strict: bool = False, report: Report = silent
) -> tuple[Layer, ...]:
    """The veils that are on and whose surface is known, ready to be laid, in order.

    ``strict``: RuleError for a veil whose surface is not known, instead of leaving it out
    """
    offset = workspace.info.first_frame
    layers = []
    for veil in recipe.veils:
        ready = _ready(workspace, recipe, veil)
        if ready is None:
            if strict and veil.enabled:
                raise RuleError(f"Veil '{veil.name}' cannot be laid: follow its drape '{veil.drape}' first.")
            continue
        followed, key = ready
        kind = VEILS[veil.kind]
        placement = placement_of(workspace, recipe, veil, followed)
        constants, keyed = _split_params(veil, offset)
        params = kind.Params(**constants)
        prepared = workspace.memory.get(("prepared", key), partial(workspace.cache.get_json, "prepared", key))
        if prepared is None:
            prepared = kind.prepare(workspace.frames, placement, params, report=report)
            workspace.cache.put_json("prepared", key, prepared)
        layers.append(
            Layer(
                name=veil.name,
                kind=kind,
                placement=placement,
                params=params,
                keyed=keyed,
                prepared=prepared,
                opacity=keyed_of(veil.opacity, offset),
                feather=keyed_of(veil.feather, offset),
                grow=keyed_of(veil.grow, offset),
                first=None if veil.range is None else veil.range[0] - offset,
                last=None if veil.range is None else veil.range[1] - offset,
            )
        )
    return tuple(layers)


def compose(workspace: Workspace, layers: tuple[Layer, ...], k: int) -> Rendered:
    """One frame with its veils. A pure function of what it is given."""
    return render_frame(workspace.frames, layers, k)


def veil_notes(workspace: Workspace, recipe: Recipe) -> dict[str, dict[str, Any]]:
    """Per veil: what its preparation found (a donor and why), as far as it has been made."""
    notes: dict[str, dict[str, Any]] = {}
    for veil in recipe.veils:
        ready = _ready(workspace, recipe, veil)
        prepared = None if ready is None else workspace.cache.get_json("prepared", ready[1])
        if prepared is not None:
            kept = {n: v for n, v in prepared.items() if n not in ("steps", "bulges")}
            kept["held_frames"] = len(prepared.get("steps", {}))
            notes[veil.name] = kept
    return notes


def param_specs() -> dict[str, Any]:
    """The parameters of all veil kinds and followers, for panels."""

    def described(params_type: type) -> list[dict[str, Any]]:
        return [
            {
                "name": name,
                "default": list(default) if isinstance(default, tuple) else default,
                **{k: list(v) if isinstance(v, tuple) else v for k, v in vars(spec).items()},
            }
            for name, (spec, default) in specs_of(params_type).items()
        ]

    return {
        "veils": {k: {"label": v.label, "help": v.help, "params": described(v.Params)} for k, v in VEILS.items()},
        "followers": {
            k: {"label": f.label, "help": f.help, "params": described(f.Options)} for k, f in FOLLOWERS.items()
        },
    }
