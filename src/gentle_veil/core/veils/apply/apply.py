"""Put artwork on a surface, so that it looks worn and not laid over the picture.

It rides on the drape, is filtered over each pixel's area, goes soft where the surface does, and mixes with the very
pixels below it, whose folds, weave, grain and light it takes on.
"""

from functools import lru_cache
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode
from gentle_veil.core.composite.blend import blend
from gentle_veil.core.composite.edge import edge_matte
from gentle_veil.core.composite.matte import clip_box, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.picture import Picture
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.measure.focus import softness
from gentle_veil.core.measure.turning import ending_at_the_rim, turning_of
from gentle_veil.core.motion.minify import Minified
from gentle_veil.core.motion.pyramid import LUMA
from gentle_veil.core.types import ImageF32
from gentle_veil.core.veils.apply.params import ApplyParams
from gentle_veil.core.veils.apply.place import lay_artwork

SHADE_SIGMA = 2.5  # px; what is smoother is fold and light, what is finer is texture
DARKEST = 1e-3
GREY = 0.18  # scene-linear, of a surface that cannot be read
LEAST_SHOWN = 50  # px of a surface that tell its light's colour
SHADE_MOST = 4.0  # times the surface's usual light
LEAST_BLUR, LEAST_SMEAR = 0.2, 0.7  # px


class Apply:
    """See `contracts.veil.VeilKind`."""

    kind = "apply"
    label = "Apply"
    help = "Puts artwork with alpha on the surface: it takes on its folds, its light, its focus and its grain."
    Params = ApplyParams
    on_picture = False
    stays_behind = True
    judged = ("slide",)
    prepared_by = ()

    def needs_people(self, params: ApplyParams) -> bool:
        return False

    def prepare(
        self, frames: FrameSource, placement: Placement, params: ApplyParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Read the surface's usual light on the reference, and how soft it is on every frame."""
        soft = softness(frames, placement.track, placement.polygon_ref, report=report)
        turns = turning_of(frames, placement, report=report)
        return {"level": _level(frames, placement), "softness": soft, "turning": turns}

    def apply(self, site: Site, params: ApplyParams, prepared: dict[str, Any]) -> Patch | None:
        picture = site.placement.pictures.get(params.art)
        shown = None if picture is None else _shown(picture, params, site)
        if picture is None or shown is None:
            return None
        laid = lay_artwork(site, picture.size, params)
        if laid is None:
            return None
        art = _levels(picture, shown).sample(laid.where, laid.px_per_sample)
        scale = site.placement.track.scale_at(site.placement.polygon_ref.mean(axis=0), site.row)
        own = params.softness * scale
        extra = params.focus * prepared["softness"].get(str(site.k), 0.0)
        art = _smeared(_softened(art, own, extra), site, params.shutter)
        matte = art[..., 3].copy()
        if params.clip:
            polygon = site.placement.track.carry(site.placement.polygon_ref, site.row)
            matte *= edge_matte(site, polygon, laid.box, scale)
        if params.at_rim:
            matte = ending_at_the_rim(site, prepared["turning"], laid.box, matte)
        if not (matte > 0).any():
            return None
        colour = np.divide(art[..., :3], art[..., 3:], out=np.zeros_like(art[..., :3]), where=art[..., 3:] > 1e-6)
        below = site.canvas.read(laid.box)
        level = np.array(prepared["level"], np.float32)
        if params.blend == "normal":
            # What is multiplied in takes on the light's colour by itself; this is the light's and not the surface's.
            colour = colour * _light_colour(site, level) ** np.float32(params.shading)
        return Patch(laid.box, _mixed(below, colour * np.float32(params.lift), params, float(level @ LUMA)), matte)


def _level(frames: FrameSource, placement: Placement) -> list[float]:
    """The surface's usual light (3,) scene-linear within the outline on the reference frame."""
    k = placement.track.reference_frames[0]
    box = clip_box(bounding_box(placement.polygon_ref), *frames.size)
    if box is None:
        return [GREY] * 3
    x0, y0, x1, y1 = box
    light = frames.encoding.to_linear(frames[k][y0:y1, x0:x1])
    inside = outline_distance(placement.polygon_ref, box) < 0
    return [round(float(v), 6) for v in np.median(light[inside], axis=0)] if inside.any() else [GREY] * 3


def _light_colour(site: Site, level: np.ndarray) -> np.ndarray:
    """By how much the light on the frame has another colour than on the reference, (3,), its luma left as it is.

    ``level`` (3,) is the surface's usual light on the reference
    """
    polygon = site.placement.track.carry(site.placement.polygon_ref, site.row)
    box = clip_box(bounding_box(polygon), *site.canvas.size)
    if box is None:
        return np.ones(3, np.float32)
    shown, front = outline_distance(polygon, box) < 0, site.front(box)
    if front is not None:
        shown &= front <= 0
    if shown.sum() < LEAST_SHOWN:
        return np.ones(3, np.float32)
    here = np.median(site.canvas.read(box)[shown], axis=0)
    of_channels = np.maximum(here, DARKEST) / np.maximum(level, DARKEST)
    of_luma = max(float(here @ LUMA), DARKEST) / max(float(level @ LUMA), DARKEST)
    return np.asarray(of_channels / of_luma, np.float32)


def _shown(picture: Picture, params: ApplyParams, site: Site) -> int | None:
    """Which picture of the artwork is shown on a frame, or None where it is over."""
    if picture.count == 1:
        return 0
    i = int((site.k - round(params.start)) * site.placement.frame_seconds / max(picture.seconds, 1e-9) + 1e-6)
    if params.plays == "loop":
        return i % picture.count
    if i < 0 or (i >= picture.count and params.plays == "once"):
        return None
    return min(i, picture.count - 1)


@lru_cache(maxsize=8)
def _levels(picture: Picture, i: int) -> Minified:
    return Minified(picture.frame(i))


def _softened(art: ImageF32, own: float, extra: float) -> ImageF32:
    """``own`` px of blur, and ``extra`` beyond it (or less than it, when negative), as variances add."""
    sigma = float(np.sqrt(max(own * own + np.sign(extra) * extra * extra, 0.0)))
    if sigma < LEAST_BLUR:
        return art
    return cv2.GaussianBlur(art, (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)


def _smeared(art: ImageF32, site: Site, shutter: float) -> ImageF32:
    """A box blur along the way the surface's middle goes while the shutter is open."""
    track, row = site.placement.track, site.row
    here = int(track.frames[row])
    beside = [r for k in (here - 1, here + 1) if track.seen(k) for r in [track.row(k)] if r is not None]
    if shutter <= 0 or not beside:
        return art
    middle = site.placement.polygon_ref.mean(axis=0)[None]
    ends = [track.carry(middle, r)[0] for r in (beside[0], beside[-1] if len(beside) > 1 else row)]
    way = (ends[1] - ends[0]) / max(len(beside), 1) * shutter / 360
    length = float(np.hypot(*way))
    if length < LEAST_SMEAR:
        return art
    half = int(np.ceil(length / 2)) + 1
    kernel = np.zeros((2 * half + 1, 2 * half + 1), np.float32)
    for t in np.linspace(-0.5, 0.5, 8 * half + 1):
        x, y = half + t * way[0], half + t * way[1]
        i, j = int(x), int(y)
        u, v = x - i, y - j
        for dx, dy, w in ((0, 0, (1 - u) * (1 - v)), (1, 0, u * (1 - v)), (0, 1, (1 - u) * v), (1, 1, u * v)):
            if i + dx <= 2 * half and j + dy <= 2 * half:
                kernel[j + dy, i + dx] += w
    return cv2.filter2D(art, cv2.CV_32F, kernel / kernel.sum(), borderType=cv2.BORDER_CONSTANT)


def _mixed(below: ImageF32, colour: ImageF32, params: ApplyParams, level: float) -> ImageF32:
    """The artwork as it looks on the surface, before its alpha."""
    if params.blend == "normal":
        return colour * _shade(below, params, level)
    if params.in_light:
        gloss = np.float32(params.sheen) * (below @ LUMA)[..., None]
        mixed = gloss + blend(params.blend, np.maximum(below - gloss, 0), colour)
    else:
        mixed = bt709_decode(blend(params.blend, bt709_encode(below), np.clip(bt709_encode(colour), 0, 1)))
    return np.nan_to_num(mixed).astype(np.float32)


def _shade(below: ImageF32, params: ApplyParams, level: float) -> ImageF32:
    """The surface's light beside its usual light, (h, w, 1): folds and light apart from texture and grain."""
    light = np.maximum(below @ LUMA, DARKEST)
    folds = np.maximum(cv2.GaussianBlur(light, (0, 0), SHADE_SIGMA, borderType=cv2.BORDER_REFLECT), DARKEST)
    broad = np.clip(folds / max(level, DARKEST), 0, SHADE_MOST) ** np.float32(params.shading)
    fine = 1 + np.float32(params.texture) * (light / folds - 1)
    return (broad * np.maximum(fine, 0))[..., None].astype(np.float32)
