"""What passes in front is found by its look; light on the surface, however strong, is not."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.packed import unpack
from gentle_veil.core.contracts.surface_track import LOST, SurfaceTrack, still_track
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.measure.passing import passing
from gentle_veil.core.synth.textures import weak_skin

HEIGHT, WIDTH, COUNT = 120, 160, 30
OUTLINE = np.array([[40.0, 30], [120, 30], [120, 90], [40, 90]])


def _skin() -> np.ndarray:
    skin = weak_skin(np.random.default_rng(3), HEIGHT, WIDTH).astype(np.float32)
    for radius in (14, 22):
        cv2.circle(skin, (80, 60), radius, (0.24, 0.2, 0.2), 2, cv2.LINE_AA)  # a drawing
    return skin


def _shot(paint) -> ArrayFrames:  # type: ignore[no-untyped-def]
    rng, skin = np.random.default_rng(5), _skin()
    frames = []
    for k in range(COUNT):
        picture = paint(k, skin.copy()) + rng.standard_normal(skin.shape) * 0.006
        frames.append(np.clip(np.rint(picture * 255), 0, 255).astype(np.uint8))
    return ArrayFrames(np.stack(frames))


def _bar(k: int) -> tuple[int, int]:
    left = -60 + 10 * k
    return max(left, 0), max(left + 26, 0)


def _still() -> SurfaceTrack:
    return still_track((WIDTH, HEIGHT), COUNT, 0)


def _found(frames: ArrayFrames, track: SurfaceTrack | None = None) -> np.ndarray:
    """(T, H, W) bool, within the outline."""
    told = passing(frames, _still() if track is None else track, OUTLINE)
    out = np.zeros((COUNT, HEIGHT, WIDTH), bool)
    x0, y0, x1, y1 = told["box"]
    for k, packed in told["frames"].items():
        out[int(k), y0:y1, x0:x1] = unpack(packed) > 127
    return out[:, 30:90, 40:120]


@pytest.mark.truth
@pytest.mark.parametrize("colour", [(0.2, 0.26, 0.36), (0.1, 0.08, 0.07), (0.9, 0.9, 0.92)])
def test_a_thing_of_another_colour_or_tone__is_found_whole(colour: tuple[float, float, float]) -> None:
    def cross(k: int, picture: np.ndarray) -> np.ndarray:
        a, b = _bar(k)
        picture[:, a:b] = colour
        return picture

    found = _found(_shot(cross))
    truth = np.zeros((COUNT, HEIGHT, WIDTH), bool)
    for k in range(COUNT):
        a, b = _bar(k)
        truth[k, :, a:b] = True
    truth = truth[:, 30:90, 40:120]
    assert found[truth].mean() > 0.97
    near = np.stack([cv2.dilate(t.astype(np.uint8), np.ones((9, 9), np.uint8)) for t in truth]) > 0
    assert found[~near].mean() < 0.002


@pytest.mark.truth
def test_skin_that_passes_over_a_drawing__is_found_where_it_hides_the_drawing() -> None:
    plain = weak_skin(np.random.default_rng(9), HEIGHT, WIDTH)

    def cross(k: int, picture: np.ndarray) -> np.ndarray:
        a, b = _bar(k)
        picture[:, a:b] = plain[:, a:b] * 0.95
        return picture

    found = _found(_shot(cross))
    drawn = (_skin().mean(axis=-1) < 0.3)[30:90, 40:120]
    hidden = np.zeros((COUNT, HEIGHT, WIDTH), bool)
    for k in range(COUNT):
        a, b = _bar(k)
        hidden[k, :, a + 2 : max(b - 2, a + 2)] = True
    assert found[hidden[:, 30:90, 40:120] & drawn].mean() > 0.9


@pytest.mark.truth
def test_darker_skin_that_passes__is_found_whole_once_it_has_hidden_a_drawing() -> None:
    plain = weak_skin(np.random.default_rng(9), HEIGHT, WIDTH)

    def cross(k: int, picture: np.ndarray) -> np.ndarray:
        a, b = _bar(k)
        picture[:, a:b] = plain[:, a:b] * np.array([0.84, 0.8, 0.78])
        return picture * (1 + 0.006 * k)

    found, truth = _found(_shot(cross)), np.zeros((COUNT, HEIGHT, WIDTH), bool)
    for k in range(COUNT):
        a, b = _bar(k)
        truth[k, :, a:b] = True
    truth = truth[:, 30:90, 40:120]
    over = truth.mean(axis=(1, 2)) > 0.1
    assert found[over][truth[over]].mean() > 0.95
    edge = np.stack([cv2.dilate(t.astype(np.uint8), np.ones((5, 5), np.uint8)) for t in truth]) > 0
    assert found[~edge].mean() < 0.003


@pytest.mark.truth
def test_a_shadow_with_an_edge_and_a_lamp_that_is_turned_up__are_light() -> None:
    def lit(k: int, picture: np.ndarray) -> np.ndarray:
        a, b = _bar(k)
        shade = np.ones((HEIGHT, WIDTH), np.float32)
        shade[:, a:b] = 0.72
        shade = cv2.GaussianBlur(shade, (0, 0), 4.0)  # no shadow's edge is sharp
        return picture * shade[..., None] * (1.0 if k < 15 else 1.2)

    assert _found(_shot(lit)).mean() < 0.002


def test_where_the_surface_is_not_seen__nothing_is_said() -> None:
    still = _still()
    status = still.status.copy()
    status[1:] = LOST

    assert passing(_shot(lambda k, p: p), replace(still, status=status), OUTLINE) == {}


def test_nothing_passes__nothing_is_kept() -> None:
    assert passing(_shot(lambda k, p: p), _still(), OUTLINE)["frames"] == {}


@pytest.mark.truth
def test_a_surface_smeared_by_its_own_motion__hides_nothing() -> None:
    wide, rng, step = 320, np.random.default_rng(8), 22
    skin = weak_skin(np.random.default_rng(3), HEIGHT, wide).astype(np.float32)
    for radius in (10, 22):
        cv2.circle(skin, (70, 60), radius, (0.2, 0.16, 0.16), 5, cv2.LINE_AA)
    went = np.cumsum([step if 12 < k < 20 else 0 for k in range(COUNT)])
    frames = []
    for k in range(COUNT):
        picture = np.roll(skin, went[k], axis=1)
        if 12 <= k < 20:
            picture = cv2.blur(picture, (step // 2 if 12 < k < 19 else step // 4, 1))
        frames.append(np.clip(np.rint((picture + rng.standard_normal(skin.shape) * 0.006) * 255), 0, 255))
    vertices, triangles, _ = grid_mesh((20, 10, 130, 110), 20)
    track = SurfaceTrack(
        vertices,
        triangles,
        (vertices[None] + np.stack([went, 0 * went], axis=-1)[:, None]).astype(np.float32),
        np.ones((COUNT, len(vertices)), np.float32),
        np.full(COUNT, "ok"),
        np.arange(COUNT),
        (0,),
    )
    outline = np.array([[35.0, 25], [110, 25], [110, 95], [35, 95]])
    assert passing(ArrayFrames(np.stack(frames).astype(np.uint8)), track, outline)["frames"] == {}
