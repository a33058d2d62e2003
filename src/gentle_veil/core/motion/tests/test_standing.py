"""Where one surface lies on several references: found both ways, or as a hand drew its outline."""

from dataclasses import replace

import numpy as np
import pytest

from gentle_veil.core.contracts.surface_track import LOST, OK, SurfaceTrack, confidence_from_error
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.motion.standing import HAND_PX, standings

HOME = np.array([[10.0, 10.0], [70, 10], [70, 50], [10, 50]])
RIGHT = np.array([1.0, 0.0])
AWAY = np.array([30.0, 5.0])  # where the surface goes between the two references, px


def surface(at: np.ndarray, moved: dict[int, tuple[float, float]], reference: int, error: float) -> SurfaceTrack:
    """A mesh that lies ``at`` (x, y) on its reference and is moved by so much on some frames, in px."""
    vertices, triangles, _ = grid_mesh((0, 0, 80, 60), 10.0)
    vertices = vertices + at
    frames, steps = np.array(list(moved)), np.array(list(moved.values()))
    errors = error * np.abs(frames - reference) / 2
    return SurfaceTrack(
        vertices,
        triangles,
        (vertices + steps[:, None]).astype(np.float32),
        confidence_from_error(np.repeat(errors[:, None], len(vertices), axis=1)),
        np.full(len(frames), OK),
        frames,
        (reference,),
    )


def track(reference: int, step: np.ndarray, error: float, status: tuple[str, str, str] = (OK, OK, OK)) -> SurfaceTrack:
    """Three frames; from the reference, 0 or 2, to the other end it moves by ``step``."""
    moved = {k: tuple(abs(k - reference) / 2 * step) for k in range(3)}
    return replace(surface(AWAY * (reference == 2), moved, reference, error), status=np.array(status))


def placed(there: SurfaceTrack, back: SurfaceTrack, drawn: np.ndarray | None = None) -> np.ndarray:
    """How far off the main mesh stands on frame 2, (2,) px."""
    outlines = {} if drawn is None else {0: HOME, 2: drawn}
    stands = standings({0: there, 2: back}, there, outlines)
    return np.asarray(np.median(stands[2].points - there.vertices_ref - AWAY, axis=0))


@pytest.mark.property
def test_two_ways_that_agree__share_by_what_they_say() -> None:
    there, back = track(0, AWAY + RIGHT, 1.0), track(2, -AWAY, 1.0)
    assert placed(there, back)[0] == pytest.approx(0.5 * np.exp(-0.5 / 4), abs=0.12)
    assert placed(there, track(2, -AWAY, 5.0))[0] > 0.9
    assert placed(track(0, AWAY + RIGHT, 5.0), back)[0] < 0.3


@pytest.mark.property
def test_two_ways_that_disagree_by_far__the_way_there_is_believed() -> None:
    assert placed(track(0, AWAY, 3.0), track(2, -AWAY + 12 * RIGHT, 0.5))[0] == pytest.approx(0, abs=0.05)


@pytest.mark.property
def test_seen_only_from_the_other_reference__the_way_back_tells() -> None:
    lost = track(0, AWAY + 40 * RIGHT, 20.0, (OK, LOST, LOST))
    assert np.abs(placed(lost, track(2, -AWAY, 0.5))).max() < 0.05


def test_seen_from_neither__it_stands_only_where_it_was_drawn() -> None:
    lost, gone = track(0, AWAY, 20.0, (OK, LOST, LOST)), track(2, -AWAY, 20.0, (LOST, LOST, OK))
    assert set(standings({0: lost, 2: gone}, lost, {})) == {0}
    drawn = standings({0: lost, 2: gone}, lost, {0: HOME, 2: HOME + AWAY + 3 * RIGHT})
    np.testing.assert_allclose(drawn[2].points, lost.vertices_ref + AWAY + 3 * RIGHT, atol=1e-6)
    assert drawn[2].error_px.max() == HAND_PX


@pytest.mark.property
def test_outline_dragged_where_it_was_followed__is_met_point_by_point() -> None:
    dragged = HOME + AWAY
    dragged[2] += (4.0, 0)
    seen = track(0, AWAY, 0.3)
    stands = standings({0: seen, 2: track(2, -AWAY, 0.3)}, seen, {0: HOME, 2: dragged})[2].points
    moved = stands - seen.vertices_ref - AWAY
    at = {tuple(v): m for v, m in zip(seen.vertices_ref.round(6).tolist(), moved, strict=True)}
    np.testing.assert_allclose(at[(70.0, 50.0)], (4.0, 0), atol=0.05)
    np.testing.assert_allclose(at[(10.0, 10.0)], (0, 0), atol=0.05)


@pytest.mark.property
@pytest.mark.parametrize(("slip", "believed"), [((1.5, 1.0), "pictures"), ((25.0, 0.0), "hand")])
def test_found_again_from_the_outline__pictures_tell_near_by_and_the_hand_from_afar(slip, believed) -> None:
    found = track(0, AWAY, 0.3, (OK, LOST, OK))
    miss = placed(found, track(2, -AWAY, 20.0, (LOST, OK, OK)), HOME + AWAY + np.array(slip))
    np.testing.assert_allclose(miss, (0, 0) if believed == "pictures" else slip, atol=0.05)


@pytest.mark.property
def test_three_references__each_is_reached_from_the_next() -> None:
    """The last lies on no frame that was followed from the first."""
    first, last = track(0, AWAY, 0.2), surface(AWAY + 7, {3: (0.0, 0.0)}, 3, 0.0)
    on = surface(AWAY, {0: -AWAY, 1: -AWAY / 2, 2: (0.0, 0.0), 3: (7.0, 7.0)}, 2, 0.2)
    stands = standings({0: first, 2: on, 3: last}, first, {})
    np.testing.assert_allclose(stands[3].points, first.vertices_ref + AWAY + 7, atol=0.01)
    assert stands[3].error_px.mean() > stands[2].error_px.mean() > 0
