"""Texture for a large mark: overlapping patches, each taken live from clean skin elsewhere on the same surface.

Where patches overlap, texture is mixed so that its strength stays; a plain mean of two patches would be calmer than
skin. Which patch comes from where is chosen once; what it shows is the frame's own skin, grain, focus and motion
blur.

References
    [EF01]  A. Efros, W. Freeman, "Image quilting for texture synthesis and transfer", SIGGRAPH 2001.
    [HN18]  E. Heitz, F. Neyret, "High-performance by-example noise using a histogram-preserving blending operator",
            HPG 2018: mixing by the root of the sum of squared weights keeps the variance.
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.motion.sampling import lanczos_weights
from gentle_veil.core.retouch.membrane import broad_blur
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.surround import Surround

HALVES = (20, 14, 10, 7)  # half sides in reference px; the largest that finds clean skin
GRID_STEP = 1.4  # times half a side from patch to patch: each place has two of them
TEXTURE_SIGMA = 4.0  # reference px; what is broader is tone
MANY = 20  # times half a side; fewer places would be known again
TRIES = 120  # places that are looked at for each patch
AGAIN_COST = 1.0  # for each time that a place was taken before
STRAND_SPREADS = 3.5
HAIRY = 0.02  # share of clean skin that is strands, from which they belong to it
STRANGEST = 0.7  # natural log of how much stronger or weaker a source's texture may be than is usual
RING_TIMES = 1.15  # times the skin's own strength around the mark; its median is blind to single hairs
STRANGE_TIMES = 1.8  # times the skin's own strength, beyond which a source shows something else
CLIPPED, LOUDEST = 3.5, 1.25  # of the usual strength: single values (hairs), and a patch as a whole
TONE_COST = 3.0  # for skin that is brighter or darker by a factor of e
STRENGTH_SIGMAS = (60.0, 20.0, 7.0)  # reference px in which skin tells how strong its texture is; the nearer, the more
STRENGTH_NEAR = 0.05  # of the pixels there, whose word is taken for half
GRAIN_SIGMA = 1.5  # reference px; the texture whose strength is told is finer
MOST_GAIN = 0.3  # natural log by which a source is made stronger or weaker
DARKEST = 1e-3
LOBES = 4  # of the kernel: fewer would calm the grain


@dataclass(frozen=True)
class Quilt:
    """``half`` side of a patch; ``patches`` (N, 7): its centre, the centre of its source, reference px; -1 or 1 across
    and down, for a source that is mirrored, so that one that comes twice is not known again; and how much stronger than
    its source it is."""

    half: int
    patches: np.ndarray


def choose_patches(
    looks: list[ImageF32],
    log_tone: ImageF32,
    origin: tuple[int, int],
    wanted: MaskBool,
    clean: MaskBool,
    beside: MaskBool,
    *,
    plain: bool = True,
) -> Quilt | None:
    """Cover ``wanted`` with patches whose sources lie wholly in ``clean``; None where there is too little clean skin.

    ``plain``: hairs and other strands are no source.

    Each is as strong as the skin that lies nearest to it is (``beside``), for what is plain enough to be a source is
    calmer than skin mostly is.

    Convention: looks (h, w, 3) of the surface on the reference frame with its corner at ``origin``, and on others;
                wanted, clean, beside (h, w); log_tone (h, w, 3) is the tone that the skin has everywhere, for skin in a
                highlight has another texture
    """
    textures = [_texture(img_lin, TEXTURE_SIGMA) for img_lin in looks]
    tone = log_tone.mean(axis=-1)
    own, expected = _strengths_of(textures, clean), _strengths_of(textures, beside)
    strands = _strands(textures[0]) & clean
    usable = (clean & ~strands if plain and strands.sum() < HAIRY * clean.sum() else clean).astype(np.uint8)
    rng = np.random.default_rng(11)
    for half in HALVES:
        whole = cv2.erode(usable, np.ones((2 * half + 1, 2 * half + 1), np.uint8), borderValue=0)
        ys, xs = np.nonzero(whole)
        if len(xs) < MANY * half:
            continue
        strange = _strangeness(textures, half, ys, xs)
        usual = strange < STRANGEST
        if usual.sum() < MANY * half and half != HALVES[-1]:
            continue
        if usual.any():
            ys, xs, strange = ys[usual], xs[usual], strange[usual]
        patches, uses = [], np.zeros(len(xs))
        for cy, cx in _centres(wanted, half):
            picked = rng.choice(len(xs), min(TRIES, len(xs)), replace=False)
            away = np.hypot(xs[picked] - cx, ys[picked] - cy) / (12.0 * half)
            other = TONE_COST * np.abs(tone[ys[picked], xs[picked]] - tone[cy, cx])
            best = int(picked[np.argmin(away + strange[picked] + other + AGAIN_COST * uses[picked])])
            near = np.hypot(xs - xs[best], ys - ys[best]) < half
            uses[near] += 1
            x, y = np.array([cx, cy]) + rng.uniform(-half / 6, half / 6, 2)
            mirrored = rng.choice([-1.0, 1.0], 2)
            gain = np.exp(np.clip(expected[cy, cx] - own[ys[best], xs[best]], -MOST_GAIN, MOST_GAIN))
            source = (xs[best] + origin[0], ys[best] + origin[1])
            patches.append((x + origin[0], y + origin[1], *source, *mirrored, gain))
        return Quilt(half, np.array(patches, np.float64))
    return None


def _strengths_of(textures: list[ImageF32], where: MaskBool) -> ImageF32:
    """The log strength of the texture that is seen ``where``, near each pixel (h, w); single hairs count for little."""
    weight = where.astype(np.float32)
    total = np.zeros_like(weight)
    for texture in textures:
        fine = texture - cv2.GaussianBlur(texture, (0, 0), GRAIN_SIGMA)
        both = np.stack([np.sqrt(np.abs(fine).mean(axis=-1)) * weight, weight], axis=-1)
        out = np.full_like(weight, both[..., 0].sum() / max(weight.sum(), 1.0))
        for sigma in STRENGTH_SIGMAS:
            seen = broad_blur(both, sigma)
            trust = seen[..., 1] / (seen[..., 1] + STRENGTH_NEAR)
            out = np.asarray((1 - trust) * out + trust * seen[..., 0] / np.maximum(seen[..., 1], 1e-6), np.float32)
        total += 2 * np.log(np.maximum(out, 1e-3))
    return np.asarray(total / np.float32(len(textures)), np.float32)


def _strands(texture: ImageF32) -> MaskBool:
    """Hairs and other thin dark things, which would be known again wherever they came up."""
    grey = cv2.GaussianBlur(texture.mean(axis=-1), (0, 0), 0.8)
    usual = 1.4826 * float(np.median(np.abs(grey))) + 1e-6
    return cv2.dilate((grey < -STRAND_SPREADS * usual).astype(np.uint8), np.ones((3, 3), np.uint8)).astype(bool)


def _strangeness(textures: list[ImageF32], half: int, ys: np.ndarray, xs: np.ndarray) -> np.ndarray:
    """How far each place's texture is from being as strong as is usual, on the frame on which it is farthest."""
    worst = np.zeros(len(xs))
    for texture in textures:
        power = cv2.boxFilter((texture**2).mean(axis=-1), -1, (2 * half + 1, 2 * half + 1))[ys, xs]
        worst = np.maximum(worst, np.abs(np.log(np.maximum(power, 1e-12) / max(float(np.median(power)), 1e-12))))
    return worst


def _centres(wanted: MaskBool, half: int) -> list[tuple[int, int]]:
    """Centres on a grid of GRID_STEP times ``half`` px whose patches touch what is wanted."""
    step = round(GRID_STEP * half)
    ys, xs = np.nonzero(wanted)
    if not len(xs):
        return []
    touched = cv2.dilate(wanted.astype(np.uint8), np.ones((2 * half + 1, 2 * half + 1), np.uint8))
    rows = range(int(ys.min()) - half, int(ys.max()) + half + 1, step)
    columns = range(int(xs.min()) - half, int(xs.max()) + half + 1, step)
    h, w = wanted.shape
    return [(y, x) for y in rows for x in columns if 0 <= y < h and 0 <= x < w and touched[y, x]]


def _texture(img_lin: ImageF32, sigma: float, hidden: MatteF32 | None = None) -> ImageF32:
    """What is finer than tone (h, w, 3); what is ``hidden`` (h, w) by something else has none, and no part in tone."""
    if hidden is None:
        tone = cv2.GaussianBlur(img_lin, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
        return img_lin / np.maximum(tone, DARKEST) - 1
    free = (hidden <= 0).astype(np.float32)[..., None]
    both = np.concatenate([img_lin * free, free], axis=-1)
    blurred = cv2.GaussianBlur(both, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)
    tone = blurred[..., :3] / np.maximum(blurred[..., 3:], DARKEST)
    return np.asarray(free * (img_lin / np.maximum(tone, DARKEST) - 1), np.float32)


def lay_quilt(
    canvas: Canvas,
    track: SurfaceTrack,
    row: int,
    quilt: Quilt,
    around_mark: Surround,
    wanted: MaskBool,
    front: Callable[[Box], MatteF32 | None] = lambda box: None,
    kept: Callable[[Box], ImageF32] | None = None,
) -> ImageF32:
    """By how much each pixel of the surround's box is lighter or darker than its tone, (h, w, 3), where ``wanted``;
    ``front`` gives what lies in front of the surface over a box (h, w), None where nothing does; where it hides all
    sources, ``kept`` gives what the surface looked like there (h, w, 3)."""
    box, ring = around_mark.box, around_mark.ring
    targets = track.carry(quilt.patches[:, :2], row)
    sources = track.carry(quilt.patches[:, 2:4], row)
    scale = track.scale_at(quilt.patches[:, :2].mean(axis=0), row)
    half = max(round(quilt.half * scale), 3)
    x0, y0, x1, y1 = box
    reach = half + 8 + round(3 * TEXTURE_SIGMA * scale)
    low, high = np.floor(sources.min(axis=0)) - reach, np.ceil(sources.max(axis=0)) + reach
    low, high = np.minimum(low, (x0, y0)), np.maximum(high, (x1, y1))
    around = clip_box((int(low[0]), int(low[1]), int(high[0]), int(high[1])), *canvas.size)
    total = np.zeros((y1 - y0, x1 - x0, 3), np.float32)
    squares = np.full((y1 - y0, x1 - x0), 1e-6, np.float32)
    if around is None:
        return total
    hidden = front(around)
    texture = _texture(canvas.read(around), TEXTURE_SIGMA * scale, hidden)
    window = np.cos(np.linspace(-np.pi / 2, np.pi / 2, 2 * half + 3)[1:-1]).astype(np.float32) ** 2
    weight = window[:, None] * window[None, :]
    side = 2 * half + 1
    corners = np.rint(targets).astype(int) - half
    seen = _touching(wanted, corners - (x0, y0), side)
    mirrored, stronger = quilt.patches[:, 4:6], quilt.patches[:, 6].astype(np.float32)
    shifts = sources - np.array(around[:2]) + mirrored * (corners - targets)
    if not seen.any():
        return total
    laid = np.flatnonzero(seen)
    if hidden is not None:
        clear = ~_touching(hidden > 0, np.rint(sources).astype(int) - half - around[:2], side)
        laid = _stood_in(laid, clear)
        if kept is not None and not clear.any():
            texture = np.where(hidden[..., None] > 0, _texture(kept(around), TEXTURE_SIGMA * scale), texture)
    cut = taken(texture, shifts[laid], mirrored[laid], side)
    # On this very frame a source may have come under a fold or a hair: it is held to what is usual.
    strength = _strengths(cut)
    around_it = texture[y0 - around[1] : y1 - around[1], x0 - around[0] : x1 - around[0]][ring]
    own_skin = 1.4826 * float(np.median(np.abs(around_it))) if len(around_it) > 50 else np.inf
    stronger = stronger[laid]
    plain = strength <= STRANGE_TIMES * own_skin
    if not plain.all():
        which = _stood_in(np.arange(len(cut)), plain)
        cut, strength, stronger = cut[which], strength[which], stronger[which]
    usual = np.float32(max(min(float(np.median(strength)), RING_TIMES * own_skin), 1e-6))
    gains = np.minimum(LOUDEST * usual / np.maximum(strength, 1e-6), 1.0).astype(np.float32)
    _stitch(cut, gains * stronger, np.float32(CLIPPED * usual), weight, corners[seen] - (x0, y0), total, squares)
    return (total / np.sqrt(squares)[..., None]).astype(np.float32)


def _stood_in(which: np.ndarray, good: MaskBool) -> np.ndarray:
    """The numbers ``which`` (N,), the ``good`` ones in turn standing in for those that are not: of sources that have
    turned away, or that something has come before. Where nothing is good, they stay."""
    chosen = np.flatnonzero(good)
    return np.where(good[which], which, chosen[np.arange(len(which)) % len(chosen)]) if len(chosen) else which


@njit(cache=True, nogil=True)
def _strengths(taken):  # type: ignore[no-untyped-def]
    """Standard deviation of each patch (N,) of (N, h, w, C)."""
    out = np.empty(taken.shape[0], np.float32)
    for n in range(taken.shape[0]):
        total, squares = 0.0, 0.0
        for value in taken[n].ravel():
            total += value
            squares += value * value
        mean = total / taken[n].size
        out[n] = np.sqrt(max(squares / taken[n].size - mean * mean, 0.0))
    return out


@njit(cache=True, nogil=True, fastmath=True)
def _stitch(taken, gains, limit, weight, corners, total, squares):  # type: ignore[no-untyped-def]
    """Add weighted patches to ``total`` (h, w, 3), and their squared weights to ``squares`` (h, w)."""
    side = weight.shape[0]
    height, width = squares.shape
    for n in range(taken.shape[0]):
        left, top = corners[n, 0], corners[n, 1]
        for j in range(max(-top, 0), min(side, height - top)):
            for i in range(max(-left, 0), min(side, width - left)):
                w = weight[j, i]
                squares[top + j, left + i] += w * w
                for c in range(3):
                    value = min(max(gains[n] * taken[n, j, i, c], -limit), limit)
                    total[top + j, left + i, c] += w * value


def _touching(wanted: MaskBool, corners: np.ndarray, side: int) -> MaskBool:
    """Which squares, by their corners (N, 2) x and y, hold any of what is wanted (h, w)."""
    h, w = wanted.shape
    total = cv2.integral(wanted.astype(np.uint8))
    left, top = np.clip(corners[:, 0], 0, w), np.clip(corners[:, 1], 0, h)
    right, bottom = np.clip(corners[:, 0] + side, 0, w), np.clip(corners[:, 1] + side, 0, h)
    return np.asarray(total[bottom, right] - total[top, right] - total[bottom, left] + total[top, left] > 0)


def taken(texture: ImageF32, shifts: np.ndarray, mirrored: np.ndarray, side: int) -> np.ndarray:
    """The texture (N, side, side, C) of patches: of what lies at ``shifts`` (N, 2) and on, in the direction of
    ``mirrored`` (N, 2); beyond the picture (H, W, C) its edge.

    A patch lies everywhere between the pixels by the same part, so it is taken along rows first, then along columns.
    """
    whole = np.floor(shifts).astype(np.int64)
    across, down = (lanczos_weights(shifts[:, i] - whole[:, i], LOBES).astype(np.float32) for i in (0, 1))
    height, width, channels = texture.shape
    reach = side + 2 * LOBES  # further out there is nothing but the edge
    padded = cv2.copyMakeBorder(texture, *(2 * reach,) * 4, cv2.BORDER_REPLICATE).reshape(height + 4 * reach, -1)
    # The first of the places that each patch needs, whichever way it is taken.
    first = whole - np.where(mirrored < 0, side - 1, 0)
    first = np.clip(first, -reach, np.array([width, height]) + side) - (LOBES - 1) + 2 * reach
    out = np.empty((len(shifts), side, side, channels), np.float32)
    _take(padded, first, mirrored < 0, across, down, out)
    return out


@njit(cache=True, nogil=True, fastmath=True)
def _take(flat, first, mirrored, across, down, out):  # type: ignore[no-untyped-def]
    """Fill ``out`` (N, side, side, C) from ``flat`` (H, W * C): all loops that matter run along rows."""
    side, channels, taps = out.shape[1], out.shape[3], across.shape[1]
    length = side * channels
    rows = np.empty((side + taps - 1, length), np.float32)
    row = np.empty(length, np.float32)
    for n in range(out.shape[0]):
        left = first[n, 0] * channels
        for j in range(side + taps - 1):
            source, target = flat[first[n, 1] + j], rows[j]
            target[:] = 0.0
            for s in range(taps):
                weight, start = across[n, s], left + s * channels
                for q in range(length):
                    target[q] += weight * source[start + q]
        for j in range(side):
            row[:] = 0.0
            for r in range(taps):
                weight, source = down[n, r], rows[j + r]
                for q in range(length):
                    row[q] += weight * source[q]
            y = side - 1 - j if mirrored[n, 1] else j
            for i in range(side):
                x = side - 1 - i if mirrored[n, 0] else i
                for c in range(channels):
                    out[n, y, x, c] = row[i * channels + c]
