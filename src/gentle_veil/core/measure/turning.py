"""Where a surface turns away: what is seen beside it there is behind it, and what it wears ends where it does.

A mesh does not know where its surface ends: on a cheek that turns it goes on over the wall behind. What is behind is
told by its colour on the very frame, and by the reference, which shows another colour at the same place of the surface:
a stripe on a shirt, lips and brows are of the surface's own.
"""

from dataclasses import dataclass
from functools import partial
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box, grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.packed import pack, unpack
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Placement, Site
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.measure.runs import steady_runs
from gentle_veil.core.retouch.membrane import halved
from gentle_veil.core.retouch.rim import behind_the_rim, read_rim
from gentle_veil.core.retouch.surface_colour import OTHER, log_ratios, on_surface, rooted, shows_another
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, Points

AROUND_PX = 32  # that are looked at around a place, to know the surface from what is behind
STEP = 2  # px of the reference to one of its colours that is kept
ALIKE = OTHER / 2  # natural log units between colours of one thing on two frames
SHOWN_MEDIAN_PX, HALF = 6, 0.5
LEAST_LEFT, IN_ONE = 0.75, 0.9  # of a drape, that is its surface; of that, in one piece: a stripe splits it
LEAST_TOLD = 200  # px of the surface that tell how its colour has changed


def turning(frames: FrameSource, track: SurfaceTrack, drape_ref: Points, *, report: Report = silent) -> dict[str, Any]:
    """What is needed to know what is behind a drape's surface, as plain data; ``{}`` where it never turns away.

    Convention: ``own`` (2,) the surface's `log_ratios` on the reference; ``box`` and ``colours`` (h, w, 2) those of all
                around, every STEP px; ``behind`` (h, w) 1 where the reference itself shows what is behind; ``frames`` k
                on which that has come where the surface was
    """
    reference = track.reference_frames[0]
    box = clip_box(bounding_box(drape_ref, AROUND_PX), *frames.size)
    if box is None or track.row(reference) is None:
        return {}
    x0, y0, x1, y1 = box
    img_lin = frames.encoding.to_linear(frames[reference][y0:y1, x0:x1])
    colours = log_ratios(img_lin)
    inside = polygon_mask(drape_ref, x1 - x0, y1 - y0, (x0, y0))
    if not inside.any():
        return {}
    own = np.median(colours[inside], axis=0)
    behind = np.zeros_like(inside)
    if _in_one_piece(on_surface(img_lin, inside, own=own)[0] & inside, inside):
        behind = read_rim(img_lin, inside, own=own).depth <= 0
    known = {
        "own": [round(float(v), 4) for v in own],
        "box": list(box),
        "colours": pack(colours[::STEP, ::STEP].astype(np.float16)),
        "behind": pack(behind[::STEP, ::STEP].astype(np.uint8)),
    }
    seen = [int(k) for k in track.frames if track.seen(int(k))]
    near = []
    for i, k in enumerate(seen):
        report(i, len(seen), f"looking for the surface's rim, frame {k}")
        near.append(_turns(frames, track, drape_ref, known, k))
    steady = steady_runs(near)
    found = [k for k, here in zip(seen, steady, strict=True) if here]
    return {**known, "frames": found} if found else {}


def turning_of(frames: FrameSource, placement: Placement, *, report: Report = silent) -> dict[str, Any]:
    """`turning` of a veil's drape: as it was found for all veils on it, or found now."""
    if placement.turning is not None:
        return placement.turning()
    return turning(frames, placement.track, placement.drape_ref, report=report)


def ending_at_the_rim(
    site: Site, known: dict[str, Any], box: Box, matte: MatteF32, *, at_home: bool = True
) -> MatteF32:
    """A ``matte`` (h, w) of what a surface wears over a box of the frame, without what lies on what is behind it.

    ``known`` is what `turning` found. With ``at_home`` False, what lies over what is behind on the reference stays: it
    is there on purpose.
    """
    if site.k not in known.get("frames", ()):
        return matte
    room = clip_box((box[0] - AROUND_PX, box[1] - AROUND_PX, box[2] + AROUND_PX, box[3] + AROUND_PX), *site.canvas.size)
    assert room is not None
    part = (slice(box[1] - room[1], box[3] - room[1]), slice(box[0] - room[0], box[2] - room[0]))
    worn = np.zeros((room[3] - room[1], room[2] - room[0]), bool)
    worn[part] = matte > 0
    img_lin = site.canvas.original(room)
    colours = log_ratios(img_lin)
    if not shows_another(colours, np.array(known["own"])):
        return matte
    track, row = site.placement.track, site.row
    seen = _Seen(
        colours,
        polygon_mask(track.carry(site.placement.drape_ref, row), worn.shape[1], worn.shape[0], room[:2]),
        track.map_ref_from_frame(row, room),
        at_home,
    )
    rim = read_rim(img_lin, worn, partial(seen.shown, known), np.array(known["own"]))
    share = rim.there if rim.share is None else rim.there * rim.share
    return matte * share[part]


@dataclass(frozen=True)
class _Seen:
    """A part of a frame.

    Convention: ``colours`` (h, w, 2) its `log_ratios`; ``within`` (h, w) the drape; ``on_reference`` (h, w, 2) px;
                ``at_home`` whether what is behind on the reference is behind here, too; ``size`` as in `on_surface`
    """

    colours: ImageF32
    within: MaskBool
    on_reference: np.ndarray
    at_home: bool = True
    size: float = 1.0

    def shown(self, known: dict[str, Any], doubtful: MaskBool) -> MaskBool:
        """Which of the ``doubtful`` places (h, w) are the surface's own."""
        change = self.colours - _kept(known, "colours", self.on_reference)
        told = self.within & ~grown(doubtful, 2)
        if told.sum() > LEAST_TOLD * self.size**2:
            change = change - np.median(change[told], axis=0)
        alike = np.hypot(change[..., 0], change[..., 1]) < ALIKE
        if self.at_home:
            alike &= _kept(known, "behind", self.on_reference) < 0.5
        median_px = 2 * round(SHOWN_MEDIAN_PX * self.size / 2) + 1
        alike = cv2.medianBlur(alike.astype(np.uint8), median_px) > 0
        # A wall looks as it did on the reference, too; but between it and the drape something has come that does not.
        own = doubtful & rooted(alike, self.within)
        # What is behind goes on beyond the drape: a gloss or a shade within it does not.
        return own | (doubtful & ~rooted(doubtful & ~own, ~self.within))


def _in_one_piece(surface: MaskBool, inside: MaskBool) -> bool:
    """Whether what has the surface's colour within a drape is most of it, and hangs together: then what has not is at
    its edge, and no stripe of it."""
    _, _, stats, _ = cv2.connectedComponentsWithStats(surface.astype(np.uint8))
    largest = int(stats[1:, cv2.CC_STAT_AREA].max(initial=0))
    return bool(surface.sum() >= LEAST_LEFT * inside.sum() and largest >= IN_ONE * surface.sum())


def _turns(frames: FrameSource, track: SurfaceTrack, drape_ref: Points, known: dict[str, Any], k: int) -> bool:
    """Whether frame ``k`` shows what is behind where the surface was on the reference."""
    row = track.row(k)
    assert row is not None
    drape = track.carry(drape_ref, row)
    box = clip_box(bounding_box(drape, AROUND_PX), *frames.size)
    if box is None:
        return False
    x0, y0, x1, y1 = box
    small = halved(frames.encoding.to_linear(frames[k][y0:y1, x0:x1]))
    colours = log_ratios(small, HALF)
    if not shows_another(colours, np.array(known["own"]), HALF):
        return False
    height, width = small.shape[:2]
    inside = polygon_mask((drape - (x0, y0) - 0.5) * HALF, width, height)
    if not inside.any():
        return False
    where = track.map_ref_from_frame(row, box)[::2, ::2][:height, :width] + 0.5
    seen = _Seen(colours, inside, where, size=HALF)
    return bool(
        (inside & behind_the_rim(small, inside, partial(seen.shown, known), np.array(known["own"]), HALF)).any()
    )


def _kept(known: dict[str, Any], name: str, where: np.ndarray) -> ImageF32:
    """What is kept of the reference at places (h, w, 2) of it; beyond that, what is at its edge."""
    x, y = (np.ascontiguousarray((where[..., i] - known["box"][i]) / STEP, np.float32) for i in (0, 1))
    field = unpack(known[name]).astype(np.float32)
    return np.asarray(cv2.remap(field, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))
