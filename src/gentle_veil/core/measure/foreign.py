"""Whether a pixel is the surface in some light, or a thing in front of it: seeds that are sure, and odds for each."""

import cv2
import numpy as np

from gentle_veil.core.composite.matte import grown
from gentle_veil.core.measure.surface_look import Look
from gentle_veil.core.measure.thing_colours import density_at
from gentle_veil.core.measure.undrawn import Shown
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32

# Natural log beyond what is usual: so many times the 90th percentile of the middlemost frame, within these bounds.
USUAL_PERCENTILE, FRAMES_PERCENTILE, TIMES = 90, 50, 3.0
TONE_LIMITS, CHROMA_LIMITS = (0.3, 1.5), (0.12, 0.5)
SURE, HINT = 1.3, 0.6  # of the limit, squared: where a thing begins, and how far it goes on
COLOURLESS, SHADE = 0.7, 1.0  # of the limit of chroma; natural log: a shadow takes up to two thirds of the light
DRAWING_SIGMA = 3.0  # field px
SHOWN_THROUGH, LEAST_DRAWN = 0.5, 0.3  # of the usual correlation with the usual drawing, and the least that counts
DRAWN = 0.7  # usual correlation from which a drawing would show in a shadow, too
LEAST_AREA, CLOSED = 12, 5  # field px
# Of the surface: the share of pixels in shadow or sheen, over a range of tone; of things: the share of unknown colours.
SHADED, SHADES, SHADED_STRAYS = 0.05, 1.6, 1.5
UNKNOWN, COLOURS = 0.1, 8.0  # the volume of all colours, natural log cubed
MOST_ODDS, DRAWING_ODDS = 6.0, 4.0  # natural log
HALF_SHOWN, SHOWN_SLOPE, SHOWN_LEAST = 0.45, 0.25, 0.3  # of a drawing, from which it is odds for the surface


def limits_of(look: Look) -> tuple[float, float]:
    """How far tone and chroma of this very surface may be off anywhere before something else is seen."""
    offs = [look.off(one) for one in look.ones]
    usual = np.array([[np.percentile(values[look.inside], USUAL_PERCENTILE) for values in off] for off in offs])
    tone, chroma = TIMES * np.percentile(usual, FRAMES_PERCENTILE, axis=0)
    return float(np.clip(tone, *TONE_LIMITS)), float(np.clip(chroma, *CHROMA_LIMITS))


def sure_things(lit: ImageF32, look: Look, limits: tuple[float, float]) -> MaskBool:
    """Whole things on a frame without its light (h, w, 3): where a pixel is surely foreign, and all that hangs together
    with it and may be.

    What shows the surface's own drawing is the surface, whatever light lies on it; so is what has its colour, as a
    shadow has.
    """
    off_tone, off_chroma = look.off(lit)
    chroma = off_chroma / limits[1]
    score = (off_tone / limits[0]) ** 2 + chroma**2
    hint = cv2.morphologyEx((score > HINT).astype(np.uint8), cv2.MORPH_CLOSE, np.ones((CLOSED, CLOSED), np.uint8))
    _, labels = cv2.connectedComponents(hint)
    sure = np.bincount(labels[score > SURE], minlength=int(labels.max()) + 1)
    sure[0] = 0
    tone = lit.mean(axis=-1)
    for label in np.flatnonzero(sure >= LEAST_AREA):
        there = labels == label
        usually = float(np.median([_alike(look.tone, one, there) for one in look.tones]))
        alike = _alike(look.tone, tone, there)
        darker = -float((lit - look.usual)[there].mean())
        shade = usually < DRAWN and float(chroma[there].mean()) < COLOURLESS and 0 < darker < SHADE
        if shade or alike > SHOWN_THROUGH * max(usually, LEAST_DRAWN):
            sure[label] = 0
    things: MaskBool = (sure >= LEAST_AREA)[labels]
    return grown(things, 1) if things.any() else things


def odds(seen: ImageF32, lit: ImageF32, look: Look, colours: np.ndarray) -> MatteF32:
    """The natural log of how much likelier each pixel (h, w) is a thing than the surface.

    Convention: ``seen`` (h, w, 3) the frame, natural log of light, ``lit`` the same without the light upon the
                surface; ``colours`` the density of the things' colours, as `ThingColours.near` gives it
    """
    off_tone, off_chroma = look.off(lit)
    tone, chroma = look.strays
    plain = np.exp(-0.5 * ((off_tone / tone) ** 2 + (off_chroma / chroma) ** 2)) / (
        (2 * np.pi) ** 1.5 * tone * chroma**2
    )
    wide = SHADED_STRAYS * chroma
    shaded = np.exp(-0.5 * (off_chroma / wide) ** 2) / (2 * np.pi * wide**2 * SHADES)
    surface = (1 - SHADED) * plain + SHADED * shaded
    thing = (1 - UNKNOWN) * density_at(colours, seen) + UNKNOWN / COLOURS
    return np.asarray(np.clip(np.log(thing) - np.log(surface + 1e-6), -MOST_ODDS, MOST_ODDS), np.float32)


def drawn_odds(shown: Shown) -> MatteF32:
    """The same by what is drawn on the surface: what hides it is a thing; where it shows, a thin one may still pass."""
    said = np.clip((HALF_SHOWN - shown.share) / SHOWN_SLOPE, -SHOWN_LEAST, 1) * DRAWING_ODDS
    return np.where(shown.told, said, 0).astype(np.float32)


def _alike(a: ImageF32, b: ImageF32, there: MaskBool) -> float:
    """Correlation of the fine tone of two looks (h, w) within a mask, untouched by what lies beyond its edge."""
    ys, xs = np.nonzero(there)
    box = (slice(int(ys.min()), int(ys.max()) + 1), slice(int(xs.min()), int(xs.max()) + 1))
    mask = there[box].astype(np.float32)
    around = np.maximum(cv2.GaussianBlur(mask, (0, 0), DRAWING_SIGMA), 1e-3)
    fine = [
        (p[box] - cv2.GaussianBlur(p[box] * mask, (0, 0), DRAWING_SIGMA) / around)[there[box]].astype(np.float64)
        for p in (a, b)
    ]
    p, q = (f - f.mean() for f in fine)
    return float(p @ q / max(float(np.sqrt((p @ p) * (q @ q))), 1e-9))
