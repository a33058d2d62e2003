"""The mesh's solve: its matrices against dense ones, its data against finite differences, one step against truth."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.geometry.spline_field import SplineGrid
from gentle_veil.core.motion.mesh_kernels import sample_map
from gentle_veil.core.motion.mesh_precision import Stiffness
from gentle_veil.core.motion.mesh_registration import BROAD, LEVELS, NEAR, MeshRegistration
from gentle_veil.core.motion.pyramid import VOID, Band, grey_pyramid
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.synth.nonrigid import bending_sequence
from gentle_veil.core.synth.planar import planar_sequence

FULL = 255.0
NO_LIMITS = (np.inf,) * LEVELS
COARSER, FINER = Band(1.1, 4.0), Band(0.75, 2.25)


@pytest.fixture(scope="module")
def weave() -> np.ndarray:
    return planar_sequence("strong_weave", seed=3, count=2, width=200, height=150, travel=2.0).frames


def registration(frame: np.ndarray, spacing: float = 16.0) -> MeshRegistration:
    mask = np.zeros(frame.shape[:2], bool)
    mask[30:120, 40:160] = True
    return MeshRegistration(grey_pyramid(frame, FULL, 2), mask, SplineGrid((35.0, 25.0, 165.0, 125.0), spacing))


@pytest.mark.property
def test_sample_map__is_the_exact_cubic_and_says_what_is_outside() -> None:
    picture = np.random.default_rng(4).normal(size=(20, 30)).astype(np.float32)
    x = np.array([[5.25, 12.0, 28.5]], np.float32)
    y = np.array([[7.5, 3.75, 4.0]], np.float32)
    seen, inside = np.empty((1, 3), np.float32), np.empty((1, 3), np.float32)
    sample_map(picture, x, y, 1.0, 0.0, 0.0, seen, inside)
    np.testing.assert_array_equal(inside, [[1, 1, 0]])
    expected = sample_cubic(picture[..., None], np.stack([x, y], axis=-1).astype(np.float64))[..., 0]
    np.testing.assert_allclose(seen[0, :2], expected[0, :2], atol=1e-5)


@pytest.mark.property
def test_sample_map__what_is_held_out_is_never_mixed_in_however_little_it_weighs() -> None:
    picture = np.zeros((20, 30), np.float32)
    picture[5, 10] = VOID
    for part in (1e-4, 1e-5, 2e-6):  # of a px from where it would weigh nothing
        near, far = np.float32(part), np.float32(1 - part)
        x = np.array([[8 + near, 8 + near, 11 + far, 11 + far, 9.0]], np.float32)
        y = np.array([[3 + near, 6 + far, 3 + near, 6 + far, 5.0]], np.float32)
        seen, inside = np.empty((1, 5), np.float32), np.empty((1, 5), np.float32)
        sample_map(picture, x, y, 1.0, 0.0, 0.0, seen, inside)
        np.testing.assert_array_equal(inside, [[0, 0, 0, 0, 1]])
        np.testing.assert_array_equal(seen, 0)


@pytest.mark.truth
def test_solve__finds_a_bend_from_the_frame_before() -> None:
    moving = bending_sequence("strong_weave", seed=7, count=40, width=200, height=150, travel=4, turn=2, bump=8)
    r = registration(moving.frames[0])
    frame = grey_pyramid(moving.frames[2], FULL, 2)
    visible = np.ones(r.shape, np.float32)
    lattice = np.moveaxis(r.base, 0, -1).astype(np.float64)
    start = r.lattice.fit(np.moveaxis(moving.motion.carry(lattice, 1) - lattice, -1, 0))
    # The follower begins nearer, from dense motion; from the frame before it takes a few rounds.
    for _ in range(4):
        fit = r.solve(frame, start, r.start_light(), visible, Stiffness(1.5, 0.6), NO_LIMITS)
        start = fit.controls
    truth = moving.motion.carry(lattice, 2) - lattice
    found = np.moveaxis(r.displacement(fit.controls), 0, -1)
    step = moving.motion.carry(lattice, 2) - moving.motion.carry(lattice, 1)
    assert np.linalg.norm(step, axis=-1).mean() > 0.2
    assert np.median(np.linalg.norm(found - truth, axis=-1)) < 0.1
    assert fit.correlation > 0.9
    assert fit.inside_share == 1.0
    assert (fit.spread[..., 0] > 0).all()


@pytest.mark.truth
def test_solve__a_soft_frame_is_told_better_by_the_coarser_band() -> None:
    moving = bending_sequence("weak_skin", seed=7, count=40, width=200, height=150, travel=4, turn=2, bump=8)
    grain = 2.0 * np.random.default_rng(2).standard_normal(moving.frames[2].shape)
    soft = cv2.GaussianBlur(moving.frames[2].astype(np.float32), (0, 0), 2.2) + grain
    first, frame = (
        grey_pyramid(np.clip(np.rint(f), 0, 255).astype(np.uint8), FULL, 2, band=COARSER, near=FINER)
        for f in (moving.frames[0], soft)
    )
    mask = np.zeros((150, 200), bool)
    mask[30:120, 40:160] = True
    r = MeshRegistration(first, mask, SplineGrid((35.0, 25.0, 165.0, 125.0), 16.0))
    lattice = np.moveaxis(r.base, 0, -1).astype(np.float64)
    truth = r.lattice.fit(np.moveaxis(moving.motion.carry(lattice, 2) - lattice, -1, 0))
    seen, told = np.ones(r.shape, np.float32), {}
    for level in (NEAR, BROAD):
        r.near = level
        fit = r.solve(frame, truth, r.start_light(), seen, Stiffness(1.5, 0.4), NO_LIMITS)
        assert (fit.level, fit.sigma) == (level, fit.sigmas[level])
        told[level] = fit.alike
    assert told[BROAD] > told[NEAR] + 0.2  # its plain correlation


@pytest.mark.property
def test_a_wider_close_look__is_the_same_where_both_look(weave) -> None:
    r, pyramid = registration(weave[0]), grey_pyramid(weave[0], FULL, 2)
    field = np.random.default_rng(2).normal(0, 0.5, (2, *r.shape)).astype(np.float32)
    near, wide = r.look_close(pyramid, field), r.look_close(pyramid, field, 7)
    assert wide.shape == (near.shape[0] + 14, near.shape[1] + 14)
    np.testing.assert_array_equal(wide[7:-7, 7:-7], near)
    still = np.zeros_like(field)
    beside = r.look_close(pyramid, still + np.float32([7, 0])[:, None, None])
    np.testing.assert_allclose(r.look_close(pyramid, still, 7)[7:-7, 14:], beside, atol=1e-5)


@pytest.mark.property
def test_what_a_turned_place_leaves__grows_with_the_light_and_is_no_more_for_that(weave: np.ndarray) -> None:
    """A reference in the shade, and the same surface in the sun: all that is unlike it is twice as large there."""
    r = registration(weave[0])
    template = r.home.templates[NEAR]
    turned = template + 0.4 * np.roll(template, 5, axis=1)
    misfits = []
    for gain in (1.0, 2.5):
        light = r.start_light()
        light.gain[...] = gain
        misfits.append(r.misfit(NEAR, gain * turned, light, 1e-6, 0.0)[r.held > 0.5].mean())
    assert misfits[1] == pytest.approx(misfits[0], rel=1e-3)
    assert 0.05 < misfits[0] < 0.95
    part = r.start_light()
    part.gain[:, : r.shape[1] // 4] = 2.5
    assert r.misfit(NEAR, part.gain * turned, part, 1e-6, 0.0)[:, : r.shape[1] // 4].mean() > 1.5 * misfits[0]
