"""What was hidden is found again from what is seen beside it, and nothing else is taken for it."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.followers.mesh.regrowing import Regrown, regrown
from gentle_veil.core.followers.mesh.tests.test_focusing import cloth, pyramid, registered  # noqa: F401
from gentle_veil.core.motion.mesh_registration import MeshRegistration
from gentle_veil.core.synth.textures import strong_weave, weak_skin
from gentle_veil.core.types import ImageF32

NOISE = 0.005


def strayed(r: MeshRegistration, px: float) -> tuple[ImageF32, ImageF32]:
    """A displacement that is right on the left third and runs off to ``px`` on the right, and what is seen of it."""
    along = np.linspace(0, 1, r.shape[1], dtype=np.float32)
    off = np.broadcast_to(px * np.clip((along - 0.35) / 0.65, 0, 1), r.shape)
    visible = np.broadcast_to((along < 0.35).astype(np.float32), r.shape)
    return np.stack([off, 0.5 * off]).astype(np.float32), np.ascontiguousarray(visible)


def found_share(r: MeshRegistration, again: Regrown, visible: ImageF32) -> float:
    """How much of what is hidden is found."""
    hidden = (r.held > 0) & (visible < 0.5)
    return float((r.fine(again.surely) > 0.5)[hidden].mean())


@pytest.mark.truth
@pytest.mark.parametrize("px", [6.0, 25.0])
def test_a_part_that_ran_off_while_hidden__is_found_again(cloth: np.ndarray, px: float) -> None:  # noqa: F811
    r = registered(cloth)
    field, visible = strayed(r, px)
    again = regrown(r, pyramid(cloth), field, visible, NOISE)
    assert again is not None
    assert found_share(r, again, visible) > 0.75
    within = (r.held > 0) & (r.fine(again.surely) > 0.5)
    assert np.percentile(np.abs(again.displacement[:, within]), 90) < 1.5
    known = (r.held > 0) & (visible > 0)
    np.testing.assert_allclose(again.displacement[:, known], field[:, known], atol=0.5)


@pytest.mark.property
@pytest.mark.parametrize(
    ("texture", "seed", "most"), [(weak_skin, 9, 0.1), (strong_weave, 9, 0.4), (strong_weave, 11, 0.4)]
)
def test_other_texture_in_its_place__is_not_taken_for_it(cloth: np.ndarray, texture, seed: int, most: float) -> None:  # noqa: F811
    r = registered(cloth)
    field, visible = strayed(r, 10.0)
    other, edge = cloth.copy(), int(r.lattice.xs[int(0.35 * r.shape[1])])
    picture = texture(np.random.default_rng(seed), *cloth.shape)
    other[:, edge:] = picture.reshape(*cloth.shape, -1)[:, edge:, -1]
    again = regrown(r, pyramid(other), field, visible, NOISE)
    # Parts at the edge show half of what is known; a thread or two may fit by chance.
    assert again is None or found_share(r, again, visible) < most


@pytest.mark.property
def test_where_all_is_seen__nothing_is_looked_for(cloth: np.ndarray) -> None:  # noqa: F811
    r = registered(cloth)
    field, visible = strayed(r, 10.0)
    assert regrown(r, pyramid(cloth), field, np.ones_like(visible), NOISE) is None
    assert regrown(r, pyramid(cloth), field, np.zeros_like(visible), NOISE) is None


@pytest.mark.truth
def test_a_part_that_is_seen_but_unlike__is_found_where_it_is(cloth: np.ndarray) -> None:  # noqa: F811
    r = registered(cloth)
    field, visible = strayed(r, 12.0)
    off = r.coarse(np.hypot(*field)) > 3
    unlike = np.where(off, np.float32(0.7), np.float32(0.05))
    seen = np.ones_like(visible)  # as the mesh has it, which fits what it finds there
    again = regrown(r, pyramid(cloth), field, seen, NOISE, unlike)
    assert again is not None
    moved = (r.held > 0) & (r.fine(again.elsewhere) > 0.9)
    assert moved[(r.held > 0) & (r.fine(off.astype(np.float32)) > 0.9)].mean() > 0.5
    assert np.percentile(np.abs(again.displacement[:, moved]), 90) < 1.5
    assert not again.elsewhere[r.coarse(visible) > 0.99].any()


@pytest.mark.property
def test_a_surface_that_is_unlike_all_over__is_not_doubted_for_that(cloth: np.ndarray) -> None:  # noqa: F811
    r = registered(cloth)
    field, visible = strayed(r, 12.0)
    unlike = np.full(r.cells, 0.6, np.float32)
    assert regrown(r, pyramid(cloth), field, np.ones_like(visible), NOISE, unlike) is None


@pytest.mark.truth
@pytest.mark.parametrize(("lacking", "moves"), [(0.8, True), (0.36, False)])
def test_a_doubted_part__moves_only_where_it_is_told_better_by_far(cloth: np.ndarray, lacking, moves) -> None:  # noqa: F811
    r = registered(cloth)
    field, visible = strayed(r, 12.0)
    far = r.coarse(np.hypot(*field)) > 10
    assert far.sum() < 0.4 * far.size  # what most places lack is little
    unlike = np.where(far, np.float32(lacking), np.float32(0.05))
    grain = cv2.GaussianBlur(np.random.default_rng(4).standard_normal(cloth.shape), (0, 0), 1.5)
    grainy = cloth * (1 + 0.3 * grain / grain.std()).astype(np.float32)  # about .7 of the correlation is left
    again = regrown(r, pyramid(grainy), field, np.ones_like(visible), NOISE, unlike)
    assert (again is not None and (again.elsewhere > 0.9).sum() > 0.1 * far.sum()) == moves
