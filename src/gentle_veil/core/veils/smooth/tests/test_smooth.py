import cv2
import numpy as np
import pytest
from skimage import data

from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.faces.under import face_under
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.veils.smooth.smooth import Smooth, SmoothParams

OUTLINE = np.array([[10.0, 10], [150, 10], [150, 110], [10, 110]])
SKIN = np.array([0.45, 0.25, 0.18])


@pytest.fixture(scope="module")
def face() -> dict[str, np.ndarray]:
    """Skin with blotches of 8 px, pores of 1 px, and a dark blue eye; as parts, in encoded light."""
    rng = np.random.default_rng(7)
    blotches = cv2.GaussianBlur(rng.normal(size=(120, 160)), (0, 0), 5)
    blotches *= 0.02 / blotches.std()
    pores = cv2.GaussianBlur(rng.normal(size=(120, 160)), (0, 0), 0.6)
    pores *= 0.012 / pores.std()
    base = bt709_encode(SKIN.astype(np.float32))[None, None] + np.zeros((120, 160, 3), np.float32)
    picture = base + (blotches + pores)[..., None]
    ys, xs = np.mgrid[:120, :160]
    eye = np.hypot(xs - 110, ys - 60) < 9
    picture[eye] = bt709_encode(np.array([0.03, 0.05, 0.12], np.float32)) + pores[eye][:, None]
    raw = np.clip(np.rint(255 * picture), 0, 255).astype(np.uint8)
    return {"raw": raw, "blotches": blotches, "pores": pores, "eye": eye}


def smoothed(face: dict[str, np.ndarray], **params: object) -> tuple[np.ndarray, np.ndarray]:
    frames = ArrayFrames(np.repeat(face["raw"][None], 3, axis=0))
    placement = Placement(still_track((160, 120), 3, 0), OUTLINE, OUTLINE)
    values = SmoothParams(**params)  # type: ignore[arg-type]
    made = Layer("s", Smooth(), placement, values, prepared=Smooth().prepare(frames, placement, values))
    out = render_frame(frames, (made,), 1)
    return out.img_raw, out.matte("s")


@pytest.mark.truth
def test_blotches_go__pores_stay(face) -> None:
    out, _ = smoothed(face, amount=1.0)
    skin = np.zeros((120, 160), bool)
    skin[20:100, 20:90] = True
    left = out.astype(float).mean(axis=-1)[skin] / 255
    left -= left.mean()
    blotches, pores = face["blotches"][skin], face["pores"][skin]
    assert abs((left * blotches).sum() / (blotches**2).sum()) < 0.35
    assert (left * pores).sum() / (pores**2).sum() == pytest.approx(1.0, abs=0.2)


@pytest.mark.property
def test_eye__is_not_selected_and_not_touched(face) -> None:
    out, matte = smoothed(face, amount=1.0)
    inner = cv2.erode(face["eye"].astype(np.uint8), np.ones((7, 7), np.uint8)).astype(bool)
    assert matte[inner].max() == 0
    np.testing.assert_array_equal(out[inner], face["raw"][inner])
    assert np.median(matte[20:100, 20:90]) > 0.95


@pytest.mark.property
def test_amount_zero__changes_nothing_beyond_rounding(face) -> None:
    out, _ = smoothed(face, amount=0.0)
    assert np.abs(out.astype(int) - face["raw"]).max() <= 1


@pytest.mark.truth
def test_prepare__samples_the_skin_not_the_eye(face) -> None:
    frames = ArrayFrames(face["raw"][None])
    placement = Placement(still_track((160, 120), 1, 0), OUTLINE, OUTLINE)
    found = Smooth().prepare(frames, placement, SmoothParams())["skin"]
    assert np.linalg.norm(np.array(found) - lab_from_linear(SKIN)) < 3


def test_tolerance__widens_the_selection(face) -> None:
    narrow, wide = (smoothed(face, tolerance=t)[1].sum() for t in (2.0, 40.0))
    assert wide > narrow


def stroke(tool: str, x: float, y: float, radius: float = 12.0) -> dict[str, object]:
    return {"tool": tool, "points": [[x, y]], "radius": radius, "softness": 0.0}


@pytest.mark.property
def test_strokes__take_from_the_selection_and_add_to_it(face) -> None:
    _, plain = smoothed(face)
    _, less = smoothed(face, selection=(stroke("take", 50, 60),))
    _, more = smoothed(face, selection=(stroke("add", 110, 60, 5),))
    assert (plain[60, 50] > 0.95, less[60, 50]) == (True, 0)
    assert (plain[60, 110], more[60, 110] > 0.99) == (0, True)
    far = np.s_[80:110, 10:40]
    np.testing.assert_array_equal(less[far], plain[far])


@pytest.mark.property
def test_a_later_stroke__takes_back_what_one_before_it_added(face) -> None:
    _, matte = smoothed(face, selection=(stroke("add", 110, 60), stroke("take", 110, 60, 14)))
    assert matte[60, 110] == 0


@pytest.mark.property
def test_strokes__may_lie_beyond_the_outline(face) -> None:
    _, matte = smoothed(face, selection=(stroke("add", 156, 116, 3),))
    assert matte[116, 156] > 0.9


@pytest.mark.property
@pytest.mark.parametrize("light", [(0.3, 0.3, 0.3), (1.3, 1.0, 0.55), (0.55, 0.7, 1.1)])
def test_other_light_on_a_frame__is_the_same_skin(face, light) -> None:
    lit = bt709_encode(bt709_decode(face["raw"] / np.float32(255)) * np.float32(light))
    frames = ArrayFrames(np.stack([face["raw"], np.rint(255 * np.clip(lit, 0, 1)).astype(np.uint8)]))
    placement = Placement(still_track((160, 120), 2, 0), OUTLINE, OUTLINE)
    layer = Layer(
        "s", Smooth(), placement, SmoothParams(), prepared=Smooth().prepare(frames, placement, SmoothParams())
    )
    plain, other = (render_frame(frames, (layer,), k).matte("s") for k in (0, 1))
    inner = cv2.erode(face["eye"].astype(np.uint8), np.ones((7, 7), np.uint8)).astype(bool)
    assert np.abs(plain - other)[20:100, 20:90].max() < 0.1
    assert other[inner].max() < 0.05


@pytest.mark.property
def test_shadow_over_half_of_it__is_skin_all_the_same(face) -> None:
    shade = np.where(np.arange(160) < 60, 0.35, 1.0).astype(np.float32)[None, :, None]
    lit = bt709_encode(bt709_decode(face["raw"] / np.float32(255)) * shade)
    _, matte = smoothed({**face, "raw": np.rint(255 * lit).astype(np.uint8)})
    assert np.median(matte[20:100, 20:50]) > 0.95


PORTRAIT = np.array([[70.0, 30], [210, 30], [210, 220], [70, 220]])


def on_portrait(**params: object) -> tuple[np.ndarray, np.ndarray]:
    """The matte on scikit-image's portrait (public domain), and its face's points."""
    raw = data.astronaut()[:300, 80:380]
    frames = ArrayFrames(np.stack([raw, raw]))
    placement = Placement(still_track((300, 300), 2, 0), PORTRAIT, PORTRAIT)
    values = SmoothParams(tolerance=150.0, **params)  # type: ignore[arg-type]
    made = Layer("s", Smooth(), placement, values, prepared=Smooth().prepare(frames, placement, values))
    return render_frame(frames, (made,), 1).matte("s"), face_under(raw, PORTRAIT)


@pytest.mark.truth
def test_a_face__keeps_its_eyes_brows_and_lips() -> None:
    matte, found = on_portrait()
    everywhere, _ = on_portrait(features=False)
    for part in ("eye left", "eye right", "lips"):
        x, y = np.rint(found.part(part).mean(axis=0)).astype(int)
        assert matte[y, x] == 0
        assert everywhere[y, x] > 0.5
    x, y = np.rint(found.part("cheek left").mean(axis=0)).astype(int)
    assert matte[y, x] > 0.9


def test_face_only__ends_at_the_hairline() -> None:
    matte, found = on_portrait(within_face=True)
    top = int(found.part("face")[:, 1].min())
    assert matte[: top - 2].max() == 0
