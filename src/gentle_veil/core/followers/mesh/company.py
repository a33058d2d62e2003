"""Where the region is while it cannot be told by itself: where what goes with it goes, and where it looks like itself.

The mesh is anchored to the reference wherever it is seen. While something passes in front, the points around it carry
it on (`motion.company`), and on every frame the neighbourhood of that place is searched for what the region looked
like of late.
"""

import cv2
import numpy as np

from gentle_veil.core.followers.mesh.searching import by_parts, whole
from gentle_veil.core.followers.plane.plane import PlaneRun
from gentle_veil.core.motion.company import Company
from gentle_veil.core.motion.mesh_registration import STEP, MeshRegistration
from gentle_veil.core.motion.pyramid import VOID_FROM, GreyPyramid
from gentle_veil.core.motion.ranks import middle, ranked
from gentle_veil.core.types import ImageF32, Matrix, Points

SAMPLED = 4  # every so many lattice points tell the motion of the whole
TOLD_FRAMES, ALONE_MISSES = 15, 0.3  # hidden frames; of a usual miss, by which the place is less sure each frame
MOST_ALONE = 40  # frames without all of the region, after which its company is asked no more
FIRST_MISS_PX, LEAST_MISS_PX, OF_LATE, MOST = 1.0, 0.4, 0.1, 0.9
LOYAL = 0.38
NEAR_PX, NEAR_PER_FRAME = 3.0, 0.2  # from where the company has it, and how much further for each hidden frame
FAR_TIMES = 4.0  # that, from which it is nowhere near
SEEK_PX, SEEK_PER_FRAME, MOST_SEEK_PX = 16.0, 2.0, 64.0
FINER, FINER_REACH = 2, 7  # further searches around what was found, and their reach in lattice points
LOOK_MARGIN = 8  # px around what is searched


class Accompanied:
    """A region's place by its company, on one frame after the other.

    ``place`` (2, h, w) is its displacement on the frame of the last `go`: as before where no company is left, so far
    ``trusted`` as company has been with it all the time since it was seen
    """

    def __init__(self, plane: PlaneRun, registration: MeshRegistration) -> None:
        self.registration = registration
        self.company = Company(plane.eight_bit, plane.frames.size)
        at = np.rint((plane.polygon - (registration.lattice.xs[0], registration.lattice.ys[0])) / STEP).astype(int)
        rows, columns = registration.shape
        self.rim = np.clip(at[:, 1], 0, rows - 1), np.clip(at[:, 0], 0, columns - 1)
        self.some = np.nonzero(registration.held[::SAMPLED, ::SAMPLED] > 0.5)
        self.place: ImageF32 = np.zeros((2, rows, columns), np.float32)
        self.forget()

    def forget(self) -> None:
        """Begin anew, on any frame."""
        self.company.forget()
        self.trusted = False
        self.misses = FIRST_MISS_PX  # by how much the company foretold most of the region wrongly of late
        self.told = 0  # times that loyalty was told
        self.loyalty = 0.0  # share of all that is around the region that went with it of late
        self.since = 0  # frames since all of it was last seen
        self.alone: ImageF32 | None = None  # where the company alone has taken it since then

    def go(self, before: int, k: int, displacement: ImageF32, *, seen: bool) -> None:
        """From frame ``before``, where the region was (2, h, w) and was ``seen`` or not, to frame k."""
        ys, xs = self.rim
        outline = (self.registration.base + displacement)[:, ys, xs].T.astype(np.float64)
        self.company.step(before, k, outline)
        moved = self.company.motion()
        if not self.trusted:
            self.alone = None  # where it went while nothing told that this is right
        self.trusted = (self.trusted or seen) and moved is not None and self.since < MOST_ALONE
        self.place = self._moved(displacement, moved)
        self.alone = self._moved(displacement if self.alone is None else self.alone, moved)
        self.since += 1

    def learn(self, before: ImageF32 | None, now: ImageF32 | None, *, whole: bool, undisturbed: bool) -> None:
        """After the frame was followed: the displacements if the region was seen on both frames, whether all of it was
        seen on this one, and whether it is as ``undisturbed`` as usual: what passes brings points of its own."""
        self.company.learn(None if before is None or now is None else self._affine(before, now))
        if now is not None and before is not None and whole and self.trusted:
            away = np.hypot(*(now - self.place))[self.registration.held > 0.5]
            self.misses += OF_LATE * (ranked(away, MOST)[0] - self.misses)
            if undisturbed and (loyalty := self.company.loyalty) is not None:
                self.told += 1
                self.loyalty += max(OF_LATE, 1 / self.told) * (loyalty - self.loyalty)
        if whole:
            self.since, self.alone = 0, None

    def near(self, displacement: ImageF32) -> bool:
        """Whether a displacement is where the company has taken the region since all of it was seen."""
        return self.trusted and self._off(displacement) < 1

    def far(self, displacement: ImageF32) -> bool:
        """Whether a displacement is nowhere near there: of what repeats itself, another piece."""
        return self.trusted and self._off(displacement) > FAR_TIMES

    def _off(self, displacement: ImageF32) -> float:
        """How far a displacement is from where the company alone has taken the region, by what that may be off; NaN
        where it has taken it nowhere."""
        if self.alone is None:
            return np.nan
        off = np.abs((displacement - self.alone)[:, self.registration.held > 0.5]).sum(axis=0)
        return middle(off) / (NEAR_PX + (NEAR_PER_FRAME + self.misses) * self.since)

    @property
    def judges(self) -> bool:
        """Whether most of what is around goes with the region: what leaves such a company has been carried off."""
        return self.trusted and self.loyalty >= LOYAL

    def tells(self, hidden: float) -> bool:
        """Whether the place is known by the company alone, after so many ``hidden`` frames."""
        return self.judges and hidden <= TOLD_FRAMES

    def error_px(self) -> float:
        """How far off the place may be that the company alone has."""
        return self.misses + (NEAR_PER_FRAME + ALONE_MISSES * self.misses) * self.since

    def likely(self) -> ImageF32:
        """Where the region is if nothing tells it but its company, (2, h, w)."""
        return self.alone if self.trusted and self.alone is not None else self.place

    def strayed(self, displacement: ImageF32) -> ImageF32:
        """Over the cells, how far (px) a displacement has left the company beyond what that may be wrong by."""
        r = self.registration
        away: ImageF32 = np.hypot(*(r.coarse(d) for d in displacement - self.likely()))
        return away - np.float32((NEAR_PER_FRAME + self.misses) * self.since)

    def away(self, displacement: ImageF32) -> ImageF32:
        """Over the cells, how many times further (px) a displacement is from where the company has taken the region
        from the frame before than that is usually wrong by."""
        r = self.registration
        away: ImageF32 = np.hypot(*(r.coarse(d) for d in displacement - self.place))
        return away / np.float32(max(self.misses, LEAST_MISS_PX))

    def _moved(self, displacement: ImageF32, moved: Matrix | None) -> ImageF32:
        if moved is None:
            return displacement
        here = self.registration.base + displacement
        there = np.tensordot(moved[:, :2], here, axes=1) + moved[:, 2, None, None]
        return (there - self.registration.base).astype(np.float32)

    def box(self, hidden: float) -> tuple[Points, int]:
        """The lattice places (N, 2) in frame px that a search has to see, and its reach in lattice points."""
        reach = int(min(SEEK_PX + SEEK_PER_FRAME * hidden, MOST_SEEK_PX) // STEP)
        places = self._search_places(self._affine_of(self.place), reach)
        return places[:, ::SAMPLED, ::SAMPLED].reshape(2, -1).T.astype(np.float64), reach

    def sought(self, pyramid: GreyPyramid, picture: ImageF32, reach: int) -> list[ImageF32]:
        """Displacements (2, h, w) at which the frame looks most like the ``picture`` (h, w) of the coarse level.

        The search is under the affine motion that the company has it at; part by part it finds a nearer one
        """
        held, affine = self.registration.held, self._affine_of(self.place)
        scene = self._scene(pyramid, affine, reach)
        shifts = [np.array(shift, np.float32)[:, None, None] for shift in whole(scene, picture, held)]
        guesses = [_shifted(self.place, affine, shift) for shift in shifts]
        bent = by_parts(scene, picture, held)
        if bent is not None:
            guesses.append(_shifted(self.place, affine, bent))
            for _ in range(FINER):
                affine = self._affine_of(guesses[-1])
                bent = by_parts(self._scene(pyramid, affine, FINER_REACH), picture, held)
                assert bent is not None
                guesses[-1] = _shifted(guesses[-1], affine, bent)
        return guesses

    def _scene(self, pyramid: GreyPyramid, affine: Matrix, reach: int) -> ImageF32:
        """The frame's coarse picture on the lattice, ``reach`` points wider on all sides, under an affine motion."""
        there = self._search_places(affine, reach)
        x, y = ((there[i] - pyramid.origin[i]) / 2 for i in (0, 1))
        scene = cv2.remap(pyramid.levels[1], x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=0)
        scene[np.abs(scene) > VOID_FROM] = 0
        return scene

    def _search_places(self, affine: Matrix, reach: int) -> ImageF32:
        """The lattice, ``reach`` points wider on all sides, under an affine motion: (2, h, w)."""
        r = self.registration
        columns, rows = (
            places[0] + STEP * np.arange(-reach, count + reach)
            for places, count in ((r.lattice.xs, r.shape[1]), (r.lattice.ys, r.shape[0]))
        )
        at = np.tensordot(affine[:, :2], np.stack(np.meshgrid(columns, rows)).astype(np.float64), axes=1)
        return (at + affine[:, 2, None, None]).astype(np.float32)

    def _affine_of(self, displacement: ImageF32) -> Matrix:
        return self._affine(np.zeros_like(displacement), displacement)

    def _affine(self, before: ImageF32, now: ImageF32) -> Matrix:
        """The affine motion (2, 3), in frame px, from one displacement to another."""
        ys, xs = self.some
        a, b = (
            (self.registration.base + d)[:, ::SAMPLED, ::SAMPLED][:, ys, xs].T.astype(np.float64) for d in (before, now)
        )
        solution, *_ = np.linalg.lstsq(np.concatenate([a, np.ones((len(a), 1))], axis=1), b, rcond=None)
        return np.asarray(solution.T)


def _shifted(displacement: ImageF32, affine: Matrix, shift: ImageF32) -> ImageF32:
    """A displacement moved by a shift (2, ...) in lattice points, before the affine motion of all of it."""
    linear = (STEP * affine[:, :2]).astype(np.float32)
    return displacement + np.tensordot(linear, shift, axes=1)
