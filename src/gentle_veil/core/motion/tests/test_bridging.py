"""Gaps in a track: closed where both ends tell, and left where they do not."""

from dataclasses import replace

import numpy as np
import pytest

from gentle_veil.core.contracts.surface_track import LOST, OK, OUTSIDE, WEAK, SurfaceTrack, error_from_confidence
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.motion.bridging import MOST_FRAMES, bridged

VERTICES, TRIANGLES, _ = grid_mesh((0, 0, 60, 40), 10.0)
COUNT, REFERENCE = 40, 20


def true_place(k: int) -> np.ndarray:
    return VERTICES + np.array([2.0, -1.0]) * (k - REFERENCE)


def with_gap(first: int, last: int, *, slip: float = 0.5) -> SurfaceTrack:
    """A surface that moves evenly; from ``first`` to ``last`` it is lost, and carried off by ``slip`` px a frame."""
    positions = np.array([true_place(k) for k in range(COUNT)])
    status = np.full(COUNT, OK, "<U10")
    gap = range(first, last + 1)
    for k in gap:
        gone = k - first + 1 if k > REFERENCE else last - k + 1
        positions[k] += (slip * gone, 0.0)
        status[k] = LOST
    confidence = np.where(np.isin(np.arange(COUNT), gap)[:, None], 0.1, 0.9) * np.ones((1, len(VERTICES)))
    given = (positions.astype(np.float32), confidence.astype(np.float32), status)
    return SurfaceTrack(VERTICES, TRIANGLES, *given, np.arange(COUNT), (REFERENCE,))


@pytest.mark.truth
@pytest.mark.parametrize(("first", "last"), [(25, 30), (8, 13)], ids=["after the reference", "before it"])
def test_a_short_gap__is_closed_from_both_ends_and_says_that_it_is_unsure(first: int, last: int) -> None:
    track = with_gap(first, last)
    closed = bridged(track)
    for k in range(first, last + 1):
        # At the far end all of what was off is known but for the slip of one frame.
        assert np.abs(closed.positions[k] - true_place(k)).max() < 0.5
        assert closed.status[k] == WEAK
        assert error_from_confidence(closed.confidence[k]).min() > 1.0
    kept = [k for k in range(COUNT) if not first <= k <= last]
    np.testing.assert_array_equal(closed.positions[kept], track.positions[kept])
    assert set(closed.status[kept]) == {OK}


@pytest.mark.property
def test_what_is_no_short_gap__stays_lost() -> None:
    for track in (with_gap(22, 22 + MOST_FRAMES), with_gap(30, COUNT - 1), with_gap(25, 30, slip=9.0)):
        np.testing.assert_array_equal(bridged(track).status, track.status)
    left = with_gap(25, 30)
    left.status[27] = OUTSIDE
    assert list(bridged(left).status) == list(left.status)
    holey = with_gap(25, 30)
    kept = np.arange(COUNT) != 27
    assert list(bridged(holey.only(kept)).status) == list(holey.status[kept])
    flat = replace(with_gap(25, 30), homographies=np.repeat(np.eye(3)[None], COUNT, axis=0))
    assert bridged(flat) is flat
