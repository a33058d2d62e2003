"""What is in front of a veil: drawn or found, and nothing where nothing is."""

import numpy as np

from gentle_veil.core.composite.holdout import Holdout
from gentle_veil.core.composite.in_front import InFront
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
    matte = InFront(1, track=TRACK, found=_found()).matte(BOX)
    assert matte is not None
    assert matte.shape == (30, 40)
    assert matte[:, : 28 - 10].max() == 0
    assert matte[:, 31 - 10 :].min() == 1


def test_frames_on_which_nothing_passes__have_no_matte() -> None:
    assert InFront(0, track=TRACK, found=_found()).matte(BOX) is None
    assert InFront(1).matte(BOX) is None


def test_drawn_and_found__both_count() -> None:
    square = np.array([[12.0, 12], [20, 12], [20, 20], [12, 20]])
    holdout = Holdout(keyed_outline({0: (square, np.ones(4, bool))}))
    matte = InFront(1, (holdout,), TRACK, _found()).matte(BOX)
    assert matte is not None
    assert matte[5, 5] == 1
    assert matte[15, 35] == 1
    assert matte[25, 5] == 0
