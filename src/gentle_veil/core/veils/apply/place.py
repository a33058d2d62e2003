"""Where artwork lies on the reference frame, and through the surface on every other."""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.veil import Site
from gentle_veil.core.errors import ShapeError
from gentle_veil.core.geometry.homography import apply_homography, homography_from_points
from gentle_veil.core.geometry.mesh import dense_map, foremost_last, grid_triangles
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.minify import SUB
from gentle_veil.core.types import Points
from gentle_veil.core.veils.apply.params import CORNERS, ApplyParams

CELL_PX = 6.0  # frame px to a cell of the grid that carries the artwork
CELLS = (8, 96)
RIM = 1.0  # px of the artwork beyond its edge, over which it fades


@dataclass(frozen=True)
class Laid:
    """Convention: box in frame px; where (h * SUB, w * SUB, 2) artwork px, NaN outside; px_per_sample between two."""

    box: Box
    where: np.ndarray
    px_per_sample: float


def artwork_on_reference(grid: Points, size: tuple[int, int], polygon_ref: Points, params: ApplyParams) -> Points:
    """Points (N, 2) of the artwork in its px, as points of the reference frame.

    It is fitted into the outline, then scaled, turned and moved; then its corners, then its bend grid are moved.
    Raises: ShapeError for a bend grid that is not square
    """
    width, height = float(size[0]), float(size[1])
    low, high = polygon_ref.min(axis=0), polygon_ref.max(axis=0)
    fit = float(min((high[0] - low[0]) / width, (high[1] - low[1]) / height)) * params.size
    angle = np.deg2rad(params.turn)
    turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
    middle = (low + high) / 2 + np.array([params.across, params.down])

    def similar(at: Points) -> Points:
        centred = (at - np.array([width - 1, height - 1]) / 2) * np.array([fit, fit * params.stretch])
        return centred @ turn.T + middle

    placed = similar(grid)
    steps = np.array([[getattr(params, f"{c}_x"), getattr(params, f"{c}_y")] for c in CORNERS])
    if steps.any():
        edge = np.array([[-0.5, -0.5], [width - 0.5, -0.5], [width - 0.5, height - 0.5], [-0.5, height - 0.5]])
        placed = apply_homography(homography_from_points(edge, similar(edge) + steps), grid)
    return placed + _bent(grid, width, height, params.bend) if params.bend else placed


def _bent(grid: Points, width: float, height: float, bend: tuple[tuple[float, float], ...]) -> Points:
    """The step of each point of the artwork, smoothly between the steps of the bend grid."""
    side = round(len(bend) ** 0.5)
    if side * side != len(bend) or not 2 <= side <= 5:
        raise ShapeError("A bend grid has 4, 9, 16 or 25 points.", actual=len(bend))
    steps = np.array(bend, np.float32).reshape(side, side, 2)
    # A cubic needs neighbours: the grid goes on beyond its edge as it went within.
    for axis in (0, 1):
        first, second = np.take(steps, [0], axis), np.take(steps, [1], axis)
        last, before = np.take(steps, [-1], axis), np.take(steps, [-2], axis)
        steps = np.concatenate([2 * first - second, steps, 2 * last - before], axis)
    at = (grid + 0.5) / np.array([width, height]) * (side - 1) + 1
    x, y = at[:, 0].astype(np.float32)[:, None], at[:, 1].astype(np.float32)[:, None]
    moved = cv2.remap(steps, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    return moved.reshape(-1, 2).astype(np.float64)


def lay_artwork(site: Site, size: tuple[int, int], params: ApplyParams) -> Laid | None:
    """The artwork's px under every sample of the frame's pixels, or None where it is not in the picture."""
    track, row = site.placement.track, site.row
    width, height = size
    edge = np.array([[0, 0], [width - 1, 0], [width - 1, height - 1], [0, height - 1]], np.float64)
    on_frame = track.carry(artwork_on_reference(edge, size, site.placement.polygon_ref, params), row)
    span = np.ptp(on_frame, axis=0)
    columns, rows = (int(np.clip(np.ceil(s / CELL_PX), *CELLS)) for s in span)
    xs = np.linspace(-RIM, width - 1 + RIM, columns + 1)
    ys = np.linspace(-RIM, height - 1 + RIM, rows + 1)
    art = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    home = artwork_on_reference(art, size, site.placement.polygon_ref, params)
    frame = track.carry(home, row)
    box = clip_box(bounding_box(frame, 1.0), *site.canvas.size)
    if box is None or not np.isfinite(frame).all():
        return None
    triangles = foremost_last(frame, home, grid_triangles(columns + 1, rows + 1))
    where = np.full(((box[3] - box[1]) * SUB, (box[2] - box[0]) * SUB, 2), np.nan)
    # A pixel's samples lie at (i + 1/2) / SUB - 1/2 from its centre.
    dense_map((frame - np.array(box[:2])) * SUB + (SUB - 1) / 2, art, triangles, 0, 0, where)
    return Laid(box, where, _density(art, frame, columns, rows) / SUB)


def _density(art: Points, frame: Points, columns: int, rows: int) -> float:
    """Artwork px to a frame px, along the direction in which it is squeezed most; the median over the grid."""
    a, f = (p.reshape(rows + 1, columns + 1, 2) for p in (art, frame))
    across = np.linalg.norm(np.diff(a, axis=1), axis=-1) / np.maximum(np.linalg.norm(np.diff(f, axis=1), axis=-1), 1e-6)
    along = np.linalg.norm(np.diff(a, axis=0), axis=-1) / np.maximum(np.linalg.norm(np.diff(f, axis=0), axis=-1), 1e-6)
    return float(max(np.median(across), np.median(along)))
