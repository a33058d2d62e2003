"""Pictures for looking: JPEG while moving, PNG when standing still, in the frame or in the flat view."""

from typing import Literal

import cv2
import numpy as np

from gentle_veil.core.composite.matte import clip_box
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import RuleError
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.pyramid import grey_pyramid
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.render import Layer
from gentle_veil.core.types import MatteF32
from gentle_veil.domain.keys import frame_key
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.media.stills import encode_jpeg, encode_png, for_screen
from gentle_veil.services.comparing import other_map, other_track
from gentle_veil.services.composing import build_layers, compose, compose_tried, layer_keys
from gentle_veil.services.following import Followed, known_track, reference_polygon
from gentle_veil.services.workspace import Workspace

Look = Literal["original", "result", "matte", "tint", "edge"]
FlatCheck = Literal["tracked", "residual", "apart"]
TINT = np.array([232, 178, 72], np.float32)  # as in the app: what asks to be looked at
TINT_SHARE = 0.55
Form = Literal["jpg", "png"]
EXACT_LEVEL = 0  # over loopback, packing takes longer than sending
FLAT_MARGIN = 24  # px around the outline
FLAT_LARGEST = 1400  # px a side


def keep_view(workspace: Workspace, k: int) -> bytes:
    """The JPEG of an original frame, kept for scrubbing."""
    key = f"{workspace.media_key}-{k}"
    known = workspace.cache.get("view", key, ".jpg")
    if known is None:
        known = encode_jpeg(for_screen(workspace.frames[k], workspace.frames.encoding))
        workspace.cache.put("view", key, ".jpg", known)
    return known


def _encoded(picture: np.ndarray, form: Form) -> bytes:
    return encode_jpeg(picture) if form == "jpg" else encode_png(picture, EXACT_LEVEL)


def frame_view(
    workspace: Workspace, recipe: Recipe, k: int, look: Look, form: Form, veil: str | None = None, *, keep: bool = True
) -> bytes:
    """One frame as a picture file.

    ``matte``, ``tint`` and ``edge`` show the matte of ``veil``, or of all veils together: as grey, as a tint over the
    result, as its edge. ``keep``: False for what is only tried.
    """
    if look == "original":
        if form == "jpg":
            return keep_view(workspace, k)
        return encode_png(for_screen(workspace.frames[k], workspace.frames.encoding), EXACT_LEVEL)
    keys = layer_keys(workspace, recipe)
    key = None if keys is None else frame_key(workspace.media_key, [*keys, look, veil or "", form], k)
    known = None if key is None else workspace.cache.get("frame", key, f".{form}")
    if known is not None:
        return known
    layers = build_layers(workspace, recipe, keep=keep)
    if look == "result" and not layers:
        return frame_view(workspace, recipe, k, "original", form)
    if keep or look != "result":
        picture = _look_at(workspace, layers, k, look, veil)
    else:
        picture = for_screen(compose_tried(workspace, recipe, layers, k), workspace.frames.encoding)
    content = _encoded(picture, form)
    keys = layer_keys(workspace, recipe) if keep else None
    if keys is not None:
        key = frame_key(workspace.media_key, [*keys, look, veil or "", form], k)
        workspace.cache.put("frame", key, f".{form}", content)
    return content


def _look_at(workspace: Workspace, layers: tuple[Layer, ...], k: int, look: Look, veil: str | None) -> np.ndarray:
    rendered = compose(workspace, layers, k)
    if look == "result":
        return for_screen(rendered.img_raw, workspace.frames.encoding)
    matte = np.zeros(rendered.img_raw.shape[:2], np.float32)
    for entry in rendered.laid:
        if veil is None or entry.name == veil:
            matte = np.maximum(matte, rendered.matte(entry.name))
    if look == "matte":
        return np.repeat(np.rint(matte * 255).astype(np.uint8)[..., None], 3, axis=2)
    shown = for_screen(rendered.img_raw, workspace.frames.encoding)
    strength = TINT_SHARE * matte if look == "tint" else _edge(matte)
    tinted: np.ndarray = np.rint(shown + strength[..., None] * (TINT - shown)).astype(np.uint8)
    return tinted


def _edge(matte: MatteF32) -> MatteF32:
    """The line at which a matte is a half, and fainter where it begins."""
    lines = np.zeros(matte.shape, np.float32)
    for level, strength in ((1 / 255, 0.45), (0.5, 1.0)):
        inside = (matte >= level).astype(np.uint8)
        lines = np.maximum(lines, strength * (inside - cv2.erode(inside, np.ones((3, 3), np.uint8))))
    return lines.astype(np.float32)


def flat_box(drape: Drape) -> tuple[int, int, int, int]:
    """The part of the reference frame that the flat view shows: the outline and some room, (x0, y0, x1, y1)."""
    x0, y0, x1, y1 = bounding_box(reference_polygon(drape), FLAT_MARGIN)
    return x0, y0, min(x1, x0 + FLAT_LARGEST), min(y1, y0 + FLAT_LARGEST)


def flat_view(
    workspace: Workspace, recipe: Recipe, drape: Drape, k: int, look: Look, form: Form, *, keep: bool = True
) -> bytes:
    """The drape's surface on frame ``k``, standing as on its reference frame.

    Raises: RuleError where the drape has not been followed to ``k``
    """
    followed, row = _row_of(workspace, recipe, drape, k)
    keys = layer_keys(workspace, recipe) if look == "result" else []
    key = None if keys is None else frame_key(workspace.media_key, [*keys, followed.content, "flat", form], k)
    known = None if key is None else workspace.cache.get("flat", key, f".{form}")
    if known is not None:
        return known
    layers = build_layers(workspace, recipe, keep=keep) if look == "result" else ()
    if not layers:
        img_raw = workspace.frames[k]
    else:
        img_raw = compose(workspace, layers, k).img_raw if keep else compose_tried(workspace, recipe, layers, k)
    flat = flattened(for_screen(img_raw, workspace.frames.encoding), followed.track, row, flat_box(drape))
    content = _encoded(flat, form)
    if key is not None and keep:
        workspace.cache.put("flat", key, f".{form}", content)
    return content


def _shown_contrast(contrast: np.ndarray, gain: float) -> np.ndarray:
    """Local contrast (h, w) as a grey picture (h, w, 3) uint8: the mean is mid-grey."""
    code = np.rint(np.clip(127.5 * (1 + gain * np.nan_to_num(contrast)), 0, 255)).astype(np.uint8)
    return np.repeat(code[..., None], 3, axis=2)


def _contrast(workspace: Workspace, k: int) -> np.ndarray:
    return grey_pyramid(workspace.frames[k], workspace.frames.encoding.full_scale, 1).levels[0]


def tracked_view(workspace: Workspace, k: int, form: Form, gain: float) -> bytes:
    """What followers see of a frame: its local contrast, raised ``gain`` times."""
    return _encoded(_shown_contrast(_contrast(workspace, k), gain), form)


def flat_check(
    workspace: Workspace,
    recipe: Recipe,
    drape: Drape,
    k: int,
    look: FlatCheck,
    form: Form,
    gain: float,
    other: str | None = None,
) -> bytes:
    """The flat view of what followers see, or of what is left of it less the reference's own, or less what it is where
    an ``other`` drape takes the same places. Raises as `flat_view`."""
    followed, row = _row_of(workspace, recipe, drape, k)
    box = flat_box(drape)
    where = followed.track.map_frame_from_ref(row, box)
    here = sample_cubic(np.ascontiguousarray(_contrast(workspace, k)[..., None]), where)[..., 0]
    if look == "residual":
        x0, y0, x1, y1 = box
        home = _contrast(workspace, workspace.k_of(drape.reference))
        at = np.stack(np.meshgrid(np.arange(x0, x1, dtype=np.float64), np.arange(y0, y1, dtype=np.float64)), axis=-1)
        here = here - sample_cubic(np.ascontiguousarray(home[..., None]), at)[..., 0]
    elif look == "apart":
        if other is None:
            raise RuleError("Choose the drape to compare with.")
        track = other_track(workspace, recipe, drape, other).track
        there = other_map(track, workspace.k_of(drape.reference), k, box)
        here = here - sample_cubic(np.ascontiguousarray(_contrast(workspace, k)[..., None]), there)[..., 0]
    return _encoded(_shown_contrast(here, gain), form)


def _row_of(workspace: Workspace, recipe: Recipe, drape: Drape, k: int) -> tuple[Followed, int]:
    followed = known_track(workspace, recipe, drape)
    row = None if followed is None else followed.track.row(k)
    if followed is None or row is None:
        raise RuleError(
            f"'{drape.name}' has not been followed to frame {workspace.frame_of(k)}; follow it first.",
            code="unfollowed",
        )
    return followed, row


def flattened(picture: np.ndarray, track: SurfaceTrack, row: int, box: tuple[int, int, int, int]) -> np.ndarray:
    """A frame (H, W, 3) uint8 sampled so that the surface stands as on the reference, over ``box`` of it."""
    where = track.map_frame_from_ref(row, box)
    height, width = picture.shape[:2]
    source = clip_box(bounding_box(np.clip(where[np.isfinite(where).all(axis=-1)], -1e5, 1e5), 3), width, height)
    if source is None:
        return np.zeros((*where.shape[:2], 3), np.uint8)
    x0, y0, x1, y1 = source
    flat = sample_cubic(picture[y0:y1, x0:x1].astype(np.float32), where - np.array([x0, y0]))
    outside = (where < -0.5).any(axis=-1) | (where[..., 0] > width - 0.5) | (where[..., 1] > height - 0.5)
    flat[outside] = 0
    rounded: np.ndarray = np.rint(np.clip(flat, 0, 255)).astype(np.uint8)
    return rounded
