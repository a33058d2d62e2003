from dataclasses import replace

import cv2
import numpy as np
import pytest
from skimage.measure import block_reduce

from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.people import People
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.motion.pyramid import LUMA
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils.obscure.cells import COLD, cell_means, cell_share, flattened, held
from gentle_veil.core.veils.obscure.obscure import Obscure
from gentle_veil.core.veils.obscure.params import ObscureParams
from gentle_veil.core.veils.obscure.regions import hidden_faces

WHOLE = np.array([[-1.0, -1], [200, -1], [200, 160], [-1, 160]])


@pytest.mark.published
def test_cell_means__are_block_means() -> None:
    """scikit-image's block_reduce as the second implementation."""
    picture = np.random.default_rng(1).random((24, 36, 3)).astype(np.float32)
    ys, xs = np.mgrid[:24, :36]
    ours = cell_means(picture, xs // 6, ys // 6, (4, 6))
    np.testing.assert_allclose(ours, block_reduce(picture, (6, 6, 1), np.mean), rtol=1e-5)


def test_cell_means__a_cell_without_pixels_is_not_known() -> None:
    picture = np.ones((4, 4, 3), np.float32)
    ys, xs = np.mgrid[:4, :4]
    assert np.isnan(cell_means(picture, xs, ys, (4, 6))[:, 4:]).all()


def test_cell_share__has_a_floor_by_number_and_by_pixels() -> None:
    assert cell_share(0.01, 0.0, 400.0) == pytest.approx(1 / 6)
    assert cell_share(0.3, 0.0, 400.0) == pytest.approx(0.3)
    assert cell_share(0.01, 0.0, 20.0) == pytest.approx(6 / 20)
    assert cell_share(0.01, 50.0, 100.0) == pytest.approx(0.5)


@pytest.mark.property
def test_held__follows_the_light_but_not_the_grain_or_a_passing_look() -> None:
    rng = np.random.default_rng(2)
    light = np.linspace(0.5, 1.5, 60)
    face = rng.random((5, 4, 3)) + 0.5
    means = [face * g * (1 + 0.2 * rng.normal(size=face.shape)) for g in light]
    kept = held(list(range(60)), means)
    ratio = kept.at(55) / kept.at(5)
    assert ratio.mean() == pytest.approx(light[55] / light[5], rel=0.1)
    jitter = np.std([kept.colours[k] for k in range(20, 40)], axis=0).mean()
    assert jitter < 0.25 * np.std([means[k] / means[k].mean() for k in range(20, 40)], axis=0).mean()


def test_flattened__goes_all_the_way() -> None:
    cells = np.random.default_rng(3).random((4, 5, 3)).astype(np.float32)
    even = flattened(cells, 1.0, 0.0)
    np.testing.assert_allclose(even, np.broadcast_to(cells.mean(axis=(0, 1)), cells.shape), rtol=1e-5)
    cold = flattened(cells, 0.0, 1.0)
    np.testing.assert_allclose(cold @ LUMA, cells @ LUMA, rtol=1e-5)
    np.testing.assert_allclose(cold[..., 2] / cold[..., 0], COLD[2] / COLD[0], rtol=1e-4)
    np.testing.assert_array_equal(flattened(cells, 0.0, 0.0), cells)


def crowd(count: int = 12) -> tuple[ArrayFrames, People, np.ndarray]:
    """Two textured discs that drift; (T, 2, 2) their middles."""
    rng = np.random.default_rng(4)
    texture = cv2.GaussianBlur(rng.random((60, 60, 3)), (0, 0), 1.2)
    frames = np.full((count, 160, 200, 3), 90, np.uint8)
    middles = np.array([[[50 + 2 * k, 70 + k], [150 - k, 90]] for k in range(count)], np.float64)
    ys, xs = np.mgrid[:160, :200]
    for k in range(count):
        for x, y in middles[k]:
            inside = np.hypot(xs - x, ys - y) < 22
            u, v = (xs - int(x) + 30)[inside], (ys - int(y) + 30)[inside]
            frames[k][inside] = (60 + 150 * texture[v, u]).astype(np.uint8)
    ellipses = np.full((2, count, 5), np.nan)
    for i in range(2):
        for k in range(count):
            ellipses[i, k] = (*middles[k, i], 24, 26, 0)
    status = np.full((2, count), "found", dtype="<U5")
    status[1, 8:] = "gone"
    ellipses[1, 8:] = np.nan
    return ArrayFrames(frames), People(ellipses, status, np.ones((2, count))), middles


def laid(frames: ArrayFrames, people: People, **params: object) -> Layer:
    placement = Placement(still_track((200, 160), len(frames), 0), WHOLE, WHOLE, people=people)
    values = ObscureParams(**params)  # type: ignore[arg-type]
    return Layer("hide", Obscure(), placement, values, prepared=Obscure().prepare(frames, placement, values))


@pytest.mark.property
@pytest.mark.parametrize("look", ["mosaic", "blur", "cover"])
def test_faces__nothing_finer_than_a_cell_is_left(look: str) -> None:
    frames, people, middles = crowd()
    made = replace(laid(frames, people, whom="all faces", look=look), feather=constant(2.0))
    for k in (0, 5):
        out = render_frame(frames, (made,), k)
        for x, y in middles[k]:
            box = (slice(int(y) - 14, int(y) + 15), slice(int(x) - 14, int(x) + 15))
            assert (out.matte("hide")[box] == 1).all()
            fine = [p[box].astype(float).mean(axis=-1) for p in (out.img_raw, frames[k])]
            detail = [f - cv2.GaussianBlur(f, (0, 0), 2.0) for f in fine]
            likeness = (detail[0] * detail[1]).mean() / max(detail[0].std() * detail[1].std(), 1e-3)
            assert abs(likeness) < 0.25


def test_whom__all_chosen_or_all_but_chosen() -> None:
    _, people, _ = crowd()
    assert hidden_faces(people, ObscureParams(whom="all faces")) == [0, 1]
    assert hidden_faces(people, ObscureParams(whom="chosen", chosen=("face 2",))) == [1]
    assert hidden_faces(people, ObscureParams(whom="all but chosen", chosen=("face 2",))) == [0]


def test_gone__is_not_covered_any_more() -> None:
    frames, people, _ = crowd()
    out = render_frame(frames, (laid(frames, people, whom="chosen", chosen=("face 2",)),), 10)
    assert out.laid == ()


@pytest.mark.property
def test_many_frames__averaged_along_the_face_bring_no_detail_back() -> None:
    frames, people, middles = crowd()
    made = laid(frames, people, whom="chosen", chosen=("face 1",))

    def averaged(pictures: list[np.ndarray]) -> np.ndarray:
        cut = [
            cv2.getRectSubPix(p.astype(np.float32), (29, 29), tuple(float(v) for v in m[0]))
            for p, m in zip(pictures, middles, strict=True)
        ]
        mean = np.mean(cut, axis=0).mean(axis=-1)
        return mean - cv2.GaussianBlur(mean, (0, 0), 2.0)

    hidden = averaged([render_frame(frames, (made,), k).img_raw for k in range(len(frames))])
    clear = averaged([frames[k] for k in range(len(frames))])
    assert abs(np.corrcoef(hidden.ravel(), clear.ravel())[0, 1]) < 0.3


def test_mosaic__has_no_soft_edge_and_an_outline_is_covered_whole() -> None:
    frames, _, _ = crowd()
    sign = np.array([[30.0, 30], [90, 30], [90, 70], [30, 70]])
    placement = Placement(still_track((200, 160), len(frames), 0), sign, sign)
    values = ObscureParams(margin=0.0)
    prepared = Obscure().prepare(frames, placement, values)
    made = Layer("sign", Obscure(), placement, values, prepared=prepared, feather=constant(9.0))
    matte = render_frame(frames, (made,), 3).matte("sign")
    assert (matte[31:69, 31:89] == 1).all()
    assert not matte[:27].any()
    assert not matte[:, :27].any()
