"""Parts that were hidden are found again from what is seen beside them, ring by ring.

What was hidden comes back where nobody saw it go: farther off than a frame's motion, beside skin that is known to a
hundredth. A surface is whole, so a part lies near where its neighbours, carried on as a plane, lead; there it is looked
for by its own picture. What is found leads to the next ring. Beyond what still hides it, it is looked for farther
around and must be told better. What passes in front does not look like the surface just there.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.motion.mesh_registration import STEP, MeshRegistration
from gentle_veil.core.motion.pyramid import VOID, VOID_FROM, GreyPyramid
from gentle_veil.core.motion.ranks import middle
from gentle_veil.core.types import ImageF32, MaskBool

SURELY_SEEN, HIDDEN = 0.8, 0.4
LEAST_HIDDEN = 0.04  # of the surface
# Of the correlation with the reference, what a place lacks that may be another's: this, and more than most places lack.
DOUBTED, MORE_THAN_MOST = 0.35, 0.25
BETTER = 0.25  # of correlation, by which a doubted place must be told better elsewhere
ELSEWHERE_PX = 2.0  # from where a doubted place was taken to be
LEAST_TEXTURE = 2.0  # times the noise, that a part's picture deviates
LEAST_HELD = 0.6  # of a part, that is of the surface
NEAR_CELLS, WIDE_CELLS = 2.5, 7.5  # Gaussians over which neighbours lead
WIDE_SHARE = 0.02  # of what is said far off, where there are near ones
LEVEL_CELLS = 1.0  # the closer together they lie, the less their slope is believed
LED_SURELY = 0.3  # of a neighbourhood that is found, from which unseen places beside it follow its lead
APART, ALONE = 2, 0.2  # lattice points; of correlation, by which a part's place must be better than any other
ROUNDS = 24
RELAXED = 0.15  # of the way to where neighbours lead, that an unseen place goes on each frame


@dataclass(frozen=True)
class Search:
    """How parts are looked for.

    ``half`` a part's side and ``reach`` around where it is led to, in lattice points; ``alike`` the correlation from
    which it is found; ``led`` the share of its neighbourhood of ``sigma`` cells that must be known; ``every`` how many
    cells lie between parts
    """

    half: int
    reach: int
    alike: float
    sigma: float
    led: float
    every: int


NEXT = Search(half=5, reach=4, alike=0.7, sigma=NEAR_CELLS, led=0.08, every=1)
BEYOND = Search(half=9, reach=10, alike=0.8, sigma=WIDE_CELLS, led=0.05, every=2)


@dataclass(frozen=True)
class Regrown:
    """``displacement`` (2, h, w) that has hidden parts where they are found and others where they are led to; over the
    cells, 0 to 1, how ``surely`` each is found, how surely it is ``led``, and which was ``elsewhere`` and not hidden:
    what was followed in its place is something else."""

    displacement: ImageF32
    surely: ImageF32
    led: ImageF32
    elsewhere: ImageF32

    def leading(self, r: MeshRegistration, displacement: ImageF32, visible: ImageF32) -> ImageF32:
        """A displacement (2, h, w) whose unseen places are a step nearer to where what is found leads them."""
        step = RELAXED * (1 - visible) * r.fine(self.led)
        return np.asarray(displacement + step * (self.displacement - displacement), np.float32)


def regrown(
    r: MeshRegistration,
    pyramid: GreyPyramid,
    displacement: ImageF32,
    visible: ImageF32,
    sigma: float,
    unlike: ImageF32 | None = None,
) -> Regrown | None:
    """What hidden parts of a surface are found again, and doubted ones elsewhere; None where nothing is.

    Convention: ``displacement`` (2, h, w) on the lattice, ``visible`` (h, w) 0 to 1 what of it is seen; ``sigma`` the
                noise of the picture's local contrast; ``unlike`` over the cells as `Memory` has it
    """
    held, seen = r.coarse(r.held), r.coarse(visible * r.held)
    lacking = np.zeros(r.cells, np.float32) if unlike is None else unlike
    doubted = lacking > _doubted_from(lacking, held > 0.5)
    known = (seen > SURELY_SEEN * held) & (held > 0.5) & ~doubted
    hidden = (seen < HIDDEN * held) & (held > 0.5)
    sought = hidden | (doubted & (held > 0.5))
    if sought.sum() < LEAST_HIDDEN * held.sum() or not known.any():
        return None
    instead = doubted & ~hidden
    asked = np.where(instead, 1 + BETTER - lacking, 0)
    growth = _Growth(r, pyramid, displacement, known, sigma, sought, instead, asked)
    while growth.ring(NEXT) or growth.ring(BEYOND):
        pass
    return growth.told()


def _doubted_from(unlike: ImageF32, held: MaskBool) -> float:
    """Surfaces that turn, or have next to no texture, are unlike their reference all over."""
    return max(DOUBTED, middle(unlike[held]) + MORE_THAN_MOST) if held.any() else DOUBTED


class _Growth:
    def __init__(
        self,
        r: MeshRegistration,
        pyramid: GreyPyramid,
        displacement: ImageF32,
        known: MaskBool,
        sigma: float,
        sought: MaskBool,
        doubted: MaskBool,
        asked: ImageF32,
    ) -> None:
        self.r, self.pyramid, self.displacement, self.known, self.doubted = r, pyramid, displacement, known, doubted
        self.asked = asked  # correlation from which each is found, where that is more than the search asks
        # What a doubted place looked like of late may be what was followed in its place.
        other = r.fine(doubted.astype(np.float32))
        late = r.pictures.templates[r.near]
        self.picture = np.asarray(late + other * (r.home.templates[r.near] - late), np.float32)
        self.places = np.stack([r.coarse(d) for d in displacement])
        self.found = np.zeros(r.cells, bool)
        self.textured = sought & _textured(r, self.picture, sigma)
        self.rounds = 0

    def ring(self, how: Search) -> bool:
        """Look for the parts that what is known leads to; whether any was found."""
        if self.rounds == ROUNDS:
            return False
        self.rounds += 1
        known = self.known | self.found
        share = cv2.GaussianBlur(known.astype(np.float32), (0, 0), how.sigma)
        fringe = self.textured & ~self.found & (share > how.led)
        cells = [(int(y), int(x)) for y, x in np.argwhere(fringe) if y % how.every == 0 and x % how.every == 0]
        if not cells:
            return False
        lead = _led(self.places, known)
        now = self._carried_on(lead)
        scene = _scene(self.r, self.pyramid, now, how.half + how.reach)
        before = int(self.found.sum())
        for cell in cells:
            at = _middle(self.r, cell)
            shift = _shift(scene, self.picture, at, how, max(how.alike, float(self.asked[cell])))
            if shift is not None:
                self.found[cell] = True
                self.places[(slice(None), *cell)] = lead[(slice(None), *cell)] + _in_frame(now, at, shift)
        return int(self.found.sum()) > before

    def told(self) -> Regrown | None:
        if not self.found.any():
            return None
        known = self.known | self.found
        led = cv2.GaussianBlur(self.found.astype(np.float32), (0, 0), NEAR_CELLS) / LED_SURELY
        away = np.hypot(*(self.r.coarse(d) - p for d, p in zip(self.displacement, self.places, strict=True)))
        elsewhere = self.found & self.doubted & (away > ELSEWHERE_PX)
        displacement = self._carried_on(_led(self.places, known))
        return Regrown(displacement, _widened(self.found), np.minimum(led, 1), _widened(elsewhere))

    def _carried_on(self, lead: ImageF32) -> ImageF32:
        """The displacement (2, h, w) as it was where it is known, and elsewhere as it is led, over the cells."""
        as_was = self.r.fine(cv2.GaussianBlur(self.known.astype(np.float32), (0, 0), 0.7))
        led = np.stack([self.r.fine(p) for p in lead])
        return np.asarray(led + np.clip(2 * as_was - 1, 0, 1) * (self.displacement - led), np.float32)


def _widened(cells: MaskBool) -> ImageF32:
    """Some cells and, falling off, those beside them, 0 to 1."""
    return cv2.GaussianBlur(cv2.dilate(cells.astype(np.float32), np.ones((3, 3))), (0, 0), 0.8)


def _middle(r: MeshRegistration, cell: tuple[int, int]) -> tuple[int, int]:
    """The lattice point (row, column) in the middle of a cell."""
    return int((cell[0] + 0.5) * r.shape[0] / r.cells[0]), int((cell[1] + 0.5) * r.shape[1] / r.cells[1])


def _textured(r: MeshRegistration, picture: ImageF32, sigma: float) -> MaskBool:
    """Over the cells: around which the surface's picture is more than noise."""
    side = (2 * NEXT.half + 1,) * 2
    share, mean, square = (
        cv2.boxFilter(p, -1, side, borderType=cv2.BORDER_CONSTANT)
        for p in (r.held, r.held * picture, r.held * picture * picture)
    )
    n = np.maximum(share, 1e-3)
    told = (share > LEAST_HELD) & (square / n - (mean / n) ** 2 > (LEAST_TEXTURE * sigma) ** 2)
    rows, columns = (((np.arange(m) + 0.5) * n / m).astype(int) for n, m in zip(r.shape, r.cells, strict=True))
    return np.asarray(told[np.ix_(rows, columns)])


def _led(places: ImageF32, known: MaskBool) -> ImageF32:
    """Where known neighbours, carried on as a plane, have each cell: displacements (2, rows, columns) in px."""
    y, x = np.mgrid[: known.shape[0], : known.shape[1]].astype(np.float64)
    weight = known.astype(np.float64)

    def around(values: np.ndarray) -> np.ndarray:
        near, wide = (cv2.GaussianBlur(values * weight, (0, 0), s) for s in (NEAR_CELLS, WIDE_CELLS))
        return np.asarray(near + WIDE_SHARE * wide)

    n = np.maximum(around(np.ones_like(x)), 1e-9)
    mx, my = around(x) / n, around(y) / n
    xx = around(x * x) / n - mx * mx + LEVEL_CELLS**2
    yy = around(y * y) / n - my * my + LEVEL_CELLS**2
    xy = around(x * y) / n - mx * my
    out = []
    for p in places.astype(np.float64):
        mean = around(p) / n
        px, py = around(p * x) / n - mean * mx, around(p * y) / n - mean * my
        out.append(mean + ((yy * px - xy * py) * (x - mx) + (xx * py - xy * px) * (y - my)) / (xx * yy - xy * xy))
    return np.stack(out).astype(np.float32)


def _scene(r: MeshRegistration, pyramid: GreyPyramid, displacement: ImageF32, wider: int) -> ImageF32:
    """The frame under a displacement, ``wider`` lattice points larger on all sides."""
    x, y = (
        np.pad(r.base[i] + displacement[i], wider, mode="reflect", reflect_type="odd") - np.float32(pyramid.origin[i])
        for i in (0, 1)
    )
    picture = pyramid.levels[0]
    seen = cv2.remap(picture, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=float(VOID))
    return np.where(np.abs(seen) < VOID_FROM, seen, 0).astype(np.float32)


def _shift(
    scene: ImageF32, picture: ImageF32, at: tuple[int, int], how: Search, alike: float
) -> tuple[int, int] | None:
    """By how many lattice points (x, y) a part lies off where it is led to; None where nothing is as ``alike``."""
    (y0, y1), (x0, x1) = (
        (max(c - how.half, 0), min(c + how.half + 1, n)) for c, n in zip(at, picture.shape, strict=True)
    )
    # The scene is wider by half and reach: what is searched begins half a part further in.
    there = scene[y0 + how.half : y1 + how.half + 2 * how.reach, x0 + how.half : x1 + how.half + 2 * how.reach]
    scores = cv2.matchTemplate(there, np.ascontiguousarray(picture[y0:y1, x0:x1]), cv2.TM_CCOEFF_NORMED)
    _, top, _, (column, row) = cv2.minMaxLoc(scores)
    edge = (0, 2 * how.reach)
    if top < alike or column in edge or row in edge:
        return None
    scores[max(row - APART, 0) : row + APART + 1, max(column - APART, 0) : column + APART + 1] = -1
    return (column - how.reach, row - how.reach) if scores.max() < top - ALONE else None


def _in_frame(displacement: ImageF32, at: tuple[int, int], shift: tuple[int, int]) -> np.ndarray:
    """A shift (x, y) in lattice points of the reference as px of the frame, by the slopes around ``at``."""
    (y0, y1), (x0, x1) = ((max(c - 2, 0), min(c + 2, n - 1)) for c, n in zip(at, displacement.shape[1:], strict=True))
    by_x = (displacement[:, at[0], x1] - displacement[:, at[0], x0]) / max(x1 - x0, 1)
    by_y = (displacement[:, y1, at[1]] - displacement[:, y0, at[1]]) / max(y1 - y0, 1)
    return np.asarray(STEP * np.array(shift, float) + by_x * shift[0] + by_y * shift[1])
