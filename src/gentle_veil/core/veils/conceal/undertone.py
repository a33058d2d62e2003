"""The tone that a surface has under a mark, told on the reference frame: log light, without texture.

A smooth surface is laid through all that is clean, between the lines of a drawing too; solid ink shows its shade.
"""

import cv2
import numpy as np

from gentle_veil.core.composite.matte import distance_from, grown
from gentle_veil.core.retouch.membrane import broad_blur, surface_by_area
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.drawn import haze_at, haze_beside

CALM_SIGMA = 0.8  # reference px; single grains are no evidence of a mark
STEPS_OF = 40  # cells across the region for the surface
SKIN_SPREAD = 2.5  # times the spread of clean skin, within which a pixel counts as clean
EDGE_PX = 1  # px around ink that are still darkened by it
ALLOWED = (0.25, 0.16, 0.1, 0.0, 0.0)  # natural log; the first surface only guesses how shade goes on under a mark
LINE_PX, HAIR_PX, LINE_SPREADS = 4, 2, 5.0  # half the width of a line, and of a hair, that is told by its sides
BLED_PX = 2.0  # reference px: pictures are coded with half of their colours, so that ink's reach that far into skin
CARRIED_SIGMA = 4.0  # reference px over which a tone is told at the rim
# A solid: natural log by which ink is off the tone, and its slope per px, over so many px; px of it; how much its shade
# counts.
SOLID_OFF, SOLID_SLOPE, SOLID_SIGMA, SOLID_AREA, SOLID_WEIGHT = 0.3, 0.05, 1.5, 150, 0.3
TAUT, MOST_BULGE = 0.05, 0.12  # of a membrane; natural log, by which the tone of skin leaves it
DARKEST = 1e-3


def clean_tone(calm: ImageF32, inside: MaskBool, marks: MaskBool, surface: MaskBool) -> tuple[ImageF32, MaskBool]:
    """The log light of clean skin everywhere, and where the picture (``calm``, as `calm_log`) shows it.

    First through what lies around the mark; then also through the pixels within it that are like it, again and
    again, until the drawing alone is left out.
    """
    step = _step(inside)
    known = surface & ~inside & ~marks
    if known.sum() < 50:
        known = ~inside & ~marks
    drawn = _lines(calm, known, LINE_PX)
    beside = known & ~_lines(calm, known, HAIR_PX)  # a fold is broader than a hair, and goes on under the mark
    clean = beside
    tone = surface_by_area(calm, clean.astype(np.float32), step)
    for allowed in ALLOWED:
        off = np.abs(calm - tone)
        spread = 1.4826 * np.median(off[known], axis=0) + 1e-3
        like = beside | ((off <= np.maximum(SKIN_SPREAD * spread, allowed)).all(axis=-1) & inside)
        # Specks of ink's grain that happen to be like skin are no skin: what is clean is clean around.
        like = cv2.morphologyEx(like.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)).astype(bool)
        clean = surface & ~marks & like & ~grown(inside & ~like, EDGE_PX) & ~(inside & drawn)
        if clean.sum() < 50:
            clean = known
        tone = surface_by_area(calm, clean.astype(np.float32), step)
    return bounded(tone, calm, clean, step), clean


def tone_under_ink(
    calm: ImageF32, tone: ImageF32, clean: MaskBool, drawn: MaskBool, inside: MaskBool, deep: MaskBool
) -> tuple[ImageF32, np.ndarray]:
    """The tone (h, w, 3) once it is known what is ``drawn``, and the haze that ink has beside it, as `haze_beside`.

    Convention: calm, tone (h, w, 3) log light; the masks (h, w); ``deep`` is where nothing behind the surface mixes in
    """
    haze = haze_beside(calm, clean, drawn)
    away = distance_from(drawn)
    free = np.asarray(calm - haze_at(haze, away))
    known = (clean & (away > BLED_PX)).astype(np.float32)
    tone = bounded(surface_by_area(free, known, _step(inside)), free, known, _step(inside))
    solids = _solids(calm, drawn & deep & (np.abs(calm - tone).max(axis=-1) > SOLID_OFF))
    return _shaded_through(tone, calm, free, known, solids, _step(inside)), haze


def bounded(tone: ImageF32, values: ImageF32, known: np.ndarray, step: int) -> ImageF32:
    """A tone that bulges no more than skin does over the membrane through what is ``known`` (h, w) of the ``values``:
    where a drawing by nature ends at the mark, as lips do, a curved surface shoots over."""
    membrane = surface_by_area(values, known.astype(np.float32), step, stiffness=0.0, tension=TAUT)
    return np.asarray(membrane + np.clip(tone - membrane, -MOST_BULGE, MOST_BULGE), np.float32)


def calm_log(img_lin: ImageF32) -> ImageF32:
    """Log light without single grains, (h, w, 3)."""
    return np.log(np.maximum(cv2.GaussianBlur(img_lin, (0, 0), CALM_SIGMA), DARKEST))


def _step(inside: MaskBool) -> int:
    return max(2, int(np.ceil(max(inside.shape) / STEPS_OF / 2)))


def _lines(calm: ImageF32, known: MaskBool, half: int) -> MaskBool:
    """Where something thin, ``half`` px to each side, is darker than what is beside it, beyond what skin is."""
    size = 2 * half + 1
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
    grey = calm.mean(axis=-1)
    dent = cv2.morphologyEx(grey, cv2.MORPH_CLOSE, kernel) - grey
    usual = float(np.median(dent[known])) if known.any() else 0.0
    spread = 1.4826 * float(np.median(np.abs(dent[known] - usual))) if known.any() else 0.0
    return np.asarray(dent > usual + LINE_SPREADS * spread + 0.01)


def _solids(calm: ImageF32, ink: MaskBool) -> np.ndarray:
    """Numbers (h, w), from 1, of the stretches of ``ink`` that have no edge in them; 0 elsewhere."""
    down, across = np.gradient(cv2.GaussianBlur(calm, (0, 0), SOLID_SIGMA), axis=(0, 1))
    flat = ink & ((across**2 + down**2).max(axis=-1) < SOLID_SLOPE**2)
    flat &= distance_from(~flat) > BLED_PX
    _, labels, stats, _ = cv2.connectedComponentsWithStats(flat.astype(np.uint8), connectivity=4)
    return np.where(stats[labels, cv2.CC_STAT_AREA] >= SOLID_AREA, labels, 0)


def _shaded_through(
    tone: ImageF32, calm: ImageF32, free: ImageF32, known: MatteF32, solids: np.ndarray, step: int
) -> ImageF32:
    """The tone with the shade that shows through solid ink: how much light ink takes nobody knows, but that it takes
    as much all over does tell where the surface under it is darker. Its colour stays that of what lies around.
    """
    if not solids.any():
        return tone
    grey = np.where(solids[..., None] > 0, calm.mean(axis=-1, keepdims=True), free.mean(axis=-1, keepdims=True))
    weight = np.where(solids > 0, np.float32(SOLID_WEIGHT), known)
    shade = surface_by_area(grey, weight, step, parts=solids)
    return np.asarray(tone - tone.mean(axis=-1, keepdims=True) + shade, np.float32)


def carried_on(tone: ImageF32, shown: MaskBool) -> ImageF32:
    """The tone as it is where the surface is seen, and beyond that as near by: a curved surface that is drawn out runs
    away."""
    if shown.all() or not shown.any():
        return tone
    weight = shown.astype(np.float32)[..., None]
    total = broad_blur(np.concatenate([tone * weight, weight], axis=-1), CARRIED_SIGMA)
    _, labels = cv2.distanceTransformWithLabels(
        (~shown).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL
    )
    nearest = np.zeros((labels.max() + 1, 3), np.float32)
    nearest[labels[shown]] = (total[..., :3] / np.maximum(total[..., 3:], 1e-3))[shown]
    return np.where(shown[..., None], tone, nearest[labels]).astype(np.float32)
