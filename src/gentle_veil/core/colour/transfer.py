"""Transfer functions between encoded values and scene-linear light.

Domain and range are [0, 1] with the obvious extension below 0 (odd symmetry) and above 1 (same branch).

References
    [BT709]  Recommendation ITU-R BT.709-6 (2015), item 1.2, opto-electronic transfer characteristics.
             The constants 1.099 / 0.018 are refined to 1.09929682680944 / 0.018053968510807 (as BT.2020-2
             table 4 note gives them) so that the two branches meet.
    [SRGB]   IEC 61966-2-1:1999, sections 5.2 and 5.3.
"""

from collections.abc import Callable
from typing import Literal

import numpy as np

from gentle_veil.core.types import ImageF32

TransferName = Literal["bt709", "srgb", "linear"]

ALPHA_709 = 1.09929682680944  # BT.709-6 1.2, in the precision of BT.2020-2
BETA_709 = 0.018053968510807
SRGB_BREAK_LINEAR = 0.0031308  # IEC 61966-2-1 5.2
SRGB_BREAK_ENCODED = 0.04045


def bt709_encode(lin: ImageF32) -> ImageF32:
    """Scene-linear to BT.709 encoded."""
    a = np.abs(lin)
    enc = np.where(a < BETA_709, 4.5 * a, ALPHA_709 * np.power(a, 0.45) - (ALPHA_709 - 1.0))
    return np.copysign(enc, lin).astype(np.float32)


def bt709_decode(enc: ImageF32) -> ImageF32:
    """BT.709 encoded to scene-linear."""
    a = np.abs(enc)
    lin = np.where(a < 4.5 * BETA_709, a / 4.5, np.power((a + (ALPHA_709 - 1.0)) / ALPHA_709, 1.0 / 0.45))
    return np.copysign(lin, enc).astype(np.float32)


def srgb_encode(lin: ImageF32) -> ImageF32:
    """Linear to sRGB encoded."""
    a = np.abs(lin)
    enc = np.where(a <= SRGB_BREAK_LINEAR, 12.92 * a, 1.055 * np.power(a, 1.0 / 2.4) - 0.055)
    return np.copysign(enc, lin).astype(np.float32)


def srgb_decode(enc: ImageF32) -> ImageF32:
    """sRGB encoded to linear."""
    a = np.abs(enc)
    lin = np.where(a <= SRGB_BREAK_ENCODED, a / 12.92, np.power((a + 0.055) / 1.055, 2.4))
    return np.copysign(lin, enc).astype(np.float32)


def _same(values: ImageF32) -> ImageF32:
    return np.asarray(values, np.float32)


ENCODE: dict[str, Callable[[ImageF32], ImageF32]] = {
    "bt709": bt709_encode,
    "srgb": srgb_encode,
    "linear": _same,
}
DECODE: dict[str, Callable[[ImageF32], ImageF32]] = {
    "bt709": bt709_decode,
    "srgb": srgb_decode,
    "linear": _same,
}
