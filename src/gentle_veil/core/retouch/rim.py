"""The rim of a rounded surface, where the picture goes over from skin to what is behind it.

Lens, light and hairs make that a slope of several px, steeper or softer on each frame. How it runs is read along the
rim on the very frame, in shares of skin; whatever is laid up to the rim goes over in the same way.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np

from gentle_veil.core.composite.matte import distance_from, grown
from gentle_veil.core.retouch.membrane import broad_blur, halved
from gentle_veil.core.retouch.surface_colour import on_surface, rooted
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32

LARGE_PX = 160  # px of a box, from which the surface is told at half the size
OUTER_PX, INNER_PX = 8, 14  # px on both sides of the rim in which the slope is read
PLACES = np.arange(1 - OUTER_PX, INNER_PX + 1)  # px from the rim: 0 is the last behind it, 1 the first of the surface
DEEP_PX = 24  # px from the rim, within which skin tells what the slope comes from
NEAR_SIGMA = 8.0  # px around a pixel in which both its sides are asked
FEW = 1e-3  # share of pixels around one, from which their mean is half believed
MANY = 24  # pixels at a distance, for its share of skin
LEAST_APART = 0.1  # of what is behind, between the two sides
ROUNDS, MOVED_SIGMA = 3, 2.0  # in which the rim is moved to where its slope is; px along it over which it moves alike
REST_SIGMA = 2.5  # px over which its slope is steeper or softer than elsewhere
MOST_OFF, MOST_PX = 0.5, 2.0  # share by which a pixel may be off; px that the rim moves in a round
UNSURE = 0.002  # of a slope's square, below which nothing tells where it is
SLOW, LEAST_STEEP = 0.25, 0.5  # of the steepest rise, below which it is shade; share that a blurred edge rises to
SEEN, WHOLE = 0.04, 0.96  # shares of skin at which the slope begins and ends
SOFT_SIGMA = 0.7  # px of a rim of which nothing could be read
DARKEST = 2e-3
BLURRED_PX = 2  # around a mark that its blur reaches
TAKEN_PX = 4.0  # from the rim, from which ink that looks like what is behind is no blur of it
BY_PX = 28  # from what is behind, within which a mark is by the rim
BESIDE_PX, LEAST_EDGE = 14, 12  # px around it, and px of rim in that, that tell how the rim goes on
ALONG_TIMES, ALONG_PX = 1.0, 20  # mark's sizes and px around it, in which the slope is alike
LARGE_SHARE = 0.2  # of the largest part of what is behind
LINE_ROUNDS, OUTLYING, MOST_SPREAD_PX = 4, 3.0, 1.5  # in which a parabola is laid through it; spreads; px it may spread


@dataclass(frozen=True)
class Rim:
    """``depth`` (h, w) px from what is behind, 0 and less within it; ``there`` (h, w) where something may be laid;
    ``share`` (h, w) of the surface in each pixel, the rest being ``beyond`` (h, w, 3); ``slope`` px from the rim within
    which they mix, or the surface grows dark towards it; ``steep`` the px and the share up to which it is the lens
    that mixes them."""

    depth: ImageF32
    there: MatteF32
    slope: float = 0.0
    share: MatteF32 | None = None
    beyond: ImageF32 | None = None
    steep: tuple[float, float] = (0.0, 1.0)

    def by_the_lens(self) -> "Rim":
        """The rim without the shade that the surface has towards it: for what has that shade itself."""
        px, least = self.steep
        share = None if self.share is None else np.minimum(self.share / np.float32(least), 1).astype(np.float32)
        return replace(self, slope=min(px, self.slope), share=share)

    def up_to(self, made_lin: ImageF32) -> ImageF32:
        """What was made for the surface (h, w, 3), going over at the rim as the picture does."""
        if self.share is None or self.beyond is None:
            return made_lin
        return np.asarray(self.beyond + self.share[..., None] * (made_lin - self.beyond), np.float32)


def read_rim(
    frame_lin: ImageF32,
    inside: MaskBool,
    shown: Callable[[MaskBool], MaskBool] | None = None,
    own: np.ndarray | None = None,
    through: MaskBool | None = None,
    seems: MaskBool | None = None,
    drawn: MaskBool | None = None,
    front: MaskBool | None = None,
) -> Rim:
    """The rim of the surface that a mark (``inside``, (h, w)) lies on, in a picture (h, w, 3) around it.

    ``shown`` tells which of the places (h, w) that seem to be behind show the surface all the same: dark ink and a cold
    shade may look like hair. It is asked only where any of them lie within the mark. ``own`` as in `on_surface`.
    ``through`` (h, w) is what of the mark tells nothing of the rim, which goes on along it as on both sides.
    ``seems`` (h, w) is what `behind_the_rim` gives without ``shown``, where that is known. ``drawn`` (h, w) is darker
    than the surface, and tells nothing of its slope, which there is as it is along it; nor does what lies in ``front``
    (h, w) of it.
    """
    blind = np.zeros_like(inside) if through is None else grown(through, BLURRED_PX)
    behind = behind_the_rim(frame_lin, inside, own=own, front=front) if seems is None else seems
    behind = _not_shown(behind, inside, shown) & ~blind
    line = None if through is None else rim_along(behind, blind)
    if line is not None:
        behind |= blind & (line <= 0)
    if not behind.any():
        return Rim(np.full(inside.shape, 1e3, np.float32), np.ones(inside.shape, np.float32))
    depth = np.where(behind, 1 - distance_from(~behind), distance_from(behind)).astype(np.float32)
    if line is not None:
        depth = np.where(np.isnan(line), depth, line)
    hard = Rim(depth, cv2.GaussianBlur(1 - behind.astype(np.float32), (0, 0), SOFT_SIGMA))
    if not (behind & inside).any():
        return hard
    shares, told, beyond = _shares(frame_lin, depth)
    unread = blind if drawn is None else blind | grown(drawn, BLURRED_PX)
    unread = unread if front is None else unread | front
    band = told & (depth > -OUTER_PX) & (depth < INNER_PX) & ~unread
    if through is not None:
        band &= grown(through, _along_px(through))
    settled = _settled(depth, shares, band)
    if settled is None:
        return hard
    settled_depth, profile = settled
    depth = carried_along(depth, settled_depth, band, unread, profile) if unread.any() else settled_depth
    share = np.interp(depth, PLACES, profile).astype(np.float32)
    off = np.where(band, np.clip(shares - share, -MOST_OFF, MOST_OFF), 0).astype(np.float32)
    count = cv2.GaussianBlur(band.astype(np.float32), (0, 0), REST_SIGMA)
    share = share + cv2.GaussianBlur(off, (0, 0), REST_SIGMA) / (count + np.float32(0.1))
    share = np.clip(1 - (1 - share) * _fading(depth), 0, 1).astype(np.float32)
    first, last = (float(PLACES[np.flatnonzero(profile >= least)[0]]) for least in (SEEN, WHOLE))
    there = np.clip(depth - first + 1, 0, 1).astype(np.float32)
    return Rim(depth, there, max(last, 0.0), share, beyond, _steep(profile))


def behind_the_rim(
    frame_lin: ImageF32,
    inside: MaskBool,
    shown: Callable[[MaskBool], MaskBool] | None = None,
    own: np.ndarray | None = None,
    size: float = 1.0,
    front: MaskBool | None = None,
) -> MaskBool:
    """Where the picture shows what is behind the surface, (h, w); all as in `read_rim`, ``size`` and ``front`` as in
    `on_surface`."""
    return _not_shown(_behind(frame_lin, inside, own, size, front), inside, shown)


def _not_shown(behind: MaskBool, inside: MaskBool, shown: Callable[[MaskBool], MaskBool] | None) -> MaskBool:
    if shown is None or not (behind & inside).any():
        return behind
    return rooted(behind & ~shown(behind), ~inside)


def taken_for_behind(behind: MaskBool, ink: MaskBool) -> bool:
    """Whether some ``ink`` (h, w) of a mark looks like what is ``behind``, far inside of where the rim goes on along
    it, or where nothing tells how it does."""
    if not (behind & ink).any():
        return False
    blind = grown(ink, BLURRED_PX)
    line = rim_along(behind, blind)
    return line is None or not bool((line[behind & ink] <= TAKEN_PX).all())


def not_ink(behind: MaskBool, inside: MaskBool) -> MaskBool:
    """What is ``behind`` (h, w), without what of a mark (``inside``) only looks like it, far within the rim that goes
    on along it."""
    if not (behind & inside).any():
        return behind
    line = rim_along(behind, inside)
    return behind if line is None else behind & ~(inside & (line > TAKEN_PX))


def rim_along(behind: MaskBool, inside: MaskBool) -> ImageF32 | None:
    """The depth (h, w), as in `Rim`, that pixels of a mark (``inside``) have by the rim, NaN where nothing tells; None
    where no rim is beside it.

    A dark mark by the rim looks like what is ``behind``, which tells only outside of the mark; but the rim goes on
    along the mark as it goes on both its sides, as a parabola. A mark that goes round a limb has a rim at either end.
    """
    outside = behind & ~inside
    by_the_rim = inside & (distance_from(outside) < BY_PX)
    count, ends = cv2.connectedComponents(grown(by_the_rim, BESIDE_PX).astype(np.uint8))
    depth, told = np.full(inside.shape, np.nan, np.float32), False
    for i in range(1, count):
        end = by_the_rim & (ends == i) if count > 2 else inside
        one = _along_one(outside, end)
        if one is not None:
            depth[end], told = one[end], True
    return depth if told else None


def _along_one(behind: MaskBool, inside: MaskBool) -> ImageF32 | None:
    """`rim_along` where there is one rim at most."""
    near, behind = grown(inside, BESIDE_PX), ~_large_parts(~_large_parts(behind))
    edge = behind & grown(~behind & ~inside, 1) & near & ~grown(inside, 1)
    points = np.argwhere(edge)[:, ::-1].astype(np.float64)
    if len(points) < LEAST_EDGE:
        return None
    centre = points.mean(axis=0)
    axes = np.linalg.svd(points - centre, full_matrices=False)[2]
    along, across = ((points - centre) @ axes.T).T
    kept = np.ones(len(points), bool)
    for _ in range(LINE_ROUNDS):
        rim = np.polyfit(along[kept], across[kept], 2)
        off = np.abs(across - np.polyval(rim, along))
        spread = 1.4826 * float(np.median(off))
        kept = off <= max(OUTLYING * spread, 1.0)
    if spread > MOST_SPREAD_PX:
        return None
    beyond, depth = behind & near, np.zeros(inside.shape, np.float32)
    asked = inside | beyond
    t, n = ((np.argwhere(asked)[:, ::-1] - centre) @ axes.T).T
    depth[asked] = (n - np.polyval(rim, t)) / np.hypot(1, np.polyval(np.polyder(rim), t))
    return -np.sign(np.median(depth[beyond])) * depth * inside


def _large_parts(mask: MaskBool) -> MaskBool:
    """A mask (h, w) without parts that are small beside its largest: they are moles and holes, and no background."""
    _, labels, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8))
    sizes = stats[:, cv2.CC_STAT_AREA].copy()
    sizes[0] = 0
    return np.asarray((sizes > LARGE_SHARE * sizes.max())[labels] & mask)


def _along_px(inside: MaskBool) -> int:
    """How far around a mark its rim tells how it goes on along it."""
    return round(ALONG_TIMES * (float(np.ptp(np.argwhere(inside), axis=0).max()) + 1)) + ALONG_PX


def _shares(frame_lin: ImageF32, depth: ImageF32) -> tuple[ImageF32, MaskBool, ImageF32]:
    """How much of each pixel is the surface (h, w); where that can be told; and what is beyond it (h, w, 3)."""
    h, w = depth.shape
    small, coarse = halved(frame_lin), halved(depth)
    sides = [coarse < -OUTER_PX / 2, (coarse > INNER_PX / 2) & (coarse < DEEP_PX)]
    beyond, within = (cv2.resize(_local_mean(small, side), (w, h), interpolation=cv2.INTER_LINEAR) for side in sides)
    across = within - beyond
    apart = np.einsum("yxc,yxc->yx", across, across)
    told = apart > LEAST_APART**2 * np.einsum("yxc,yxc->yx", beyond, beyond)
    shares = np.einsum("yxc,yxc->yx", frame_lin - beyond, across) / np.maximum(apart, DARKEST**2)
    return shares.astype(np.float32), told, beyond


def _settled(depth: ImageF32, shares: ImageF32, band: MaskBool) -> tuple[ImageF32, np.ndarray] | None:
    """The depth moved to where the slope is: here it runs a little further out than elsewhere, there further in.

    With it the slope's profile; None where too little tells it.
    """
    at = np.nonzero(band)
    px, share = depth[at].astype(np.float64), shares[at]
    profile = _profile(share, px)
    for _ in range(ROUNDS):
        if profile is None:
            return None
        rise = np.interp(px, PLACES, np.gradient(profile))
        off = np.clip(share - np.interp(px, PLACES, profile), -MOST_OFF, MOST_OFF)
        field = np.zeros((*depth.shape, 2), np.float32)
        field[at] = np.stack([rise * off, rise**2], axis=-1)
        moved, certain = cv2.GaussianBlur(field, (0, 0), MOVED_SIGMA)[at].T
        px += np.clip(moved / (certain + UNSURE), -MOST_PX, MOST_PX)
        profile = _profile(share, px)
    if profile is None:
        return None
    out = depth.copy()
    out[at] = px
    return out, profile


def carried_along(
    depth: ImageF32, settled: ImageF32, band: MaskBool, unread: MaskBool, profile: np.ndarray
) -> ImageF32:
    """The ``settled`` depth, moved where nothing tells it (``unread``) as the rim is on both sides."""
    rise = np.gradient(profile)  # where it does not rise, nothing tells by how much it has to be moved
    weight = (band * (np.interp(settled, PLACES, rise) / max(float(rise.max()), UNSURE)) ** 2).astype(np.float32)
    moved = np.zeros_like(depth)
    for sigma in (NEAR_SIGMA, MOVED_SIGMA):  # what is nearer counts the more
        count = cv2.GaussianBlur(weight, (0, 0), sigma)
        off = cv2.GaussianBlur((settled - depth) * weight, (0, 0), sigma)
        moved += (off - count * moved) / (count + np.float32(FEW))
    return np.where(unread, depth + moved, settled).astype(np.float32)


def _fading(depth: np.ndarray) -> np.ndarray:
    """1 at the rim, 0 where skin is no rim any more."""
    return np.clip(2 - 2 * depth / INNER_PX, 0, 1)


def _profile(shares: np.ndarray, px: np.ndarray) -> np.ndarray | None:
    """The share of skin at each of PLACES, rising from 0 to 1, by that of pixels at ``px`` from the rim; None where too
    little tells it."""
    places = np.clip(np.rint(px).astype(np.int16), PLACES[0], PLACES[-1]) - PLACES[0]
    counts = np.bincount(places, minlength=len(PLACES))
    if counts.min() < MANY:
        return None
    # Sorted by place, then by share: each place's median lies in the middle of its run.
    apart = 4.0 * max(float(np.abs(shares).max()), 1.0)
    ordered = np.sort(apart * places + shares)
    first = np.cumsum(counts) - counts
    middle = (ordered[first + (counts - 1) // 2] + ordered[first + counts // 2]) / 2
    profile = middle - apart * np.arange(len(PLACES))
    profile = profile / max(profile[-3:].mean(), 0.5)
    rising = (np.maximum.accumulate(profile) + np.minimum.accumulate(profile[::-1])[::-1]) / 2
    rising[rising < SEEN] = 0.0
    return np.clip(rising, 0.0, 1.0)


def _steep(profile: np.ndarray) -> tuple[float, float]:
    """Up to where (px, share) a slope's profile rises as a blurred edge does, and not as slowly as shade."""
    rise = np.gradient(profile)
    first = int(np.argmax(rise))
    slow = np.flatnonzero(rise[first:] < SLOW * rise[first])
    last = first + int(slow[0]) if len(slow) else len(profile) - 1
    return max(float(PLACES[last]), 0.0), float(max(profile[last], LEAST_STEEP))


def _local_mean(values: ImageF32, where: MaskBool) -> np.ndarray:
    """The mean of values (h, w, 3), half the size, of what is near by and ``where``; far from any, of what is less
    near."""
    weight = where.astype(np.float32)[..., None]
    both = np.concatenate([values * weight, weight], axis=-1)
    total = broad_blur(both, NEAR_SIGMA / 2) + np.float32(1e-3) * broad_blur(both, 2 * NEAR_SIGMA)
    return np.asarray(total[..., :3] / np.maximum(total[..., 3:], 1e-9))


def _behind(frame: ImageF32, inside: MaskBool, own: np.ndarray | None, size: float, front: MaskBool | None) -> MaskBool:
    """Where the picture shows what is behind the surface; of a large mark at half the size, its rim drawn smoothly."""
    h, w = inside.shape
    if size < 1 or min(h, w) < LARGE_PX:
        return on_surface(frame, inside, size=size, own=own, grazed=True, front=front)[1]

    def small(mask: MaskBool) -> MaskBool:
        return cv2.resize(mask.astype(np.uint8), (w // 2, h // 2), interpolation=cv2.INTER_NEAREST).astype(bool)

    hidden = None if front is None else small(front)
    _, behind = on_surface(halved(frame), small(inside), size=0.5, own=own, grazed=True, front=hidden)
    return cv2.resize(behind.astype(np.float32), (w, h), interpolation=cv2.INTER_CUBIC) > 0.5
