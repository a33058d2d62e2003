"""Between a source's code values and scene-linear light."""

from dataclasses import dataclass
from functools import cache

import numpy as np

from gentle_veil.core.colour.transfer import DECODE, ENCODE
from gentle_veil.core.types import ImageF32, RawImage

FULL_SCALE = {"uint8": 255.0, "uint16": 65535.0, "float32": 1.0}
BRIGHTEST = 65504.0  # of half floats; what is brighter is endless


def finite(img_raw: RawImage) -> RawImage:
    """A picture without what is no number (black) or without end; renderers leave such values in float files.

    Integers are given back as they are; the source itself is never changed.
    """
    if img_raw.dtype.kind != "f":
        return img_raw
    return np.nan_to_num(img_raw, nan=0.0).clip(-BRIGHTEST, BRIGHTEST)


@cache
def _linear_table(transfer: str, dtype: str) -> ImageF32:
    full = FULL_SCALE[dtype]
    return DECODE[transfer](np.arange(int(full) + 1, dtype=np.float32) / np.float32(full))


@dataclass(frozen=True)
class CodeValues:
    """How the numbers of a source mean light: a transfer function and an integer (or float) type.

    Full-range R'G'B' code values: 0 is black and ``full_scale`` is white, whatever the container used.
    """

    transfer: str = "bt709"
    dtype: str = "uint8"

    @property
    def full_scale(self) -> float:
        return FULL_SCALE[self.dtype]

    def to_linear(self, img_raw: RawImage) -> ImageF32:
        """Code values (..., 3) to scene-linear float32 of the same shape, always `finite`."""
        if self.dtype == "float32":
            return DECODE[self.transfer](finite(img_raw))
        return _linear_table(self.transfer, self.dtype).take(img_raw, mode="clip")

    def to_encoded(self, img_raw: RawImage) -> ImageF32:
        """Code values to encoded values in [0, 1], float32, always `finite`."""
        return np.asarray(finite(img_raw), np.float32) / np.float32(self.full_scale)

    def from_linear(self, img_lin: ImageF32) -> RawImage:
        """Scene-linear to code values, rounded to nearest and held inside the type's range."""
        return self.from_encoded(ENCODE[self.transfer](img_lin))

    def from_encoded(self, img_enc: ImageF32) -> RawImage:
        """Encoded values in [0, 1] to code values, rounded to nearest and held inside the type's range."""
        if self.dtype == "float32":
            return np.asarray(img_enc, np.float32)
        full = self.full_scale
        return np.clip(np.rint(img_enc * np.float32(full)), 0, full).astype(self.dtype)
