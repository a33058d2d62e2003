"""The CIEDE2000 colour difference.

References
    [SWD05]  G. Sharma, W. Wu, E. N. Dalal, "The CIEDE2000 color-difference formula: implementation notes,
             supplementary test data, and mathematical observations", Color Research and Application 30(1),
             2005, doi:10.1002/col.20070. Equation numbers below are theirs.
"""

import numpy as np


def delta_e_2000(lab_1: np.ndarray, lab_2: np.ndarray) -> np.ndarray:
    """Colour difference of L*, a*, b* arrays (..., 3); returns (...), float64; k_L = k_C = k_H = 1."""
    L1, a1, b1 = np.moveaxis(np.asarray(lab_1, np.float64), -1, 0)
    L2, a2, b2 = np.moveaxis(np.asarray(lab_2, np.float64), -1, 0)
    # Step 1, (2)-(7)
    c_bar7 = ((np.hypot(a1, b1) + np.hypot(a2, b2)) / 2) ** 7
    g = 0.5 * (1 - np.sqrt(c_bar7 / (c_bar7 + 25.0**7)))
    a1p, a2p = (1 + g) * a1, (1 + g) * a2
    c1p, c2p = np.hypot(a1p, b1), np.hypot(a2p, b2)
    h1p = np.degrees(np.arctan2(b1, a1p)) % 360
    h2p = np.degrees(np.arctan2(b2, a2p)) % 360
    # Step 2, (8)-(11)
    d_l, d_c = L2 - L1, c2p - c1p
    neutral = c1p * c2p == 0
    d_h = h2p - h1p
    d_h = np.where(d_h > 180, d_h - 360, np.where(d_h < -180, d_h + 360, d_h))
    d_h = np.where(neutral, 0.0, d_h)
    d_big_h = 2 * np.sqrt(c1p * c2p) * np.sin(np.radians(d_h) / 2)
    # Step 3, (12)-(22)
    l_bar, c_bar = (L1 + L2) / 2, (c1p + c2p) / 2
    h_sum = h1p + h2p
    h_bar = np.where(np.abs(h1p - h2p) <= 180, h_sum / 2, np.where(h_sum < 360, (h_sum + 360) / 2, (h_sum - 360) / 2))
    h_bar = np.where(neutral, h_sum, h_bar)
    t = (
        1
        - 0.17 * np.cos(np.radians(h_bar - 30))
        + 0.24 * np.cos(np.radians(2 * h_bar))
        + 0.32 * np.cos(np.radians(3 * h_bar + 6))
        - 0.20 * np.cos(np.radians(4 * h_bar - 63))
    )
    d_theta = 30 * np.exp(-(((h_bar - 275) / 25) ** 2))
    r_c = 2 * np.sqrt(c_bar**7 / (c_bar**7 + 25.0**7))
    s_l = 1 + 0.015 * (l_bar - 50) ** 2 / np.sqrt(20 + (l_bar - 50) ** 2)
    s_c, s_h = 1 + 0.045 * c_bar, 1 + 0.015 * c_bar * t
    r_t = -np.sin(np.radians(2 * d_theta)) * r_c
    e_l, e_c, e_h = d_l / s_l, d_c / s_c, d_big_h / s_h
    return np.sqrt(np.maximum(e_l**2 + e_c**2 + e_h**2 + r_t * e_c * e_h, 0.0))
