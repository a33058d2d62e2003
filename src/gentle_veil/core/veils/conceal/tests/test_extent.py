"""What of its outline a mark fills: the room around a mole tells the tone, a flush fades into the skin."""

from dataclasses import replace

import numpy as np
import pytest

from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.veils.conceal.extent import FREE_PX, mark_extent, told_nearer
from gentle_veil.core.veils.conceal.surround import look_around
from gentle_veil.core.veils.conceal.tests.test_conceal import CENTRE, RADIUS, circle, placed

ROOM = 12.0  # px around the mark


def roomy(maps: np.ndarray):
    return replace(placed(maps), polygon_ref=circle(CENTRE, RADIUS + ROOM))


@pytest.mark.truth
def test_skin_within_the_outline_of_a_mole__is_in_its_ring_and_the_mole_is_not(spotted_shot) -> None:
    frames, placement = ArrayFrames(spotted_shot.marked), roomy(spotted_shot.frame_from_ref)
    extent = mark_extent(frames, placement)
    for row in (0, len(spotted_shot.marked) - 1):
        around = look_around(placement, row, frames.size)
        assert around is not None
        nearer = told_nearer(around, extent, placement.track, row)
        x0, y0, x1, y1 = around.box
        cover = spotted_shot.cover[row][y0:y1, x0:x1]
        inside = around.distance < 0
        assert not nearer.ring[cover > 0.02].any()
        assert nearer.ring[inside].mean() > 0.3
        np.testing.assert_array_equal(nearer.ring[around.ring], True)


def test_a_step_of_the_mark__moves_what_is_free_of_it(spotted_shot) -> None:
    frames, placement = ArrayFrames(spotted_shot.marked), roomy(spotted_shot.frame_from_ref)
    extent = mark_extent(frames, placement)
    rings, corners = [], []
    for track in (placement.track, placement.track.moved({"0": [FREE_PX, 0.0]})):
        around = look_around(replace(placement, track=track), 0, frames.size)
        assert around is not None
        rings.append(told_nearer(around, extent, track, 0).ring[around.distance < 0])
        corners.append(around.box[0])
    assert corners[1] - corners[0] == FREE_PX
    assert 0.1 < rings[0].mean() < 0.9
    np.testing.assert_array_equal(*rings)


def test_a_mark_that_fades_into_the_skin__tells_nothing_of_where_it_ends(spotted_shot) -> None:
    faint = spotted_shot.clean + 0.06 * (spotted_shot.marked.astype(np.float32) - spotted_shot.clean)
    assert mark_extent(ArrayFrames(np.rint(faint).astype(np.uint8)), roomy(spotted_shot.frame_from_ref)) == {}
