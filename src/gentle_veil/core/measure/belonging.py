"""What a patch must share with the surface it lies on, per frame: light, grain, focus and motion blur."""

import numpy as np

from gentle_veil.core.composite.matte import clip_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.measure.focus import softness
from gentle_veil.core.motion.grain import grain_sigma
from gentle_veil.core.motion.pyramid import LUMA
from gentle_veil.core.types import ImageF32, Points

SHUTTER_SHARE = 0.5  # of a frame, as with the usual 180 degrees
LEAST_LIGHT = 1e-4

Curve = dict[int, float]


def belonging_curves(
    frames: FrameSource, track: SurfaceTrack, polygon_ref: Points, *, report: Report = silent
) -> dict[str, Curve]:
    """Curves over the frames k on which the surface is seen.

    ``light``: stops above the reference frame; ``grain``: its standard deviation in percent of full scale, encoded;
    ``focus``: px of blur beyond the reference's; ``motion``: px that the surface travels while the shutter is open.

    References
        [Immerkaer96]  J. Immerkaer, "Fast noise variance estimation", Computer Vision and Image Understanding 64(2),
                       1996, doi:10.1006/cviu.1996.0060; here with the median, which texture does not reach.
    """
    seen = [int(k) for k in track.frames if track.seen(int(k))]
    light: Curve = {}
    grain: Curve = {}
    for i, k in enumerate(seen):
        report(i, len(seen), f"reading light and grain, frame {k}")
        found = _light_and_grain(frames, track, polygon_ref, k)
        if found is not None:
            light[k], grain[k] = found
    home = light.get(track.reference_frames[0], next(iter(light.values()), 0.0))
    focus = softness(frames, track, polygon_ref, report=report)
    return {
        "light": {k: round(v - home, 4) for k, v in light.items()},
        "grain": {k: round(v, 4) for k, v in grain.items()},
        "focus": {int(k): v for k, v in focus.items()},
        "motion": {k: round(float(np.linalg.norm(motion_at(track, polygon_ref, k))), 3) for k in seen},
    }


def motion_at(track: SurfaceTrack, polygon_ref: Points, k: int) -> Points:
    """The step (2,) in px that the middle of a region makes while the shutter is open, centred on frame ``k``."""
    middle = polygon_ref.mean(axis=0, keepdims=True)
    rows = [track.row(n) for n in (k - 1, k, k + 1) if track.seen(n)]
    places = [track.carry(middle, r)[0] for r in rows if r is not None]
    if len(places) < 2:
        return np.zeros(2)
    return np.asarray((places[-1] - places[0]) / (len(places) - 1) * SHUTTER_SHARE)


def _light_and_grain(
    frames: FrameSource, track: SurfaceTrack, polygon_ref: Points, k: int
) -> tuple[float, float] | None:
    row = track.row(k)
    assert row is not None
    polygon = track.carry(polygon_ref, row)
    box = clip_box(bounding_box(polygon, 2), *frames.size)
    if box is None:
        return None
    x0, y0, x1, y1 = box
    mask = polygon_mask(polygon, x1 - x0, y1 - y0, (x0, y0))
    if mask.sum() < 16:
        return None
    cut = frames[k][y0:y1, x0:x1]
    luminance: ImageF32 = frames.encoding.to_linear(cut)[mask] @ LUMA
    encoded = frames.encoding.to_encoded(cut) @ LUMA
    stops = float(np.log2(max(float(luminance.mean()), LEAST_LIGHT)))
    return stops, 100 * float(grain_sigma(encoded.astype(np.float32), mask))
