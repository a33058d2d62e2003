"""Several reference frames: each met exactly, and the drift of each side shared out."""

import numpy as np
import pytest

from gentle_veil.core.contracts.surface_track import (
    LOST,
    OK,
    SurfaceTrack,
    confidence_from_error,
    error_from_confidence,
)
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.motion.blending import blended

COUNT = 21
SHIFT = np.array([2.0, 1.0])  # true motion, px per frame


def part(reference: int, drift: float, lost: tuple[int, ...] = ()) -> SurfaceTrack:
    """A track from a reference that drifts to the right by ``drift`` px per frame away from it, and knows."""
    k = np.arange(COUNT)
    vertices, triangles, _ = grid_mesh((0, 0, 80, 60), 10.0)
    vertices = vertices + SHIFT * reference
    away = np.abs(k - reference)
    moved = (k - reference)[:, None] * SHIFT + np.stack([drift * away, np.zeros(COUNT)], axis=1)
    return SurfaceTrack(
        vertices,
        triangles,
        (vertices + moved[:, None]).astype(np.float32),
        confidence_from_error(np.repeat((0.05 + drift * away)[:, None], len(vertices), axis=1)),
        np.array([LOST if i in lost else OK for i in k]),
        k,
        (reference,),
    )


def off(track: SurfaceTrack) -> np.ndarray:
    point = np.array([[40.0, 30.0]])
    return np.array([np.linalg.norm(track.carry(point, r)[0] - (point[0] + SHIFT * r)) for r in range(COUNT)])


@pytest.mark.property
def test_one_part__is_itself() -> None:
    one = part(0, 0.0)
    assert blended([one]) is one


@pytest.mark.property
def test_perfect_parts__give_the_truth_everywhere() -> None:
    joined = blended([part(5, 0.0), part(15, 0.0), part(0, 0.0)])
    assert joined.reference_frames == (5, 0, 15)
    point = np.array([[40.0, 30.0]])
    for row in range(COUNT):
        np.testing.assert_allclose(joined.carry(point, row)[0], point[0] + SHIFT * (row - 5), atol=1e-3)


@pytest.mark.property
def test_drifting_parts__are_joined_without_a_jump_and_meet_each_reference() -> None:
    main, other = part(0, 0.1), part(20, -0.1)
    joined = blended([main, other])
    # At the second reference the surface is where the first part took it: 2 px off, as far as anybody can know.
    assert off(joined)[0] == 0
    np.testing.assert_allclose(joined.positions[20], main.positions[20], atol=1e-3)
    steps = np.diff(joined.positions[:, 0, 0])
    assert np.abs(steps - SHIFT[0]).max() < 0.5


@pytest.mark.property
def test_a_part_that_is_lost__has_no_say() -> None:
    main = part(0, 0.0, lost=(12,))
    main.positions[12] += 50
    joined = blended([main, part(20, 0.0)])
    assert off(joined)[12] < 0.01
    assert joined.status[12] == OK


@pytest.mark.property
def test_what_a_part_misses_at_the_next_reference__is_taken_off_on_the_way() -> None:
    """Drift that grows as it is said to grow; the outline drawn on the second reference tells where it ends."""
    main, other = part(0, 0.1), part(20, 0.1)
    outline = np.array([[10.0, 10], [70, 10], [70, 50], [10, 50]])
    joined = blended([main, other], {0: outline, 20: outline + 20 * SHIFT})
    alone = off(main)
    assert off(joined)[[0, 20]].max() < 0.01
    assert off(joined)[10] < 0.55 * alone[10]


@pytest.mark.property
def test_said_error__holds_what_a_reference_may_be_off() -> None:
    main, other = part(0, 0.1), part(20, 0.1)
    said = error_from_confidence(blended([main, other]).confidence).mean(axis=1)
    assert said[0] < 0.1
    assert said[20] > 0.9 * error_from_confidence(main.confidence[20]).mean()
    assert said[10] > said[0]
