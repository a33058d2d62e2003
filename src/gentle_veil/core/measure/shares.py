"""How much of a pixel's light is that of a thing in front, the rest being the surface's.

At a sharp edge that is told from what lies right beside it. What passes fast, or out of focus, has no edge: it is
smeared over the surface. Deep within it is the thing alone; from there its light is carried outwards, and how the
surface would look is known, so that each pixel tells its share, the better the farther the two are apart and the surer
the surface is. Shares change little along the edge, so that pixels which tell stand in for those that do not. What does
not lie between the two is the thing itself.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from gentle_veil.core.composite.matte import distance_from, grown
from gentle_veil.core.measure.surface_look import Look
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32

THING = 0.5  # label
MIXED_PX, BESIDE_SIGMA, LEAST_NEAR = 2, 3.0, 1e-3  # field px of an edge; in which the thing is asked; its least share
SHARP = (0.3, 0.7)  # shares over which a sharp edge goes from surface to thing: pixels are one or the other
LEAST_APART = 0.2  # of the surface's light, by which a thing differs from it where shares are told
DEEP, SMEARED_PX = 0.7, 28.0  # of how deep a thing goes, and field px: from where it is smeared no more
CLOSED = 5  # field px, side of gaps in a thing that are none
OWN_SIGMAS, WIDER = (3.0, 10.0), 1e-3  # field px, in which its own light is asked; how little the wider one weighs
OWN_STRAYS, SLIP = 0.15, 3  # of its own light; field px, side of the neighbourhood in which the surface may be off
OTHER_STRAYS = 0.1  # per natural log of tone off the usual one, from which light is told: on it that may lie otherwise
NONE_SURER = 0.05  # of the way between surface and thing
ALONG_PX, ALONG_STEP, ACROSS_SIGMA, COURSE_SIGMA = 14, 2, 1.0, 8.0  # field px along an edge; in which it runs straight
OUTSIDE_PX, FADING_PX = 12, 6  # field px around a thing's labels, into which it is smeared at most
SLOPE, SOFT_PX = (0.15, 0.85), 6  # shares, and field px over which they go on at least where there is no sharp edge
MOST_MIXED, BEGINS = 0.97, 0.5  # shares
LEAST_OWN = 0.1  # share from which it tells of the thing's light
LINE_SIGMA, WAY_SIGMA, OFF_LINE = 4.0, 12.0, 0.2  # field px; of the way between surface and thing, near by or around


@dataclass(frozen=True)
class Shares:
    """How much of the light is a thing's, ``share`` (h, w), and where they mix its own light (h, w, 3); None if it has
    sharp edges only."""

    share: MatteF32
    own: ImageF32 | None = None


def shares_of(label: MatteF32, seen: ImageF32, bare: ImageF32, look: Look) -> Shares:
    """The shares of things that are told by labels (h, w), 1 for a thing.

    Convention: ``seen`` is the frame and ``bare`` what it would show with nothing in front, (h, w, 3) natural log of
                light; ``look`` is the surface's
    """
    thing = label > THING
    if not thing.any():
        return Shares(label)
    light, surface = np.exp(seen), np.exp(bare)
    edged, strays = _edged(label, thing, light, surface), _strays(bare, surface, look)
    share = _smeared(edged, thing, light, surface, strays)
    if share is None:
        return Shares(edged)
    return Shares(share, _own_light(share, light, surface, strays))


def _edged(label: MatteF32, thing: MaskBool, light: ImageF32, surface: ImageF32) -> MatteF32:
    """Labels with shares at sharp edges, told from the thing right beside them."""
    edge = grown(thing, MIXED_PX) & grown(~thing, MIXED_PX)
    core = thing & ~grown(~thing, 1)
    own, near = _beside(light, core.astype(np.float32), (BESIDE_SIGMA,))
    across = own - surface
    apart = _dot(across, across)
    share = _dot(light - surface, across) / np.maximum(apart, 1e-9)
    told = edge & (apart > LEAST_APART**2 * _dot(surface, surface)) & (near > LEAST_NEAR)
    ends = np.clip((share - SHARP[0]) / (SHARP[1] - SHARP[0]), 0, 1)
    return np.where(told, ends, label).astype(np.float32)


def _strays(bare: ImageF32, surface: ImageF32, look: Look) -> MatteF32:
    """By how much a surface's light may be off, squared (h, w): by itself, by its drawing, by light that is told from
    what is usual upon it."""
    slip = np.ones((SLIP, SLIP), np.uint8)
    drawn = cv2.dilate(surface, slip) - cv2.erode(surface, slip)
    tone = bare.mean(axis=-1)
    other = OTHER_STRAYS * (tone - np.median(tone[look.inside]))
    return np.asarray((look.strays[0] ** 2 + other**2) * _dot(surface, surface) + _dot(drawn, drawn), np.float32)


def _smeared(label: MatteF32, thing: MaskBool, light: ImageF32, surface: ImageF32, strays: MatteF32) -> MatteF32 | None:
    """Labels with the shares of what is smeared, wherever they go on for longer than over a sharp edge; None where they
    do not."""
    thing = cv2.morphologyEx(thing.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((CLOSED, CLOSED), np.uint8)) > 0
    depth = distance_from(~thing)
    around = 2 * int(SMEARED_PX) + 1
    deepest = cv2.dilate(depth, np.ones((around, around), np.uint8))
    core = thing & (depth >= np.minimum(SMEARED_PX, DEEP * deepest))
    share, told = _told(thing, core, light, surface, strays)
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (SOFT_PX, SOFT_PX))
    between = ((share > SLOPE[0]) & (share < SLOPE[1])).astype(np.uint8)
    soft = cv2.morphologyEx(between, cv2.MORPH_OPEN, disc) > 0
    mixed = told & ~core & grown(thing, OUTSIDE_PX) & grown(soft, OUTSIDE_PX) & (share < MOST_MIXED)
    count, pieces = cv2.connectedComponents(mixed.astype(np.uint8))
    begins = np.bincount(pieces[grown(~thing, 1) & thing & (share < BEGINS)], minlength=count) > 0
    begins[0] = False
    if not begins.any():
        return None
    share *= np.clip((OUTSIDE_PX - distance_from(thing)) / FADING_PX, 0, 1)
    return np.where(begins[pieces], share, label).astype(np.float32)


def _told(
    thing: MaskBool, core: MaskBool, light: ImageF32, surface: ImageF32, strays: MatteF32
) -> tuple[MatteF32, MaskBool]:
    """Shares (h, w) by the light of a thing's ``core`` (h, w), and where what is seen does lie between the two."""
    own, near = _beside(light, core.astype(np.float32), OWN_SIGMAS)
    across = own - surface
    apart = _dot(across, across)
    doubt = strays + OWN_STRAYS**2 * _dot(own, own) + NONE_SURER**2 * apart
    each = np.clip(_dot(light - surface, across) / np.maximum(apart, 1e-9), -1, 2).astype(np.float32)
    tells = (apart / np.maximum(doubt, 1e-9)).astype(np.float32) ** 2
    share = np.clip(_along(each, tells, thing), 0, 1)
    off = light - surface - share[..., None] * across
    off_line = cv2.GaussianBlur(_dot(off, off), (0, 0), LINE_SIGMA)
    way = np.max([cv2.GaussianBlur(apart, (0, 0), sigma) for sigma in (LINE_SIGMA, WAY_SIGMA)], axis=0)
    return share, (near > 0) & (off_line < OFF_LINE**2 * way)


def _own_light(share: MatteF32, light: ImageF32, surface: ImageF32, strays: MatteF32) -> ImageF32:
    """A thing's own light (h, w, 3): what is left of the frame's without the surface's share, calm, so that thing and
    surface mixed give the frame again, wherever the surface is not drawn upon."""
    part = np.maximum(share, LEAST_OWN)
    own = (light - (1 - part)[..., None] * surface) / part[..., None]
    doubt = (1 - part) ** 2 * strays + (part * OWN_STRAYS) ** 2 * _dot(light, light)
    weight = np.where(share > LEAST_OWN, part**2 / np.maximum(doubt, 1e-9), 0).astype(np.float32)
    return np.maximum(_beside(own.astype(np.float32), weight, OWN_SIGMAS)[0], 0)


def _along(share: MatteF32, weight: MatteF32, thing: MaskBool) -> MatteF32:
    """The mean of shares (h, w) by ``weight`` along the edge of a ``thing`` (h, w)."""
    calm = cv2.GaussianBlur(thing.astype(np.float32), (0, 0), COURSE_SIGMA)
    across = np.stack([cv2.Sobel(calm, cv2.CV_32F, 1, 0), cv2.Sobel(calm, cv2.CV_32F, 0, 1)], axis=-1)
    across /= np.maximum(np.linalg.norm(across, axis=-1, keepdims=True), 1e-9)
    both = cv2.GaussianBlur(np.stack([share * weight, weight], axis=-1), (0, 0), ACROSS_SIGMA)
    y, x = np.mgrid[: share.shape[0], : share.shape[1]].astype(np.float32)
    total = np.zeros_like(both)
    for far in range(-ALONG_PX, ALONG_PX + 1, ALONG_STEP):
        there = cv2.remap(both, x - far * across[..., 1], y + far * across[..., 0], cv2.INTER_LINEAR)
        total += np.float32(np.exp(-2 * (far / ALONG_PX) ** 2)) * there
    return total[..., 0] / np.maximum(total[..., 1], 1e-9)


def _beside(light: ImageF32, weight: MatteF32, sigmas: tuple[float, ...]) -> tuple[ImageF32, MatteF32]:
    """The mean light (h, w, 3) near by, by ``weight`` (h, w), and how much weight there is (h, w)."""
    both = np.concatenate([light * weight[..., None], weight[..., None]], axis=-1)
    near = sum(np.float32(WIDER**i) * cv2.GaussianBlur(both, (0, 0), sigma) for i, sigma in enumerate(sigmas))
    return near[..., :3] / np.maximum(near[..., 3:], 1e-12), near[..., 3]


def _dot(a: ImageF32, b: ImageF32) -> MatteF32:
    return np.einsum("yxc,yxc->yx", a, b)
