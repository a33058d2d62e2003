"""From a recipe to pictures: veils made ready, frames composed and kept."""

from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.in_front import InFront, bared
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.keyed import Keyed, Place, constant
from gentle_veil.core.contracts.params import specs_of
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.errors import RuleError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.geometry.keyed_outline import KeyedOutline, keyed_outline
from gentle_veil.core.geometry.outline import outline_values
from gentle_veil.core.measure.focus import softness
from gentle_veil.core.measure.passing import passing
from gentle_veil.core.measure.turning import turning
from gentle_veil.core.render import Layer, Rendered, render_frame
from gentle_veil.core.types import ImageF32, RawImage
from gentle_veil.core.veils import VEILS
from gentle_veil.domain.keys import content_key, prepared_key
from gentle_veil.domain.recipe import Keys, Outline, PlaceWritten, PlateWritten, Recipe, Value, Veil
from gentle_veil.services.faces import people_key, people_of
from gentle_veil.services.following import (
    Followed,
    control_points,
    holdouts_before,
    known_track,
    polygon_of,
    reference_polygon,
)
from gentle_veil.services.found_once import found_once
from gentle_veil.services.plates import pictures_named, refuse_lossy
from gentle_veil.services.workspace import Workspace

AT_ONCE = 2  # frames that are composed at a time; the heavy steps let go of the interpreter


def keyed_of(value: Value, offset: int) -> Keyed:
    """A recipe's value as a function of k; ``offset`` is the first frame's number."""
    if isinstance(value, Keys):
        return Keyed(tuple(sorted((f - offset, v) for f, v in value.keys.items())), value.ease)
    return constant(value)


def placement_of(
    workspace: Workspace, recipe: Recipe, veil: Veil, params: Any, followed: Followed, *, report: Report = silent
) -> Placement:
    """Where a veil rests, and what it is given.

    Raises: RuleError when its design frame has not been followed; NotFoundError when its artwork is not there
    """
    drape = None if veil.drape is None else recipe.drape(veil.drape)
    marks = tuple(
        polygon
        for other in _others(recipe, veil)
        for polygon in [_polygon_on_reference(workspace, other, followed)]
        if polygon is not None
    )
    polygon = _polygon_on_reference(workspace, veil, followed)
    if polygon is None:
        raise RuleError(
            f"Veil '{veil.name}' is drawn on frame {veil.frame}, to which '{veil.drape}' has not been followed; "
            "follow it there first."
        )
    return Placement(
        followed.track,
        polygon,
        polygon if drape is None else reference_polygon(drape),
        marks,
        pictures={name: workspace.shelf.picture(name) for name in artwork_names(veil)},
        people=people_of(workspace, report=report) if VEILS[veil.kind].needs_people(params) else None,
        on_picture=drape is None,
        feathers=None if veil.outline is None else _feathers_of(veil.outline),
        frame_seconds=float(1 / workspace.info.rate) if workspace.info.rate else 0.04,
        front=InFront(
            followed.track,
            holdouts_before(workspace, recipe, veil.drape)[0],
            _passing(workspace, recipe, veil, followed, report),
        ),
    )


def _feathers_of(outline: Outline) -> np.ndarray | None:
    """The feathers at the points of the outline's polygon; None where it is alike all round."""
    return None if outline.feathers is None else outline_values(np.array(outline.feathers), control_points(outline)[1])


def artwork_names(veil: Veil) -> list[str]:
    """The pieces of artwork that a veil's parameters name."""
    return [n for kind in ("artwork", "plate", "plates") for n in pictures_named(veil, kind)]


def _others(recipe: Recipe, veil: Veil) -> list[Veil]:
    """The other marks of the same kind on the same drape."""
    if veil.drape is None:
        return []
    return [v for v in recipe.veils if v.drape == veil.drape and v.name != veil.name and v.kind == veil.kind]


def _polygon_on_reference(workspace: Workspace, veil: Veil, followed: Followed) -> np.ndarray | None:
    row = followed.track.row(veil.frame - workspace.info.first_frame)
    if row is None:
        return None
    if veil.outline is None:
        width, height = workspace.frames.size
        return np.array([[-1.0, -1.0], [width, -1.0], [width, height], [-1.0, height]])
    return followed.track.to_reference(polygon_of(veil.outline), row)


def _keyed_on_reference(workspace: Workspace, veil: Veil, followed: Followed) -> KeyedOutline | None:
    """A veil's outline with its corrections, carried to the reference; None without any that is followed."""
    if veil.outline is None or not veil.shapes:
        return None
    offset, keys, feathers = workspace.info.first_frame, {}, {}
    outlines = {veil.frame: veil.outline} | veil.shapes
    for frame, outline in outlines.items():
        row = followed.track.row(frame - offset)
        if row is not None:
            points, corners = control_points(outline)
            keys[frame - offset] = (followed.track.to_reference(points, row), corners)
            feathers[frame - offset] = np.array(outline.feathers or [1.0] * len(points))
    varied = any(o.feathers is not None for o in outlines.values())
    return keyed_outline(keys, feathers if varied else None) if len(keys) > 1 else None


def _split_params(veil: Veil, offset: int) -> tuple[dict[str, Any], dict[str, Keyed]]:
    """Constant parameters and keyed ones of a veil."""
    constants: dict[str, Any] = {}
    keyed: dict[str, Keyed] = {}
    specs = specs_of(VEILS[veil.kind].Params)
    for name, value in veil.params.items():
        if name in specs and specs[name][0].type == "places":
            constants[name] = tuple(_place(PlaceWritten.model_validate(v), offset) for v in value)
        elif name in specs and specs[name][0].type == "plates":
            written = [PlateWritten.model_validate(v) for v in value]
            constants[name] = tuple((w.frame - offset, w.plate) for w in written)
        elif isinstance(value, dict):
            keyed[name] = keyed_of(Keys.model_validate(value), offset)
        else:
            constants[name] = _frozen(value)
    return constants, keyed


def _place(written: PlaceWritten, offset: int) -> Place:
    return Place(*(keyed_of(v, offset) for v in (written.x, written.y, written.size, written.turn)))


def _frozen(value: Any) -> Any:
    """Lists as tuples, all the way down: parameters are immutable."""
    return tuple(_frozen(v) for v in value) if isinstance(value, list) else value


def layer_keys(workspace: Workspace, recipe: Recipe) -> list[str] | None:
    """What the veils that are on depend on, as content keys; None while one of them is not prepared yet."""
    keys = []
    for veil in recipe.veils:
        ready = _ready(workspace, recipe, veil)
        if ready is None:
            continue
        followed, key = ready
        # What is painted is prepared on the way; whoever paints must not see the stroke go and come again.
        if not workspace.cache.has("prepared", key, ".json") and not _drawn_by_brush(veil):
            return None
        keys.append(_layer_key(veil, followed, key))
    return keys


def _ready(workspace: Workspace, recipe: Recipe, veil: Veil) -> tuple[Followed, str] | None:
    """A veil's track and preparation key, or None when it is off or cannot be laid yet."""
    if not veil.enabled:
        return None
    drape = None if veil.drape is None else recipe.drape(veil.drape)
    if drape is None:
        followed: Followed | None = _picture_itself(workspace, veil)
    else:
        followed = known_track(workspace, recipe, drape)
    if followed is None or followed.track.row(veil.frame - workspace.info.first_frame) is None:
        return None
    contents = [workspace.shelf.content(name) for name in artwork_names(veil)]
    if not all(contents):
        return None
    kind = VEILS[veil.kind]
    if kind.needs_people(kind.Params(**_split_params(veil, 0)[0])):
        contents.append(people_key(workspace))
    if _drawn_by_brush(veil):
        contents += _contents_below(workspace, recipe, veil)
    passing = holdouts_before(workspace, recipe, veil.drape)[1]
    contents += ["in front", str(veil.behind), passing] if passing or not veil.behind else []
    return followed, prepared_key(followed.content, drape, veil, _others(recipe, veil), contents, kind.prepared_by)


def _contents_below(workspace: Workspace, recipe: Recipe, veil: Veil) -> list[str]:
    """What the veils under one depend on, whether they have been prepared or not."""
    under = recipe.veils[: recipe.veils.index(veil)]
    ready = [(_ready(workspace, recipe, v), v) for v in under]
    return [_layer_key(v, *r) for r, v in ready if r is not None]


def _layer_key(veil: Veil, followed: Followed, prepared: str) -> str:
    """What a laid veil depends on: its track, its preparation, for which what passes counts, and all set on it."""
    written = veil.model_dump(mode="json")
    return content_key(prepared, followed.content, written)


def _picture_itself(workspace: Workspace, veil: Veil) -> Followed:
    """The track of a veil that rests on the picture: nothing moves."""
    reference = veil.frame - workspace.info.first_frame
    key = content_key("picture", workspace.media_key, reference)
    made = partial(still_track, workspace.frames.size, len(workspace.frames), reference)
    return Followed(workspace.memory.get(("picture", key), made), key)


def build_layers(
    workspace: Workspace, recipe: Recipe, *, strict: bool = False, keep: bool = True, report: Report = silent
) -> tuple[Layer, ...]:
    """The veils that are on and whose surface is known, ready to be laid, in order.

    ``strict``: RuleError for a veil whose surface is not known, instead of leaving it out; ``keep``: False for what is
    only tried, of which nothing is kept
    """
    offset = workspace.info.first_frame
    layers: list[Layer] = []
    for veil in recipe.veils:
        ready = _ready(workspace, recipe, veil)
        if ready is None:
            if strict and veil.enabled:
                missing = [n for n in artwork_names(veil) if not workspace.shelf.content(n)]
                if missing:
                    raise RuleError(f"Veil '{veil.name}' cannot be laid: bring in the artwork '{missing[0]}' first.")
                raise RuleError(f"Veil '{veil.name}' cannot be laid: follow its drape '{veil.drape}' first.")
            continue
        followed, key = ready
        kind = VEILS[veil.kind]
        constants, keyed = _split_params(veil, offset)
        params = kind.Params(**constants)
        refuse_lossy(workspace, veil)
        placement = placement_of(workspace, recipe, veil, params, followed, report=report)
        once = partial(found_once, workspace, polygon_ref=placement.drape_ref, followed=followed, report=report)
        placement = replace(placement, turning=partial(once, name="turning", find=turning))
        if _drawn_by_brush(veil):
            k = followed.track.reference_frames[0]
            placement = replace(
                placement,
                below=partial(_below, workspace, recipe, veil, tuple(layers), k),
                softness=partial(once, name="softness", find=softness),
            )
        prepared = workspace.memory.get(("prepared", key), partial(workspace.cache.get_json, "prepared", key))
        if prepared is None:
            prepared = kind.prepare(workspace.frames, placement, params, report=report)
            if keep:
                workspace.cache.put_json("prepared", key, prepared)
        placement = bared(placement, prepared)
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
                feather_in=keyed_of(veil.feather_in, offset),
                grow=keyed_of(veil.grow, offset),
                first=None if veil.range is None else veil.range[0] - offset,
                last=None if veil.range is None else veil.range[1] - offset,
                come_in=veil.come_in,
                go_out=veil.go_out,
                outline=_keyed_on_reference(workspace, veil, followed),
            )
        )
    return tuple(layers)


def settled_part(recipe: Recipe) -> Recipe:
    """A recipe without what is painted: that is prepared so fast that nobody waits for it."""
    return recipe.model_copy(update={"veils": [v for v in recipe.veils if not _drawn_by_brush(v)]})


def _drawn_by_brush(veil: Veil) -> bool:
    """Whether strokes are drawn on it: whoever paints, paints on what they see, and waits for nothing."""
    return any(spec.type in ("strokes", "selection") for spec, _ in specs_of(VEILS[veil.kind].Params).values())


def _passing(workspace: Workspace, recipe: Recipe, veil: Veil, followed: Followed, report: Report) -> dict[str, Any]:
    """What passes in front of a veil's drape, if it is to stay behind it."""
    drape = None if veil.drape is None else recipe.drape(veil.drape)
    if drape is None or not veil.behind or not VEILS[veil.kind].stays_behind:
        return {}
    return found_once(workspace, "passing", followed, passing, reference_polygon(drape), report=report)


def _below(workspace: Workspace, recipe: Recipe, veil: Veil, layers: tuple[Layer, ...], k: int) -> ImageF32:
    """The frame with the veils under one, scene-linear; the same for as long as one paints on it."""
    key = ("below", workspace.media_key, k, *_contents_below(workspace, recipe, veil))
    made: ImageF32 = workspace.memory.get(
        key, lambda: workspace.frames.encoding.to_linear(compose(workspace, layers, k).img_raw)
    )
    return made


class _OneFrame:
    """A frame that has been composed already, in the place of the clip's own."""

    def __init__(self, frames: FrameSource, img_raw: RawImage) -> None:
        self._frames, self._img_raw, self.encoding = frames, img_raw, frames.encoding

    def __len__(self) -> int:
        return len(self._frames)

    def __getitem__(self, k: int) -> RawImage:
        return self._img_raw

    @property
    def size(self) -> tuple[int, int]:
        return self._frames.size


def compose_tried(workspace: Workspace, recipe: Recipe, layers: tuple[Layer, ...], k: int) -> RawImage:
    """A frame of a recipe that is only being tried. What lies under a veil that is painted is composed once."""
    names = [v.name for v in recipe.veils if _drawn_by_brush(v)]
    first = next((i for i, layer in enumerate(layers) if layer.name in names), len(layers))
    if first == len(layers):
        return compose(workspace, layers, k).img_raw
    veil = recipe.veil(layers[first].name)
    assert veil is not None
    key = ("under", workspace.media_key, k, *_contents_below(workspace, recipe, veil))
    under: RawImage = workspace.memory.get(key, lambda: compose(workspace, layers[:first], k).img_raw)
    return render_frame(_OneFrame(workspace.frames, under), layers[first:], k).img_raw


def compose(workspace: Workspace, layers: tuple[Layer, ...], k: int) -> Rendered:
    """One frame with its veils. A pure function of what it is given."""
    return render_frame(workspace.frames, layers, k)


def composed(workspace: Workspace, layers: tuple[Layer, ...], ks: Iterable[int]) -> Iterator[tuple[int, Rendered]]:
    """Frames with their veils, in order: while one is used, the next are being made."""
    threads = cv2.getNumThreads()
    cv2.setNumThreads(1)  # several frames at a time use the cores better than each of them in several threads
    with ThreadPoolExecutor(AT_ONCE, thread_name_prefix="composing") as pool:
        waiting: deque[tuple[int, Future[Rendered]]] = deque()
        try:
            for k in ks:
                waiting.append((k, pool.submit(compose, workspace, layers, k)))
                if len(waiting) > AT_ONCE:
                    first, made = waiting.popleft()
                    yield first, made.result()
            while waiting:
                first, made = waiting.popleft()
                yield first, made.result()
        finally:  # whoever stops early waits for what is begun, and no more
            cv2.setNumThreads(threads)
            for _, made in waiting:
                made.cancel()


def veil_notes(workspace: Workspace, recipe: Recipe) -> dict[str, dict[str, Any]]:
    """Per veil: what its preparation found (a donor and why), as far as it has been made."""
    notes: dict[str, dict[str, Any]] = {}
    for veil in recipe.veils:
        ready = _ready(workspace, recipe, veil)
        prepared = None if ready is None else workspace.cache.get_json("prepared", ready[1])
        if prepared is not None:
            kept = {n: v for n, v in prepared.items() if n in ("donor", "why", "others", "faces", "hidden")}
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
        "veils": {
            k: {"label": v.label, "help": v.help, "params": described(v.Params), "stays_behind": v.stays_behind}
            for k, v in VEILS.items()
        },
        "followers": {
            k: {"label": f.label, "help": f.help, "params": described(f.Options)} for k, f in FOLLOWERS.items()
        },
    }
