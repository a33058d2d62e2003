from dataclasses import replace

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import Keyed
from gentle_veil.core.contracts.surface_track import SurfaceTrack, still_track
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.errors import ShapeError
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.synth.planar import planar_track
from gentle_veil.core.veils.apply.apply import Apply
from gentle_veil.core.veils.apply.params import ApplyParams
from gentle_veil.core.veils.apply.place import artwork_on_reference

SQUARE = np.array([[60.0, 40], [140, 40], [140, 100], [60, 100]])


class Art:
    """A disc of one colour, or several pictures of rising red."""

    def __init__(self, count: int = 1, size: tuple[int, int] = (80, 60)) -> None:
        self.size, self.count, self.seconds = size, count, 0.0 if count == 1 else 0.04
        w, h = size
        ys, xs = np.mgrid[:h, :w]
        self.alpha = (np.hypot(xs - (w - 1) / 2, ys - (h - 1) / 2) < h / 3).astype(np.float32)

    def frame(self, i: int) -> np.ndarray:
        colour = np.array([0.6 if self.count == 1 else (i + 1) / self.count, 0.1, 0.05], np.float32)
        return np.concatenate([self.alpha[..., None] * colour, self.alpha[..., None]], axis=-1)


def weave(count: int = 4) -> ArrayFrames:
    """A lit, woven surface that stands still, 8 bit."""
    ys, xs = np.mgrid[:140, :200]
    light = 0.35 * (1 + 0.3 * np.sin(xs / 25)) * (1 + 0.08 * np.sin(xs * 1.3) * np.sin(ys * 1.3))
    frame = np.rint(255 * bt709_encode(np.repeat(light[..., None], 3, axis=2).astype(np.float32))).astype(np.uint8)
    return ArrayFrames(np.repeat(frame[None], count, axis=0))


def layer(frames: ArrayFrames, art: Art, track: SurfaceTrack | None = None, **params: object) -> Layer:
    placement = Placement(track or still_track((200, 140), len(frames), 0), SQUARE, SQUARE, pictures={"a": art})
    values = ApplyParams(art="a", softness=0.0, **params)  # type: ignore[arg-type]
    return Layer("art", Apply(), placement, values, prepared=Apply().prepare(frames, placement, values))


@pytest.mark.truth
def test_multiply__is_the_surface_times_the_ink() -> None:
    frames = weave()
    laid = render_frame(frames, (layer(frames, Art(), sheen=0.0),), 0)
    inside = cv2.erode((laid.matte("art") > 0.999).astype(np.uint8), np.ones((5, 5), np.uint8)).astype(bool)
    below = frames.encoding.to_linear(frames[0])[inside]
    ours = frames.encoding.to_linear(laid.img_raw)[inside]
    assert inside.sum() > 500
    assert np.abs(ours[:, 0] / below[:, 0] - 0.6).max() < 0.03
    assert np.abs((ours[:, 1] / below[:, 1]).mean() - 0.1) < 0.01


@pytest.mark.property
def test_normal_paint__takes_on_folds_and_weave_as_far_as_it_is_told() -> None:
    frames = weave()
    shades = {}
    for folds, texture in ((1.0, 1.0), (1.0, 0.0), (0.0, 0.0)):
        made = render_frame(frames, (layer(frames, Art(), blend="normal", shading=folds, texture=texture),), 0)
        red = frames.encoding.to_linear(made.img_raw)[58:82, 85:115, 0]
        fine = red - cv2.GaussianBlur(red, (0, 0), 2.5)
        shades[folds, texture] = (red.std(), fine.std())
    assert shades[1, 1][0] > 4 * shades[0, 0][0]
    assert shades[1, 1][1] > 3 * shades[1, 0][1]
    assert shades[0, 0][0] < 0.01


@pytest.mark.truth
@pytest.mark.parametrize("light", [(1.3, 0.9, 0.5), (0.5, 0.5, 0.5), (0.7, 0.85, 1.2)])
def test_normal_paint__takes_on_the_colour_of_a_light_that_changes(light) -> None:
    plain = weave(1)
    other = plain.encoding.to_linear(plain[0]) * np.float32(light)
    frames = ArrayFrames(np.stack([plain[0], np.rint(255 * bt709_encode(other)).astype(np.uint8)]))
    art = layer(frames, Art(), blend="normal")
    before, after = (frames.encoding.to_linear(render_frame(frames, (art,), k).img_raw)[58:82, 85:115] for k in (0, 1))
    np.testing.assert_allclose(after.mean(axis=(0, 1)) / before.mean(axis=(0, 1)), light, rtol=0.04)


def test_place__fits_turns_moves_and_takes_corners_and_bend() -> None:
    size, middle = (80, 60), np.array([[39.5, 29.5]])
    plain = ApplyParams(art="a")
    np.testing.assert_allclose(artwork_on_reference(middle, size, SQUARE, plain), [[100, 70]])
    moved = replace(plain, across=5.0, down=-3.0, size=2.0, turn=90.0)
    np.testing.assert_allclose(artwork_on_reference(middle, size, SQUARE, moved), [[105, 67]])
    right = artwork_on_reference(middle + np.array([[10, 0]]), size, SQUARE, moved)
    np.testing.assert_allclose(right, [[105, 87]], atol=1e-9)
    corner = np.array([[-0.5, -0.5]])
    pulled = replace(plain, top_left_x=-7.0, top_left_y=4.0)
    np.testing.assert_allclose(artwork_on_reference(corner, size, SQUARE, pulled), [[53, 44]], atol=1e-6)
    bent = replace(plain, bend=tuple((0.0, 0.0) if i != 4 else (3.0, 1.0) for i in range(9)))
    np.testing.assert_allclose(artwork_on_reference(middle, size, SQUARE, bent), [[103, 71]], atol=1e-5)
    np.testing.assert_allclose(artwork_on_reference(corner, size, SQUARE, bent), [[60, 40]], atol=1e-5)
    with pytest.raises(ShapeError, match="4, 9, 16 or 25"):
        artwork_on_reference(middle, size, SQUARE, replace(plain, bend=((0.0, 0.0),) * 3))


@pytest.mark.truth
def test_moving_surface__artwork_lies_where_the_surface_carries_it() -> None:
    frames = weave(3)
    vertices, triangles, _ = grid_mesh((40, 20, 160, 120), 10)
    maps = [np.array([[1.0, 0.1 * k, 4.3 * k], [-0.05 * k, 1, -2.6 * k], [0, 0.0003 * k, 1]]) for k in range(3)]
    track = SurfaceTrack(
        vertices,
        triangles,
        np.stack([apply_homography(m, vertices) for m in maps]).astype(np.float32),
        np.ones((3, len(vertices)), np.float32),
        np.array(["ok"] * 3, dtype="<U10"),
        np.arange(3),
        (0,),
    )
    made = layer(frames, Art(), track, sheen=0.0)
    for k, m in enumerate(maps):
        matte = render_frame(frames, (made,), k).matte("art")
        ys, xs = np.mgrid[:140, :200]
        centre = np.array([(matte * xs).sum(), (matte * ys).sum()]) / matte.sum()
        rim = 20 * np.stack([np.cos(np.linspace(0, 6.28, 200)), np.sin(np.linspace(0, 6.28, 200))], axis=1)
        carried = apply_homography(m, np.array([[100.0, 70]]) + rim).astype(np.float32)
        moments = cv2.moments(carried[None])
        expected = np.array([moments["m10"], moments["m01"]]) / moments["m00"]
        assert np.abs(centre - expected).max() < 0.1, k


def test_moving_artwork__loops_holds_or_ends() -> None:
    frames = weave(6)

    def red(k: int, plays: str) -> float:
        made = render_frame(frames, (layer(frames, Art(3), plays=plays, blend="normal", shading=0.0, texture=0.0),), k)
        return float(frames.encoding.to_linear(made.img_raw)[70, 100, 0])

    assert [round(red(k, "loop"), 1) for k in range(6)] == [0.3, 0.7, 1.0, 0.3, 0.7, 1.0]
    assert [round(red(k, "hold"), 1) for k in (0, 2, 5)] == [0.3, 1.0, 1.0]
    once = render_frame(frames, (layer(frames, Art(3), plays="once"),), 4)
    assert once.laid == ()


def test_keyed_place__moves_over_frames() -> None:
    frames = weave(5)
    made = replace(layer(frames, Art()), keyed={"across": Keyed(((0, 0.0), (4, 20.0)))})
    columns = np.arange(200)
    middles = [(m := render_frame(frames, (made,), k).matte("art")).sum(axis=0) @ columns / m.sum() for k in (0, 2, 4)]
    np.testing.assert_allclose(middles, [100, 110, 120], atol=0.1)


class Halves(Art):
    """Red on the left, green on the right."""

    def frame(self, i: int) -> np.ndarray:
        picture = np.zeros((*self.alpha.shape, 4), np.float32)
        half = picture.shape[1] // 2
        picture[:, :half], picture[:, half:] = (0.8, 0.1, 0.1, 1.0), (0.1, 0.8, 0.1, 1.0)
        return picture


@pytest.mark.property
def test_surface_that_lies_over_itself__shows_its_foremost_side_only() -> None:
    frames = weave(2)
    vertices, triangles, _ = grid_mesh((50, 30, 150, 110), 10)
    # On the second frame what was right of the middle is turned back under what was left of it.
    folded = vertices.copy()
    folded[:, 0] = np.where(vertices[:, 0] > 100, 100 - 0.9 * (vertices[:, 0] - 100), vertices[:, 0])
    track = SurfaceTrack(
        vertices,
        triangles,
        np.stack([vertices, folded]).astype(np.float32),
        np.ones((2, len(vertices)), np.float32),
        np.array(["ok", "ok"], dtype="<U10"),
        np.arange(2),
        (0,),
    )
    flat = {"blend": "normal", "shading": 0.0, "texture": 0.0}
    for order in (1, -1):
        turned = replace(track, triangles=np.ascontiguousarray(triangles[::order]))
        made = frames.encoding.to_linear(render_frame(frames, (layer(frames, Halves(), turned, **flat),), 1).img_raw)
        shown = made[50:90, 66:96]
        assert (shown[..., 0] > 0.7).all()
        assert (shown[..., 1] < 0.2).all()


@pytest.mark.property
def test_artwork__ends_where_the_surface_turns_away_unless_it_is_to_stand_off_it() -> None:
    count, wall = 10, 120
    rng = np.random.default_rng(5)
    skin = np.array([0.4, 0.22, 0.15]) * (
        1 + 0.1 * cv2.GaussianBlur(rng.normal(0, 1, (140, 260)), (0, 0), 2)[..., None]
    )
    pictures = []
    for k in range(count):
        picture = skin[:, 60 - 6 * k : 260 - 6 * k].copy()
        picture[:, wall:] = (0.22, 0.25, 0.26)
        pictures.append(np.rint(255 * bt709_encode(picture.astype(np.float32))).astype(np.uint8))
    frames = ArrayFrames(np.stack(pictures))
    square = np.array([[60.0, 50], [100, 50], [100, 90], [60, 90]])
    maps = np.array([[[1, 0, 6.0 * k], [0, 1, 0], [0, 0, 1]] for k in range(count)])
    track = planar_track((40, 30, 120, 110), 20, maps)
    placement = Placement(track, square, square, pictures={"a": Halves()})
    for at_rim in (True, False):
        values = ApplyParams(art="a", at_rim=at_rim)
        made = Layer("art", Apply(), placement, values, prepared=Apply().prepare(frames, placement, values))
        matte = render_frame(frames, (made,), count - 1).matte("art")
        assert matte[60:80, : wall - 4].max() > 0.95
        assert (matte[:, wall + 4 :].max() < 0.02) == at_rim
