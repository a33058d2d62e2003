"""What one look at a marked surface tells: where the surface is, the tone it has under the mark, and what is drawn.

Sheen lies on ink as it lies on skin, and makes one as light as the other is elsewhere. It wanders while the drawing
stays, so that the shot's other frames tell what is ink, and how dark that is.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gentle_veil.core.composite.matte import distance_from, grown
from gentle_veil.core.retouch.rim import not_ink
from gentle_veil.core.retouch.surface_colour import on_surface
from gentle_veil.core.types import ImageF32, MaskBool
from gentle_veil.core.veils.conceal.drawn import drawn_on
from gentle_veil.core.veils.conceal.undertone import EDGE_PX, calm_log, clean_tone

LIMB_PX = 3  # reference px from the rim of a rounded surface within which its light falls off
MIXED_PX = 14  # reference px from the rim, up to which hairs and blur mix the surface with what is behind
LEAST_BESIDE = 50  # px of plain skin beside a mark, that tell how far skin strays
LEAST_LOOKS, MOSTLY = 3, 0.6  # other frames that show a place, and the share of them on which it is ink
SHEEN, LEAST_LIGHTER = 0.3, 50  # natural log by which ink is lighter than it mostly is; px, to ask how it mostly is


@dataclass(frozen=True)
class Told:
    """Over a box of the reference, all (h, w): the ``surface`` and what is ``behind`` it, the ``depth`` px within its
    rim, its ``calm`` look and the ``tone`` without the mark (h, w, 3) log light, where it is ``clean`` and plain skin
    ``beside`` the mark, and the ``drawing``, None where the mark is none."""

    surface: MaskBool
    behind: MaskBool
    depth: ImageF32
    calm: ImageF32
    tone: ImageF32
    clean: MaskBool
    beside: MaskBool
    drawing: MaskBool | None


def told_by(img_lin: ImageF32, inside: MaskBool, marks: MaskBool) -> Told:
    """Convention: ``img_lin`` (h, w, 3) a look at the surface as on the reference; ``inside`` (h, w) the mark,
    ``marks`` the others on it."""
    surface, behind = on_surface(img_lin, inside, grazed=True)
    behind = not_ink(behind, inside)
    surface &= ~grown(behind, EDGE_PX)
    depth = distance_from(behind)
    # The tone meets whatever lies around the mark, lips too; texture comes from plain skin only.
    calm = calm_log(img_lin)
    tone, clean = clean_tone(calm, inside, marks, (surface & (depth > LIMB_PX)) | (depth > MIXED_PX))
    beside = surface & ~inside & ~marks & (depth > LIMB_PX)
    drawing = drawn_on(img_lin, tone, beside if beside.sum() > LEAST_BESIDE else clean, inside, depth > 0)
    return Told(surface, behind, depth, calm, tone, clean, beside, drawing)


def under_sheen(told: Told, looks: Sequence[ImageF32], inside: MaskBool, marks: MaskBool) -> MaskBool:
    """Where ink is lighter than most of some other looks (h, w, 3) at the surface show it, (h, w)."""
    if not looks or not _lighter(told, looks, inside):
        return np.zeros(inside.shape, bool)
    shown, ink = (np.zeros(inside.shape, int) for _ in range(2))
    off = np.full((len(looks), *inside.shape), np.nan, np.float32)
    for i, look in enumerate(looks):
        other = told_by(look, inside, marks)
        if other.drawing is not None:
            there = inside & (other.depth > LIMB_PX)
            shown += there
            ink += other.drawing & there
            off[i][there] = _off(other)[there]
    mostly = inside & (shown >= LEAST_LOOKS) & (ink >= MOSTLY * shown) & (told.depth > 0)
    out = np.zeros(inside.shape, bool)
    out[mostly] = _off(told)[mostly] - np.nanmedian(off[:, mostly], axis=0) > SHEEN
    return out


def _lighter(told: Told, looks: Sequence[ImageF32], inside: MaskBool) -> bool:
    """Whether any of a mark is lighter than in most looks, beside what is around it, other than by a rim that turns."""
    off = np.median([(told.calm - calm_log(look)).mean(axis=-1) for look in looks], axis=0)
    around = told.beside if told.beside.any() else ~inside
    there = inside & (told.depth > MIXED_PX) & (off - np.median(off[around]) > SHEEN)
    return bool(there.sum() >= LEAST_LIGHTER)


def _off(told: Told) -> ImageF32:
    """By how much each pixel is lighter than plain skin, natural log (h, w)."""
    return np.asarray((told.calm - told.tone).mean(axis=-1))
