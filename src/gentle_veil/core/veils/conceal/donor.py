"""Find the place near a mark whose skin can best take its place, and say why.

Every candidate step is judged on the reference frame first, the best few on frames from all over the shot: how
well a smooth gain makes its surroundings equal those of the mark (tone and light gradient), whether its texture
is as strong, and whether it holds a mark of its own.
"""

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.in_front import hidden_at
from gentle_veil.core.composite.matte import grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.geometry.outline import polygon_mask
from gentle_veil.core.motion.sampling import homography_map, sample_cubic
from gentle_veil.core.retouch.light import fit_light
from gentle_veil.core.types import ImageF32, MaskBool, Points
from gentle_veil.core.veils.conceal.surround import FRONT_EDGE

HIDDEN_PENALTY = 4.0  # for a donor that cannot be seen on a frame: others stand in for it there
OUTSIDE_PENALTY = 1.5  # for a donor that leaves the followed outline: the track is only extrapolated there


@dataclass(frozen=True)
class DonorSearch:
    """How widely and finely is looked: distances in mark sizes, angles, and frames besides the reference."""

    nearest: float = 1.15
    farthest: float = 3.2
    rings: int = 7
    angles: int = 24
    kept: int = 12
    frames: int = 6


@dataclass
class _Candidate:
    step: np.ndarray
    outside: float  # share outside the outline
    tone: float  # percent, misfit of the surroundings after the light match
    gain: float  # percent, how far the light had to be moved
    texture: float  # ratio of fine contrast, donor to surroundings
    mark: float  # percent, strongest smooth deviation inside the donor
    distance: float

    def cost(self) -> float:
        return (
            self.tone
            + 0.25 * self.gain
            + 3.0 * abs(float(np.log(max(self.texture, 1e-3))))
            + 1.0 * self.mark
            + 0.006 * self.distance
            + OUTSIDE_PENALTY * self.outside
        )

    def why(self) -> str:
        place = "inside the outline" if self.outside < 0.02 else f"{100 * self.outside:.0f} % beyond the outline"
        return (
            f"{self.distance:.0f} px away, {place}: tone differs by {self.gain:.1f} % before and {self.tone:.1f} % "
            f"after the light match, texture {self.texture:.2f} times as strong, "
            f"unevenness inside {self.mark:.1f} %."
        )


def find_donor(
    frames: FrameSource, placement: Placement, search: DonorSearch, *, report: Report = silent
) -> dict[str, Any]:
    """The best step from the mark to clean skin, as ``{"donor": [dx, dy], "why": str, "others": [...]}``.

    Convention:  steps in px on the reference frame
    Raises:      ParameterError when nothing near by lies in the picture
    """
    track = placement.track
    reference = track.reference_frames[0]
    polygon = placement.polygon_ref
    centre = polygon.mean(axis=0)
    size = float(np.ptp(polygon, axis=0).max())
    window = _Window.around(polygon, size)
    candidates = []
    steps = _steps(size, search)
    report(0, len(steps) + search.kept, "looking for clean skin")
    ref_view = _view(frames, placement, reference, centre, size * (search.farthest + 2))
    forbidden = _forbidden(placement, ref_view)
    for step in steps:
        candidate = _judge(ref_view, window, placement, centre, step, forbidden)
        if candidate is not None:
            candidates.append(candidate)
    if not candidates:
        raise ParameterError(
            "No clean skin was found near the mark: it fills the picture or lies at its edge. "
            "Place the donor by hand, or draw the mark smaller."
        )
    candidates.sort(key=_Candidate.cost)
    best = candidates[: search.kept]
    totals = np.array([c.cost() for c in best])
    counts = np.ones(len(best))
    for k in _spread_frames(placement, reference, search.frames):
        view = _view(frames, placement, k, centre, size * (search.farthest + 2))
        for i, candidate in enumerate(best):
            again = _judge(view, window, placement, centre, candidate.step, forbidden)
            totals[i] += candidate.cost() + HIDDEN_PENALTY if again is None else again.cost()
            counts[i] += 1
        report(len(steps), len(steps) + search.kept, f"comparing on frame {k}")
    order = np.argsort(totals / counts)
    return {
        "donor": [round(float(v), 2) for v in best[order[0]].step],
        "why": best[order[0]].why(),
        "others": [[round(float(v), 2) for v in best[i].step] for i in order[1:6]],
    }


def _steps(size: float, search: DonorSearch) -> list[np.ndarray]:
    radii = np.linspace(search.nearest, search.farthest, search.rings) * max(size, 6.0)
    turns = np.arange(search.angles) * 2 * np.pi / search.angles
    return [np.array([r * np.cos(a), r * np.sin(a)]) for r in radii for a in turns]


@dataclass(frozen=True)
class _Window:
    """The mark and the ring around it, as masks over a square whose centre is the mark's."""

    half: int
    inside: MaskBool
    ring: MaskBool

    @staticmethod
    def around(polygon: Points, size: float) -> "_Window":
        ring = float(np.clip(0.3 * size, 5, 24)) + 3
        half = int(np.ceil(size / 2 + ring)) + 1
        side = 2 * half + 1
        mask = polygon_mask(polygon, side, side, tuple(polygon.mean(axis=0) - half))
        return _Window(half, mask, grown(mask, int(ring)) & ~grown(mask, 3))


@dataclass(frozen=True)
class _View:
    """Part of a frame, warped so that the surface stands as on the reference."""

    img_lin: ImageF32
    smooth: ImageF32  # log light without grain and pores
    fine: ImageF32  # log light, what is left
    origin: np.ndarray  # reference px of [0, 0]
    valid: MaskBool


def _view(frames: FrameSource, placement: Placement, k: int, centre: np.ndarray, reach: float) -> _View:
    x0, y0 = (int(v) for v in np.floor(centre - reach))
    x1, y1 = (int(v) for v in np.ceil(centre + reach))
    row = placement.track.row(k)
    width, height = frames.size
    if row is None or k == placement.track.reference_frames[0]:
        where = homography_map(np.eye(3), x0, y0, x1 - x0, y1 - y0)
    else:
        where = placement.track.map_frame_from_ref(row, (x0, y0, x1, y1))
    img_lin = sample_cubic(frames.encoding.to_linear(frames[k]), where)
    valid = (where >= 0).all(axis=-1) & (where[..., 0] <= width - 1) & (where[..., 1] <= height - 1)
    hidden = hidden_at(placement.front, k, where)
    if hidden is not None:
        valid &= ~grown(hidden > 0, FRONT_EDGE)
    log = np.log(np.maximum(img_lin, 2e-3))
    smooth = cv2.GaussianBlur(log, (0, 0), 2.5)
    return _View(img_lin, smooth, log - smooth, np.array([x0, y0]), valid)


def _forbidden(placement: Placement, view: _View) -> MaskBool:
    """Pixels of the view that hold the mark itself or another one."""
    h, w = view.valid.shape
    mask = np.zeros((h, w), bool)
    for polygon in (placement.polygon_ref, *placement.marks_ref):
        mask |= polygon_mask(polygon, w, h, tuple(view.origin))
    return grown(mask, 2)


def _cut(picture: np.ndarray, corner: np.ndarray, side: int) -> np.ndarray | None:
    x, y = corner
    if x < 0 or y < 0 or x + side > picture.shape[1] or y + side > picture.shape[0]:
        return None
    return picture[y : y + side, x : x + side]


def _judge(
    view: _View,
    window: _Window,
    placement: Placement,
    centre: np.ndarray,
    step: np.ndarray,
    forbidden: MaskBool,
) -> _Candidate | None:
    side = 2 * window.half + 1
    here = np.rint(centre - window.half - view.origin).astype(int)
    there = np.rint(centre + step - window.half - view.origin).astype(int)
    valid = _cut(view.valid, there, side)
    blocked = _cut(forbidden, there, side)
    if valid is None or blocked is None or not valid[window.inside].all() or blocked[window.inside].any():
        return None
    ring = window.ring & valid & ~blocked & view.valid[here[1] : here[1] + side, here[0] : here[0] + side]
    target, donor = _cut(view.img_lin, here, side), _cut(view.img_lin, there, side)
    if target is None or donor is None or ring.sum() < 24:
        return None
    field = fit_light(target, donor, ring)
    gain = field.log_gain(side, side)
    here_at = (slice(here[1], here[1] + side), slice(here[0], here[0] + side))
    there_at = (slice(there[1], there[1] + side), slice(there[0], there[0] + side))
    smooth_here, smooth_there = view.smooth[here_at], view.smooth[there_at]
    fine_here, fine_there = view.fine[here_at], view.fine[there_at]
    misfit = np.abs((smooth_here - smooth_there - gain)[ring])
    inner = smooth_there[window.inside]
    # A mark stands off the plane through its own surroundings; the weakest channel of light shows it best.
    ys, xs = np.nonzero(window.inside)
    plane = np.stack([np.ones_like(xs), xs, ys], axis=1).astype(np.float64)
    around_y, around_x = np.nonzero(window.ring & valid)
    around = np.stack([np.ones_like(around_x), around_x, around_y], axis=1).astype(np.float64)
    fitted, *_ = np.linalg.lstsq(around, smooth_there[around_y, around_x], rcond=None)
    bump = float(np.percentile(np.abs(inner - plane @ fitted), 95))
    polygon = placement.drape_ref
    drape = polygon_mask(polygon, side, side, tuple(np.rint(centre + step - window.half)))
    return _Candidate(
        step=np.rint(step),
        outside=float(1 - drape[window.inside].mean()),
        tone=100 * float(np.median(misfit) + 0.3 * np.percentile(misfit, 90)),
        gain=100 * float(np.abs(gain[window.inside]).mean()),
        texture=float(fine_there[window.inside].std() / max(fine_here[ring].std(), 1e-5)),
        mark=100 * bump,
        distance=float(np.linalg.norm(step)),
    )


def _spread_frames(placement: Placement, reference: int, count: int) -> list[int]:
    seen = [int(k) for k in placement.track.frames if placement.track.seen(int(k)) and int(k) != reference]
    if not seen:
        return []
    picks = np.unique(np.linspace(0, len(seen) - 1, min(count, len(seen))).round().astype(int))
    return [seen[i] for i in picks]
