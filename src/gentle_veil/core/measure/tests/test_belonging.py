"""Curves against sequences whose light, grain, focus and motion are known."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import OK, TrackRow, track_from_rows
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.measure.belonging import belonging_curves, motion_at

COUNT, SHIFT = 9, 3
OUTLINE = np.array([[40.0, 40], [160, 40], [160, 120], [40, 120]])


@pytest.fixture(scope="module")
def shot():
    rng = np.random.default_rng(5)
    wall = 0.45 + 0.05 * cv2.GaussianBlur(rng.normal(size=(160, 260)), (0, 0), 1.5)
    wall += 0.6 * (cv2.GaussianBlur(rng.normal(size=(160, 260)), (0, 0), 1.2) * 0.2)
    frames, rows = [], {}
    vertices, triangles, _ = grid_mesh((30, 30, 170, 130), 20)
    for k in range(COUNT):
        seen = np.roll(wall, SHIFT * k, axis=1)[:, :220]
        seen = cv2.GaussianBlur(seen, (0, 0), 2.0) if k >= 6 else seen
        lit = bt709_encode((bt709_decode(seen.astype(np.float32)) * 2.0 ** (0.1 * k)).astype(np.float32))
        noise = rng.normal(0, 0.01 if k < 4 else 0.02, lit.shape)
        frames.append(np.clip(np.rint(255 * (lit + noise)), 0, 255).astype(np.uint8))
        rows[k] = TrackRow(vertices + np.array([SHIFT * k, 0]), np.full(len(vertices), 0.05), OK)
    pictures = np.repeat(np.array(frames)[..., None], 3, axis=-1)
    track = track_from_rows(vertices, triangles, 0, rows)
    return belonging_curves(ArrayFrames(pictures), track, OUTLINE), track


@pytest.mark.truth
def test_light__is_read_in_stops_above_the_reference(shot) -> None:
    curves, _ = shot
    for k in range(6):
        assert curves["light"][k] == pytest.approx(0.1 * k, abs=0.03)


@pytest.mark.truth
def test_grain__is_its_standard_deviation(shot) -> None:
    curves, _ = shot
    # All channels have the same grain here, so its luma is as strong.
    assert np.mean([curves["grain"][k] for k in (6, 7, 8)]) == pytest.approx(2.0, rel=0.15)
    assert curves["grain"][4] > 1.3 * curves["grain"][2]


@pytest.mark.truth
def test_focus__rises_where_the_frame_is_soft(shot) -> None:
    curves, _ = shot
    assert curves["focus"][8] > 1.0 > 0.5 > abs(curves["focus"][1])


@pytest.mark.truth
def test_motion__is_half_of_what_is_travelled_in_a_frame(shot) -> None:
    curves, track = shot
    assert curves["motion"][4] == pytest.approx(SHIFT / 2, abs=0.01)
    np.testing.assert_allclose(motion_at(track, OUTLINE, 4), [SHIFT / 2, 0], atol=0.01)
