from dataclasses import replace

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.surface_track import SurfaceTrack, still_track
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils.conceal.conceal import Conceal
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.plates import shared_out

COUNT, SIZE, STEP = 9, (160, 120), 3.0  # the surface moves STEP px to the right on each frame
RING = np.stack([np.cos(a := np.arange(24) * np.pi / 12), np.sin(a)], axis=1)


class Painted:
    """The skin as an artist may have painted it: plain, and of another hue where the mark was."""

    count, seconds = 1, 0.0

    def __init__(self, hue: tuple[float, float, float], middle: float, size: tuple[int, int]) -> None:
        self.hue, self.middle, self.size = hue, middle, size

    def frame(self, i: int) -> np.ndarray:
        skin = ArrayFrames(np.full((1, 1, 1, 3), (150, 120, 100), np.uint8))
        lin = np.broadcast_to(skin.encoding.to_linear(skin[0]), (*self.size[::-1], 3)).copy()
        ys, xs = np.mgrid[: self.size[1], : self.size[0]]
        lin[np.hypot(xs - self.middle, ys - 60) < 11] *= np.float32(self.hue)
        return np.concatenate([lin, np.ones_like(lin[..., :1])], axis=-1).astype(np.float32)


def moving_track(references: tuple[int, ...]) -> SurfaceTrack:
    still = still_track(SIZE, COUNT, references[0])
    moved = np.repeat(np.eye(3)[None], COUNT, axis=0)
    moved[:, 0, 2] = STEP * (np.arange(COUNT) - references[0])
    positions = still.positions + moved[:, None, :2, 2].astype(np.float32)
    return replace(still, homographies=moved, positions=positions, reference_frames=references)


def frames_with_mark() -> tuple[ArrayFrames, np.ndarray]:
    rng = np.random.default_rng(5)
    ys, xs = np.mgrid[: SIZE[1], : SIZE[0]]
    out, covers = [], []
    for k in range(COUNT):
        img = np.full((SIZE[1], SIZE[0], 3), (150.0, 120.0, 100.0)) + rng.normal(0, 2, (SIZE[1], SIZE[0], 3))
        mark = np.hypot(xs - 50 - STEP * k, ys - 60) < 9
        img[mark] -= 60
        out.append(np.clip(np.rint(img), 0, 255).astype(np.uint8))
        covers.append(mark)
    return ArrayFrames(np.stack(out)), np.stack(covers)


def placement(references: tuple[int, ...], **more: object) -> Placement:
    middle = np.array([50 + STEP * references[0], 60.0])
    return Placement(moving_track(references), middle + 12 * RING, middle + 40 * RING, **more)  # type: ignore[arg-type]


def concealed(where: Placement, params: ConcealParams) -> list[np.ndarray]:
    frames, _ = frames_with_mark()
    prepared = Conceal().prepare(frames, where, params)
    layer = Layer("c", Conceal(), where, params, prepared=prepared, feather=constant(2.0))
    return [render_frame(frames, (layer,), k).img_raw for k in range(COUNT)]


def test_shares__are_one_on_a_plates_own_frame_and_linear_between() -> None:
    assert shared_out([2, 6], 2) == [(2, 1.0)]
    assert shared_out([2, 6], 0) == [(2, 1.0)]
    assert shared_out([2, 6], 8) == [(6, 1.0)]
    assert shared_out([2, 6], 3) == [(2, 0.75), (6, 0.25)]
    assert shared_out([], 3) == []


@pytest.mark.parametrize("planar", [True, False], ids=["plane", "mesh"])
def test_standing_on__another_frame_is_the_same_surface(planar: bool) -> None:
    track = moving_track((1, 7))
    track = track if planar else replace(track, homographies=None)
    there = track.standing_on(7)
    assert there.reference_frames == (7, 1)
    points = np.array([[40.0, 50.0], [90.0, 70.5]])
    on_seven = track.carry(points, track.row(7))
    np.testing.assert_allclose(there.carry(on_seven, track.row(3)), track.carry(points, track.row(3)), atol=1e-4)


@pytest.mark.truth
def test_plates_made_on_two_references__take_the_mark_away_everywhere() -> None:
    _, covers = frames_with_mark()
    for img, cover in zip(concealed(placement((0, 8)), ConcealParams(way="plate")), covers, strict=True):
        skin = np.array([150.0, 120.0, 100.0])
        assert np.abs(img[cover].mean(axis=0) - skin).max() < 2.0
        inner = cv2.erode(cover.astype(np.uint8), np.ones((5, 5))).astype(bool)
        assert img[inner].std(axis=0) == pytest.approx(np.full(3, 2.0), rel=0.5)  # grain stays while plates are mixed


def test_two_painted_plates__each_is_met_on_its_frame_and_between_they_mix() -> None:
    pictures = {"early": Painted((1.2, 1, 0.8), 50, SIZE), "late": Painted((0.8, 1, 1.2), 50 + 8 * STEP, SIZE)}
    params = ConcealParams(way="brought in", plate="early", plates=((8, "late"),))
    frames, covers = frames_with_mark()
    images = concealed(placement((0,), pictures=pictures), params)
    red_over_blue = []
    for k in (0, 4, 8):
        inner = cv2.erode(covers[k].astype(np.uint8), np.ones((9, 9))).astype(bool)
        light = frames.encoding.to_linear(images[k])[inner].mean(axis=0)
        red_over_blue.append(light[0] / light[2])
    assert red_over_blue[0] > 1.2 * red_over_blue[1] > 1.2 * 1.2 * red_over_blue[2]


def test_painted_plates__what_is_wrong_is_said() -> None:
    small, whole = Painted((1, 1, 1), 50, (10, 10)), Painted((1, 1, 1), 50, SIZE)
    where = placement((0,), pictures={"small": small, "whole": whole})
    with pytest.raises(ParameterError, match="no plate yet"):
        concealed(where, ConcealParams(way="brought in"))
    with pytest.raises(ParameterError, match="160x120, the whole frame"):
        concealed(where, ConcealParams(way="brought in", plates=((3, "small"),)))
    lost = replace(where, track=where.track.only(np.arange(COUNT) < 5))
    with pytest.raises(ParameterError, match="not seen"):
        concealed(lost, ConcealParams(way="brought in", plate="whole", plates=((7, "whole"),)))


@pytest.mark.property
def test_light_match__with_none_the_plate_keeps_the_reference_frames_light() -> None:
    frames, covers = frames_with_mark()
    dimmer = np.stack([frames[k] if k == 2 else (0.8 * frames[k]).astype(np.uint8) for k in range(COUNT)])
    there = placement((2,))
    veil = Conceal()
    within = cv2.erode(covers[6].astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    levels = {}
    for light in (1.0, 0.0):
        params = ConcealParams(way="plate", light=light)
        prepared = veil.prepare(ArrayFrames(dimmer), there, params)
        layer = Layer("plate", veil, there, params, prepared=prepared, feather=constant(2.0))
        levels[light] = float(render_frame(ArrayFrames(dimmer), (layer,), 6).img_raw[within].mean())
    assert levels[1.0] == pytest.approx(0.8 * 370 / 3, abs=3)
    assert levels[0.0] == pytest.approx(370 / 3, abs=4)


@pytest.mark.truth
def test_ink_like_the_wall__goes_where_the_surfaces_rim_has_come_close_to_it() -> None:
    rng, wall = np.random.default_rng(6), np.array([60.0, 66.0, 80.0])
    ys, xs = np.mgrid[: SIZE[1], : SIZE[0]]
    ink = np.hypot(xs - 50, ys - 60) < 9
    shots = []
    for worn in (False, True):
        frames = []
        for k in range(COUNT):
            skin = np.where((ink & worn)[..., None], wall, (180.0, 140.0, 115.0))
            off = xs - (71 - 1.2 * k) - 0.004 * (ys - 60.0) ** 2  # at last 2 px beside the ink
            img = cv2.GaussianBlur(np.where((off < 0)[..., None], skin, wall), (0, 0), 0.8)
            frames.append(np.clip(np.rint(img + rng.normal(0, 1.5, img.shape)), 0, 255).astype(np.uint8))
        shots.append(np.stack(frames))
    clean, marked = shots
    still = Placement(
        still_track(SIZE, COUNT, 0), np.array([50.0, 60.0]) + 12 * RING, np.array([50.0, 60.0]) + 40 * RING
    )
    given, params = ArrayFrames(marked), ConcealParams(way="plate")
    layer = Layer(
        "c", Conceal(), still, params, prepared=Conceal().prepare(given, still, params), feather=constant(2.0)
    )
    for k in range(COUNT):
        off_by = np.abs(render_frame(given, (layer,), k).img_raw.astype(float) - clean[k])[ink]
        assert off_by.mean() < 4, k
