"""Grey pictures for tracking: one crop, blurred once, then halved.

A level's pixel (i, j) stands at (2i, 2j) of the level below: `cv2.pyrDown` keeps the even pixels, so levels
relate by plain division and not by the half-pixel rule of `geometry.scale`.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit, prange

from gentle_veil.core.colour.code_values import finite
from gentle_veil.core.geometry.outline import polygon_mask
from gentle_veil.core.types import ImageF32, MaskBool, Points, RawImage

PRE_BLUR_SIZE = (11, 11)  # px, 3.3 sigma each way; what lies beyond is a thousandth
SHADING_STEP = 4
SMOOTH_FROM = 2.0  # steps, of the mean's sigma: from there on a smaller mean, brought back, is the same to 1e-4
LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)  # ITU-R BT.709
# What passes in front is marked in the picture itself, by a value no contrast has; a sample that meets it is void. So
# great that it is void even where two outer weights of a cubic, of places next to whole pixels, are multiplied.
VOID, VOID_FROM = np.float32(1e30), np.float32(50.0)
VOID_MARGIN = 3  # px, how far the pre-blur carries it
DARKEST = 0.02  # keeps local contrast finite in black


@dataclass(frozen=True)
class Band:
    """Which texture is looked at: Gaussian sigmas in px.

    ``blur`` below it there is sampling error, above it lost detail; ``shading`` what is smoother is light, not texture
    """

    blur: float = 1.5
    shading: float = 12.0


@dataclass(frozen=True)
class GreyPyramid:
    """``levels[n]`` (h, w) float32 local contrast; level px = (frame px - origin) / 2**n.

    ``broad`` the finest level in the band of the coarser ones, where it has one of its own
    """

    levels: tuple[ImageF32, ...]
    origin: tuple[int, int]
    broad: ImageF32 | None = None


BAND = Band()


def grey(img_raw: RawImage, full_scale: float, weights: ImageF32 = LUMA) -> ImageF32:
    """Code values mixed by ``weights`` (3,), BT.709 luma unless said; in [0, 1] for integers, finite for all."""
    # Not cvtColor: its grey of 8-bit pictures is rounded to code values, which costs sub-pixel accuracy.
    out = np.empty(img_raw.shape[:2], np.float32)
    _weighted_sum(finite(img_raw), weights / np.float32(full_scale), out)
    return out


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def _weighted_sum(picture, weights, out):  # type: ignore[no-untyped-def]
    a, b, c = weights[0], weights[1], weights[2]
    for y in prange(out.shape[0]):
        row, into = picture[y], out[y]
        for x in range(into.size):
            into[x] = a * row[x, 0] + b * row[x, 1] + c * row[x, 2]


def gradient(picture: ImageF32) -> tuple[ImageF32, ImageF32]:
    """Derivatives by x and y, per px, with the five taps [-1 8 0 -8 1] / 12."""
    taps = np.array([[1, -8, 0, 8, -1]], np.float32) / 12
    gx = cv2.filter2D(picture, cv2.CV_32F, taps, borderType=cv2.BORDER_REPLICATE)
    return gx, cv2.filter2D(picture, cv2.CV_32F, taps.T.copy(), borderType=cv2.BORDER_REPLICATE)


def grey_pyramid(
    img_raw: RawImage,
    full_scale: float,
    levels: int,
    box: tuple[int, int, int, int] | None = None,
    held_out: Sequence[Points] = (),
    *,
    void: bool = True,
    band: Band = BAND,
    near: Band | None = None,
    weights: ImageF32 = LUMA,
) -> GreyPyramid:
    """Pyramid of a crop (x0, y0, x1, y1) of a frame, or of all of it.

    The crop is widened to whole multiples of the coarsest pixel so that every crop of a frame halves alike.
    Levels hold local contrast, ``I / G*I - 1`` with a Gaussian G of the band's ``shading``: light that changes
    smoothly over the surface, as shading does on a turning head, falls out before anything is compared. ``near`` is
    another band for the finest level: coarse levels find the place, fine texture tells it. Inside the polygons
    ``held_out`` (frame px), which do not tint the mean either, they hold VOID unless ``void`` is False: a reference
    leaves those pixels out by its mask. ``weights`` mix the channels.
    """
    height, width = img_raw.shape[:2]
    step = max(SHADING_STEP, 1 << (levels - 1))
    x0, y0, x1, y1 = (0, 0, width, height) if box is None else box
    x0 = max(0, x0 // step * step)
    y0 = max(0, y0 // step * step)
    x1, y1 = x0 + max(-(-(x1 - x0) // step) * step, 16), y0 + max(-(-(y1 - y0) // step) * step, 16)
    x1, y1 = min(width, x1), min(height, y1)
    crop = grey(img_raw[y0:y1, x0:x1], full_scale, weights)
    mask = covered(held_out, x1 - x0, y1 - y0, (x0, y0)) if held_out else None
    pictures = [local_contrast(crop, band, mask)]
    for _ in range(levels - 1):
        pictures.append(cv2.pyrDown(pictures[-1]))
    broad = None if near is None else pictures[0]
    if near is not None:
        pictures[0] = local_contrast(crop, near, mask)
    if mask is not None and void:
        for n, picture in enumerate(pictures):
            picture[mask[:: 1 << n, :: 1 << n][: picture.shape[0], : picture.shape[1]]] = VOID
        if broad is not None:
            broad[mask] = VOID
    return GreyPyramid(tuple(pictures), (x0, y0), broad)


def covered(held_out: Sequence[Points], width: int, height: int, origin: tuple[int, int] = (0, 0)) -> MaskBool:
    """Pixels (height, width) bool in one of the polygons or within VOID_MARGIN px of it."""
    mask = np.zeros((height, width), bool)
    for polygon in held_out:
        mask |= polygon_mask(polygon, width, height, origin)
    side = 2 * VOID_MARGIN + 1
    return cv2.dilate(mask.astype(np.uint8), np.ones((side, side), np.uint8)).astype(bool)


def local_contrast(picture: ImageF32, band: Band, held_out: MaskBool | None = None) -> ImageF32:
    """The contrast (H, W) of a grey picture against its own mean, nil inside ``held_out``; see `grey_pyramid`."""
    picture = cv2.GaussianBlur(picture, PRE_BLUR_SIZE, band.blur)
    # A smaller mean's grid stands on the frame's, not on the crop's, so that every crop gives the same contrast.
    step = SHADING_STEP if band.shading >= SMOOTH_FROM * SHADING_STEP else 1
    mean = _smooth(picture, band.shading, step)
    if held_out is not None:
        # What passes must not tint the mean of what is around it.
        free = (~held_out).astype(np.float32)
        share = _smooth(free, band.shading, step)
        mean = np.where(share > 1e-3, _smooth(picture * free, band.shading, step) / np.maximum(share, 1e-3), mean)
    out = np.empty_like(picture)
    if step > 1:
        _against_small_mean(picture, mean, out)
    else:
        _against_mean(picture, mean, out)
    if held_out is not None:
        out[held_out] = 0  # no contrast, so that coarser levels are not tinted by it
    return out


def _smooth(picture: ImageF32, shading: float, step: int) -> ImageF32:
    """The mean over ``shading`` px, one value for each ``step`` px across and down."""
    if step > 1:
        right, below = -picture.shape[1] % step, -picture.shape[0] % step
        if right or below:
            picture = cv2.copyMakeBorder(picture, 0, below, 0, right, cv2.BORDER_REPLICATE)
        picture = cv2.resize(picture, None, fx=1 / step, fy=1 / step, interpolation=cv2.INTER_AREA)
    side = 2 * round(3.3 * shading / step) + 1
    return cv2.GaussianBlur(picture, (side, side), shading / step)


@njit(cache=True, nogil=True, fastmath=True)
def _brought_up(row, out):  # type: ignore[no-untyped-def]
    """Fill out (SHADING_STEP * N,) with row (N,), linearly between its centres and held beyond them."""
    half = SHADING_STEP // 2
    for i in range(half):
        out[i] = row[0]
        out[out.size - 1 - i] = row[row.size - 1]
    for i in range(row.size - 1):
        level, rise = row[i], (row[i + 1] - row[i]) / np.float32(SHADING_STEP)
        for s in range(SHADING_STEP):
            out[i * SHADING_STEP + half + s] = level + np.float32(s + 0.5) * rise


@njit(cache=True, nogil=True, fastmath=True)
def _ratio(line, level, out):  # type: ignore[no-untyped-def]
    for x in range(line.size):
        out[x] = line[x] / level[x] - np.float32(1.0)


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def _against_mean(picture, mean, out):  # type: ignore[no-untyped-def]
    """Fill out with picture / mean - 1."""
    for y in prange(picture.shape[0]):
        row, level, into = picture[y], mean[y], out[y]
        for x in range(row.size):
            into[x] = row[x] / max(level[x], np.float32(DARKEST)) - np.float32(1.0)


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def _against_small_mean(picture, mean, out):  # type: ignore[no-untyped-def]
    """Fill out with picture / mean - 1, the mean brought up SHADING_STEP times, linearly between its centres."""
    height, width = picture.shape
    rows, columns = mean.shape
    for y in prange(height):
        row, level = np.empty(columns, np.float32), np.empty(columns * SHADING_STEP, np.float32)
        place = min(max((y + 0.5) / SHADING_STEP - 0.5, 0.0), rows - 1.0)
        top = int(place)
        part = np.float32(place - top)
        upper, lower = mean[top], mean[min(top + 1, rows - 1)]
        for i in range(columns):
            row[i] = max(upper[i] + part * (lower[i] - upper[i]), np.float32(DARKEST))
        _brought_up(row, level)
        _ratio(picture[y], level[:width], out[y])
