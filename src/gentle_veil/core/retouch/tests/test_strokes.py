"""Strokes on a still picture: what each tool does, and the mathematics behind healing and separation."""

import cv2
import numpy as np
import pytest
from scipy.sparse.linalg import spsolve
from skimage.draw import disk

from gentle_veil.core.retouch.separation import joined, separated
from gentle_veil.core.retouch.strokes import Painting, Stroke, coverage, healed, paint, stroke_from

SHAPE = (60, 80)


def skin(seed: int = 1) -> np.ndarray:
    rng = np.random.default_rng(seed)
    ramp = 0.2 + 0.2 * np.linspace(0, 1, SHAPE[1], dtype=np.float32)[None, :, None]
    pores = cv2.GaussianBlur(rng.standard_normal((*SHAPE, 1)).astype(np.float32), (0, 0), 1.0)[..., None]
    return (ramp * (1 + 0.1 * pores) * np.array([1.0, 0.7, 0.55], np.float32)).astype(np.float32)


def dot(tool: str, x: float, y: float, **more) -> Stroke:
    return Stroke(tool, np.array([[x, y, 1.0]]), **more)


def painted(*strokes: Stroke, base: np.ndarray | None = None, source: np.ndarray | None = None) -> Painting:
    base = skin() if base is None else base
    return paint(base, base if source is None else source, (0, 0), strokes, 12.0)


@pytest.mark.property
@pytest.mark.parametrize("radius", [2.0, 12.0, 60.0])
def test_separation__adds_up_to_the_picture_within_a_code_value(radius: float) -> None:
    picture = np.concatenate([skin(), np.zeros((4, SHAPE[1], 3), np.float32)])
    tone, texture = separated(picture, radius)
    assert np.abs(joined(tone, texture) - np.maximum(picture, 1e-4)).max() < 1 / 65535
    assert separated(skin(), radius)[1].std() < separated(skin(), 4 * radius)[1].std()


@pytest.mark.truth
def test_coverage__hard_is_a_disk_soft_falls_off_and_dabs_build_up() -> None:
    """A hard dab against scikit-image's disk of the same radius."""
    (x0, y0, _, _), cover = coverage(dot("colour", 30, 20, radius=9, softness=0), SHAPE, (0, 0))
    whole = np.zeros(SHAPE, np.float32)
    whole[y0 : y0 + cover.shape[0], x0 : x0 + cover.shape[1]] = cover
    inner, outer = np.zeros(SHAPE), np.zeros(SHAPE)
    inner[disk((20, 30), 8)], outer[disk((20, 30), 9.01)] = 1, 1
    assert (whole[inner > 0] == 1).all()
    assert (whole[outer == 0] == 0).all()
    _, soft = coverage(dot("colour", 30, 20, radius=9, softness=1), SHAPE, (0, 0))
    assert soft.max() == 1
    assert 0.4 < soft[soft.shape[0] // 2, soft.shape[1] // 2 + 5] < 0.7
    line = Stroke("colour", np.array([[10, 20, 1.0], [60, 20, 1.0]]), radius=6, softness=1, flow=0.3, opacity=0.5)
    _, laid = coverage(line, SHAPE, (0, 0))
    _, single = coverage(dot("colour", 30, 20, radius=6, softness=1, flow=0.3, opacity=0.5), SHAPE, (0, 0))
    assert single.max() == pytest.approx(0.15, abs=0.01)
    assert single.max() < laid.max() <= 0.5
    thin = Stroke("colour", np.array([[10, 20, 0.3], [60, 20, 0.3]]), radius=6, softness=0)
    _, narrow = coverage(thin, SHAPE, (0, 0))
    assert (narrow.max(axis=1) > 0.5).sum() <= 5
    assert coverage(dot("colour", 500, 20), SHAPE, (0, 0)) is None


@pytest.mark.property
def test_outside_the_stroke__nothing_changes() -> None:
    for tool in ("colour", "clone", "heal", "soften", "erase", "restore"):
        result = painted(dot(tool, 40, 30, radius=7, offset=(15, 0)))
        np.testing.assert_allclose(result.img_lin[result.covered == 0], skin()[result.covered == 0], atol=1e-7)
        assert result.covered[30, 40] == (0 if tool == "erase" else 1)


@pytest.mark.truth
def test_clone__takes_what_lies_at_the_offset_also_between_pixels() -> None:
    base = skin()
    whole = painted(dot("clone", 30, 30, radius=5, softness=0, offset=(20, -4)), base=base)
    np.testing.assert_allclose(whole.img_lin[28:33, 28:33], base[24:29, 48:53], atol=1e-6)
    half = painted(dot("clone", 30, 30, radius=5, softness=0, offset=(20.5, 0)), base=base)
    between = (base[30, 50] + base[30, 51]) / 2
    assert np.abs(half.img_lin[30, 30] - between).max() < 0.04
    marked = base.copy()
    marked[25:35, 45:55] = 0.01
    original = painted(dot("clone", 30, 30, radius=5, offset=(20, 0), sampling="original"), base=marked, source=base)
    assert original.img_lin[30, 30].mean() > 0.1


@pytest.mark.published
def test_healed__a_constant_gradient_is_solved_exactly() -> None:
    """Perez, Gangnet and Blake 2003: a source that differs by a linear ramp heals to the picture itself."""
    here = skin()
    ys, xs = np.mgrid[: SHAPE[0], : SHAPE[1]].astype(np.float32)
    ramp = (0.05 + 0.001 * xs - 0.0007 * ys)[..., None]
    inside = np.zeros(SHAPE, bool)
    inside[disk((30, 40), 14)] = True
    np.testing.assert_allclose(healed(here, here + ramp, inside), here, atol=2e-6)


@pytest.mark.published
def test_healed__agrees_with_a_sparse_direct_solve_of_the_poisson_equation() -> None:
    """scipy's direct solver on the five-point Poisson system with the source's Laplacian and the border's values."""
    here, source = skin(1), skin(7)
    inside = np.zeros(SHAPE, bool)
    inside[disk((28, 35), 9)] = True
    number = np.cumsum(inside.ravel()).reshape(SHAPE) - 1
    n = int(inside.sum())
    import scipy.sparse as sp

    matrix, rhs = sp.lil_matrix((n, n)), np.zeros((n, 3))
    for y, x in zip(*np.nonzero(inside), strict=True):
        i = number[y, x]
        for v, u in ((y - 1, x), (y + 1, x), (y, x - 1), (y, x + 1)):
            matrix[i, i] += 1
            rhs[i] += source[y, x].astype(float) - source[v, u]
            if inside[v, u]:
                matrix[i, number[v, u]] = -1
            else:
                rhs[i] += here[v, u]
    oracle = np.stack([spsolve(matrix.tocsc(), rhs[:, c]) for c in range(3)], axis=1)
    np.testing.assert_allclose(healed(here, source, inside)[inside], np.maximum(oracle, 1e-4), atol=1e-5)


@pytest.mark.truth
def test_heal__takes_a_spot_off_and_keeps_the_light() -> None:
    clean = skin()
    spotted = clean.copy()
    spotted[disk((30, 40), 4)] *= 0.4
    result = painted(dot("heal", 40, 30, radius=9, softness=0.3, offset=(-18, 0)), base=spotted)
    soft = [cv2.GaussianBlur(p, (0, 0), 3) for p in (result.img_lin, clean, spotted)]
    assert np.abs(soft[0] - soft[1])[30, 40].max() < 0.1 * np.abs(soft[2] - soft[1])[30, 40].max()


@pytest.mark.truth
def test_tone_and_texture__each_leaves_the_other() -> None:
    base = skin()
    tinted = painted(dot("colour", 40, 30, radius=12, softness=0, part="tone", colour=(0.5, 0.3, 0.2)), base=base)
    change = np.log(tinted.img_lin) - np.log(base)
    middle = np.s_[26:35, 36:45]
    before = separated(base, 12.0)[1]
    # What was laid is smooth: pores are neither covered nor doubled.
    fine = change - cv2.GaussianBlur(change, (0, 0), 1.5)
    assert fine[middle].std() < 0.02 * before[middle].std()
    assert change[30, 40, 0] > 0.2
    smooth = np.full_like(base, 0.3)
    bare = painted(
        dot("clone", 40, 30, radius=12, softness=0, part="texture", sampling="original"), base=base, source=smooth
    )
    assert separated(bare.img_lin, 12.0)[1][middle].std() < 0.35 * before[middle].std()
    assert bare.fresh[30, 40] == 1
    assert tinted.fresh[30, 40] == 0


@pytest.mark.property
def test_erase_restore_soften__take_back_bring_back_and_calm() -> None:
    base, source = skin(), skin(5)
    laid = dot("colour", 40, 30, radius=10, softness=0)
    erased = painted(laid, dot("erase", 40, 30, radius=14, softness=0), base=base)
    np.testing.assert_allclose(erased.img_lin, base, atol=1e-6)
    assert erased.covered.max() == 0
    restored = painted(dot("restore", 40, 30, radius=6, softness=0), base=base, source=source)
    np.testing.assert_allclose(restored.img_lin[28:33, 38:43], source[28:33, 38:43], atol=1e-6)
    softened = painted(dot("soften", 40, 30, radius=10, softness=0, amount=4), base=base)
    assert softened.img_lin[26:35, 40, 0].std() < 0.5 * base[26:35, 40, 0].std()


def test_stroke_from__reads_what_a_recipe_writes() -> None:
    stroke = stroke_from({"tool": "heal", "points": [[1, 2], [3, 4, 0.5]], "offset": [5, 6], "colour": "#ff8000"})
    np.testing.assert_array_equal(stroke.points, [[1, 2, 1], [3, 4, 0.5]])
    assert stroke.offset == (5.0, 6.0)
    assert stroke.colour == pytest.approx((1.0, 0.2158, 0.0), abs=1e-3)
    assert stroke.radius == Stroke("heal", stroke.points).radius
