"""How a followed surface looks, carried back to its reference: as it usually does, how far it strays by itself, and the
light upon it."""

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32

DARK = 0.02  # added to linear light before the logarithm: colour means nothing in the dark
CALM_SIGMA = 1.0  # field px
SLIP = 3  # field px, side of the neighbourhood in which an edge may be off
STRAYS_PERCENTILE, STRAYS_SIGMAS = 75, 1.15  # of a normal distribution's absolute values
STRAYS_LEAST, STRAYS_AROUND = (0.06, 0.025), 2.0  # natural log of tone and chroma; field px, Gaussian
LIGHT_ROUNDS, LIGHT_SLACK = 6, 0.12  # natural log, within which a difference is told to be light
LEAST_LIT = 12  # field px
Plane = np.ndarray  # (3, 3): constant, slope along x and along y over the field, for each channel; natural log


@dataclass(frozen=True)
class Look:
    """How a surface usually looks over a field, natural log of linear light, without the light of single frames.

    ``usual`` (h, w, 3); ``ones`` (n, h, w, 3) some frames that it was learnt from; ``inside`` (h, w) the surface;
    ``stands`` is how it looks when it does not move as fast as here
    """

    usual: ImageF32
    ones: ImageF32
    inside: MaskBool
    stands: "Look | None" = None

    @cached_property
    def tone(self) -> ImageF32:
        """(h, w), without colour."""
        return np.asarray(self.usual.mean(axis=-1))

    @cached_property
    def tones(self) -> ImageF32:
        """(n, h, w), of the frames it was learnt from."""
        return np.asarray(self.ones.mean(axis=-1))

    @cached_property
    def strays(self) -> tuple[MatteF32, MatteF32]:
        """The standard deviation of tone and of chroma at each place (h, w): folds, sheen, a rim that turns away."""
        if self.stands is not None:
            return self.stands.strays
        offs, out = [self.off(one) for one in self.ones], []
        for i, least in enumerate(STRAYS_LEAST):
            far = np.percentile([off[i] for off in offs], STRAYS_PERCENTILE, axis=0).astype(np.float32) / STRAYS_SIGMAS
            around = cv2.GaussianBlur(cv2.dilate(far, np.ones((3, 3), np.uint8)), (0, 0), STRAYS_AROUND)
            out.append(np.sqrt(around**2 + np.float32(least**2)))
        return out[0], out[1]

    @cached_property
    def steady(self) -> MatteF32:
        """How much a place (h, w) tells of the light, up to 1: little where the surface strays by itself."""
        tone, chroma = (least / far for least, far in zip(STRAYS_LEAST, self.strays, strict=True))
        return np.where(self.inside, chroma**2 * np.sqrt(tone), 0).astype(np.float32)

    @cached_property
    def _range(self) -> tuple[ImageF32, ImageF32]:
        kernel = np.ones((SLIP, SLIP), np.uint8)
        return cv2.erode(self.usual, kernel), cv2.dilate(self.usual, kernel)

    def off(self, lit: ImageF32) -> tuple[ImageF32, ImageF32]:
        """By how much tone and chroma (h, w) of a frame without its light leave what is usual around each place."""
        low, high = self._range
        beyond = np.maximum(lit - high, 0) + np.minimum(lit - low, 0)
        tone = beyond.mean(axis=-1)
        return np.abs(tone), np.linalg.norm(beyond - tone[..., None], axis=-1)

    def moving(self, kernel: ImageF32) -> "Look":
        """The same while it moves along a line ``kernel`` of field px as long as the shutter is open."""
        return replace(self, usual=smeared_along(self.usual, kernel), stands=self)

    def coarser(self, times: int) -> "Look":
        """The same on a field of so many times larger steps."""
        if times == 1:
            return self
        inside = coarser(self.inside.astype(np.float32), times) > 0.5
        return Look(coarser(self.usual, times), np.stack([coarser(one, times) for one in self.ones]), inside)


def look_on(frames: FrameSource, track: SurfaceTrack, k: int, box: Box, step: int) -> ImageF32:
    """The natural log of the light of frame k, carried back to a box of the reference in steps of ``step`` px of it,
    (h, w, 3)."""
    row = track.row(k)
    assert row is not None
    where = track.map_frame_from_ref(row, box)[::step, ::step].astype(np.float32)
    part = clip_box(bounding_box(where.reshape(-1, 2).astype(np.float64), 4), *frames.size)
    if part is None:
        return np.zeros((*where.shape[:2], 3), np.float32)
    x0, y0, x1, y1 = part
    calm = cv2.GaussianBlur(frames.encoding.to_linear(frames[k][y0:y1, x0:x1]), (0, 0), CALM_SIGMA * step)
    log = np.log(np.maximum(calm, 0) + np.float32(DARK))
    return cv2.remap(log, where[..., 0] - x0, where[..., 1] - y0, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def smeared_along(log: ImageF32, kernel: ImageF32) -> ImageF32:
    """Natural log of light (h, w, ...) that a line ``kernel`` mixes, as light does."""
    mixed = cv2.filter2D(np.exp(log), cv2.CV_32F, kernel, borderType=cv2.BORDER_REPLICATE)
    return np.asarray(np.log(np.maximum(mixed, DARK)), np.float32)


def coarser(field: ImageF32, times: int) -> ImageF32:
    """A field (h, w, ...) in steps of so many times the px, each the mean of what it stands for."""
    if times == 1:
        return field
    size = (-(-field.shape[1] // times), -(-field.shape[0] // times))
    padded = cv2.copyMakeBorder(
        field, 0, size[1] * times - field.shape[0], 0, size[0] * times - field.shape[1], cv2.BORDER_REPLICATE
    )
    return cv2.resize(padded, size, interpolation=cv2.INTER_AREA)


def lit_by(plane: Plane, shape: tuple[int, ...]) -> ImageF32:
    """A plane of light over a field of this shape, (h, w, 3)."""
    return (_basis(shape) @ plane).astype(np.float32)


def level(start: np.ndarray) -> Plane:
    """Light that is the same everywhere, (3,) per channel."""
    return np.array([start, np.zeros(3), np.zeros(3)])


def light_of(off: ImageF32, start: Plane, weight: MatteF32, hold: np.ndarray) -> tuple[Plane, float]:
    """The plane per channel on which most differences (h, w, 3) near ``start`` lie, by ``weight`` (h, w), and how much
    of the weight does. ``hold`` (3,) is the share of all weight with which level and slopes stay as they were."""
    told = weight[::2, ::2] > 0
    some, values, trust = _basis(off.shape)[::2, ::2][told], off[::2, ::2][told], weight[::2, ::2][told]
    if len(values) < LEAST_LIT:
        return start, 0.0
    stay, plane, kept = np.diag(hold) * float(trust.sum()), start, trust
    for _ in range(LIGHT_ROUNDS):
        kept = trust / (1 + (np.linalg.norm(values - some @ plane, axis=1) / LIGHT_SLACK) ** 2) ** 2
        pull = some.T * kept
        plane = np.linalg.solve(pull @ some + stay, pull @ values + stay @ start)
    return plane, float(kept.sum())


@lru_cache(maxsize=4)
def _basis(shape: tuple[int, ...]) -> ImageF32:
    """What a plane is made of at each place of a field: 1, and x and y from -1 to 1, (h, w, 3)."""
    y, x = np.mgrid[: shape[0], : shape[1]].astype(np.float32)
    return np.stack([np.ones_like(x), 2 * x / shape[1] - 1, 2 * y / shape[0] - 1], axis=-1)
