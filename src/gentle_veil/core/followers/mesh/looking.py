"""What frames show around a region that is followed as a mesh, and what is kept to compare them with."""

import statistics

import numpy as np

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.followers.mesh.company import Accompanied
from gentle_veil.core.followers.mesh.focusing import Focusing
from gentle_veil.core.followers.mesh.hypotheses import FAR_PX, CloseFlow, LatticeFlow, far_offsets
from gentle_veil.core.followers.mesh.memory import likeness_around
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.followers.mesh.parting import in_one_piece
from gentle_veil.core.followers.mesh.silhouette import clear_of_the_silhouette
from gentle_veil.core.followers.mesh.texture import COARSE as COARSE_BAND
from gentle_veil.core.followers.mesh.texture import repetition, texture_of
from gentle_veil.core.followers.mesh.vertices import Vertices
from gentle_veil.core.followers.plane.options import PlaneOptions
from gentle_veil.core.followers.plane.plane import PlaneRun, box_around, clip_box, shown_mask
from gentle_veil.core.geometry.spline_field import SplineGrid
from gentle_veil.core.motion.familiar import STRANGE_FROM, chroma, chroma_at, familiar, tint_of
from gentle_veil.core.motion.mesh_registration import BROAD, FIRST_SIGMA, LEVELS, NEAR, STEP, MeshRegistration
from gentle_veil.core.motion.pyramid import GreyPyramid, grey
from gentle_veil.core.types import ImageF32, Points

SEARCH_PX = 40
SPACING_SHARE, SPACING_RANGE = 1 / 22, (12.0, 40.0)  # of the root of the region's area
TRIAL_BLOCK = 4  # lattice points
SIGMA_GROWTH = 2.0
SOFT_FROM = 1.6  # px of blur beyond the reference's, from which the finest band is little but grain
LEAST_BOX = 16  # px of the picture, to look at it
FAMILIAR_SHARE = 0.9  # of the surface that has its colour, from which nothing more is asked
AS_IT_WAS, LEAST_LIT = 0.05, 4  # of the surface, in light as it was; cells that tell its colour
KNOWN_FROM, KNOWN_AT = 0.85, 0.95  # correlation with the reference's texture, by which a place is known
REPEATING = 0.6  # correlation with itself elsewhere: of skin up to .5, of stripes from .7
KNOWN_TIMES = 3.0  # times the noise, that its texture must have


class MeshLook:
    """One region on its reference, and how frames are looked at over it."""

    def __init__(self, frames: FrameSource, region: Region, options: MeshOptions) -> None:
        self.frames, self.reference, self.options = frames, region.reference, options
        self.drawn = region.drawn
        self.plane = PlaneRun(frames, region, PlaneOptions())
        polygon = self.polygon = np.asarray(region.polygon, np.float64)
        width, height = frames.size
        mask = clear_of_the_silhouette(frames, self.reference, polygon, shown_mask(region, width, height))
        mask = in_one_piece(frames, self.reference, polygon, mask)
        low, high = polygon.min(axis=0), polygon.max(axis=0)
        spacing = options.spacing or float(np.clip(np.sqrt(mask.sum()) * SPACING_SHARE, *SPACING_RANGE))
        spacing = min(spacing, float((high - low).min()) / 3)
        margin = max(options.reach * float((high - low).max()), 4.0)
        box = (low[0] - margin, low[1] - margin, high[0] + margin, high[1] + margin)
        self.grid = SplineGrid(box, spacing)
        self.level_count = max(2, self.plane.level_count)
        self.full_scale = frames.encoding.full_scale
        self.texture = texture_of(grey(frames[self.reference], self.full_scale, self.plane.weights), mask)
        reference = self._fine(self.reference, self._box(polygon), void=False)
        self.registration = MeshRegistration(reference, mask, self.grid)
        #: Stripes and dots are alike elsewhere: their texture proves no place.
        self.repeats = repetition(self.registration.home.templates[NEAR], self.registration.held > 0.5) > REPEATING
        self.mesh = Vertices(self.grid, polygon)
        self.flow = LatticeFlow()
        self.close_flow = CloseFlow(self.registration.shape)
        self.focusing = Focusing(self.registration)
        self.colour = self._colour(self.reference, self.registration.base)
        self.tint: ImageF32 = np.zeros(2, np.float32)  # of the light of late
        self.sigmas: tuple[list[float], ...] = tuple([] for _ in range(LEVELS))
        self.company = Accompanied(self.plane, self.registration)
        rng = np.random.default_rng(7)
        shape = (self.registration.shape[0] // TRIAL_BLOCK + 1, self.registration.shape[1] // TRIAL_BLOCK + 1)
        blocks = rng.random(shape) < 0.2
        self.left_out = np.kron(blocks, np.ones((TRIAL_BLOCK, TRIAL_BLOCK), bool))[
            : self.registration.shape[0], : self.registration.shape[1]
        ]

    def _box(self, points: Points) -> tuple[int, int, int, int]:
        return clip_box(box_around(points, SEARCH_PX), *self.frames.size)

    def _pyramid(self, k: int, *displacements: ImageF32):  # type: ignore[no-untyped-def]
        places = np.concatenate(
            [(self.registration.base + d)[:, ::8, ::8].reshape(2, -1).T.astype(np.float64) for d in displacements]
        )
        x0, y0, x1, y1 = self._box(places)
        if x1 - x0 < LEAST_BOX or y1 - y0 < LEAST_BOX:
            return None
        return self._fine(k, (x0, y0, x1, y1))

    def _fine(self, k: int, box: tuple[int, int, int, int], *, void: bool = True) -> GreyPyramid:
        return self.plane.pyramid(k, self.level_count, box, void=void, band=COARSE_BAND, near=self.texture.band)

    def limits(self) -> tuple[float, ...]:
        return tuple(SIGMA_GROWTH * statistics.median(s[-15:]) if len(s) >= 3 else np.inf for s in self.sigmas)

    def _usual_sigma(self, level: int) -> float:
        return statistics.median(self.sigmas[level][-15:]) if self.sigmas[level] else FIRST_SIGMA

    def _focused(self, pyramid: GreyPyramid, displacement: ImageF32, visible: ImageF32) -> None:
        """Compare with pictures as soft as the frame under a displacement, in the bands that are left."""
        r = self.registration
        blur = self.focusing.blur(r.look(pyramid, NEAR, displacement)[0], visible)
        r.near = BROAD if blur > SOFT_FROM else NEAR
        r.pictures = self.focusing.softened(r.pictures)

    def _near_by(self, before: ImageF32, pyramid: GreyPyramid, guess: ImageF32) -> ImageF32:
        """A guess brought nearer by what the frame before shows at full resolution."""
        flow = self.close_flow.between(before, self.registration.look_close(pyramid, guess))
        slopes = self._slopes(guess)
        near: ImageF32 = guess + flow + slopes[0] * flow[0] + slopes[1] * flow[1]
        return near

    def _far_and_near(self, before: ImageF32, pyramid: GreyPyramid, guess: ImageF32) -> list[ImageF32]:
        """A guess, and others farther around it to which all of what the frame before shows at full resolution may
        have gone, each brought nearer by that."""
        r = self.registration
        offsets = far_offsets(before, r.look_close(pyramid, guess, FAR_PX), r.held)
        places = [guess, *(guess + offset[:, None, None] for offset in offsets)]
        return [self._near_by(before, pyramid, place) for place in places]

    def _familiar(self, k: int, displacement: ImageF32, pyramid: GreyPyramid) -> ImageF32:
        """Where the frame under a guess has the surface's colour, over the registration's cells."""
        r, colour = self.registration, self._colour(k, self.registration.base + displacement)
        held = r.coarse(r.held)
        tint = tint_of(self.colour, colour, held)
        plain = familiar(self.colour, colour, tint)
        if self.repeats or (plain * held).sum() > FAMILIAR_SHARE * held.sum():
            return plain
        known = self._known(*r.look(pyramid, r.near, displacement))
        if np.linalg.norm(tint - self.tint) > STRANGE_FROM:
            # Most of it is of another colour: in a new light, or behind something. What is known by its texture tells,
            # and where nothing is, the light is as it was.
            as_it_was = familiar(self.colour, colour, self.tint) * held
            known_so = ((as_it_was - plain * held) * known).sum() >= 0
            if known_so and as_it_was.sum() > AS_IT_WAS * held.sum():
                tint = self.tint
        return familiar(self.colour, colour, tint, known)

    def _lit(self, k: int, displacement: ImageF32, visible: ImageF32) -> None:
        """Learn the colour of the light from what is ``visible`` (h, w) of the surface on a frame."""
        r = self.registration
        shown = r.coarse(r.held * visible)
        if (shown > 0.5).sum() >= LEAST_LIT:
            self.tint = tint_of(self.colour, self._colour(k, r.base + displacement), shown)

    def _known(self, seen: ImageF32, inside: ImageF32) -> ImageF32:
        """Where what is ``seen`` (h, w) has the reference's own texture, whatever light lies on it, over the cells."""
        r = self.registration
        template, energy = r.home.templates[r.near], r.coarse(r.home.energies[r.near])
        alike = likeness_around(r, template, seen, r.held * inside)
        told = energy > (KNOWN_TIMES * self._usual_sigma(r.near)) ** 2
        known: ImageF32 = np.clip((alike - KNOWN_FROM) / (KNOWN_AT - KNOWN_FROM), 0, 1) * told
        return known

    def _colour(self, k: int, at: ImageF32) -> ImageF32:
        """The chroma of a frame at the lattice's places (2, h, w), one value to a cell."""
        places = np.stack([self.registration.coarse(p) for p in at], axis=-1)
        box = self._box(places.reshape(-1, 2).astype(np.float64))
        return chroma_at(chroma(self.frames[k], self.full_scale, box), box, places)

    def _slopes(self, displacement: ImageF32) -> np.ndarray:
        """Derivatives (2, 2, h, w) by x and y, per px, by differences on the lattice."""
        by_y, by_x = np.gradient(displacement, STEP, axis=(1, 2))
        return np.stack([by_x, by_y])
