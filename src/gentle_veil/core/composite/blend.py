"""Blend modes and `over`.

References
    [W3C]   W3C "Compositing and Blending Level 1" (2015-01-13), section 10: separable modes 10.1, non-separable 10.2.
    [PD84]  T. Porter, T. Duff, "Compositing digital images", SIGGRAPH 1984: the operator *over*.
"""

from collections.abc import Callable

import numpy as np

from gentle_veil.core.types import ImageF32

Mode = Callable[[ImageF32, ImageF32], ImageF32]


def _normal(below: ImageF32, above: ImageF32) -> ImageF32:
    return above


def _multiply(below: ImageF32, above: ImageF32) -> ImageF32:
    return below * above


def _screen(below: ImageF32, above: ImageF32) -> ImageF32:
    return below + above - below * above


def _hard_light(below: ImageF32, above: ImageF32) -> ImageF32:
    return np.where(above <= 0.5, _multiply(below, 2 * above), _screen(below, 2 * above - 1))


def _overlay(below: ImageF32, above: ImageF32) -> ImageF32:
    return _hard_light(above, below)


def _darken(below: ImageF32, above: ImageF32) -> ImageF32:
    return np.minimum(below, above)


def _lighten(below: ImageF32, above: ImageF32) -> ImageF32:
    return np.maximum(below, above)


def _color_dodge(below: ImageF32, above: ImageF32) -> ImageF32:
    with np.errstate(divide="ignore", invalid="ignore"):
        raised = np.minimum(1.0, below / (1 - above))
    return np.where(below == 0, 0.0, np.where(above >= 1, 1.0, raised))


def _color_burn(below: ImageF32, above: ImageF32) -> ImageF32:
    with np.errstate(divide="ignore", invalid="ignore"):
        lowered = 1 - np.minimum(1.0, (1 - below) / above)
    return np.where(below >= 1, 1.0, np.where(above <= 0, 0.0, lowered))


def _soft_light(below: ImageF32, above: ImageF32) -> ImageF32:
    d = np.where(below <= 0.25, ((16 * below - 12) * below + 4) * below, np.sqrt(np.maximum(below, 0)))
    return np.where(above <= 0.5, below - (1 - 2 * above) * below * (1 - below), below + (2 * above - 1) * (d - below))


def _difference(below: ImageF32, above: ImageF32) -> ImageF32:
    return np.abs(below - above)


def _exclusion(below: ImageF32, above: ImageF32) -> ImageF32:
    return below + above - 2 * below * above


def _lum(c: ImageF32) -> ImageF32:
    return c @ np.array([[0.3], [0.59], [0.11]], c.dtype)


def _set_lum(c: ImageF32, lum: ImageF32) -> ImageF32:
    c = c + (lum - _lum(c))
    level, low, high = _lum(c), c.min(axis=-1, keepdims=True), c.max(axis=-1, keepdims=True)
    with np.errstate(divide="ignore", invalid="ignore"):
        c = np.where(low < 0, level + (c - level) * level / (level - low), c)
        return np.where(high > 1, level + (c - level) * (1 - level) / (high - level), c)


def _sat(c: ImageF32) -> ImageF32:
    return c.max(axis=-1, keepdims=True) - c.min(axis=-1, keepdims=True)


def _set_sat(c: ImageF32, sat: ImageF32) -> ImageF32:
    low, span = c.min(axis=-1, keepdims=True), _sat(c)
    return np.divide((c - low) * sat, span, out=np.zeros_like(c), where=span > 0)


def _hue(below: ImageF32, above: ImageF32) -> ImageF32:
    return _set_lum(_set_sat(above, _sat(below)), _lum(below))


def _saturation(below: ImageF32, above: ImageF32) -> ImageF32:
    return _set_lum(_set_sat(below, _sat(above)), _lum(below))


def _color(below: ImageF32, above: ImageF32) -> ImageF32:
    return _set_lum(above, _lum(below))


def _luminosity(below: ImageF32, above: ImageF32) -> ImageF32:
    return _set_lum(below, _lum(above))


BLEND_MODES: dict[str, Mode] = {
    "normal": _normal,
    "multiply": _multiply,
    "screen": _screen,
    "overlay": _overlay,
    "darken": _darken,
    "lighten": _lighten,
    "color-dodge": _color_dodge,
    "color-burn": _color_burn,
    "hard-light": _hard_light,
    "soft-light": _soft_light,
    "difference": _difference,
    "exclusion": _exclusion,
    "hue": _hue,
    "saturation": _saturation,
    "color": _color,
    "luminosity": _luminosity,
}


def blend(mode: str, below: ImageF32, above: ImageF32) -> ImageF32:
    """The blend B(cb, cs) of [W3C] of two colours (..., 3) in [0, 1]; both opaque, both in the same encoding."""
    return BLEND_MODES[mode](below, above)


def over(above: ImageF32, below: ImageF32) -> ImageF32:
    """*over* [PD84] of premultiplied pictures (..., 4): above + (1 - alpha of above) below."""
    return above + (1 - above[..., 3:]) * below
