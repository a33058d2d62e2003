import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Placement, nothing_in_front
from gentle_veil.core.geometry.outline import bounding_box, polygon_mask
from gentle_veil.core.veils.conceal.hold import hold_steps
from gentle_veil.core.veils.conceal.sought import Behind, Mark, correlation, find, unwrapped

SIZE, RIM, CENTRE = (160, 120), 60, np.array([92.0, 60.0])
SKIN, WALL = np.array([0.45, 0.25, 0.18]), np.array([0.07, 0.08, 0.09])
ANGLES = np.arange(12) * 2 * np.pi / 12
CIRCLE = np.stack([np.cos(ANGLES), np.sin(ANGLES)], axis=1)


@pytest.fixture(scope="module")
def scene() -> np.ndarray:
    return np.random.default_rng(2).normal(-2, 0.3, (60, 70)).astype(np.float32)


@pytest.fixture(scope="module")
def disc() -> np.ndarray:
    return cv2.circle(np.zeros((20, 20), np.float32), (10, 10), 8, 1, -1)


@pytest.mark.truth
def test_correlation__all_to_be_seen__is_that_of_opencv(scene, disc) -> None:
    look = scene[20:40, 25:45].copy()
    ours = correlation(scene, np.ones_like(scene), look, disc)
    np.testing.assert_allclose(ours, cv2.matchTemplate(scene, look, cv2.TM_CCOEFF_NORMED, mask=disc), atol=1e-4)


@pytest.mark.property
def test_correlation__what_is_not_shown_does_not_matter_and_little_is_not_enough(scene, disc) -> None:
    look, shown = scene[20:40, 25:45].copy(), np.ones_like(scene)
    shown[:, :31] = 0
    spoilt = np.where(shown > 0, scene, np.float32(5))
    scores = correlation(spoilt, shown, look, disc)
    assert scores[20, 25] == pytest.approx(1.0, abs=1e-4)
    assert scores[20, 10] == -1


def skin(centre: np.ndarray, rim: float) -> np.ndarray:
    """A wall, and right of its rim skin with a faint spot, which is darker towards the rim; 8 bit."""
    rng = np.random.default_rng(5)
    ys, xs = np.mgrid[: SIZE[1], : SIZE[0]]
    spot = 1 - 0.12 * (np.hypot(xs - centre[0], ys - centre[1]) < 5)
    shade = (1 - 0.1 * np.exp(-np.maximum(xs - rim, 0) / 12)) * spot
    surface = cv2.GaussianBlur((xs > rim).astype(np.float32), (0, 0), 1.2)[..., None]
    lit = cv2.GaussianBlur(WALL * (1 - surface) + SKIN * shade[..., None] * surface, (0, 0), 0.8)
    coded = 255 * bt709_encode(lit.astype(np.float32)) + rng.normal(0, 1.2, (*SIZE[::-1], 3))
    return np.clip(np.rint(coded), 0, 255).astype(np.uint8)


@pytest.mark.truth
def test_find__a_faint_mark_near_the_rim__is_not_taken_for_the_rim() -> None:
    """The surface turns away by 22 px from one frame to the next, and the mark with it, now 10 px from the rim."""
    frames = ArrayFrames(np.stack([skin(CENTRE, RIM), skin(CENTRE - (2, 0), RIM + 20)]))
    placement = Placement(still_track(SIZE, 2, 0), CENTRE + 8 * CIRCLE, CENTRE + 24 * CIRCLE)
    box = bounding_box(placement.polygon_ref, 5)
    near = polygon_mask(placement.polygon_ref, box[2] - box[0], box[3] - box[1], box[:2])
    near = cv2.dilate(near.astype(np.uint8), np.ones((9, 9))).astype(np.float32)
    mark = Mark(unwrapped(frames, placement.track, 0, box), near, box)
    behind = Behind.of(frames, placement)
    step, alike, _ = find(frames, placement.track, 1, mark, (30, 0.002), surely=True, behind=behind)
    np.testing.assert_allclose(step, (-2, 0), atol=1.0)
    fooled, *_ = find(frames, placement.track, 1, mark, (30, 0.002))
    assert np.abs(fooled - (-2, 0)).max() > 5  # without, it is
    assert alike > 0.8
    covered = behind(1, (40, 20, 140, 100))
    assert covered is not None
    assert covered[:, : RIM + 20 - 3 - 40].min() == 1
    assert covered[:, RIM + 20 + 3 - 40 :].max() == 0
    assert nothing_in_front(1, box) is None


def scarred(shade_at: float) -> np.ndarray:
    """Skin with a thin slanting line, and a shade across it that ends at a column; 8 bit."""
    rng = np.random.default_rng(8)
    ys, xs = np.mgrid[: SIZE[1], : SIZE[0]]
    line = 1 - 0.08 * (np.abs((ys - 60) - 0.6 * (xs - 80)) < 2.5) * (np.abs(xs - 80) < 24)
    shade = 1 - 0.35 / (1 + np.exp(-(xs - shade_at) / 8))
    lit = cv2.GaussianBlur(SKIN * (line * shade)[..., None], (0, 0), 0.8)
    coded = 255 * bt709_encode(lit.astype(np.float32)) + rng.normal(0, 1.0, (*SIZE[::-1], 3))
    return np.clip(np.rint(coded), 0, 255).astype(np.uint8)


@pytest.mark.truth
def test_find__a_thin_scar_in_moving_shade__stays_where_it_is() -> None:
    frames = ArrayFrames(np.stack([scarred(80), scarred(89)]))
    track, box = still_track(SIZE, 2, 0), (50, 35, 111, 86)
    whole = np.ones((box[3] - box[1], box[2] - box[0]), np.float32)
    drawn, shaded = (Mark(unwrapped(frames, track, 0, box, drawn=d), whole, box, drawn=d) for d in (True, False))
    step, alike, _ = find(frames, track, 1, drawn, (14, 0.002))
    assert np.hypot(*step) < 0.5
    assert alike > 0.6
    fooled, *_ = find(frames, track, 1, shaded, (14, 0.002))
    assert np.hypot(*fooled) > 4


def scarred_and_noisy(count: int) -> list[np.ndarray]:
    """The same, under another shade and much coarse noise on each frame."""
    rng = np.random.default_rng(3)
    noise = (cv2.GaussianBlur(rng.normal(size=(*SIZE[::-1], 3)), (0, 0), 1.5) for _ in range(count))
    pairs = (scarred(83 + 3 * k) + 3.0 * n / n.std() for k, n in enumerate(noise))
    return [np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in pairs]


@pytest.mark.truth
@pytest.mark.parametrize("slip", [(0.0, 0.0), (4.0, -3.0)])
def test_hold_steps__a_mark_that_looks_otherwise__is_held_where_the_drape_has_it_if_that_is_as_likely(slip) -> None:
    """Its likest place is off by 1 px, and the drape is right; where the drape is far off, that is likely still."""
    frames = ArrayFrames(np.stack([scarred(80), *scarred_and_noisy(6)]))
    outline = np.array([(54, 42), (66, 42), (106, 70), (106, 78), (94, 78), (54, 50)], np.float64)
    track = still_track(SIZE, 7, 0).moved({str(k): slip for k in range(1, 7)})
    steps = hold_steps(frames, Placement(track, outline, CENTRE + 50 * CIRCLE)).steps
    off = [np.hypot(*(np.array(slip) + steps[str(k)])) for k in range(2, 7)]  # smoothed over time at the first
    assert np.max(off) < (0.3 if slip == (0.0, 0.0) else 1.2)
