"""Live skin while the rim of its surface comes nearer: what stands behind tells nothing, and stays as it is."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from gentle_veil.core.composite.matte import Box
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.veils.conceal import VEIL
from gentle_veil.core.veils.conceal.beside_rim import Rims
from gentle_veil.core.veils.conceal.extent import mark_extent
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.surround import own_ratios
from gentle_veil.core.veils.conceal.tests.test_conceal import CENTRE, difference, placed, rendered

WALL = (104, 112, 121)  # code values
NEAREST = 4.0  # px from the middle of the mark, that the wall comes to


def before_a_wall(pictures: np.ndarray, maps: np.ndarray, coming: float = 70.0) -> tuple[np.ndarray, np.ndarray]:
    """Frames (T, H, W, 3) that end at a wall which comes nearer by so many px, and how far each pixel is from it
    (T, H, W)."""
    count, height, width = pictures.shape[:3]
    out, away = pictures.copy(), np.zeros(pictures.shape[:3])
    xs = np.arange(width)[None] + 0.15 * np.arange(height)[:, None]
    for k in range(count):
        middle = maps[k] @ (*CENTRE, 1.0)
        rim = middle[0] / middle[2] + 0.15 * middle[1] / middle[2] + NEAREST + coming * (1 - k / (count - 1))
        away[k] = rim - xs
        share = cv2.GaussianBlur((away[k] > 0).astype(np.float32), (0, 0), 0.9)[..., None]
        grain = np.random.default_rng(k).normal(0, 1.5, (height, width, 1))
        out[k] = np.clip(np.rint(share * pictures[k] + (1 - share) * (np.array(WALL) + grain)), 0, 255)
    return out, away


@pytest.mark.truth
def test_a_mark_that_comes_to_the_rim__takes_nothing_of_what_is_behind(spotted_shot) -> None:
    maps = spotted_shot.frame_from_ref
    marked, away = before_a_wall(spotted_shot.marked, maps)
    clean, _ = before_a_wall(spotted_shot.clean, maps)
    results = rendered(replace(spotted_shot, marked=marked), placed(maps))
    for k in range(len(marked)):
        seen = (spotted_shot.cover[k] > 0.05) & (away[k] > 0)
        assert np.percentile(difference(results[k], clean[k], seen), 95) < 3.0
        behind = away[k] < -6
        np.testing.assert_array_equal(results[k][behind], marked[k][behind])
    assert np.median(difference(results[-1], clean[-1], (spotted_shot.cover[-1] > 0.05) & (away[-1] > 0))) < 1.5


def test_a_mark_far_from_any_rim__knows_of_none(spotted_shot) -> None:
    prepared = VEIL.prepare(ArrayFrames(spotted_shot.marked), placed(spotted_shot.frame_from_ref), ConcealParams())
    assert prepared["rim"] == {}


@pytest.mark.property
def test_what_is_behind__is_known_on_the_frames_that_show_it_beside_the_mark(spotted_shot) -> None:
    marked, _ = before_a_wall(spotted_shot.marked, spotted_shot.frame_from_ref)
    prepared = VEIL.prepare(ArrayFrames(marked), placed(spotted_shot.frame_from_ref), ConcealParams())
    frames = prepared["rim"]["frames"]
    assert frames[-1] == len(marked) - 1
    assert 0 not in frames[1:]


@pytest.mark.property
def test_what_is_behind__is_known_as_far_as_skin_is_taken_from_though_the_mark_is_squeezed(spotted_shot) -> None:
    maps = spotted_shot.frame_from_ref
    k = len(maps) - 1
    marked, _ = before_a_wall(spotted_shot.marked, maps)
    middle = maps[k] @ (*CENTRE, 1.0)
    x = middle[0] / middle[2]
    squeezed = maps.copy()
    squeezed[k] = np.array([[0.1, 0, 0.9 * x], [0, 1, 0], [0, 0, 1.0]]) @ maps[k]
    placement, frames = placed(squeezed), ArrayFrames(marked)

    def read(frame: int, box: Box) -> np.ndarray:
        return frames.encoding.to_linear(frames[frame][box[1] : box[3], box[0] : box[2]])

    own = own_ratios(frames, placement)
    assert own is not None
    rims = Rims(placement, own, read, frames.size, placement.front, mark_extent(frames, placement))
    size = np.ptp(placement.polygon_ref, axis=0).max()
    here = rims.at(k)
    assert here is not None
    (x0, _, x1, _), _ = here
    assert min(x - x0, x1 - x) > 3 * size


@pytest.mark.truth
def test_a_drape_that_slips_over_the_rim_for_some_frames__takes_nothing_of_what_is_behind(spotted_shot) -> None:
    maps = spotted_shot.frame_from_ref
    (marked, away), (clean, _) = (before_a_wall(p, maps, 12.0) for p in (spotted_shot.marked, spotted_shot.clean))
    last = len(maps) - 1
    slipped, late = maps.copy(), range(last - 5, last - 2)
    for k in late:
        over = np.eye(3)
        over[0, 2] = NEAREST + 12 * (1 - k / last) + 3
        slipped[k] = over @ maps[k]
    params = ConcealParams(hold=False)
    prepared = VEIL.prepare(ArrayFrames(marked), placed(slipped), params)
    assert set(late) <= set(prepared["rim"]["frames"])
    results = rendered(replace(spotted_shot, marked=marked), placed(slipped), params)
    for k in late:
        off = np.minimum(*(np.abs(results[k].astype(int) - p[k]).max(axis=-1) for p in (marked, clean)))
        assert (off[away[k] < -4] > 8).sum() < 12
        assert (off[away[k] > 3] > 30).sum() < 12
