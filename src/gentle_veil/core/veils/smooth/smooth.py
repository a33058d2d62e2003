"""Even skin: blotches and lines of a chosen size go, pores stay, and what is no skin is left alone.

The picture is split into three bands whose sum is the picture: pores and grain, what is evened, and broad light.
Only the middle band is lessened, only where the colour is the skin's, and only as far as it is faint: an eye, a lip
or the edge of a shadow is no blotch. What colour the skin has is looked for anew on each frame, as light changes it.
"""

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode
from gentle_veil.core.composite.edge import edge_matte, edge_reach
from gentle_veil.core.composite.matte import clip_box, outline_distance, union_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.params import number, selection, switch, vector
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.types import ImageF32, MatteF32
from gentle_veil.core.veils.smooth.selection import box_of_strokes, corrected, drawn, features_of, without_features

LIGHTNESS_SHARE = 0.4  # how much lightness counts beside colour: skin is lit and shaded
FAINT = 0.075  # encoded; a blotch stands off by about this much at most
SOFT_EDGE = 0.5  # of the tolerance, over which the selection falls off
NO_SKIN = [60.0, 15.0, 18.0]  # CIELAB, where nothing can be sampled
SAMPLES, LEAST_SAMPLES = 5000, 40  # px, to find the most common colour
BLACK = 16.0  # what lightness is short of a multiple of the cube root
SHADED_MOST = 2.0  # times that a shadow's colour is raised; deeper ones are mostly grain
MASK_SIGMA = 1.5  # px; a selection does not tremble with the grain


@dataclass(frozen=True)
class SmoothParams:
    amount: float = number(
        0.7, label="Amount", help="How far blotches and lines are evened.", group="Skin", low=0.0, high=1.0, step=0.01
    )
    size: float = number(
        14.0,
        label="Size",
        help="Blotches and lines up to about this size are evened; broader light and shade stay.",
        group="Skin",
        low=2.0,
        high=200.0,
        step=0.5,
        unit="px",
    )
    pores: float = number(
        1.8,
        label="Pores from",
        help="What is finer than this stays: pores, down, grain.",
        group="Skin",
        low=0.3,
        high=20.0,
        step=0.1,
        unit="px",
    )
    texture: float = number(
        1.0, label="Texture", help="Strength of the pores that stay.", group="Skin", low=0.0, high=2.0, step=0.01
    )
    tolerance: float = number(
        16.0,
        label="Tolerance",
        help="How far from the skin's colour still counts as skin, in CIELAB units. Look at the matte to see it.",
        group="Selection",
        low=1.0,
        high=150.0,
        step=1.0,
    )
    skin: tuple[float, float] | None = vector(
        None,
        label="Skin's colour",
        help="Its a* and b* in CIELAB. Empty: sampled within the outline on the reference frame.",
        group="Selection",
        unit="",
    )
    features: bool = switch(
        True,
        label="Keep off features",
        help="Where the outline lies on a face: eyes, lids, brows, lips and nostrils are left as they are.",
        group="Selection",
    )
    within_face: bool = switch(
        False,
        label="Face only",
        help="Ends at the hairline and the jaw; hair, ears and neck are left as they are.",
        group="Selection",
    )
    feature_feather: float = number(
        4.0,
        label="Feather at features",
        help="How softly it ends at a feature, in px of the reference frame.",
        group="Selection",
        low=0.0,
        high=300.0,
        step=0.5,
        unit="px",
    )
    selection: tuple[dict[str, Any], ...] = selection(
        label="By hand",
        help="Strokes that add to the selection or take from it.",
        group="Selection",
    )


class Smooth:
    """See `contracts.veil.VeilKind`."""

    kind = "smooth"
    label = "Smooth"
    help = "Evens blotches and lines of a chosen size; pores, eyes, lips and hair stay as they are."
    Params = SmoothParams
    on_picture = True
    stays_behind = True
    judged = ("seam",)
    prepared_by = ("features", "selection")

    def needs_people(self, params: SmoothParams) -> bool:
        return False

    def prepare(
        self, frames: FrameSource, placement: Placement, params: SmoothParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Sample the skin's colour, find the face's features, and draw what was selected by hand."""
        # On the picture itself nothing carries a face's features along.
        features = features_of(frames, placement) if params.features and not placement.on_picture else {}
        selected = drawn(params.selection, frames.size)
        return {"skin": self._sampled(frames, placement), "features": features, "selected": selected}

    @staticmethod
    def _sampled(frames: FrameSource, placement: Placement) -> list[float]:
        """The most common colour within the outline on the reference frame, in CIELAB."""
        k = placement.track.reference_frames[0]
        width, height = frames.size
        box = clip_box(bounding_box(placement.polygon_ref), width, height)
        if box is None:
            return NO_SKIN
        x0, y0, x1, y1 = box
        calm = _calm(frames.encoding.to_linear(frames[k][y0:y1, x0:x1]))
        colour = _most_common(lab_from_linear(calm[outline_distance(placement.polygon_ref, box) < 0]))
        return [round(float(v), 3) for v in colour]

    def apply(self, site: Site, params: SmoothParams, prepared: dict[str, Any]) -> Patch | None:
        track = site.placement.track
        polygon = track.carry(site.placement.polygon_ref, site.row)
        scale = track.scale_at(site.placement.polygon_ref.mean(axis=0), site.row)
        room = edge_reach(site, scale) + 2
        boxes = (clip_box(bounding_box(polygon, room), *site.canvas.size), box_of_strokes(site, prepared["selected"]))
        box = union_box([b for b in boxes if b is not None])
        if box is None:
            return None
        matte = edge_matte(site, polygon, box, scale)
        below = site.canvas.read(box)
        lab = lab_from_linear(_calm(below))
        here = np.array(prepared["skin"])
        if not site.placement.on_picture:  # there most of what is within the outline need not be skin
            front = site.front(box)
            shown = matte > 0.5 if front is None else (matte > 0.5) & (front <= 0)
            here = _most_common(lab[shown], here)
        skin = _skin(lab, params, prepared["skin"], here)
        off = without_features(site, box, prepared["features"], params.feature_feather, within_face=params.within_face)
        matte = corrected(site, box, matte * skin * off, prepared["selected"])
        if not (matte > 0).any():
            return None
        return Patch(box, _evened(below, np.maximum(skin * off, matte), params, scale), matte)


def _calm(img_lin: ImageF32) -> ImageF32:
    return cv2.GaussianBlur(img_lin, (0, 0), MASK_SIGMA, borderType=cv2.BORDER_REFLECT)


def _most_common(lab: np.ndarray, start: np.ndarray | None = None) -> np.ndarray:
    """The densest place of some colours (N, 3), from ``start`` on: hair and lips among them do not pull it."""
    lab = lab[:: max(1, len(lab) // SAMPLES)]
    if len(lab) < LEAST_SAMPLES:
        return np.array(NO_SKIN if start is None else start)
    centre = np.median(lab, axis=0) if start is None else start
    for _ in range(4):
        off = np.linalg.norm(lab - centre, axis=1)
        centre = np.median(lab[off <= np.percentile(off, 60)], axis=0)
    return centre


def _skin(lab: np.ndarray, params: SmoothParams, sampled: list[float], here: np.ndarray) -> MatteF32:
    """How much each pixel is skin, by its colour in CIELAB (h, w, 3), (h, w) in [0, 1].

    ``sampled``: the skin's colour on the reference, ``here`` on this frame. Less light takes from lightness and colour
    alike (CIE 1976: both go with the cube root), so colour is compared as it would be at the skin's own lightness.
    """
    asked = here[1:] if params.skin is None else here[1:] + np.array(params.skin) - sampled[1:]
    shaded = np.minimum((here[0] + BLACK) / (lab[..., 0] + BLACK), SHADED_MOST)
    off_colour = np.hypot(shaded * lab[..., 1] - asked[0], shaded * lab[..., 2] - asked[1])
    off = np.hypot(off_colour, LIGHTNESS_SHARE * (lab[..., 0] - here[0]))
    t = np.clip((off / params.tolerance - 1) / SOFT_EDGE + 0.5, 0, 1)
    return (0.5 + 0.5 * np.cos(np.pi * t)).astype(np.float32)


def _evened(img_lin: ImageF32, skin: MatteF32, params: SmoothParams, scale: float) -> ImageF32:
    picture = bt709_encode(img_lin)
    calm = _blurred(picture, skin, params.pores * scale)
    broad = _blurred(calm, skin, max(params.size * scale, params.pores * scale + 0.5))
    blotches = calm - broad
    faint = 1 / (1 + (np.abs(blotches).max(axis=-1, keepdims=True) / FAINT) ** 4)
    kept = blotches * (1 - np.float32(params.amount) * faint)
    return bt709_decode(np.clip(broad + kept + np.float32(params.texture) * (picture - calm), 0, None))


def _blurred(picture: ImageF32, skin: MatteF32, sigma: float) -> ImageF32:
    """The mean of the skin around each pixel; what is no skin does not bleed in."""
    weight = skin + np.float32(1e-4)
    total = cv2.GaussianBlur(picture * weight[..., None], (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
    return total / cv2.GaussianBlur(weight, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)[..., None]
