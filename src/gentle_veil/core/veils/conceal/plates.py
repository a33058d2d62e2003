"""Plates on one or several frames, blended as the tracks that were followed from there are: by distance in time."""

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.veil import Patch, Placement, Site
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.retouch.rim import Rim, behind_the_rim, read_rim, taken_for_behind
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32
from gentle_veil.core.veils.conceal.drawn import Reach, ink_reach, unsure_px
from gentle_veil.core.veils.conceal.laid import LaidPlate
from gentle_veil.core.veils.conceal.painted import check_painted, painted_tone
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.plate import make_plate, quilt_of
from gentle_veil.core.veils.conceal.quilt import lay_quilt
from gentle_veil.core.veils.conceal.relit import lit_tone, shown_there
from gentle_veil.core.veils.conceal.slip import drawing_off
from gentle_veil.core.veils.conceal.surround import Surround

INK_PX, NEAR_INK_PX = 1.0, 3.0  # reference px from what is drawn, within which it is, and its edges are
STRONG_INK = 0.6  # of the skin's light that it lets through
SURE_PX = 1.0  # by which a mark may lie elsewhere, up to which a track is believed
GRAIN_SIGMA, GRAIN_SHARE = 0.8, np.float32(0.7)  # px; what is finer is grain; a plate has grain of its reference too


def make_plates(frames: FrameSource, placement: Placement, params: ConcealParams) -> dict[str, Any]:
    """Frame number k -> what `make_plate` gives there, for every frame that has a plate.

    Raises: ParameterError for a plate brought in that is not there, of another size, or of a frame on which the
            surface is not seen
    """
    if params.way == "brought in":
        check_painted(placement, frames.size, params)
    made = {str(k): make_plate(frames, placement.standing_on(k)) for k in _frames_of(placement, params)}
    return {k: plate for k, plate in made.items() if plate}


def _frames_of(placement: Placement, params: ConcealParams) -> list[int]:
    """The frames that have a plate: those a plate was brought in for, or the drape's references."""
    track = placement.track
    if params.way != "brought in":
        main, *others = track.reference_frames
        return [main, *(k for k in others if track.seen(k))]
    named = painted_names(placement, params)
    for k in named:
        if k != track.reference_frames[0] and not track.seen(k):
            raise ParameterError(
                f"The plate '{named[k]}' is for a frame on which the drape is not seen; follow it there, or bring the "
                "plate in for another frame."
            )
    return list(named)


def painted_names(placement: Placement, params: ConcealParams) -> dict[int, str]:
    """Frame number k -> the plate that was brought in for it."""
    main = {placement.track.reference_frames[0]: params.plate} if params.plate else {}
    return main | dict(params.plates)


def shared_out(numbers: Sequence[int], k: int) -> list[tuple[int, float]]:
    """The frames next to k among those with a plate, and each one's share: the nearer, the more; together 1."""
    below, above = max((n for n in numbers if n <= k), default=None), min((n for n in numbers if n > k), default=None)
    if below is None or above is None:
        only = above if below is None else below
        return [] if only is None else [(only, 1.0)]
    s = (k - below) / (above - below)
    return [(below, 1.0)] if s == 0 else [(below, 1 - s), (above, s)]


def lay_plates(
    site: Site, params: ConcealParams, prepared: dict[str, Any], around: Surround, matte: MatteF32
) -> Patch | None:
    """Lit tone, and texture from the quilts; textures are mixed so that their strength stays."""
    plates = prepared["plates"]
    shares = shared_out(sorted(int(k) for k in plates), site.k)
    if not shares:
        return None
    tone, texture = (np.zeros((*matte.shape, 3), np.float32) for _ in range(2))
    drawn = np.zeros_like(matte)
    frame = site.canvas.read(around.box)
    seen = [(str(k), share, *_seen_from(site, around, k)) for k, share in shares]
    laid = [
        LaidPlate(plates[k], there.placement.track.map_ref_from_frame(site.row, around.box)) for k, _, there, _ in seen
    ]
    rim = _rim(laid[0], seen[0][-1], frame)
    for (k, share, there, seen_from), plate in zip(seen, laid, strict=True):
        painted = None
        if params.way == "brought in":
            painted = painted_tone(there, painted_names(site.placement, params)[int(k)], seen_from)
        reach = _reach(there, prepared["softness"], k, seen_from, plate, frame)
        lit, own = lit_tone(plate, seen_from, frame, rim, reach, painted, params.light)
        # A painted plate stands for everything within the outline.
        own = own if params.gaps and painted is None else np.ones_like(own)
        drawn += np.float32(share) * own
        tone += np.float32(share) * lit
        texture += np.float32(share / np.sqrt(sum(s**2 for _, s in shares))) * _texture(
            there, plates[k], seen_from, painted, matte * rim.there * own > 0
        )
    made = (np.exp(tone) * np.maximum(1 + texture, 0)).astype(np.float32)
    return Patch(around.box, rim.up_to(made), matte * rim.there * drawn, bare=True)


def _rim(laid: LaidPlate, around: Surround, frame: ImageF32) -> Rim:
    """The rim of the surface in the ``frame`` (h, w, 3). Dark ink by it looks like what is behind, and is not asked."""
    inside = around.distance < 0

    def shown(doubtful: MaskBool) -> MaskBool:
        return shown_there(laid, around, frame, doubtful)

    front = None if around.front is None else around.hidden
    through, drawn = None, None
    seems = behind_the_rim(frame, inside, own=laid.own_ratios(inside), front=front)
    if (seems & inside).any():
        ink = inside & (laid.depth > 0) & (laid.away < INK_PX)
        through = ink if taken_for_behind(seems, ink) else None
        # Thin or pale ink hardly looks like a mixture with what is behind; and beside it the rim is known all along.
        drawn = ink & (laid.picture.mean(axis=-1) < STRONG_INK * np.exp(laid.tone).mean(axis=-1))
    return read_rim(frame, inside, shown, through=through, seems=seems, drawn=drawn, front=front)


def _reach(site: Site, softness: dict[str, float], k: str, around: Surround, laid: LaidPlate, frame: ImageF32) -> Reach:
    """How far ink that was seen on frame k may have spread, or slipped, on this one (``frame``, (h, w, 3))."""
    here, there = (max(softness.get(n, 0.0), 0.0) for n in (str(site.k), k))
    unsure = unsure_px(site)
    if unsure > SURE_PX and not laid.whole:
        ink = (around.distance < 0) & (laid.away < NEAR_INK_PX)
        off = drawing_off(frame, laid.picture, ink & (laid.depth > NEAR_INK_PX))
        unsure = unsure if off is None else min(unsure, off)
    return ink_reach(site, float(np.sqrt(max(here**2 - there**2, 0.0))), around.scale, unsure)


def _seen_from(site: Site, around: Surround, k: int) -> tuple[Site, Surround]:
    """The same site with the surface as it lies on frame k for its reference; the surround likewise."""
    if k == site.placement.track.reference_frames[0]:
        return site, around
    placement = site.placement.standing_on(k)
    scale = placement.track.scale_at(placement.polygon_ref.mean(axis=0), site.row)
    return replace(site, placement=placement), replace(around, scale=scale)


def _texture(
    site: Site,
    plate: dict[str, Any],
    around: Surround,
    painted: ImageF32 | None,
    wanted: MaskBool,
) -> ImageF32:
    quilt = quilt_of(plate)
    if quilt is None:
        return np.zeros((*around.distance.shape, 3), np.float32)
    track = site.placement.track

    def kept(box: Box) -> ImageF32:
        return LaidPlate(plate, track.map_ref_from_frame(site.row, box)).picture

    texture = lay_quilt(site.canvas, track, site.row, quilt, around, wanted, site.front, kept)
    if painted is not None:
        # A painted plate has pores of its own; only the grain must be the frame's.
        texture = GRAIN_SHARE * (texture - cv2.GaussianBlur(texture, (0, 0), GRAIN_SIGMA))
    return texture
