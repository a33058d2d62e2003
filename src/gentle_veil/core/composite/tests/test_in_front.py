"""What is in front of a veil: drawn or found, and nothing where nothing is."""

import numpy as np

from gentle_veil.core.composite.holdout import Holdout
from gentle_veil.core.composite.in_front import InFront, hidden_at, uncovered
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.geometry.keyed_outline import keyed_outline

BOX = (10, 10, 50, 40)
TRACK = still_track((64, 48), 3, 0)


def _found() -> dict[str, object]:
    """In front on frame 1, in steps of 2 px of the reference: what lies right of x = 30."""
    field = np.zeros((20, 25), np.uint8)
    field[:, 12:] = 255
    return {"box": [6, 4, 56, 44], "step": 2, "frames": {"1": pack(field)}}


def test_what_was_found__lies_where_the_surface_has_it() -> None:
    matte = InFront(TRACK, found=_found())(1, BOX)
    assert matte is not None
    assert matte.shape == (30, 40)
    assert matte[:, : 28 - 10].max() == 0
    assert matte[:, 31 - 10 :].min() == 1


def test_frames_on_which_nothing_passes__have_no_matte() -> None:
    assert InFront(TRACK, found=_found())(0, BOX) is None
    assert InFront(TRACK)(1, BOX) is None


def test_drawn_and_found__both_count() -> None:
    square = np.array([[12.0, 12], [20, 12], [20, 20], [12, 20]])
    holdout = Holdout(keyed_outline({0: (square, np.ones(4, bool))}))
    matte = InFront(TRACK, (holdout,), _found())(1, BOX)
    assert matte is not None
    assert matte[5, 5] == 1
    assert matte[15, 35] == 1
    assert matte[25, 5] == 0


def test_places_of_a_frame__are_asked_one_by_one() -> None:
    front = InFront(TRACK, found=_found())
    where = np.array([[[12.0, 20], [40, 20], [np.nan, 20]], [[20, 30], [45, 30], [10, 12]]])
    hidden = hidden_at(front, 1, where)
    assert hidden is not None
    np.testing.assert_array_equal(hidden, [[0, 1, 0], [0, 1, 0]])
    assert hidden_at(front, 0, where) is None
    assert hidden_at(front, 1, where[:, :1]) is None


def test_a_mark_that_is_seen__has_nothing_over_it_and_what_seemed_to_cover_it_is_none() -> None:
    covered = np.array([[36.0, 18], [44, 18], [44, 26], [36, 26]])
    assert InFront(TRACK, found=uncovered(_found(), {1: covered}))(1, BOX) is None
    beside = covered - (18, 0)  # a thing ends 4 px away: it is one
    front = InFront(TRACK, found=uncovered(_found(), {1: beside}))
    matte = front(1, BOX)
    assert matte is not None
    assert matte[10, 26:].min() == 1
    assert matte[10, 8:19].max() == 0
    assert uncovered({}, {1: covered}) == {}
