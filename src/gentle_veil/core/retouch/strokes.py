"""Strokes of a brush, drawn on a picture that stands still.

References
    [PGB03]  P. Perez, M. Gangnet, A. Blake, "Poisson image editing", SIGGRAPH 2003: healing, solved in float: the
             source's own gradients, and exactly the picture's values at the border.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np
import scipy.sparse as sp
from scipy.sparse.linalg import splu

from gentle_veil.core.colour.transfer import srgb_decode
from gentle_veil.core.retouch.separation import DARKEST, joined, separated
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, Points

TOOLS = ("colour", "clone", "heal", "soften", "erase", "restore")
PARTS = ("whole", "tone", "texture")
SAMPLINGS = ("painted", "original")
STAMP_STEP = 0.2  # of the radius, between the dabs of a stroke
HEAL_FROM = 0.02  # coverage from which a pixel belongs to what is healed
LEAST_PRESSURE = 0.05


@dataclass(frozen=True)
class Stroke:
    """One stroke in px of the reference frame.

    Convention: ``points`` (N, 3): x, y and pressure in (0, 1], which scales the radius; ``softness`` 0 is hard, 1 falls
                off from the middle; ``flow`` is what one dab lays, ``opacity`` the most a stroke lays; ``offset`` (2,)
                from a place to where clone and heal sample; ``colour`` (3,) scene-linear; ``amount`` px of softening
    """

    tool: str
    points: Points
    radius: float = 8.0
    softness: float = 0.5
    opacity: float = 1.0
    flow: float = 1.0
    part: str = "whole"
    sampling: str = "painted"
    offset: tuple[float, float] = (0.0, 0.0)
    colour: tuple[float, float, float] = (0.5, 0.5, 0.5)
    amount: float = 3.0


def stroke_from(written: dict[str, Any]) -> Stroke:
    """A stroke as it stands in a recipe; what is left out has the defaults above."""
    points = np.array([[*p, 1.0][:3] for p in written["points"]], np.float64)
    given: dict[str, Any] = {
        n: written[n] for n in ("radius", "softness", "opacity", "flow", "part", "sampling", "amount") if n in written
    }
    if "offset" in written:
        given["offset"] = (float(written["offset"][0]), float(written["offset"][1]))
    if "colour" in written:
        code = written["colour"].lstrip("#")
        encoded = np.array([int(code[i : i + 2], 16) for i in (0, 2, 4)], np.float32) / np.float32(255)
        given["colour"] = tuple(float(v) for v in srgb_decode(encoded))
    return Stroke(tool=written["tool"], points=points, **given)


@dataclass
class Painting:
    """A picture being painted: ``base`` is what was there before, ``source`` the untouched frame.

    ``img_lin`` (h, w, 3); ``covered`` (h, w) what any stroke has touched, ``fresh`` (h, w) how far texture is its own
    """

    base: ImageF32
    source: ImageF32
    origin: tuple[int, int]
    radius: float = 12.0  # of tone and texture
    img_lin: ImageF32 = field(init=False)
    covered: MatteF32 = field(init=False)
    fresh: MatteF32 = field(init=False)

    def __post_init__(self) -> None:
        self.img_lin = self.base.copy()
        self.covered = np.zeros(self.base.shape[:2], np.float32)
        self.fresh = np.zeros(self.base.shape[:2], np.float32)

    def draw(self, stroke: Stroke) -> None:
        """Lay one stroke."""
        found = coverage(stroke, self.covered.shape, self.origin)
        if found is None:
            return
        (x0, y0, x1, y1), cover = found
        at = np.s_[y0:y1, x0:x1]
        if stroke.tool == "erase":
            keep = 1 - cover[..., None]
            self.img_lin[at] = keep * self.img_lin[at] + cover[..., None] * self.base[at]
            self.covered[at] *= 1 - cover
            self.fresh[at] *= 1 - cover
            return
        if stroke.part == "whole":
            wanted = self._wanted(stroke, (x0, y0, x1, y1), cover)
            self.img_lin[at] += cover[..., None] * (wanted - self.img_lin[at])
        else:
            self._lay_part(stroke, (x0, y0, x1, y1), cover)
        self.covered[at] = np.maximum(self.covered[at], cover)
        if stroke.part != "tone":
            self.fresh[at] = np.maximum(self.fresh[at], cover)

    def _lay_part(self, stroke: Stroke, box: tuple[int, int, int, int], cover: MatteF32) -> None:
        """Lay a stroke in the tone or the texture alone; both are told from well around it."""
        room = int(2 * self.radius) + 2
        h, w = self.covered.shape
        x0, y0, x1, y1 = max(box[0] - room, 0), max(box[1] - room, 0), min(box[2] + room, w), min(box[3] + room, h)
        at = np.s_[y0:y1, x0:x1]
        c = np.zeros((y1 - y0, x1 - x0, 1), np.float32)
        c[box[1] - y0 : box[3] - y0, box[0] - x0 : box[2] - x0, 0] = cover
        wanted = np.ascontiguousarray(self._wanted(stroke, (x0, y0, x1, y1), c[..., 0]), np.float32)
        (tone, texture), (other_tone, other_texture) = (separated(p, self.radius) for p in (self.img_lin[at], wanted))
        if stroke.part == "tone":
            laid = joined(tone + c * (other_tone - tone), texture)
        else:
            laid = joined(tone, texture + c * (other_texture - texture))
        self.img_lin[at] = np.where(c > 0, laid, self.img_lin[at])

    def _wanted(self, stroke: Stroke, box: tuple[int, int, int, int], cover: MatteF32) -> ImageF32:
        """What the stroke would lay at full strength over a box."""
        x0, y0, x1, y1 = box
        at = np.s_[y0:y1, x0:x1]
        if stroke.tool == "restore":
            return self.source[at]
        if stroke.tool == "soften":
            room = int(3 * stroke.amount) + 1
            wide = np.s_[max(y0 - room, 0) : y1 + room, max(x0 - room, 0) : x1 + room]
            soft = cv2.GaussianBlur(self.img_lin[wide], (0, 0), stroke.amount, borderType=cv2.BORDER_REFLECT)
            top, left = y0 - wide[0].start, x0 - wide[1].start
            return soft[top : top + y1 - y0, left : left + x1 - x0]
        if stroke.tool == "colour":
            # Paint takes on the light and shade that it lies in, as far as tone alone is painted.
            return np.broadcast_to(np.array(stroke.colour, np.float32), (y1 - y0, x1 - x0, 3))
        sampled = _shifted(self.img_lin if stroke.sampling == "painted" else self.source, box, stroke.offset)
        if stroke.tool == "clone":
            return sampled
        return healed(self.img_lin[at], sampled, cover > HEAL_FROM)


def paint(
    base: ImageF32, source: ImageF32, origin: tuple[int, int], strokes: Sequence[Stroke], radius: float
) -> Painting:
    """All strokes, in order, on a picture whose top left pixel is ``origin`` of the reference frame."""
    painting = Painting(base, source, origin, radius)
    for stroke in strokes:
        painting.draw(stroke)
    return painting


def coverage(
    stroke: Stroke, shape: tuple[int, int], origin: tuple[int, int]
) -> tuple[tuple[int, int, int, int], MatteF32] | None:
    """How much a stroke lays, (h, w) in [0, 1], over the box (x0, y0, x1, y1) of the picture that it touches."""
    dabs = _dabs(stroke)
    reach = stroke.radius + 1
    low, high = dabs[:, :2].min(axis=0) - reach - origin, dabs[:, :2].max(axis=0) + reach - origin
    x0, y0 = (max(int(np.floor(v)), 0) for v in low)
    x1, y1 = min(int(np.ceil(high[0])) + 1, shape[1]), min(int(np.ceil(high[1])) + 1, shape[0])
    if x1 <= x0 or y1 <= y0:
        return None
    left = np.ones((y1 - y0, x1 - x0), np.float32)
    for x, y, pressure in dabs:
        radius = stroke.radius * max(pressure, LEAST_PRESSURE)
        cx, cy = x - origin[0] - x0, y - origin[1] - y0
        a0, b0 = max(int(cx - radius - 1), 0), max(int(cy - radius - 1), 0)
        a1, b1 = min(int(cx + radius + 2), x1 - x0), min(int(cy + radius + 2), y1 - y0)
        if a1 <= a0 or b1 <= b0:
            continue
        dx = np.arange(a0, a1, dtype=np.float32) - np.float32(cx)
        dy = np.arange(b0, b1, dtype=np.float32) - np.float32(cy)
        distance = np.hypot(dx[None], dy[:, None])
        left[b0:b1, a0:a1] *= 1 - np.float32(stroke.flow) * _falloff(distance, radius, stroke.softness)
    cover = np.float32(stroke.opacity) * (1 - left)
    return ((x0, y0, x1, y1), cover) if cover.any() else None


def _falloff(distance: np.ndarray, radius: float, softness: float) -> np.ndarray:
    """1 in the middle, 0 from the radius on; a hard brush has an edge of one px."""
    width = max(softness * radius, 1.0)
    t = np.clip((distance - (radius - width)) / width, 0, 1)
    return np.asarray(0.5 + 0.5 * np.cos(np.pi * t), np.float32)


def _dabs(stroke: Stroke) -> Points:
    """Places and pressures (M, 3) along the stroke, evenly spaced."""
    p = stroke.points
    if len(p) == 1:
        return p
    length = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(p[:, :2], axis=0), axis=1))])
    count = max(2, int(np.ceil(length[-1] / max(stroke.radius * STAMP_STEP, 0.5))) + 1)
    at = np.linspace(0, length[-1], count)
    return np.stack([np.interp(at, length, p[:, i]) for i in range(3)], axis=1)


def _shifted(picture: ImageF32, box: tuple[int, int, int, int], offset: tuple[float, float]) -> ImageF32:
    """A box of a picture, sampled ``offset`` px away; the edge is held."""
    x0, y0, x1, y1 = box
    xs = np.arange(x0, x1, dtype=np.float32) + np.float32(offset[0])
    ys = np.arange(y0, y1, dtype=np.float32) + np.float32(offset[1])
    if float(offset[0]).is_integer() and float(offset[1]).is_integer():
        rows = np.clip(ys.astype(int), 0, picture.shape[0] - 1)
        columns = np.clip(xs.astype(int), 0, picture.shape[1] - 1)
        return picture[np.ix_(rows, columns)]
    x, y = np.meshgrid(xs, ys)
    return cv2.remap(picture, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)


def healed(here: ImageF32, source: ImageF32, inside: MaskBool) -> ImageF32:
    """``source``'s gradients inside a mask, and exactly ``here``'s values around it [PGB03]; (h, w, 3).

    The correction is harmonic: the source plus a membrane through what it lacks at the border. Where the mask touches
    the picture's edge nothing is known beyond it, and the membrane is free there.
    """
    if not inside.any() or inside.all():
        return np.asarray(source, np.float32)
    h, w = inside.shape
    number = np.full((h, w), -1)
    number[inside] = np.arange(int(inside.sum()))
    off = (here - source).astype(np.float64)
    count = int(inside.sum())
    degree, rhs = np.zeros(count), np.zeros((count, here.shape[2]))
    rows: list[np.ndarray] = []
    columns: list[np.ndarray] = []
    for dy, dx in ((0, 1), (0, -1), (1, 0), (-1, 0)):
        ys, xs = np.nonzero(inside)
        ny, nx = ys + dy, xs + dx
        there = (ny >= 0) & (ny < h) & (nx >= 0) & (nx < w)
        me, ny, nx = number[ys, xs][there], ny[there], nx[there]
        degree[me] += 1
        known = ~inside[ny, nx]
        np.add.at(rhs, me[known], off[ny[known], nx[known]])
        rows.append(me[~known])
        columns.append(number[ny[~known], nx[~known]])
    row, column = np.concatenate(rows), np.concatenate(columns)
    system = sp.diags(degree) - sp.csr_matrix((np.ones(len(row)), (row, column)), shape=(count, count))
    out = np.array(here, np.float32)
    out[inside] = np.maximum(source[inside] + splu(system.tocsc()).solve(rhs), DARKEST)
    return out
