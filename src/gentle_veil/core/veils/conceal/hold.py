"""Hold on to the mark: small steps that keep the veil on its mark where the drape slips under it.

A mark is what stands out most on its piece of skin, so it can be found again within a few pixels of where the
drape says it is, far more surely than the plain skin around it. Yet a drape that is sure of its place is as a rule
right to a part of a pixel: it is left only where the mark looks just as it should, or far more so than where the drape
has it. Where the mark cannot be found (covered, blurred away), the steps of the frames around it are used. Where the
drape is hardly sure of its place, or lost it, because something passes, the mark is looked for further away; where it
is surely found there, it alone carries its veil. And where it is surely seen, nothing is in front of it, whatever was
found to pass.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

import numpy as np

from gentle_veil.core.composite.in_front import hidden_at
from gentle_veil.core.composite.matte import Box, grown
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import error_from_confidence
from gentle_veil.core.contracts.veil import Front, Placement, Site, nothing_in_front
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.types import MatteF32, Points
from gentle_veil.core.veils.conceal.sought import SURELY, Behind, Found, Mark, find, unwrapped

MARGIN = 5  # px of skin around the mark that are compared too
LARGEST_MARK = 160  # px; a larger mark is a surface of its own, and the drape knows it better
REACH_LEAST, REACH_MOST = 6, 14  # px searched around the drape's place
SURE = 0.6  # correlation from which a place is believed
FAR_COST = 0.015  # correlation that one px of distance must win
JUST_ALIKE = (0.86, 0.94)  # correlation from which a place is taken for a little, and for all, against a sure drape's
FAR_MORE_ALIKE = (0.4, 0.5)  # natural log by which less is left unlike there, from which it is, too
LEAST_UNLIKE = 1e-6  # share of what varies
SMOOTHING, TRUST_SMOOTHING = 1.2, 6.0  # frames
LOOSE_PX = 3.0  # expected error of the drape from which its place says little
FAR_REACH_TIMES, FAR_REACH_MOST = 3.0, 40.0  # of the expected error; px: how far the mark is looked for then
LIKE_FRAMES, SHAPED_FRAMES = 36, 6  # frames between which a mark looks alike; and its surface lies alike


@dataclass(frozen=True)
class Held:
    """``steps``: frame number k -> step (x, y) in px of it, from where the drape carries the mark to where that is.
    ``alone``: frames on which the drape is not seen, but the mark is; ``bare``: those on which something was found to
    pass in front of the mark, or the drape is hardly sure, and the mark is seen all the same. ``shaped_as``: frame
    number k -> another, on which the surface lies as it should on this one, but for the step."""

    steps: dict[str, list[float]] = field(default_factory=dict)
    shaped_as: dict[str, int] = field(default_factory=dict)
    alone: list[int] = field(default_factory=list)
    bare: list[int] = field(default_factory=list)

    def placed(self, placement: Placement) -> Placement:
        """A placement whose surface is where its mark is."""
        return replace(placement, track=placement.track.moved(self.steps, self.shaped_as)) if self.steps else placement


def held_site(site: Site, prepared: Mapping[str, Any]) -> Site:
    """A site whose surface is where its mark is, on its own frame, those beside it, and those that have plates."""
    track, shaped_as = site.placement.track, prepared["shaped_as"]
    if not prepared["steps"]:
        return site
    needed = [site.k - 1, site.k, site.k + 1, *map(int, prepared.get("plates", ())), *track.reference_frames]
    needed += [shaped_as[str(k)] for k in needed if str(k) in shaped_as]
    track = track.only(np.isin(track.frames, needed)).moved(prepared["steps"], shaped_as)
    row = track.row(site.k)
    assert row is not None
    return replace(site, placement=replace(site.placement, track=track), row=row)


def hold_steps(frames: FrameSource, placement: Placement, *, report: Report = silent) -> Held:
    """Where the mark is on all frames.

    Nothing where the mark does not stand out enough, or is too large to need it.
    """
    polygon, track = placement.polygon_ref, placement.track
    size = float(np.ptp(polygon, axis=0).max())
    reference = track.reference_frames[0]
    if size > LARGEST_MARK or track.row(reference) is None:
        return Held()
    box = bounding_box(polygon, MARGIN)
    template = unwrapped(frames, track, reference, box, drawn=True)
    if template.std() < 1e-4:
        return Held()
    mark = Mark(template, _near(polygon, box), box, drawn=True)
    behind = lru_cache(maxsize=2)(Behind.of(frames, placement))  # a mark is looked for as on several frames
    numbers = [int(k) for k in track.frames]
    seen = np.array([track.seen(k) for k in numbers])
    wide = np.array([_far_reach(placement, k) for k in numbers])
    reach = [_reach(placement, row, size) for row in range(len(numbers))]
    passed = np.array([_passed_by(placement, k, box) for k in numbers])
    free = seen & (wide == 0) & ~passed
    steps, sure, trusted = np.zeros((len(numbers), 2)), np.zeros(len(numbers)), np.zeros(len(numbers))
    for i in np.flatnonzero(free):
        report(int(i), len(numbers), f"holding on to the mark, frame {numbers[i]}")
        found = find(frames, track, numbers[i], mark, (reach[i], FAR_COST), behind=behind)
        steps[i], sure[i], trusted[i] = found.step, found.alike, _trusted(found)
    believed = sure >= SURE
    if not free.any() or believed[free].mean() < 0.3:
        return Held()
    weights = np.where(believed, sure, 0.0)
    steps *= _smoothed(np.array(numbers), trusted[:, None], weights, TRUST_SMOOTHING)
    steps = _smoothed(np.array(numbers), steps, weights, SMOOTHING)
    steps[numbers.index(reference)] = 0.0
    again = _Again(frames, placement, box, numbers, steps, sure, passed, behind)
    for i in np.flatnonzero(~free):
        far = max(reach[i], int(wide[i]))
        again.as_carried(int(i), np.flatnonzero(believed), (far, FAR_COST * reach[i] / far))
    known = np.flatnonzero(sure >= SURE)
    for i in np.flatnonzero(~free & (sure < SURELY)):
        again.as_beside(int(i), known)
    bare = ~free & (sure >= SURELY)
    return Held(
        {str(numbers[i]): [round(float(v), 3) for v in steps[i]] for i in np.flatnonzero(seen | bare)},
        again.shaped_as,
        [numbers[i] for i in np.flatnonzero(bare & ~seen)],
        [numbers[i] for i in np.flatnonzero(bare)],
    )


@dataclass(frozen=True)
class _Again:
    """A mark looked for on frames whose drape says little: what one's drape is off by says nothing of its neighbours.

    ``numbers`` are the frames of the track's rows; ``passed`` (rows,) tells where something passes, and ``behind`` what
    is behind the surface; what is found is written to ``steps`` (rows, 2), ``sure`` (rows,) and ``shaped_as``
    """

    frames: FrameSource
    placement: Placement
    box: Box
    numbers: list[int]
    steps: np.ndarray
    sure: np.ndarray
    passed: np.ndarray
    behind: Front
    shaped_as: dict[str, int] = field(default_factory=dict)

    def as_carried(self, i: int, known: np.ndarray, search: tuple[int, float]) -> None:
        """Where the drape carries it on row i, as it looked on ``known`` rows beside it."""
        track, k = self.placement.track, self.numbers[i]
        for j in _beside(self.numbers, known, i, LIKE_FRAMES):
            found = find(self.frames, track, k, self._look(j), search, surely=True, behind=self._behind(i))
            if found.alike > self.sure[i]:
                self.steps[i], self.sure[i] = found.step, found.alike

    def as_beside(self, i: int, known: np.ndarray) -> None:
        """Shaped as on one of the ``known`` rows beside row i: beside a rim a surface may be squeezed, or folded."""
        track, k = self.placement.track, self.numbers[i]
        for j in _beside(self.numbers, known, i, SHAPED_FRAMES):
            by, other = self.steps[j] + np.median(track.positions[i] - track.positions[j], axis=0), self.numbers[j]
            there = track.moved({str(k): by}, {str(k): other})
            search = (REACH_MOST, FAR_COST)
            found = find(self.frames, there, k, self._look(j), search, surely=True, behind=self._behind(i))
            if found.alike > self.sure[i]:
                self.steps[i], self.sure[i], self.shaped_as[str(k)] = by + found.step, found.alike, other

    def _behind(self, i: int) -> Front:
        # What passes has another colour, too; a mark that it half hides must not count as bare.
        return nothing_in_front if self.passed[i] else self.behind

    def _look(self, j: int) -> Mark:
        look = unwrapped(self.frames, self.placement.track, self.numbers[j], self.box, self.steps[j])
        return Mark(look, _near(self.placement.polygon_ref, self.box), self.box)


def _trusted(found: Found) -> float:
    """How much of the step to where a mark was found is taken, 0 to 1, where the drape is sure of its own place."""
    unlike = [max(1 - max(alike, 0.0) ** 2, LEAST_UNLIKE) for alike in (found.at_drape, found.alike)]
    more_alike = np.log(unlike[0] / unlike[1])
    return float(max(np.interp(found.alike, JUST_ALIKE, (0, 1)), np.interp(more_alike, FAR_MORE_ALIKE, (0, 1))))


def _near(polygon: Points, box: Box) -> MatteF32:
    """A mark and the skin next to it, over a box of the reference, (h, w) 1 or 0."""
    x0, y0, x1, y1 = box
    return grown(polygon_mask(polygon, x1 - x0, y1 - y0, (x0, y0)), MARGIN - 1).astype(np.float32)


def _beside(numbers: list[int], known: np.ndarray, i: int, within: int) -> list[int]:
    """The nearest of some rising rows on both sides of row i, not many frames away: the mark looks there as it does
    here. ``numbers`` are the rows' frames."""
    at = int(np.searchsorted(known, i))
    beside = [int(known[j]) for j in (at - 1, at) if 0 <= j < len(known)]
    return [j for j in beside if abs(numbers[j] - numbers[i]) <= within]


def _reach(placement: Placement, row: int, size: float) -> int:
    """Frame px around the drape's place in which a mark of some ``size`` on the reference is looked for."""
    scale = placement.track.scale_at(placement.polygon_ref.mean(axis=0), row)
    return int(np.clip(0.5 * size * scale, REACH_LEAST, REACH_MOST))


def _far_reach(placement: Placement, k: int) -> float:
    """Frame px around the drape's place in which the mark may be where the drape hardly knows; 0 where it does."""
    row = placement.track.row(k)
    assert row is not None
    middle = placement.polygon_ref.mean(axis=0)
    error = float(error_from_confidence(placement.track.carry_confidence(middle, row))[0])
    if error < LOOSE_PX and placement.track.seen(k):
        return 0.0
    return float(min(FAR_REACH_TIMES * error, FAR_REACH_MOST))


def _passed_by(placement: Placement, k: int, box: Box) -> bool:
    """Whether something lies in front of a box of the reference: its edge would be taken for the mark."""
    row = placement.track.row(k)
    assert row is not None
    return hidden_at(placement.front, k, placement.track.map_frame_from_ref(row, box)) is not None


def _smoothed(numbers: np.ndarray, values: np.ndarray, weights: np.ndarray, narrowest: float) -> np.ndarray:
    """Weighted Gaussian over time (T, n), of so many frames; it widens until believed frames are in reach."""
    out = np.zeros_like(values)
    for i, k in enumerate(numbers):
        width = narrowest
        while True:
            kernel = weights * np.exp(-0.5 * ((numbers - k) / width) ** 2)
            if kernel.sum() > 0.3 or width > 200:
                break
            width *= 2
        total = kernel.sum()
        out[i] = (kernel[:, None] * values).sum(axis=0) / total if total > 0 else 0.0
    return out
