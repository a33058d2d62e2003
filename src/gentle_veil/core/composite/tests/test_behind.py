"""A patch behind what passes: light that is mixed stays mixed, with the patch in the surface's stead."""

import numpy as np
import pytest

from gentle_veil.core.composite.behind import laid_behind
from gentle_veil.core.composite.holdout import Holdout
from gentle_veil.core.composite.in_front import InFront
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Patch, nothing_in_front
from gentle_veil.core.geometry.keyed_outline import keyed_outline

WIDTH, HEIGHT = 120, 60
BOX = (20, 10, 100, 50)
THING, PATCH = np.array([0.02, 0.1, 0.3]), np.array([0.3, 0.2, 0.1])
SHARE = np.clip((np.arange(WIDTH) - 50) / 20, 0, 1)  # from column 70 the thing alone


def _front(*holdouts: Holdout, mixed: bool = True) -> InFront:
    field = np.repeat(np.rint(SHARE * 255).astype(np.uint8)[None], HEIGHT, axis=0)
    return InFront(
        still_track((WIDTH, HEIGHT), 1, 0),
        holdouts,
        {
            "box": [0, 0, WIDTH, HEIGHT],
            "step": 1,
            "frames": {"0": pack(field)},
            "lights": {"0": pack(np.tile(THING.astype(np.float16), (HEIGHT // 4, WIDTH // 4, 1)))} if mixed else {},
            "light_step": 4,
        },
    )


def _patch(*, bare: bool) -> Patch:
    img_lin = np.broadcast_to(PATCH.astype(np.float32), (40, 80, 3)).copy()
    return Patch(BOX, img_lin, np.ones((40, 80), np.float32), bare=bare)


@pytest.mark.truth
def test_bare_patch__is_mixed_as_the_surface_was() -> None:
    patch, left = laid_behind(_patch(bare=True), _front(), 0)
    assert left is not None
    share = SHARE[None, 20:100, None]
    there = left[..., None] * patch.img_lin + (1 - left[..., None]) * THING
    np.testing.assert_allclose(there, np.broadcast_to(share * THING + (1 - share) * PATCH, there.shape), atol=0.012)
    assert left[:, 55:].max() == 0  # where the thing is alone the frame's own code values stay


def test_patch_made_from_the_frame__is_laid_by_what_is_left() -> None:
    patch, left = laid_behind(_patch(bare=False), _front(), 0)
    assert left is not None
    np.testing.assert_array_equal(patch.img_lin, _patch(bare=False).img_lin)
    np.testing.assert_allclose(left[0], 1 - SHARE[20:100], atol=0.045)


def test_where_nothing_is_known_of_the_things_light__a_bare_patch_is_laid_by_what_is_left() -> None:
    patch, left = laid_behind(_patch(bare=True), _front(mixed=False), 0)
    assert left is not None
    np.testing.assert_array_equal(patch.img_lin, _patch(bare=True).img_lin)
    np.testing.assert_allclose(left[0], 1 - SHARE[20:100], atol=0.045)


def test_holdout_that_was_drawn__takes_away_what_is_mixed_too() -> None:
    square = np.array([[50.0, 0], [64, 0], [64, 60], [50, 60]])
    holdout = Holdout(keyed_outline({0: (square, np.ones(4, bool))}))
    _, left = laid_behind(_patch(bare=True), _front(holdout), 0)
    assert left is not None
    assert left[:, 32:42].max() == 0
    assert left[:, :28].min() == 1


def test_nothing_in_front__all_is_laid() -> None:
    patch = _patch(bare=True)
    assert laid_behind(patch, nothing_in_front, 0) == (patch, None)
