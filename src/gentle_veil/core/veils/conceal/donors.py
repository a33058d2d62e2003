"""Where live skin is taken from: one clean place, or several that share a mark.

Each place covers the side of the mark that it lies on; towards the others it fades. Texture of two places that are
mixed would lose its strength, so it is brought back to what one place alone would have.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.in_front import hidden_at
from gentle_veil.core.composite.matte import Box, clip_box, grown
from gentle_veil.core.contracts.keyed import Place, constant
from gentle_veil.core.contracts.veil import Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.sampling import sample_lanczos
from gentle_veil.core.types import ImageF32, MaskBool, Matrix, MatteF32, Points
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.surround import FRONT_EDGE

SAMPLE_MARGIN = 4  # px that the Lanczos kernel reaches beyond a point
SHARING = 3.0  # how sharply the sides are told apart; the logistic slope over half a mark
EDGE_SIGMA = 1.0  # px over which a patch goes over to what stands in for it
TORN, FOLDED = 4.0, 0.06  # px of the frame to a px, by which skin would be drawn apart; their area, of a fold
TEXTURE_SIGMA = 3.0  # px; what is finer keeps its strength where places are mixed


def spare_places(params: ConcealParams, prepared: dict[str, Any]) -> tuple[Place, ...]:
    """What stands in where something passes in front of the place that was found: the next best ones."""
    return tuple(Place(constant(x), constant(y), constant(1.0), constant(0.0)) for x, y in prepared.get("others", ()))


def places_of(params: ConcealParams, prepared: dict[str, Any]) -> tuple[Place, ...]:
    """The places that are used."""
    if params.donors:
        return params.donors
    x, y = prepared["donor"]
    return (Place(constant(x), constant(y), constant(params.donor_scale), constant(params.donor_turn)),)


def donor_from_mark(polygon_ref: Points, place: Place, k: int) -> Matrix:
    """On the reference: shift by the place's step, about the mark's centre scaled and turned."""
    cx, cy = polygon_ref.mean(axis=0)
    angle, size = np.deg2rad(place.turn.at(k)), place.size.at(k)
    c, s = np.cos(angle) / size, np.sin(angle) / size
    about = np.array([[1, 0, cx + place.x.at(k)], [0, 1, cy + place.y.at(k)], [0, 0, 1.0]])
    return about @ np.array([[c, -s, 0], [s, c, 0], [0, 0, 1.0]]) @ np.array([[1, 0, -cx], [0, 1, -cy], [0, 0, 1.0]])


@dataclass(frozen=True)
class Taken:
    """Skin of one place over a mark's box: ``img_lin`` (h, w, 3), where it lies ``inside`` the picture (h, w), and how
    much of it is ``shown`` (h, w), None where nothing is in front of any of it."""

    img_lin: ImageF32
    inside: MaskBool
    shown: MatteF32 | None = None

    @property
    def plain(self) -> MaskBool:
        """Where it is skin that can be seen."""
        return self.inside if self.shown is None else self.inside & (self.shown >= 1)


def taken(site: Site, donor_map: np.ndarray) -> Taken:
    """What the frame shows at the places of a map (h, w, 2)."""
    hidden, torn = hidden_at(site.placement.front, site.k, donor_map), _torn(donor_map)
    img_lin, inside = _sampled(site, donor_map)
    if hidden is None and not torn.any():
        return Taken(img_lin, inside)
    hidden = torn.astype(np.float32) if hidden is None else np.maximum(hidden, torn)
    edge = cv2.GaussianBlur(grown(hidden > 0, FRONT_EDGE).astype(np.float32), (0, 0), EDGE_SIGMA)
    return Taken(img_lin, inside, np.clip(1 - 2 * edge, 0, 1))


def _torn(donor_map: np.ndarray) -> MaskBool:
    """Where skin would be drawn apart or turned over (h, w): its surface goes round a rim there."""
    if min(donor_map.shape[:2]) < 2:
        return np.zeros(donor_map.shape[:2], bool)
    (ax, ay), (bx, by) = (np.moveaxis(np.gradient(donor_map, axis=i), -1, 0) for i in (1, 0))
    area, longest = ax * by - ay * bx, np.maximum(np.hypot(ax, ay), np.hypot(bx, by))
    return ~((area > FOLDED) & (longest < TORN))


def filled(
    first: ImageF32, shown: MatteF32, other: ImageF32, other_shown: MatteF32 | None
) -> tuple[ImageF32, MatteF32]:
    """A patch (h, w, 3) with another where something is in front of its own skin, and what is ``shown`` now (h, w)."""
    share = 1 - shown if other_shown is None else (1 - shown) * other_shown
    return first + share[..., None] * (other - first), shown + share


def _sampled(site: Site, donor_map: np.ndarray) -> tuple[ImageF32, MaskBool]:
    """The frame at the places of a map (h, w, 2), scene-linear, and where they lie inside it."""
    width, height = site.canvas.size
    x, y = donor_map[..., 0], donor_map[..., 1]
    inside = (x >= 0) & (y >= 0) & (x <= width - 1) & (y <= height - 1)
    finite = donor_map[np.isfinite(donor_map).all(axis=-1)]
    source = clip_box(bounding_box(np.clip(finite, -1e6, 1e6), SAMPLE_MARGIN), width, height) if len(finite) else None
    if source is None:
        # The whole donor has left the picture: hold the nearest edge, and say so through ``donor_inside``.
        source = site.canvas.full_box
    local = donor_map - np.array([source[0], source[1]], np.float64)
    return sample_lanczos(site.canvas.read(source), local), inside


def shares(site: Site, box: Box, polygon_ref: Points, places: Sequence[Place]) -> list[MatteF32]:
    """How much of each pixel of a box each place gives, (h, w), adding up to 1."""
    track = site.placement.track
    centre = polygon_ref.mean(axis=0)
    half = max(float(np.ptp(polygon_ref, axis=0).max()) / 2, 1.0)
    off = (track.map_ref_from_frame(site.row, box) - centre) / half
    steps = [np.array([p.x.at(site.k), p.y.at(site.k)]) for p in places]
    towards = [off @ (s / max(float(np.linalg.norm(s)), 1e-6)) for s in steps]
    strength = np.exp(SHARING * np.clip(np.stack(towards), -4, 4))
    return list((strength / strength.sum(axis=0)).astype(np.float32))


def mixed(patches: Sequence[ImageF32], weights: Sequence[MatteF32]) -> ImageF32:
    """Patches (h, w, 3) by their shares, their texture as strong as in one alone."""
    mean = np.sum([w[..., None] * p for w, p in zip(weights, patches, strict=True)], axis=0)
    tone = cv2.GaussianBlur(mean, (0, 0), TEXTURE_SIGMA, borderType=cv2.BORDER_REFLECT)
    lost = np.sqrt(np.sum([w * w for w in weights], axis=0))[..., None]
    return np.maximum(tone + (mean - tone) / lost, 0).astype(np.float32)
