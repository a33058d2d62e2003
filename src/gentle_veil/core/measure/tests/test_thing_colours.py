"""What a thing looks like is told by the frames around, and fades with their distance."""

import numpy as np

from gentle_veil.core.measure.thing_colours import ThingColours, density_at

RED, BLUE = np.log([0.5, 0.1, 0.1]), np.log([0.1, 0.1, 0.5])


def _plain(colour: np.ndarray) -> np.ndarray:
    return np.broadcast_to(colour, (8, 8, 3)).astype(np.float32)


def test_a_colour_that_was_seen__is_dense_and_another_is_not() -> None:
    colours = ThingColours()
    colours.learn(10, _plain(RED), np.ones((8, 8), bool))
    density = colours.near(13)
    assert density is not None
    assert density_at(density, _plain(RED)).min() > 50  # per cubed log: all within a cell or so of .08
    assert density_at(density, _plain(BLUE)).max() == 0


def test_nearer_frames__weigh_more_and_far_ones_nothing() -> None:
    colours = ThingColours()
    colours.learn(10, _plain(RED), np.ones((8, 8), bool))
    colours.learn(16, _plain(BLUE), np.ones((8, 8), bool))
    density = colours.near(17)
    assert density is not None
    assert density_at(density, _plain(BLUE)).min() > 2 * density_at(density, _plain(RED)).max() > 0
    assert colours.near(40) is None
