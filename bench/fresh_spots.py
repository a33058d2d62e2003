"""Conceal with live skin, its default: spots that were drawn for this bench, at places nobody chose for them.

As `fresh_marks`, with marks that are small: pimples, moles, age spots and tracking dots, worn by the clean twins of
the demo's arm and face. Given are an outline (the hull of what is marked on the reference, grown by 3 px) and a drape
around it; all else is the defaults.

    python bench/fresh_spots.py [number ...]
"""

import sys

import cv2
import numpy as np

import record
from fresh_marks import FINE, Case, one

HALF = 20  # px of the artwork, beside its middle
SPOTS = {  # radius and softness in px; the share of the light that it lets through
    "pimple": (5.0, 1.5, (0.97, 0.84, 0.86)),
    "age spot": (7.0, 1.0, (0.84, 0.74, 0.68)),
    "mole": (4.0, 0.8, (0.45, 0.33, 0.3)),
    "dot": (5.0, 0.3, (0.35, 1.1, 0.5)),
}
CASES = (
    Case("pilot", "pimple", 40, "forehead"),
    Case("pilot", "pimple", 60, "left", mirrored=True),
    Case("pilot", "pimple", 20, "chin", backwards=True),
    Case("pilot", "age spot", 50, "right"),
    Case("pilot", "age spot", 30, "left"),
    Case("pilot", "mole", 40, "left"),
    Case("pilot", "mole", 60, "right", backwards=True),
    Case("pilot", "dot", 40, "forehead", mirrored=True),
    Case("deckhand_arm", "pimple", 20, "middle"),
    Case("deckhand_arm", "age spot", 60, "low", mirrored=True),
    Case("deckhand_arm", "mole", 40, "middle", backwards=True),
    Case("deckhand_arm", "dot", 30, "low"),
)


def artwork(spot: str) -> np.ndarray:
    """The share of the light (h, w, 3) that a spot lets through, `FINE` px per px; 1 where there is none."""
    radius, soft, share = SPOTS[spot]
    art = np.ones((2 * HALF * FINE, 2 * HALF * FINE, 3), np.float32)
    cv2.circle(art, (HALF * FINE, HALF * FINE), round(radius * FINE), share, -1)
    return cv2.GaussianBlur(art, (0, 0), soft * FINE)


def main() -> None:
    chosen = [CASES[int(n)] for n in sys.argv[1:]] or CASES
    told = {f"{c.shot}/{c.mark} on the {c.place}": one(c, artwork(c.mark), "donor") for c in chosen}
    record.write("fresh_spots", told)


if __name__ == "__main__":
    main()
