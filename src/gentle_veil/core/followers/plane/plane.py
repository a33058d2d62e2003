"""Follow a region as a plane, each frame registered straight to the reference.

Nothing is chained, so nothing drifts: earlier frames only predict where to start. A frame that does not fit
is searched for, then carried by its neighbours and called `lost`; it never moves the result confidently.
"""

import statistics
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from gentle_veil.core.contracts.follower import Keep, Region, keep_nothing, walked
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import (
    LOST,
    OCCLUDED,
    OK,
    OUTSIDE,
    WEAK,
    SurfaceTrack,
    TrackRow,
    merge_tracks,
    track_from_rows,
)
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.followers.plane.options import PlaneOptions
from gentle_veil.core.followers.plane.renewed import BETTER, DOUBTFUL, Renewed, worth_taking
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.geometry.outline import polygon_mask, signed_area
from gentle_veil.core.motion.channels import telling_weights
from gentle_veil.core.motion.features import KnownFeatures
from gentle_veil.core.motion.inverse_search import InverseSearch
from gentle_veil.core.motion.plane_registration import (
    BLOCKS,
    NEAR_STAGES,
    VERY_NEAR_STAGES,
    Alignment,
    PlaneRegistration,
)
from gentle_veil.core.motion.pyramid import (
    BAND,
    VOID_FROM,
    Band,
    GreyPyramid,
    covered,
    grey,
    grey_pyramid,
)
from gentle_veil.core.motion.ranks import ranked
from gentle_veil.core.types import MaskBool, Matrix, Points

# How far beyond the predicted place a frame is looked at; not less than the local mean reaches (three times
# `pyramid.BAND.shading`), or the crop's edge would tell in the contrast.
SEARCH_PX = 40
NEAR_PX = 12.0
CHAIN_MARGIN = 24  # px around the region for frame-to-frame motion
MIN_PIXELS = 80
LOST_CORRELATION = 0.45
WEAK_CORRELATION = 0.75
LEAST_GAIN = 0.15  # of the reference's contrast: what is fainter is another thing that happens to slope alike
OUTSIDE_SHARE = 0.15
WEAK_SHARE = 0.5
WEAK_ERROR_PX = 1.0
LOST_ERROR_PX = 12.0
BELIEVED_FROM, HIDDEN_PX = 0.5, 6.0  # mean robust weight of a block; expected error where there is none
SIGMA_GROWTH = 2.0  # how much rougher than usual a frame may fit before its scale is bounded
# A prediction that fits this well, or follows one that was off by no more, is refined without the coarsest stages.
NEAR_COST, NEAR_MISS_PX = 0.2, 1.5
VERY_NEAR_MISS_PX = 0.75  # within the reach of the finest level by itself
SEEK_EVERY = 4  # frames that are not seen, between looks for its features
OCCLUDED_INLIERS = 0.45
LOST_GROWTH_PX = 0.4  # expected error added per frame that is only carried
EDGED = np.clip(np.arange(-1, BLOCKS + 1), 0, BLOCKS - 1)  # blocks, the outermost ones twice


@dataclass(frozen=True)
class PlaneStep:
    """One followed frame."""

    frame_from_ref: Matrix
    status: str
    error_px: np.ndarray  # (V,)


class PlaneFollower:
    """See `contracts.follower.Follower`; the registration is `motion.plane_registration`."""

    kind = "plane"
    label = "Plane"
    help = "Moves the region as one flat piece: position, scale, rotation, shear, perspective."
    Options = PlaneOptions

    def estimate(
        self,
        frames: FrameSource,
        region: Region,
        options: PlaneOptions,
        *,
        wanted: Sequence[int],
        known: SurfaceTrack | None = None,
        report: Report = silent,
        keep: Keep = keep_nothing,
    ) -> SurfaceTrack:
        run = PlaneRun(frames, region, options)

        def begin(side: list[int]) -> Callable[[int], PlaneStep]:
            history = run.history(known, region.reference, side)

            def follow(k: int) -> PlaneStep:
                step = run.follow(k, history)
                history.append((k, step.frame_from_ref, step.status))
                return step

            return follow

        def track_of(rows: dict[int, PlaneStep]) -> SurfaceTrack:
            return merge_tracks(known, run.track({region.reference: run.reference_step(), **rows}))

        return walked(region.reference, wanted, begin, track_of, report=report, keep=keep)


# Frames already followed on one side, nearest the reference first: number, map, status.
PlaneHistory = list[tuple[int, Matrix, str]]


class PlaneRun:
    """One region being followed as a plane; other followers begin from it."""

    def __init__(self, frames: FrameSource, region: Region, options: PlaneOptions) -> None:
        self.frames = frames
        self.reference = region.reference
        width, height = frames.size
        polygon = np.asarray(region.polygon, np.float64)
        self.held_out = region.held_out
        mask = self.mask = shown_mask(region, width, height)
        self.features: KnownFeatures | None = None
        if mask.sum() < MIN_PIXELS:
            raise ParameterError(
                f"The outline holds {int(mask.sum())} pixels of the picture; draw it larger, "
                f"around at least {MIN_PIXELS}."
            )
        self.motions = motions = options.motions()
        if not any(motions.values()):
            raise ParameterError("Every motion is switched off; switch on at least Position.")
        extent = np.ptp(polygon, axis=0)
        self.level_count = int(np.clip(np.floor(np.log2(max(extent.min(), 1) / 24)) + 1, 1, 4))
        self.full_scale = frames.encoding.full_scale
        self.weights = telling_weights(frames[self.reference], self.full_scale, mask)
        box = box_around(polygon, SEARCH_PX)
        self.texture, self.refresh = options.texture, options.refresh
        self.registration = PlaneRegistration(self._pyramid(self.reference, box), mask, motions, self.texture)
        self.renewed: Renewed | None = None
        low, high = polygon.min(axis=0), polygon.max(axis=0)
        margin = float(np.clip(0.15 * extent.max(), 8, 64))
        self.spacing = min(options.spacing, float(extent.min()) / 3)
        self.vertices, self.triangles, _ = grid_mesh(
            (low[0] - margin, low[1] - margin, high[0] + margin, high[1] + margin), self.spacing
        )
        self.polygon = polygon
        # Centres of the registration's blocks, with one more row around, and where the vertices lie among them.
        x0, y0, x1, y1 = self.registration.box
        size = np.array([max(x1 - x0, 1.0), max(y1 - y0, 1.0)]) / BLOCKS
        at = np.arange(-1, BLOCKS + 1) + 0.5
        self.error_places = np.stack(np.meshgrid(at, at), axis=-1).reshape(-1, 2) * size + (x0, y0)
        among = np.clip((self.vertices - (x0, y0)) / size + 0.5, 0, BLOCKS + 1).astype(np.float32)
        self.error_map = (among[:, :1].copy(), among[:, 1:].copy())
        self.sigmas: list[float] = []
        self.missed_px = np.inf  # by how much the last prediction was off

    def reference_step(self) -> PlaneStep:
        return PlaneStep(np.eye(3), OK, np.full(len(self.vertices), 0.0))

    def history(self, known: SurfaceTrack | None, reference: int, side: list[int]) -> PlaneHistory:
        """What is known between the reference and the first wanted frame of a side."""
        history: PlaneHistory = [(reference, np.eye(3), OK)]
        self.renewed = None
        if known is None or not side:
            return history
        first = side[0]
        rows = [(int(k), i) for i, k in enumerate(known.frames)]
        between = [(k, i) for k, i in rows if reference < k < first or first < k < reference]
        between.sort(key=lambda item: abs(item[0] - reference))
        for k, i in between:
            history.append((k, known.frame_from_ref(i), str(known.status[i])))
        last, there, status = history[-1]
        if self.refresh and last != reference and status == OK:
            error = np.full(len(self.vertices), known.mean_error(between[-1][1]))
            self.renewed = self._picture_of(last, PlaneStep(there, status, error))
        return history

    def _pyramid(self, k: int, box: tuple[int, int, int, int]) -> GreyPyramid:
        void = k != self.reference
        return self.pyramid(k, self.level_count, box, void=void)

    def pyramid(
        self,
        k: int,
        levels: int,
        box: tuple[int, int, int, int],
        *,
        void: bool = True,
        band: Band = BAND,
        near: Band | None = None,
    ) -> GreyPyramid:
        """A crop of frame ``k`` as this region is followed: in its own mix of channels, what passes marked."""
        given = (self.frames[k], self.full_scale, levels, box, self.held_out(k))
        return grey_pyramid(*given, void=void, band=band, near=near, weights=self.weights)

    def follow(self, k: int, history: PlaneHistory, *, seek: bool = True) -> PlaneStep:
        """Where the region is on frame ``k``; with ``seek`` its features are looked for in all of the picture where it
        is not near by."""
        hypotheses = _predictions(k, history)
        width, height = self.frames.size
        steady = self.missed_px < NEAR_MISS_PX
        boxes = [box_around(apply_homography(h, self.polygon), SEARCH_PX) for h in hypotheses]
        box = (
            max(0, min(b[0] for b in boxes)),
            max(0, min(b[1] for b in boxes)),
            min(width, max(b[2] for b in boxes)),
            min(height, max(b[3] for b in boxes)),
        )
        if box[2] - box[0] < 8 or box[3] - box[1] < 8:
            found = self._search(k, hypotheses[0], None)
            if found is None or not self._good(found) or not self._near(found, hypotheses[0], _gap(history)):
                return self._carried(hypotheses[0], history, OUTSIDE)
            return self._judge(k, found, hypotheses[0], history)
        pyramid = self._pyramid(k, box)
        chosen, near = (0, True) if steady else self._nearest(pyramid, hypotheses)
        start = hypotheses[chosen]
        doubt = 1.0 + _gap(history)
        stages = (VERY_NEAR_STAGES if self.missed_px < VERY_NEAR_MISS_PX else NEAR_STAGES) if near else None
        best = self.registration.align(pyramid, start, self._limit(), stages=stages, doubt=doubt)
        if near and not self._good(best):
            best = _better(best, self.registration.align(pyramid, start, self._limit(), doubt=doubt))
        best, by_renewed = self._by_renewed(pyramid, best, start, doubt)
        self.missed_px = self._apart(start, best.frame_from_ref) if self._good(best) else np.inf
        guess = hypotheses[0]
        if not self._good(best):
            chained = self._chained(k, history)
            # The first frame that is not seen goes on as the surface went; later ones go with the picture.
            guess = guess if chained is None or _gap(history) == 0 else chained
            others = [h for i, h in enumerate(hypotheses) if i != chosen]
            for start in [*others, *([] if chained is None else [chained])]:
                best = _better(best, self.registration.align(pyramid, start, self._limit(), doubt=doubt))
        if not self._good(best):
            found = self._search(k, guess, 2.0 if _gap(history) == 0 else None)
            if found is not None and self._near(found, guess, _gap(history)):
                best = _better(best, found)
        if seek and not self._good(best) and _gap(history) % SEEK_EVERY == 0:
            found = self._found_again(k)
            if found is not None and self._near(found, guess, _gap(history)):
                best = _better(best, found)
        step = self._judge(k, best, guess, history)
        if by_renewed is not None and step.status in (OK, WEAK):
            step = replace(step, error_px=np.hypot(step.error_px, by_renewed.error_px))
        if self.refresh and step.status == OK and worth_taking(best):
            self.renewed = self._picture_of(k, step)
        return step

    def _by_renewed(
        self, pyramid: GreyPyramid, found: Alignment, start: Matrix, doubt: float
    ) -> tuple[Alignment, Renewed | None]:
        """What was found, or what a later picture of the region finds instead, and that picture."""
        if self.renewed is None or found.correlation >= DOUBTFUL:
            return found, None
        later = self.renewed.align(pyramid, start, self._limit(), doubt)
        return (later, self.renewed) if later.correlation > found.correlation + BETTER else (found, None)

    def _picture_of(self, k: int, step: PlaneStep) -> Renewed | None:
        """The region as it looks on a frame; None where too little of it is free."""
        width, height = self.frames.size
        moved = apply_homography(step.frame_from_ref, self.polygon)
        mask = polygon_mask(moved, width, height) & ~covered(self.held_out(k), width, height)
        if mask.sum() < MIN_PIXELS:
            return self.renewed
        pyramid = self._pyramid(k, box_around(moved, SEARCH_PX))
        registration = PlaneRegistration(pyramid, mask, self.motions, self.texture)
        return Renewed(registration, step.frame_from_ref, step.error_px)

    def _nearest(self, pyramid: GreyPyramid, hypotheses: list[Matrix]) -> tuple[int, bool]:
        """Which hypothesis fits best, and whether it is near enough to leave out the coarsest stages."""
        sigma = float(np.median(self.sigmas[-15:])) if self.sigmas else 0.01
        costs = [self.registration.cost(pyramid, h, max(sigma, 0.005)) for h in hypotheses]
        return int(np.argmin(costs)), min(costs) < NEAR_COST

    def _apart(self, a: Matrix, b: Matrix) -> float:
        """How far two maps take the outline apart, in px."""
        return float(np.abs(apply_homography(a, self.polygon) - apply_homography(b, self.polygon)).max())

    def _chained(self, k: int, history: PlaneHistory) -> Matrix | None:
        """Where the motion of the picture from the frame before takes the region: it drifts, but is never far."""
        before, last, _ = history[-1]
        width, height = self.frames.size
        there = apply_homography(last, self.polygon)
        box = clip_box(box_around(there, CHAIN_MARGIN), width, height)
        if box[2] - box[0] < 24 or box[3] - box[1] < 24:
            return None
        a, b = (self.eight_bit(j, box) for j in (before, k))
        flow_before_to_now = InverseSearch(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM).between(a, b)
        mask = polygon_mask(there, box[2] - box[0], box[3] - box[1], (box[0], box[1]))
        ys, xs = np.nonzero(mask)
        if len(xs) < MIN_PIXELS:
            return None
        pick = slice(None, None, max(1, len(xs) // 2000))
        start = np.stack([xs[pick] + box[0], ys[pick] + box[1]], axis=1).astype(np.float64)
        end = start + flow_before_to_now[ys[pick], xs[pick]]
        similarity, _ = cv2.estimateAffinePartial2D(start, end, method=cv2.RANSAC, ransacReprojThreshold=1.0)
        if similarity is None:
            return None
        return self._allowed(similarity, there.mean(axis=0)) @ last

    def _allowed(self, similarity: np.ndarray, about: Points) -> Matrix:
        """A similarity (2, 3) without the motions that are switched off, the same at ``about``."""
        scale, angle = np.hypot(*similarity[:, 0]), np.arctan2(similarity[1, 0], similarity[0, 0])
        scale = scale if self.motions["scale"] else 1.0
        angle = angle if self.motions["rotation"] else 0.0
        moved = similarity[:, :2] @ about + similarity[:, 2] if self.motions["position"] else about
        out = np.eye(3)
        out[:2, :2] = scale * np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        out[:2, 2] = moved - out[:2, :2] @ about
        return out

    def eight_bit(self, k: int, box: tuple[int, int, int, int]) -> np.ndarray:
        x0, y0, x1, y1 = box
        picture = grey(self.frames[k][y0:y1, x0:x1], self.full_scale, self.weights)
        low, high = ranked(picture[::3, ::3], 0.01, 0.99)
        stretch = 255 / max(high - low, 1e-4)
        return cv2.addWeighted(picture, stretch, picture, 0, -stretch * low, dtype=cv2.CV_8U)

    def _near(self, found: Alignment, guess: Matrix, gap: int) -> bool:
        """Whether what was found lies where the region can have got to since it was last seen."""
        centre = self.registration.centre[None]
        step = apply_homography(found.frame_from_ref, centre) - apply_homography(guess, centre)
        return bool(np.linalg.norm(step) <= (0.6 * self.registration.scale + NEAR_PX) * (1 + gap))

    def _limit(self) -> float | None:
        return SIGMA_GROWTH * statistics.median(self.sigmas[-15:]) if len(self.sigmas) >= 3 else None

    def _good(self, alignment: Alignment) -> bool:
        told = alignment.correlation >= WEAK_CORRELATION and alignment.gain >= LEAST_GAIN
        return told and alignment.visible >= OUTSIDE_SHARE

    def _search(self, k: int, predicted: Matrix, reach: float | None) -> Alignment | None:
        """Look for the reference's own picture in a wider part of the frame (None: all of it), then refine."""
        registration = self.registration
        factor = 1 << max(self.level_count - 1, 1)
        centre = apply_homography(predicted, registration.centre[None])[0]
        half = np.ptp(self.polygon, axis=0) / 2
        width, height = self.frames.size
        if reach is None:
            box = (0, 0, width, height)
        elif not np.isfinite(centre).all():
            return None
        else:
            wide = np.minimum(half + SEARCH_PX * reach, max(width, height))
            box = (
                int(max(0, centre[0] - wide[0])),
                int(max(0, centre[1] - wide[1])),
                int(min(width, centre[0] + wide[0])),
                int(min(height, centre[1] + wide[1])),
            )
        if box[2] - box[0] < 2 * factor * 6 or box[3] - box[1] < 2 * factor * 6:
            return None
        pyramid = self.pyramid(k, int(np.log2(factor)) + 1, box)
        scene = np.where(pyramid.levels[-1] < VOID_FROM, pyramid.levels[-1], np.float32(0))
        # The template is the reference under the predicted map, so that turn and scale already agree.
        low, high = self.polygon.min(axis=0), self.polygon.max(axis=0)
        ref_box = (
            int(max(low[0], 0)),
            int(max(low[1], 0)),
            int(min(high[0], width)),
            int(min(high[1], height)),
        )
        ref = self.pyramid(self.reference, int(np.log2(factor)) + 1, ref_box, void=False)
        template = ref.levels[-1]
        if template.shape[0] >= scene.shape[0] or template.shape[1] >= scene.shape[1]:
            return None
        if min(template.shape) < 6 or float(template.std()) < 1e-4:
            return None
        scores = cv2.matchTemplate(scene, template, cv2.TM_CCOEFF_NORMED)
        _, top, _, place = cv2.minMaxLoc(scores)
        if top < LOST_CORRELATION:
            return None
        shift = np.array(place, float) * factor + np.array(pyramid.origin) - np.array(ref.origin)
        start = np.eye(3)
        start[:2, 2] = shift
        full = self._pyramid(k, clip_box(box_around(self.polygon + shift, SEARCH_PX), width, height))
        return registration.align(full, start, self._limit())

    def _found_again(self, k: int) -> Alignment | None:
        """Look for the region by its features in all of the frame: it may have turned, or come nearer."""
        if not all(self.motions.values()):
            return None
        width, height = self.frames.size
        whole = (0, 0, width, height)
        if self.features is None:
            self.features = KnownFeatures(self.eight_bit(self.reference, whole), self.mask)
        picture = self.eight_bit(k, whole)
        picture[covered(self.held_out(k), width, height)] = 0
        start = self.features.frame_from_ref(picture)
        if start is None or not _sound(self.polygon, apply_homography(start, self.polygon)):
            return None
        box = clip_box(box_around(apply_homography(start, self.polygon), SEARCH_PX), width, height)
        if box[2] - box[0] < 16 or box[3] - box[1] < 16:
            return None
        return self.registration.align(self._pyramid(k, box), start, self._limit())

    def _judge(self, k: int, found: Alignment, predicted: Matrix, history: PlaneHistory) -> PlaneStep:
        h = found.frame_from_ref
        moved = apply_homography(h, self.polygon)
        if not np.isfinite(moved).all() or not _sound(self.polygon, moved):
            return self._carried(predicted, history, LOST)
        visible = min(found.visible, 1.0)
        if visible < OUTSIDE_SHARE:
            hidden = _share_inside(moved, self.frames.size) >= OUTSIDE_SHARE and len(self.held_out(k)) > 0
            return self._carried(predicted, history, OCCLUDED if hidden else OUTSIDE)
        error = self._expected_error(found)
        centre_error = float(np.median(error))
        stranger = found.correlation < LOST_CORRELATION or found.gain < LEAST_GAIN
        if stranger or not centre_error < LOST_ERROR_PX:
            return self._carried(predicted, history, LOST)
        if found.inliers < OCCLUDED_INLIERS and found.correlation < WEAK_CORRELATION:
            return self._carried(predicted, history, OCCLUDED)
        weak = found.correlation < WEAK_CORRELATION or centre_error > WEAK_ERROR_PX or visible < WEAK_SHARE
        if not weak:
            self.sigmas.append(found.sigma)
        # Where hardly anything fits, something else is seen: what it says of the place counts for little.
        unbelieved = HIDDEN_PX * np.clip(1 - found.believed / BELIEVED_FROM, 0, 1)
        return PlaneStep(h, WEAK if weak else OK, np.hypot(error, self._at_vertices(unbelieved[np.ix_(EDGED, EDGED)])))

    def _carried(self, predicted: Matrix, history: PlaneHistory, status: str) -> PlaneStep:
        """Not seen on this frame: keep the motion's last known place, and say how unsure that is."""
        h = predicted
        if not np.isfinite(h).all() or not _sound(self.polygon, apply_homography(h, self.polygon)):
            h = history[-1][1]
        if _share_inside(apply_homography(h, self.polygon), self.frames.size) < OUTSIDE_SHARE:
            status = OUTSIDE
        error = 2.0 + LOST_GROWTH_PX * 10 * (_gap(history) + 1)
        return PlaneStep(h, status, np.full(len(self.vertices), error))

    def _expected_error(self, found: Alignment) -> np.ndarray:
        """Expected error per vertex: the fit's own noise and how badly a plane describes the place."""
        if not np.isfinite(found.covariance).all():
            return np.full(len(self.vertices), 99.0)
        # It varies so smoothly that a few places tell it for all vertices.
        jacobian = self.registration.parameter_jacobian(found.frame_from_ref, self.error_places)
        count = len(self.registration.generators)
        root = np.linalg.cholesky(found.covariance + 1e-18 * np.eye(count))
        spread = ((jacobian.reshape(-1, count) @ root) ** 2).reshape(len(self.error_places), -1).sum(axis=1)
        return self._at_vertices(
            np.sqrt(np.maximum(spread, 0.0).reshape(BLOCKS + 2, -1) + found.misfit_px[np.ix_(EDGED, EDGED)] ** 2)
        )

    def _at_vertices(self, blocks: np.ndarray) -> np.ndarray:
        """A field over the blocks and their edges (BLOCKS + 2, BLOCKS + 2) at the vertices, (V,)."""
        there = cv2.remap(blocks.astype(np.float32), *self.error_map, cv2.INTER_LINEAR)
        return there.ravel().astype(np.float64)

    def track(self, rows: dict[int, PlaneStep]) -> SurfaceTrack:
        order = sorted(rows)
        placed = {
            k: TrackRow(apply_homography(r.frame_from_ref, self.vertices), r.error_px, _told(r))
            for k, r in rows.items()
        }
        track = track_from_rows(self.vertices, self.triangles, self.reference, placed)
        return replace(track, homographies=np.stack([rows[k].frame_from_ref for k in order]))


def _told(step: PlaneStep) -> str:
    """The status of a frame; weak, too, where half of the surface may be off by what a weak one is."""
    unsure = step.status == OK and float(np.median(step.error_px)) > WEAK_ERROR_PX
    return WEAK if unsure else step.status


def _predictions(k: int, history: PlaneHistory) -> list[Matrix]:
    """Where the region may be: as on the last frame, and going on as it went."""
    _, last, _ = history[-1]
    if len(history) < 2:
        return [last]
    seen = [h for _, h, status in history if status in (OK, WEAK)]
    # While it cannot be seen it is not sped up any further by its own guesses.
    if history[-1][2] not in (OK, WEAK) or history[-2][2] not in (OK, WEAK):
        return [last, *([seen[-1]] if seen else [])]
    steady = last @ np.linalg.inv(history[-2][1]) @ last
    return [steady / steady[2, 2], last]


def _gap(history: PlaneHistory) -> int:
    """How many frames in a row were not seen, up to now."""
    count = 0
    for _, _, status in reversed(history):
        if status in (OK, WEAK):
            break
        count += 1
    return count


def _better(a: Alignment, b: Alignment) -> Alignment:
    return b if b.correlation * min(b.visible * 4, 1) > a.correlation * min(a.visible * 4, 1) else a


def box_around(points: Points, margin: float) -> tuple[int, int, int, int]:
    """A box (x0, y0, x1, y1) that holds points and a margin; what is not finite does not count."""
    finite = points[np.isfinite(points).all(axis=1)]
    if not len(finite):
        return 0, 0, 0, 0
    low, high = finite.min(axis=0) - margin, finite.max(axis=0) + margin
    low, high = np.clip(low, -1e6, 1e6), np.clip(high, -1e6, 1e6)
    return int(low[0]), int(low[1]), int(high[0]) + 1, int(high[1]) + 1


def clip_box(box: tuple[int, int, int, int], width: int, height: int) -> tuple[int, int, int, int]:
    return max(0, box[0]), max(0, box[1]), min(width, box[2]), min(height, box[3])


def shown_mask(region: Region, width: int, height: int) -> MaskBool:
    """The pixels (height, width) of a region on its reference that nothing passes in front of."""
    mask = polygon_mask(np.asarray(region.polygon, np.float64), width, height)
    passing = region.held_out(region.reference)
    return mask & ~covered(passing, width, height) if len(passing) else mask


def _sound(polygon: Points, moved: Points) -> bool:
    """A real surface does not turn over, nor shrink or grow beyond reason."""
    ratio = signed_area(moved) / signed_area(polygon)
    return bool(np.isfinite(ratio) and 0.04 < ratio < 25.0)


def _share_inside(points: Points, size: tuple[int, int]) -> float:
    inside = (points >= 0).all(axis=1) & (points[:, 0] < size[0]) & (points[:, 1] < size[1])
    return float(inside.mean())
