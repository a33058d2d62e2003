"""What the reference no longer explains is held by how the surface looked of late."""

from dataclasses import replace

import numpy as np
import pytest

from gentle_veil.core.followers.mesh.memory import Memory, learnt
from gentle_veil.core.followers.mesh.tests.test_focusing import cloth, pyramid, registered  # noqa: F401
from gentle_veil.core.motion.mesh_registration import LEVELS, MeshRegistration


def seen_as(r: MeshRegistration, picture: np.ndarray, before: Memory | None = None) -> Memory:
    still, seen = np.zeros((2, *r.grid.shape)), pyramid(picture)
    fit = r.unsolved(seen, still, r.start_light(), np.ones(r.shape, np.float32), (np.inf,) * LEVELS)
    return learnt(before, r, seen, r.displacement(still), replace(fit, light=r.start_light()), suspicious=False)


@pytest.mark.property
def test_a_surface_that_looks_the_same__is_compared_with_the_reference_alone(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    memory = seen_as(r, cloth)
    assert memory.trust[r.held > 0].min() == 1
    for mine, home in zip(memory.pictures(r.home).templates, r.home.templates, strict=True):
        np.testing.assert_array_equal(mine, home)


@pytest.mark.property
def test_where_it_has_changed__the_recent_look_stands_in_and_hands_back(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    changed = cloth.copy()
    changed[:, 130:] = np.random.default_rng(2).permutation(cloth[:, 130:].ravel()).reshape(cloth[:, 130:].shape)
    memory: Memory | None = None
    for _ in range(30):
        memory = seen_as(r, changed, memory)
    assert memory is not None
    left, right = np.s_[20:-20, 6:30], np.s_[20:-20, -30:-6]
    assert memory.trust[left].min() > 0.9 > 0.1 > memory.trust[right].max()
    now, _ = r.look(pyramid(changed), 0, np.zeros((2, *r.shape), np.float32))
    mine = memory.pictures(r.home).templates[0]
    assert np.abs(mine - now)[right].mean() < 0.2 * np.abs(r.home.templates[0] - now)[right].mean()
    again = seen_as(r, cloth, memory)
    assert again.trust[right].min() > 0.9


@pytest.mark.property
def test_what_was_something_else__is_forgotten_there_and_nowhere_else(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    memory = seen_as(r, np.random.default_rng(4).permutation(cloth.ravel()).reshape(cloth.shape))
    places = np.zeros(r.cells, np.float32)
    places[:, : r.cells[1] // 2] = 1
    without = memory.without(r, places)
    left, right = np.s_[:, : r.shape[1] // 2 - 8], np.s_[:, r.shape[1] // 2 + 8 :]
    for before, after, home in zip(memory.recent, without.recent, r.home.templates, strict=True):
        np.testing.assert_allclose(after[left], home[left], atol=1e-6)
        np.testing.assert_array_equal(after[right], before[right])
    assert without.trust[left].min() == 1
    for before, after in ((memory.unlike, without.unlike), (memory.unsure, without.unsure)):
        assert after[places > 0].max() == 0 < before[places > 0].max()


@pytest.mark.property
def test_noise_that_drowns_the_texture__is_no_proof_that_the_place_is_right(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    other = np.random.default_rng(4).permutation(cloth.ravel()).reshape(cloth.shape)
    still, seen = np.zeros((2, *r.grid.shape)), pyramid(other)
    fit = r.unsolved(seen, still, r.start_light(), np.ones(r.shape, np.float32), (np.inf,) * LEVELS)
    told = [
        learnt(None, r, seen, r.displacement(still), replace(fit, sigmas=(sigma,) * LEVELS), suspicious=False)
        for sigma in (1e-4, 10.0)
    ]
    assert np.median(told[0].unlike) > 0.8
    np.testing.assert_allclose(told[0].unsure, told[0].unlike, atol=1e-6)
    assert told[1].unlike.max() == 0
    assert np.median(told[1].unsure) > 0.6
