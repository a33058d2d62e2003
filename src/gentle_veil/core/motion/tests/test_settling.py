"""The pass over all frames: noise goes, motion stays."""

import numpy as np
import pytest
from scipy.linalg import solve

from gentle_veil.core.contracts.surface_track import OK, SurfaceTrack, TrackRow, track_from_rows
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.motion.settling import _penalised, settled

COUNT = 60
VERTICES, TRIANGLES, _ = grid_mesh((0, 0, 100, 80), 20)


def track(positions: np.ndarray, error: float = 0.1) -> SurfaceTrack:
    """Positions (T, V, 2) followed from frame 0 with one expected error in px."""
    rows = {k: TrackRow(p, np.full(len(VERTICES), error if k else 0.0), OK) for k, p in enumerate(positions)}
    return track_from_rows(VERTICES, TRIANGLES, 0, rows)


def drifting() -> np.ndarray:
    t = np.arange(COUNT)[:, None]
    return VERTICES + np.stack([30 * np.sin(t / 12), 10 * np.cos(t / 15) - 10], axis=-1)


def off(found: SurfaceTrack, truth: np.ndarray) -> float:
    return float(np.sqrt(((found.positions - truth) ** 2).sum(axis=-1).mean()))


def trembling(found: SurfaceTrack, truth: np.ndarray) -> float:
    return float(np.sqrt((np.diff(found.positions - truth, 2, axis=0) ** 2).sum(axis=-1).mean()))


def test_noise_of_each_vertex__goes() -> None:
    truth = drifting()
    noisy = truth + np.random.default_rng(1).normal(0, 0.1, truth.shape)
    noisy[0] = truth[0]
    assert trembling(settled(track(noisy)), truth) < 0.25 * trembling(track(noisy), truth)
    assert off(settled(track(noisy)), truth) < 0.75 * off(track(noisy), truth)


def test_noise_that_all_vertices_share__goes_too() -> None:
    truth = drifting()
    shared = np.random.default_rng(2).normal(0, 0.08, (COUNT, 1, 2))
    shared[0] = 0
    assert trembling(settled(track(truth + shared)), truth) < 0.25 * trembling(track(truth + shared), truth)


def test_a_shaking_camera__goes_on_shaking() -> None:
    truth = drifting() + np.random.default_rng(3).normal(0, 2.0, (COUNT, 1, 2))
    found = settled(track(truth, error=0.05))
    assert off(found, truth) < 0.05


def test_the_reference__stays_where_it_was_drawn() -> None:
    noisy = drifting() + np.random.default_rng(4).normal(0, 0.1, (COUNT, len(VERTICES), 2))
    noisy[0] = VERTICES
    assert np.abs(settled(track(noisy)).positions[0] - VERTICES).max() < 1e-4


@pytest.mark.parametrize("count", [4, 5, 9, 40])
def test_penalised__is_the_dense_solution(count: int) -> None:
    rng = np.random.default_rng(count)
    measured, weight = rng.normal(size=(count, 3)), rng.uniform(0.1, 2, (count, 3))
    stiffness = rng.uniform(0, 50, (count - 3, 3))
    found = _penalised(measured, weight, stiffness)
    third = np.diff(np.eye(count), 3, axis=0)
    for i in range(3):
        normal = np.diag(weight[:, i]) + third.T @ np.diag(stiffness[:, i]) @ third
        np.testing.assert_allclose(found[:, i], solve(normal, weight[:, i] * measured[:, i]), atol=1e-9)


@pytest.mark.parametrize("reference", [0, 30])
def test_the_grain_of_the_reference__is_taken_off_all_other_frames(reference: int) -> None:
    truth = drifting() - drifting()[reference] + VERTICES
    rng = np.random.default_rng(8)
    shared = rng.normal(0, 0.1, VERTICES.shape)  # each vertex's own, on all frames but the reference
    noisy = truth + shared + rng.normal(0, 0.1, truth.shape)
    noisy[reference] = truth[reference]
    rows = {k: TrackRow(p, np.full(len(VERTICES), 0.1 * (k != reference)), OK) for k, p in enumerate(noisy)}
    found = settled(track_from_rows(VERTICES, TRIANGLES, reference, rows))
    np.testing.assert_allclose(found.positions[reference], truth[reference], atol=1e-3)
    far = np.abs(np.arange(COUNT) - reference) > 8
    left = (found.positions - truth)[far].mean(axis=0)
    assert np.sqrt((left**2).mean()) < 0.85 * np.sqrt((shared**2).mean())


@pytest.mark.property
@pytest.mark.parametrize("reference", [0, 11])
def test_placed_anew__what_lies_before_does_not_pull_at_what_lies_after(reference: int) -> None:
    jumped = drifting()[:12].copy()
    far, first = (np.arange(12) >= 6, 6) if reference == 0 else (np.arange(12) <= 5, 5)
    jumped[far, 7] += (25.0, -9.0)
    rows = {k: TrackRow(p, np.full(len(VERTICES), float(k != reference)), OK) for k, p in enumerate(jumped)}
    given = track_from_rows(VERTICES, TRIANGLES, reference, rows)
    apart, together = (np.abs(settled(given, anew).positions - jumped)[4:8, 7].max() for anew in ([first], ()))
    assert apart < 0.2
    assert together > 3 * apart
