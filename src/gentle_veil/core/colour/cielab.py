"""CIE L*a*b* of linear BT.709 / sRGB primaries under D65.

References
    [CIE15]  CIE 15:2004, Colorimetry, 3rd edition, section 8.2.1.
    [BT709]  Recommendation ITU-R BT.709-6, items 1.3 and 1.4: primaries and white point.
"""

import numpy as np

from gentle_veil.core.types import ImageF32

# Linear BT.709 R, G, B to X, Y, Z (IEC 61966-2-1, 5.2, four decimals).
XYZ_FROM_RGB = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]], np.float64)
WHITE_XYZ = XYZ_FROM_RGB.sum(axis=1)  # so that equal R, G, B are exactly neutral
DELTA = 6.0 / 29.0


def lab_from_linear(img_lin: ImageF32) -> np.ndarray:
    """Linear R, G, B (..., 3) in [0, 1] to L*, a*, b* (..., 3), float64."""
    t = np.clip(np.asarray(img_lin, np.float64), 0.0, None) @ XYZ_FROM_RGB.T / WHITE_XYZ
    f = np.where(t > DELTA**3, np.cbrt(t), t / (3 * DELTA**2) + 4.0 / 29.0)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)
