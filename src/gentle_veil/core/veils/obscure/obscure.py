"""Make somebody, or a plate, unrecognisable on every frame on which they can be seen."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.colour.transfer import srgb_decode
from gentle_veil.core.composite.matte import Box, clip_box, feathered, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.people import HELD, People
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.types import ImageF32, MatteF32, Points
from gentle_veil.core.veils.obscure.cells import cell_means, cell_size
from gentle_veil.core.veils.obscure.params import ObscureParams

SIDES = 48  # corners of an ellipse's polygon


@dataclass(frozen=True)
class _Region:
    """Something to hide on one frame: its polygon in frame px, a frame of its own for cells, and its width in px."""

    polygon: Points
    centre: np.ndarray
    turn: float
    width: float


class Obscure:
    """See `contracts.veil.VeilKind`."""

    kind = "obscure"
    label = "Obscure"
    help = "Hides faces, or whatever a drape follows, under mosaic, blur or a flat cover."
    Params = ObscureParams
    on_picture = True
    judged = ()

    def needs_people(self, params: ObscureParams) -> bool:
        return params.whom != "outline"

    def prepare(
        self, frames: FrameSource, placement: Placement, params: ObscureParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Which faces are hidden, by their names, and on how many frames each was found or held."""
        people = placement.people
        if people is None or params.whom == "outline":
            return {"hidden": []}
        hidden = [people.names()[i] for i in _hidden(people, params)]
        return {"hidden": hidden, "faces": {n: _told(people, i) for i, n in enumerate(people.names())}}

    def apply(self, site: Site, params: ObscureParams, prepared: dict[str, Any]) -> Patch | None:
        parts = [p for p in (_laid(site, r, params) for r in _regions(site, params)) if p is not None]
        if not parts:
            return None
        box = parts[0][0]
        for other, _, _ in parts[1:]:
            box = (*(min(a, b) for a, b in zip(box[:2], other[:2], strict=True)), *map(max, box[2:], other[2:]))  # type: ignore[assignment]
        below = site.canvas.read(box)
        matte = np.zeros(below.shape[:2], np.float32)
        for (x0, y0, x1, y1), img_lin, part in parts:
            at = (slice(y0 - box[1], y1 - box[1]), slice(x0 - box[0], x1 - box[0]))
            below[at] = below[at] + part[..., None] * (img_lin - below[at])
            matte[at] = np.maximum(matte[at], part)
        # Mixed already, each by its own matte: where anything is laid it is laid whole.
        return Patch(box, below, (matte > 0).astype(np.float32), {"regions": float(len(parts))})


def _hidden(people: People, params: ObscureParams) -> list[int]:
    everybody = range(people.count)
    named = [i for i, n in enumerate(people.names()) if n in params.chosen]
    if params.whom == "chosen":
        return named
    return [i for i in everybody if i not in named] if params.whom == "all but chosen" else list(everybody)


def _told(people: People, i: int) -> dict[str, int]:
    names, counts = np.unique(people.status[i], return_counts=True)
    return {str(n): int(c) for n, c in zip(names, counts, strict=True)}


def _regions(site: Site, params: ObscureParams) -> Iterator[_Region]:
    if params.whom == "outline":
        track = site.placement.track
        polygon = track.carry(site.placement.polygon_ref, site.row)
        scale = track.scale_at(site.placement.polygon_ref.mean(axis=0), site.row)
        centre = polygon.mean(axis=0)
        grown = centre + (polygon - centre) * (1 + params.margin) if params.margin else polygon
        right = track.carry(site.placement.polygon_ref.mean(axis=0) + np.array([[0.0, 0], [1, 0]]), site.row)
        turn = float(np.arctan2(*(right[1] - right[0])[::-1]))
        yield _Region(grown, centre, turn, float(np.ptp(site.placement.polygon_ref, axis=0).min()) * scale)
    elif site.placement.people is not None:
        people = site.placement.people
        for i in _hidden(people, params):
            ellipse = people.ellipses[i, site.k]
            if np.isfinite(ellipse).all():
                yield _around(ellipse, params.margin, str(people.status[i, site.k]) == HELD)


def _around(ellipse: np.ndarray, margin: float, held: bool) -> _Region:
    cx, cy, across, along, turn = ellipse
    angles = np.arange(SIDES) * 2 * np.pi / SIDES
    reach = 1 + margin * (1.5 if held else 1.0)
    u, v = across * reach * np.cos(angles), along * reach * np.sin(angles)
    c, s = np.cos(turn), np.sin(turn)
    polygon = np.stack([cx + u * c - v * s, cy + u * s + v * c], axis=1)
    return _Region(polygon, np.array([cx, cy]), float(turn), 2 * float(across))


def _laid(site: Site, region: _Region, params: ObscureParams) -> tuple[Box, ImageF32, MatteF32] | None:
    """One region's cover and matte; a mosaic has no soft edge."""
    feather = site.feather if params.look != "mosaic" else 0.0
    reach = max(site.grow, 0) + feather + 1
    box = clip_box(bounding_box(region.polygon, reach), *site.canvas.size)
    if box is None:
        return None
    # A feather lies outside the outline, so nothing inside shines through.
    matte = feathered(outline_distance(region.polygon, box) - np.float32(max(site.grow, 0)), feather)
    if not (matte > 0).any():
        return None
    if params.look == "cover":
        flat = np.array([int(params.colour[i : i + 2], 16) for i in (1, 3, 5)], np.float32) / np.float32(255)
        h, w = matte.shape
        return box, np.broadcast_to(srgb_decode(flat), (h, w, 3)).astype(np.float32), matte
    return box, _cells(site, region, params, box), matte


def _cells(site: Site, region: _Region, params: ObscureParams, box: Box) -> ImageF32:
    below = site.canvas.read(box)
    on_picture = params.grid == "picture"
    size = cell_size(params.cell, params.cell_px, region.width, on_picture=on_picture)
    ys, xs = np.mgrid[box[1] : box[3], box[0] : box[2]].astype(np.float64)
    if on_picture:
        size = float(np.ceil(size))
        u, v = xs / size, ys / size
    else:
        c, s = np.cos(region.turn), np.sin(region.turn)
        dx, dy = xs - region.centre[0], ys - region.centre[1]
        u, v = (dx * c + dy * s) / size, (dy * c - dx * s) / size
    means, (top, left) = cell_means(below, u, v)
    if params.look == "mosaic":
        return means[np.floor(v).astype(int) - top, np.floor(u).astype(int) - left]
    # A smooth picture through the cells' means holds no more than they do.
    at = ((u - left - 0.5).astype(np.float32), (v - top - 0.5).astype(np.float32))
    return np.maximum(cv2.remap(means, *at, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), 0)
