"""Guesses are mixed place by place, and what is far from the best one does not pull at it."""

import numpy as np
import pytest

from gentle_veil.core.followers.mesh.hypotheses import FAR_PX, Mixer, Mixture, far_offsets, torn
from gentle_veil.core.followers.mesh.mesh import _doubt
from gentle_veil.core.followers.mesh.tests.test_focusing import cloth, pyramid, registered  # noqa: F401
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.motion.mesh_registration import MeshRegistration
from gentle_veil.core.types import ImageF32


def mixed(r: MeshRegistration, picture: np.ndarray, *guesses: ImageF32, sigma: float = 0.02) -> Mixture:
    mixer = Mixer(r, pyramid(picture), r.start_light(), np.ones(r.shape, np.float32), sigma)
    for guess in guesses:
        mixer.add(guess)
    still = np.zeros((2, *r.shape), np.float32)
    return mixer.mix(still, np.ones(r.cells, np.float32), still)


def moved(r: MeshRegistration, x: float, y: float) -> ImageF32:
    return np.broadcast_to(np.float32([x, y])[:, None, None], (2, *r.shape)).copy()


@pytest.mark.property
def test_a_guess_far_off__does_not_pull_even_where_little_tells_them_apart(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    grainy = 3 * float(np.std(r.home.templates[1]))
    mixture = mixed(r, cloth, moved(r, 0, 0), moved(r, 30, 5), sigma=grainy)
    assert np.abs(mixture.displacement).max() < 0.05


@pytest.mark.property
def test_guesses_near_each_other__each_lead_where_they_fit(cloth) -> None:  # noqa: F811
    shifted = cloth.copy()
    shifted[:, 130:] = np.roll(cloth, 4, axis=1)[:, 130:]
    r = registered(cloth)
    mixture = mixed(r, shifted, moved(r, 0, 0), moved(r, 4, 0))
    across = mixture.displacement[0]
    x = r.base[0]
    assert np.median(across[x < 110]) < 0.3
    assert np.median(across[x > 150]) > 3.5


@pytest.mark.property
def test_a_leap_of_the_whole__must_fit_better_by_more_than_its_doubt(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    grainy = 3 * float(np.std(r.home.templates[1]))  # nothing much tells the two places apart
    for sigma, doubt, leaps in ((grainy, 0.0, True), (grainy, 1.0, False), (0.02, 1.0, True)):
        mixer = Mixer(r, pyramid(np.roll(cloth, 12, axis=1)), r.start_light(), np.ones(r.shape, np.float32), sigma)
        still, leap = moved(r, 0, 0), moved(r, 12, 0)
        mixer.add(still)
        mixer.add(leap, doubt=doubt)
        assert (mixer.best() is leap) == leaps


def test_doubt__grows_with_the_distance_from_where_the_surface_went() -> None:
    steady = [np.zeros((2, 5, 6), np.float32), np.full((2, 5, 6), 3.0, np.float32)]
    assert _doubt(steady[1], steady) == 0.0
    near, far, farther = (_doubt(steady[1] + np.float32(px), steady) for px in (2, 20, 200))
    assert 0 < near < far == farther == 1


@pytest.mark.property
def test_what_is_denied_somewhere__gives_way_there_to_what_comes_after(cloth) -> None:  # noqa: F811
    r = registered(cloth)
    still, half = np.zeros((2, *r.shape), np.float32), r.shape[1] // 2

    def both_sides(denied: float) -> tuple[float, float]:
        mixer = Mixer(r, pyramid(cloth), r.start_light(), np.ones(r.shape, np.float32), 0.02)
        mixer.add(moved(r, 0, 0))
        places = np.zeros(r.cells, np.float32)
        places[:, r.cells[1] // 2 :] = denied
        mixer.deny(places)
        mixer.add(moved(r, 6, 0))
        across = mixer.mix(still, np.ones(r.cells, np.float32), still).displacement[0]
        return float(np.median(across[:, : half - 20])), float(np.median(across[:, half + 20 :]))

    assert max(both_sides(0.0)) < 0.3
    left, right = both_sides(1.0)
    # What fits badly is partly taken for hidden, and goes on as its neighbours do.
    assert left < 0.3
    assert right > 3


def woven(across: int, down: int, rng: np.random.Generator, unevenness: float) -> np.ndarray:
    """Threads with a period of 8 px, no two of quite the same tone."""
    ys, xs = np.mgrid[:down, :across]
    tones = [np.repeat(1 + unevenness * rng.standard_normal(n // 4 + 1), 4)[:n] for n in (across, down)]
    return (np.sin(xs * np.pi / 4) * tones[0] * np.sin(ys * np.pi / 4) * tones[1][:, None]).astype(np.float32)


@pytest.mark.truth
@pytest.mark.parametrize("gone", [(9, -4), (-17, 2), (0, 0)])
def test_a_weave_that_went_farther_than_a_thread__is_found_by_what_makes_its_threads_differ(gone) -> None:
    rng = np.random.default_rng(3)
    wide = woven(240, 200, rng, 0.2) + 0.2 * rng.standard_normal((200, 240)).astype(np.float32)
    held = np.ones((60, 80), np.float32)
    home, seen = wide[40:160, 40:200], np.roll(wide, gone[::-1], axis=(0, 1))
    seen = seen + 0.2 * rng.standard_normal(seen.shape).astype(np.float32)
    offsets = far_offsets(home, seen[40 - FAR_PX : 160 + FAR_PX, 40 - FAR_PX : 200 + FAR_PX], held)
    np.testing.assert_allclose(offsets[0], gone, atol=0.5)


@pytest.mark.property
def test_threads_that_are_all_alike__leave_all_their_periods_to_be_tried() -> None:
    wide = woven(240, 200, np.random.default_rng(3), 0.0)
    seen = wide[40 - FAR_PX : 160 + FAR_PX, 40 - FAR_PX : 200 + FAR_PX]
    offsets = far_offsets(wide[40:160, 40:200], seen, np.ones((60, 80), np.float32))
    assert len({tuple(o) for o in offsets}) == len(offsets) > 3
    np.testing.assert_allclose(np.mod(np.add(offsets, 2), 4), 2, atol=0.5)


def test_where_nothing_is_held__no_offset_is_likely() -> None:
    zero = np.zeros((120, 160), np.float32)
    assert far_offsets(zero, np.pad(zero, FAR_PX), np.zeros((60, 80), np.float32)) == []


@pytest.mark.parametrize(
    ("down", "tears"),
    [(0.0, False), (0.004, False), (-0.0101, True), (np.nan, True)],
)
def test_a_plane_whose_horizon_lies_across_the_surface__tears_it_apart(down: float, tears: bool) -> None:
    """The surface lies from 0 to 100 px down; its horizon, where there is any, at -1 / ``down``."""
    base = np.stack(np.meshgrid(np.arange(0.0, 102, 2), np.arange(0.0, 102, 2))).astype(np.float32)
    plane = np.array([[1, 0, 5], [0, 1, -3], [0, down, 1]])
    there = apply_homography(plane, np.moveaxis(base, 0, -1).reshape(-1, 2)).reshape(*base.shape[1:], 2)
    assert torn(np.moveaxis(there, -1, 0) - base, np.zeros_like(base), base) == tears
    assert torn(np.moveaxis(there, -1, 0) - base + 300, np.zeros_like(base), base) == tears
