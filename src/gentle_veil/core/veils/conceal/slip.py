"""How far off from where the track has it a drawing lies, as the frame itself shows.

What a track says of itself where little of the surface is seen is careful: a drawing that stands just where it should
proves more. It is asked in quarters, for a track may be off here and not there.
"""

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32, MaskBool
from gentle_veil.core.veils.conceal.undertone import calm_log

FINE_SIGMA = 4.0  # px; what is broader is light
REACH_PX = 4  # px that are tried in all directions
LEAST_PX, LEAST_ALIKE = 150, 0.7  # of a quarter's drawing; its correlation where it fits best
EVERY = 2  # pixels tell as much as all
LEAST_OFF = 0.5  # px, that nobody sees


def drawing_off(frame_lin: ImageF32, picture_lin: ImageF32, drawn: MaskBool) -> float | None:
    """By how many px a drawing is off at most, of its quarters; None where one of them does not show it.

    Convention: frame, picture (h, w, 3) scene-linear, the picture being the reference's as the track carries it;
                ``drawn`` (h, w) what is drawn, and a little around it
    """
    seen, home = (_fine(p) for p in (frame_lin, picture_lin))
    ys, xs = np.nonzero(drawn)
    if len(xs) < LEAST_PX:
        return None
    right, low = (np.arange(n) > np.median(at) for n, at in zip(drawn.shape[::-1], (xs, ys), strict=True))
    offs = []
    for side_x in (right, ~right):
        for side_y in (low, ~low):
            quarter = drawn & side_x[None] & side_y[:, None]
            if quarter.sum() >= LEAST_PX:
                offs.append(_off(seen, home, quarter))
    told = [off for off in offs if off is not None]
    return max(told) if told and len(told) == len(offs) else None


def _off(seen: ImageF32, home: ImageF32, there: MaskBool) -> float | None:
    ys, xs = np.nonzero(there)
    inner = (ys >= REACH_PX) & (ys < there.shape[0] - REACH_PX) & (xs >= REACH_PX) & (xs < there.shape[1] - REACH_PX)
    ys, xs = ys[inner][::EVERY], xs[inner][::EVERY]
    if len(xs) < LEAST_PX // EVERY:
        return None
    own = home[ys, xs] - home[ys, xs].mean()
    best, at = 0.0, None
    for dy in range(-REACH_PX, REACH_PX + 1):
        for dx in range(-REACH_PX, REACH_PX + 1):
            other = seen[ys + dy, xs + dx]
            other = other - other.mean()
            alike = float(own @ other) / max(float(np.sqrt((own @ own) * (other @ other))), 1e-9)
            if alike > best:
                best, at = alike, (dx, dy)
    if at is None or best < LEAST_ALIKE or max(map(abs, at)) == REACH_PX:
        return None
    return max(float(np.hypot(*at)), LEAST_OFF)


def _fine(img_lin: ImageF32) -> ImageF32:
    tone = calm_log(img_lin).mean(axis=-1)
    return np.asarray(tone - cv2.GaussianBlur(tone, (0, 0), FINE_SIGMA), np.float32)
