"""The light under a mark: what the ring does not know is read through a faint mark, and not through a dark one."""

import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.veils.conceal.bulge import bulge_steps
from gentle_veil.core.veils.conceal.tests.test_conceal import CENTRE, RADIUS, placed

COUNT, SIZE = 24, (200, 300)
SWING = 0.03  # natural log, by which the light in the middle of the mark swings slowly
YS, XS = np.mgrid[: SIZE[0], : SIZE[1]].astype(float)
AWAY = np.hypot(XS - CENTRE[0], YS - CENTRE[1])


def lit(darkness: float) -> tuple[ArrayFrames, np.ndarray]:
    """Skin whose light swells under a mark that takes some of it, and by how much on each frame (natural log)."""
    swing = SWING * np.sin(2 * np.pi * np.arange(COUNT) / COUNT)
    rng = np.random.default_rng(3)
    frames = []
    for k in range(COUNT):
        light = swing[k] * np.clip(1 - (AWAY / (RADIUS + 3)) ** 2, 0, 1) - darkness * (AWAY < RADIUS)
        skin = np.array([0.4, 0.25, 0.18]) * np.exp(light + 0.01 * rng.normal(size=SIZE))[..., None]
        frames.append(np.rint(255 * bt709_encode(skin.astype(np.float32))).astype(np.uint8))
    return ArrayFrames(np.stack(frames)), swing


def followed(darkness: float) -> float:
    """Which share of the swing is added to what the ring promises."""
    frames, swing = lit(darkness)
    still = placed(np.broadcast_to(np.eye(3), (COUNT, 3, 3)).copy())
    steps = bulge_steps(frames, still, {}, bend=True)
    added = np.array([np.mean(steps[str(k)]) for k in range(COUNT)])
    return float(added @ swing / (swing @ swing))


@pytest.mark.truth
def test_light_that_swells_under_a_mark__is_read_through_it_if_it_is_faint() -> None:
    assert 0.25 < followed(0.05) < 1.1


@pytest.mark.property
def test_light_under_a_dark_mark__is_not_believed() -> None:
    assert abs(followed(1.0)) < 0.1 * followed(0.05)
