"""Make somebody, or a plate, unrecognisable on every frame on which they can be seen."""

from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.colour.transfer import srgb_decode
from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.composite.matte import Box, clip_box, feathered, outline_distance
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.faces.finder import BELIEVED, FULL, SHORT, Face, find_faces, overlap
from gentle_veil.core.faces.people import for_finding
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.types import ImageF32, MatteF32
from gentle_veil.core.veils.obscure.cells import cell_means, cell_share, flattened, held
from gentle_veil.core.veils.obscure.params import ObscureParams
from gentle_veil.core.veils.obscure.regions import HELD_MARGIN, Region, hidden_faces, regions_on


@dataclass(frozen=True)
class Strength:
    """What is added to a cover: ``times`` the cell's size, cells drawn to their mean by ``flat`` and to a cold colour
    by ``cold`` (1 is all the way), and ``room`` on top of the margin, in faces."""

    times: float = 1.0
    flat: float = 0.0
    cold: float = 0.0
    room: float = 0.0


# Tried in this order until no finder sees a face in the result. Finders take any bright oval over shoulders for a face,
# and what is left bare of a neck or of hair beside it; a colour that no skin has helps most.
STRENGTHS = (
    Strength(),
    Strength(room=0.1),
    Strength(cold=0.5, room=0.1),
    Strength(cold=1.0, room=0.1),
    Strength(flat=0.5, cold=1.0, room=0.1),
    Strength(times=2.0, cold=1.0, room=0.1),
    Strength(times=2.0, flat=0.5, cold=1.0, room=0.2),
)
CHECK_EVERY = 4  # frames between those on which finders look first; they look at all before a strength is taken
UNLIKELY = 0.3  # faces of a lower score are not asked for
SAFE = 0.45  # a score somewhat below what is believed: coding alone moves it
HELD_ROOM = 0.6  # of the half width: a held region grows
STORED_EVERY = 3  # frames; colours are held over many more


class Obscure:
    """See `contracts.veil.VeilKind`."""

    kind = "obscure"
    label = "Obscure"
    help = "Hides faces, or whatever a drape follows, under mosaic, blur or a flat cover."
    Params = ObscureParams
    on_picture = True
    stays_behind = False
    judged = ()
    prepared_by = ("whom", "chosen", "look", "cell", "cell_px", "margin", "grid")

    def needs_people(self, params: ObscureParams) -> bool:
        return params.whom != "outline"

    def prepare(
        self, frames: FrameSource, placement: Placement, params: ObscureParams, *, report: Report = silent
    ) -> dict[str, Any]:
        """Read the cells' colours over the shot, and raise the strength until no finder sees a face any more."""
        people = placement.people
        told: dict[str, Any] = {"hidden": [], "cells": {}, "flat": 0.0, "cold": 0.0, "room": 0.0, "why": ""}
        if people is not None and params.whom != "outline":
            told["hidden"] = [people.names()[i] for i in hidden_faces(people, params)]
        if params.look == "cover":
            return told
        best, lowest = told, np.inf
        read: dict[tuple[float, float], dict[str, Any]] = {}  # colours are no part of what is read
        for strength in STRENGTHS:
            size = (strength.times, strength.room)
            if size not in read:
                read[size] = _read_cells(frames, placement, _wider(params, strength.room), strength.times, report)
            tried = {**told, "cells": read[size], "flat": strength.flat, "cold": strength.cold, "room": strength.room}
            score = self._highest_score(frames, placement, params, tried, report) if told["hidden"] else 0.0
            if score < lowest:
                best, lowest = {**tried, "why": _why(strength, score >= BELIEVED)}, score
            if score < SAFE:
                break
        return best

    def _highest_score(
        self, frames: FrameSource, placement: Placement, params: ObscureParams, tried: dict[str, Any], report: Report
    ) -> float:
        """The highest score of a face at a hidden place; as soon as some are believed, not all frames are asked."""
        score = 0.0
        for k in sorted(range(len(frames)), key=lambda k: (k % CHECK_EVERY > 0, k)):
            if score >= BELIEVED and k % CHECK_EVERY:
                break
            report(k, len(frames), f"looking whether a face can still be found, frame {k}")
            regions = list(regions_on(placement, k, _wider(params, tried["room"])))
            if regions:
                score = max(score, self._score_on(frames, placement, k, regions, params, tried))
        return score

    def _score_on(
        self,
        frames: FrameSource,
        placement: Placement,
        k: int,
        regions: list[Region],
        params: ObscureParams,
        tried: dict[str, Any],
    ) -> float:
        canvas = Canvas(frames[k], frames.encoding)
        row = placement.track.row(k)
        patch = None if row is None else self.apply(Site(canvas, placement, row, k, 0.0, 0.0), params, tried)
        if patch is None:
            return 0.0
        canvas.lay(patch.box, patch.img_lin, patch.matte)
        return face_score(for_finding(canvas.code_values(), frames.encoding), regions)

    def apply(self, site: Site, params: ObscureParams, prepared: dict[str, Any]) -> Patch | None:
        regions = list(regions_on(site.placement, site.k, _wider(params, prepared["room"])))
        parts = [p for p in (_laid(site, r, params, prepared) for r in regions) if p is not None]
        if not parts:
            return None
        corners = np.array([box for box, _, _ in parts])
        x, y = (int(v) for v in corners[:, :2].min(axis=0))
        box: Box = (x, y, int(corners[:, 2].max()), int(corners[:, 3].max()))
        below = site.canvas.read(box)
        matte = np.zeros(below.shape[:2], np.float32)
        for (x0, y0, x1, y1), img_lin, part in parts:
            at = (slice(y0 - y, y1 - y), slice(x0 - x, x1 - x))
            below[at] += part[..., None] * (img_lin - below[at])
            matte[at] = np.maximum(matte[at], part)
        # Mixed already, each by its own matte: where anything is laid it is laid whole.
        return Patch(box, below, (matte > 0).astype(np.float32), {"regions": float(len(parts))})


def face_score(picture: np.ndarray, regions: list[Region]) -> float:
    """How sure a finder is, in [0, 1], of a face that is a region's; picture (H, W, 3) uint8 encoded."""
    faces = find_faces(picture, FULL, least=UNLIKELY)
    for region in regions:
        reach = 0.8 * max(region.width, region.width * region.tall)
        window = (*(region.centre - reach), *(region.centre + reach))
        for model in (FULL, SHORT):
            faces += find_faces(picture, model, window=window, least=UNLIKELY)
    return max((face.score for face in faces for region in regions if _is_of(face, region)), default=0.0)


def _is_of(face: Face, region: Region) -> bool:
    """A collar or a lamp that passes for a face beside a region is nobody's face."""
    u, v = region.own(face.centre[0], face.centre[1])
    half = np.array([region.width, region.width * region.tall]) * 0.4
    box = np.concatenate([region.centre - half, region.centre + half])
    return bool(u**2 + (v / region.tall) ** 2 < 1) and overlap(face.box, box) > 0.3


def _wider(params: ObscureParams, room: float) -> ObscureParams:
    return replace(params, margin=params.margin + room)


def _why(strength: Strength, found: bool) -> str:
    steps = [f"cells are {strength.times:g} times larger"] if strength.times > 1 else []
    steps += ["in a cold colour"] if strength.cold else []
    steps += ["nearly even"] if strength.flat else []
    steps += ["a wider margin"] if strength.room else []
    if not steps:
        return ""
    end = "so that no face finder sees a face" if not found else "and a face finder still takes some frames for a face"
    return f"Made stronger ({', '.join(steps)}), {end}."


def _share(params: ObscureParams, width: float, times: float) -> float:
    return cell_share(params.cell * times, params.cell_px, width)


def _shape(share: float, tall: float, params: ObscureParams) -> tuple[int, int]:
    """Rows and columns of cells over a region, its margin and its growth."""
    reach = 1 + HELD_ROOM + params.margin * HELD_MARGIN
    return 2 * int(np.ceil(tall * reach / (2 * share))), 2 * int(np.ceil(reach / (2 * share)))


def _read_cells(
    frames: FrameSource, placement: Placement, params: ObscureParams, times: float, report: Report
) -> dict[str, Any]:
    """For each region by its name: the cells' held colours, on every few frames."""
    widths: dict[str, float] = {}
    talls: dict[str, float] = {}
    for k in range(len(frames)):
        for region in regions_on(placement, k, params):
            widths[region.name] = min(widths.get(region.name, np.inf), region.width)
            talls[region.name] = max(talls.get(region.name, 0.0), region.tall)
    shares = {name: _share(params, width, times) for name, width in widths.items()}
    shapes = {name: _shape(shares[name], talls[name], params) for name in shares}
    numbers: dict[str, list[int]] = {name: [] for name in shares}
    means: dict[str, list[np.ndarray]] = {name: [] for name in shares}
    for k in range(0, len(frames), STORED_EVERY):
        report(k, len(frames), f"reading what is hidden, frame {k}")
        canvas = Canvas(frames[k], frames.encoding)
        for region in regions_on(placement, k, params):
            box = clip_box(bounding_box(region.polygon), *canvas.size)
            if box is None:
                continue
            shape = shapes[region.name]
            columns, rows = _cell_of(region, box, shares[region.name], shape)
            numbers[region.name].append(k)
            means[region.name].append(
                cell_means(canvas.read(box), np.floor(columns).astype(int), np.floor(rows).astype(int), shape)
            )
    out: dict[str, Any] = {}
    for name, share in shares.items():
        if numbers[name]:
            kept = held(numbers[name], means[name])
            cells = kept.colours * kept.light[:, None, None, None]
            out[name] = {"share": share, "frames": numbers[name], "colours": np.round(cells, 4).tolist()}
    return out


def _cell_of(region: Region, box: Box, share: float, shape: tuple[int, int]) -> tuple[np.ndarray, np.ndarray]:
    """Column and row, with their fractions, of each pixel of a box: cells stand still on the region."""
    ys, xs = np.mgrid[box[1] : box[3], box[0] : box[2]].astype(np.float64)
    u, v = region.own(xs, ys)
    return u / (2 * share) + shape[1] / 2, v / (2 * share) + shape[0] / 2


def _laid(
    site: Site, region: Region, params: ObscureParams, prepared: dict[str, Any]
) -> tuple[Box, ImageF32, MatteF32] | None:
    """One region's cover and matte; a mosaic has no soft edge."""
    feather = site.feather if params.look != "mosaic" else 0.0
    box = clip_box(bounding_box(region.polygon, max(site.grow, 0) + feather + 1), *site.canvas.size)
    if box is None:
        return None
    # A feather lies outside the outline, so nothing inside shines through.
    matte = feathered(outline_distance(region.polygon, box) - np.float32(max(site.grow, 0)), feather)
    if not (matte > 0).any():
        return None
    stored = prepared["cells"].get(region.name)
    if params.look == "cover" or stored is None:
        flat = np.array([int(params.colour[i : i + 2], 16) for i in (1, 3, 5)], np.float32) / np.float32(255)
        return box, np.broadcast_to(srgb_decode(flat), (*matte.shape, 3)).astype(np.float32), matte
    near = int(np.argmin(np.abs(np.array(stored["frames"]) - site.k)))
    cells = flattened(np.array(stored["colours"][near], np.float32), prepared["flat"], prepared["cold"])
    return box, _covered(site, region, params, box, cells, stored["share"]), matte


def _covered(site: Site, region: Region, params: ObscureParams, box: Box, cells: ImageF32, share: float) -> ImageF32:
    columns, rows = _cell_of(region, box, share, cells.shape[:2])
    last = np.array(cells.shape[:2]) - 1
    if params.look == "mosaic" and params.grid == "face":
        i, j = np.floor(rows).astype(int), np.floor(columns).astype(int)
        return cells[np.clip(i, 0, last[0]), np.clip(j, 0, last[1])]
    # A smooth picture through the cells' means holds no more than they do.
    at = ((columns - 0.5).astype(np.float32), (rows - 0.5).astype(np.float32))
    smooth = np.maximum(cv2.remap(cells, *at, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), 0)
    if params.look == "blur":
        return smooth
    size = int(np.ceil(share * region.width))
    ys, xs = np.mgrid[box[1] : box[3], box[0] : box[2]] // size
    ys, xs = ys - ys.min(), xs - xs.min()
    return np.nan_to_num(cell_means(smooth, xs, ys, (int(ys.max()) + 1, int(xs.max()) + 1)))[ys, xs].astype(np.float32)
