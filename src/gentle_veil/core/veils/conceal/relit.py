"""The tone of a plate in the light of another frame.

What the light does is read through the mark itself: ink takes a share of the light, always the same, so the ratio of a
frame to the reference is the light's own, also where a shadow's edge crosses the drawing. Clean skin beside the ink
has the last word, also skin that only this frame shows.
"""

from collections.abc import Callable, Sequence

import cv2
import numpy as np

from gentle_veil.core.composite.matte import grown
from gentle_veil.core.retouch.membrane import broad_blur, halved
from gentle_veil.core.retouch.rim import Rim
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.drawn import Reach, drawn_matte
from gentle_veil.core.veils.conceal.laid import LaidPlate
from gentle_veil.core.veils.conceal.plate import ALIKE_SIGMA, LIMB_PX, MIXED_PX, at_limb, let_through
from gentle_veil.core.veils.conceal.surround import Surround
from gentle_veil.core.veils.conceal.undertone import BLED_PX, DARKEST

LIGHT_SIGMA = 5.0  # reference px over which a frame's light is read
REST_SIGMA, REST_NEAREST = 2.0, (8.0, 4.0)  # reference px: what clean skin next to ink says, and how far it is heard
GRAZED_PX = 5.0  # reference px from the rim, within which light that grazes the surface lies on it
LEAST_SLIP, RING_SLIP = 0.3, 1.0  # px; of the slip, from which skin beside ink is skin
ENOUGH = 0.2  # share of clean skin around a pixel from which its own surroundings are asked
PARTLY, ALL_AROUND = 0.8, 0.95  # shares of surface, up to which a place lies within it and not at its rim
# Within a solid, this much of the share further around is enough; but ink that lets through less tells next to nothing.
SOLID, SOLID_LEAST = 0.1, 0.001
DARK_SPREADS, LEAST_DARK, THING_PX = 8.0, 0.3, 2  # natural log of light, by which skin is never darker; half px
SHOWN_SIGMA, SHOWN_WITHIN, SHOWN_MEDIAN_PX = 1.5, 0.3, 5  # px; natural log in which the frame is as the reference; px
BARE = 0.5  # weight from which a place is no ink
RIM_APART, NEARER_WEIGHT = 4, 0.004  # reference px by which the rim was nearer, and what such a place still tells
ENVELOPE_PX, ENVELOPE_BELOW = 12, 0.06  # reference px, and natural log: what is as bright as the brightest around
COLOUR_APART = 0.15  # natural log of ratios of channels, within which a colour is the same
COLOURED = 0.5  # the same, from which a colour is one
HEARD_FROM = 0.05  # share of clean skin around a pixel, from which its mean is half believed

Reading = tuple[ImageF32, ImageF32, ImageF32]


def shown_there(laid: LaidPlate, around: Surround, frame: ImageF32, doubtful: MaskBool) -> MaskBool:
    """Which ``doubtful`` places (h, w) of the ``frame`` (h, w, 3) show what lies deep within the surface on the
    reference, drawn on or not; all over the surround's box, as the plate is ``laid``."""
    deep = doubtful & (laid.depth > MIXED_PX)
    if not (deep & (around.distance < 0)).any():
        return np.zeros_like(deep)
    picture = laid.picture
    seen = 1.0 if around.front is None else 1 - around.front[..., None]
    clean = halved(np.asarray(laid.weight * seen, np.float32))
    given = (halved(frame), halved(picture), clean, np.repeat(clean, 3, axis=-1))
    light = _light(*given, ALIKE_SIGMA * around.scale / 2, around.half / 2)
    light = cv2.resize(light, around.size, interpolation=cv2.INTER_LINEAR)
    calm, home = (np.log(np.maximum(cv2.GaussianBlur(p, (0, 0), SHOWN_SIGMA), DARKEST)) for p in (frame, picture))
    off = np.abs(calm - home - light).max(axis=-1)
    # Ink of a strong colour is known by that, however dark the fold is that it has come into.
    coloured = (np.abs(_ratios(home)).max(axis=-1) > COLOURED) & _of_one_colour(calm, home)
    shown = deep & ((off < SHOWN_WITHIN) | coloured)
    return cv2.medianBlur(shown.astype(np.uint8), SHOWN_MEDIAN_PX) > 0


def _ratios(log: ImageF32) -> ImageF32:
    """The log of each channel over the green one, which the strength of the light leaves as it is."""
    return log - log[..., 1:2]


def _of_one_colour(one: ImageF32, other: ImageF32) -> MaskBool:
    return np.asarray((np.abs(_ratios(one) - _ratios(other)) < COLOUR_APART).all(axis=-1))


def lit_tone(
    laid: LaidPlate,
    around: Surround,
    frame: ImageF32,
    rim: Rim,
    reach: Reach,
    painted: ImageF32 | None = None,
    match: float = 1.0,
) -> tuple[ImageF32, MatteF32]:
    """A laid plate's log tone over the surround's box in the light of the ``frame`` there (h, w, 3), and where the mark
    is drawn itself (h, w).

    ``painted`` stands in for the plate's own tone; it has what is drawn on it, up to the limb. ``match`` is how far the
    light follows the frame's; with 0 it is the reference's.
    """
    tone, picture, weight, away = laid.tone, laid.picture, laid.weight, laid.away
    sigma = LIGHT_SIGMA * around.scale
    bare = weight[..., 0] > BARE
    told = np.maximum(weight, let_through(picture, tone)) * (weight > 0)
    if around.front is not None:
        weight, told = (w * (1 - around.front)[..., None] for w in (weight, told))
    depth = rim.depth / np.float32(around.scale)
    limb_px = max(GRAZED_PX, rim.slope / around.scale)
    apart = away >= max(BLED_PX, RING_SLIP * reach.slip / around.scale)
    skin = (weight[..., 0] > 0.99) & (depth > limb_px) & apart
    if reach.slip > LEAST_SLIP:
        # Ink that lies on what should be skin would pass for shade; both alike are no darker than on the reference.
        weight, told = (
            cv2.GaussianBlur(weight, (0, 0), reach.slip)[..., None],
            cv2.GaussianBlur(told, (0, 0), reach.slip),
        )
    # What was next to the rim on the reference, and is not here, was mixed with what is behind, and lit from its side.
    nearer = np.minimum(depth, MIXED_PX) - np.minimum(laid.depth, MIXED_PX) >= RIM_APART
    here = (np.where(nearer, np.float32(NEARER_WEIGHT), 1) * (depth > limb_px))[..., None]
    tone = tone if painted is None else painted
    # Light is smooth: half the pixels tell as much of it.
    size, small = around.size, halved(frame)
    given = (small, halved(picture))
    clean, told = halved(weight * here), halved(told * here)
    asked = around.ring | (around.distance < 0)
    known = halved((asked & skin).astype(np.float32)[..., None])
    haze = 0 if painted is not None else laid.haze

    def lit_where(free: ImageF32 | float) -> tuple[ImageF32, ImageF32]:
        """The tone in the light that is read there, and what it makes of the frame at half its size."""
        light = _light(*given, clean * free, told * free, sigma / 2, around.half / 2)
        lit = tone + cv2.resize(light, size, interpolation=cv2.INTER_LINEAR)
        return lit, halved(np.exp(lit + haze))

    lit, made = lit_where(1.0)
    free = 1 - _dark_things(small, made, known)
    if (free < 1).any():
        known = known * free
        lit, made = lit_where(free)
    fresh = asked & (laid.depth < MIXED_PX) & (bare | (laid.depth < 1))
    fresh &= depth > limb_px + LIMB_PX
    if fresh.any():
        shown = halved((depth > limb_px).astype(np.float32)) > 0.5
        own = _skin_of_its_own(small, made, shown, ENVELOPE_PX * around.scale / 2)
        known = np.maximum(known, (halved(fresh.astype(np.float32)) * own)[..., None])
    limb = 0 if painted is not None or rim.share is not None else at_limb(laid.limb, depth)
    heard = (around.half / 2, around.half / 6, around.half / 18, *(px * around.scale / 2 for px in REST_NEAREST))
    rest = _rest(small, made, known, REST_SIGMA * around.scale / 2, heard)
    lit = lit + cv2.resize(rest, size, interpolation=cv2.INTER_LINEAR)
    if match < 1:
        lit = tone + np.float32(match) * (lit - tone)
    return lit + limb, np.ones_like(away) if laid.whole else drawn_matte(away, reach.beyond)


def _light(frame: ImageF32, picture: ImageF32, weight: ImageF32, told: ImageF32, sigma: float, half: float) -> ImageF32:
    """The log of how much lighter the frame is than the reference picture, all (h, w, 3), over ``sigma`` px or wider.

    Its colour is read where all channels tell together (``weight``, (h, w, 1)), its strength through each that does
    (``told``, (h, w, 3)): blue ink lets blue through. Within a solid of ``half`` px the colour is that around it.
    """
    clear, covered = weight**2, (weight > 0).astype(np.float32)
    frame_clear = np.concatenate([frame * clear, clear], axis=-1)
    picture_clear = np.concatenate([picture * clear, covered], axis=-1)

    def colour(width: float) -> Reading:
        here, there = (broad_blur(p, width) for p in (frame_clear, picture_clear))
        ratio = _log_ratio(here[..., :3], there[..., :3])
        return ratio - ratio.mean(axis=-1, keepdims=True), here[..., 3:], there[..., 3:]

    widths = (4 * sigma, 2 * sigma, sigma)
    tint = _narrowed(colour, (max(half, 8 * sigma), *widths))
    untinted, most = frame * np.exp(-tint), np.maximum(np.maximum(told[..., 0], told[..., 1]), told[..., 2])
    here, there = (np.einsum("yxc,yxc->yx", told, p) for p in (untinted, picture))
    fields = np.stack([here, there, most, covered[..., 0]], axis=-1)

    def strength(width: float) -> Reading:
        here, there, count, share = np.split(broad_blur(fields, width), 4, axis=-1)
        return _log_ratio(here, there), count, share

    return np.asarray(tint + _narrowed(strength, widths), np.float32)


def _log_ratio(here: ImageF32, there: ImageF32) -> ImageF32:
    return np.log(np.maximum(here, 1e-6) / np.maximum(there, 1e-6))


def _narrowed(read: Callable[[float], Reading], widths: Sequence[float]) -> ImageF32:
    """What is read over the narrowest of ``widths`` px where enough tells it, and over wider parts where it does not.

    Convention: ``read`` gives over a width a value, how much tells it, and what share of it is surface
    """
    out, wider, _ = read(widths[0])
    for width in widths[1:]:
        value, count, covered = read(width)
        solid = np.clip((covered - PARTLY) / (ALL_AROUND - PARTLY), 0, 1)
        least = np.minimum(1.0, (SOLID * wider + SOLID_LEAST) / ENOUGH)
        trust = count**2 / (count**2 + (ENOUGH * least**solid) ** 2)
        out = np.asarray(trust * value + (1 - trust) * out, np.float32)
        wider = count
    return out


def _dark_things(frame: ImageF32, made: ImageF32, known: ImageF32) -> ImageF32:
    """Where lashes, hairs and the like have come over what should be clean skin (``known``), (h, w, 1) 0 or 1.

    They are far darker than the tone that was ``made`` for the skin in this very light, beyond what skin is anywhere
    around
    """
    ratio = np.maximum(frame, DARKEST) / np.maximum(made, DARKEST)
    off = np.log(ratio[..., 0] * ratio[..., 1] * ratio[..., 2]) / 3
    there = known[..., 0] > 0.5
    spread = 1.4826 * float(np.median(np.abs(off[there]))) if there.any() else 0.0
    dark = there & (off < -max(DARK_SPREADS * spread, LEAST_DARK))
    return grown(dark, THING_PX).astype(np.float32)[..., None] if dark.any() else np.zeros_like(known)


def _skin_of_its_own(frame: ImageF32, made: ImageF32, surface: MaskBool, radius: float) -> ImageF32:
    """Where a frame shows bare skin by itself (h, w) 0 or 1, for places that the reference does not know: what is as
    bright as the brightest of the ``surface`` within ``radius`` px, and of the colour of the tone that was ``made``.

    Convention: frame, made (h, w, 3), surface (h, w) at half the size; a solid broader than the radius and of skin's
                own colour deceives it
    """
    calm, tone = (np.log(np.maximum(cv2.GaussianBlur(p, (0, 0), 1.0), DARKEST)) for p in (frame, made))
    size = 2 * max(round(radius), 2) + 1
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
    grey = calm.mean(axis=-1)
    grey[~surface] = grey.min()
    bright = grey > cv2.morphologyEx(grey, cv2.MORPH_CLOSE, disc) - ENVELOPE_BELOW
    return np.asarray(bright & _of_one_colour(calm, tone), np.float32)


def _rest(frame: ImageF32, made: ImageF32, weight: ImageF32, sigma: float, widths: tuple[float, ...]) -> ImageF32:
    """What clean skin around the mark (``weight``) says the tone that was ``made`` lacks, carried smoothly inwards."""
    if weight.sum() < 6:
        return np.zeros_like(made)

    def calm(values: ImageF32) -> ImageF32:
        return np.maximum(broad_blur(values * weight, sigma), DARKEST * 1e-2)

    off = np.concatenate([weight * np.log(calm(frame) / calm(made)), weight], axis=-1)
    # Broad means of what is known, then narrower ones where there are any: the nearer counts the more.
    out = np.zeros_like(made)
    for width in widths:
        total = broad_blur(off, max(width, 1.0))
        count = total[..., 3:]
        # The share count / (count + HEARD_FROM) of each mean is believed.
        out += (total[..., :3] - count * out) / (count + HEARD_FROM)
    return out
