"""The colour of the light is what the surface shows of it, and not the colour of what lies over most of it."""

import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers.mesh.mesh import MeshRun
from gentle_veil.core.followers.mesh.options import MeshOptions
from gentle_veil.core.synth.textures import weak_skin
from gentle_veil.core.types import ImageF32

HEIGHT, WIDTH = 200, 240
BOX = np.array([[70.0, 60], [170, 60], [170, 140], [70, 140]])
COVERED = 140  # x up to which it lies over the region: 70 of its 100 px


def _familiar(frame: np.ndarray, skin: np.ndarray) -> tuple[ImageF32, np.ndarray]:
    """Over the cells of a region that does not move: whether its colour is familiar, and their x."""
    codes = np.stack([np.clip(np.rint(p * 255), 0, 255).astype(np.uint8) for p in (skin, frame)])
    run = MeshRun(ArrayFrames(codes), Region(0, BOX), MeshOptions())
    run.begin(None, [1])
    r = run.registration
    still = np.zeros((2, *r.shape), np.float32)
    pyramid = run._pyramid(1, still)
    assert pyramid is not None
    held = r.coarse(r.held) > 0.9
    return run._familiar(1, still, pyramid)[held], r.coarse(r.base[0])[held]


@pytest.fixture(scope="module")
def skin() -> np.ndarray:
    return weak_skin(np.random.default_rng(3), HEIGHT, WIDTH) * np.array([1.0, 0.72, 0.55])


@pytest.mark.property
def test_a_wall_over_most_of_it__is_foreign_and_the_rest_is_not(skin: np.ndarray) -> None:
    frame = skin.copy()
    frame[:, :COVERED] = (0.3, 0.5, 0.32)
    familiar, x = _familiar(frame, skin)
    assert familiar[x < COVERED - 8].max() < 0.05
    assert familiar[x > COVERED + 8].min() > 0.9


@pytest.mark.property
def test_light_of_another_colour__is_light_where_all_of_the_surface_has_it(skin: np.ndarray) -> None:
    familiar, _ = _familiar(skin * np.array([0.75, 0.85, 1.0]), skin)
    assert familiar.min() > 0.9
