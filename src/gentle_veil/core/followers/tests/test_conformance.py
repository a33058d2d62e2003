"""What every follower must do, run over whatever the loader finds."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.surface_track import SEEN, STATUSES, SurfaceTrack, error_from_confidence
from gentle_veil.core.errors import CancelledError, ParameterError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.synth.planar import PlanarSequence, planar_sequence

# What a follower that may bend is allowed on a texture of 2 % contrast, in a region of 160x120 px.
BENDING_PX = 0.25
BOX = np.array([[80.0, 60], [240, 60], [240, 180], [80, 180]])
POINTS = np.stack(np.meshgrid(np.linspace(90, 230, 6), np.linspace(70, 170, 5)), axis=-1).reshape(-1, 2)
pytestmark = pytest.mark.parametrize("kind", sorted(FOLLOWERS))


def estimate(kind: str, frames: np.ndarray, wanted, reference: int = 0, **more):
    follower = FOLLOWERS[kind]
    return follower.estimate(ArrayFrames(frames), Region(reference, BOX), follower.Options(), wanted=wanted, **more)


def errors(track, sequence: PlanarSequence) -> np.ndarray:
    out = []
    for row, k in enumerate(track.frames):
        truth = apply_homography(sequence.frame_from_ref[int(k)], POINTS)
        out.append(np.linalg.norm(track.carry(POINTS, row) - truth, axis=1))
    return np.array(out)


@pytest.mark.property
def test_still_clip__nothing_moves(kind: str, skin: PlanarSequence) -> None:
    still = np.repeat(skin.frames[:1], 4, axis=0)
    track = estimate(kind, still, range(4))
    for row in range(4):
        np.testing.assert_allclose(track.carry(POINTS, row), POINTS, atol=5e-3)
    # Beyond the outline there is nothing to see: there the surface is only carried on.
    assert np.abs(track.positions - track.vertices_ref).max() < 0.3
    assert set(track.status) == {"ok"}


@pytest.mark.truth
def test_planar_motion_with_gain_and_grain__within_a_tenth_of_a_pixel(kind: str, skin: PlanarSequence) -> None:
    track = estimate(kind, skin.frames, range(len(skin.frames)))
    found = errors(track, skin)
    assert found.mean() < (0.1 if kind == "plane" else BENDING_PX)
    assert set(track.status) == {"ok"}


@pytest.mark.truth
def test_reference_in_the_middle__both_directions_agree_with_truth(kind: str, skin: PlanarSequence) -> None:
    middle = 6
    moved = skin.frame_from_ref[middle]
    follower = FOLLOWERS[kind]
    region = Region(middle, apply_homography(moved, BOX))
    track = follower.estimate(ArrayFrames(skin.frames), region, follower.Options(), wanted=range(16))
    here = apply_homography(moved, POINTS)
    for k in (0, 15):
        truth = apply_homography(skin.frame_from_ref[k], POINTS)
        assert np.linalg.norm(track.carry(here, track.row(k)) - truth, axis=1).mean() < (
            0.15 if kind == "plane" else BENDING_PX
        )


@pytest.mark.truth
def test_cut__is_called_lost_and_never_confident(kind: str, skin: PlanarSequence) -> None:
    other = planar_sequence("strong_weave", seed=77, count=1, width=320, height=240).frames
    cut = np.concatenate([skin.frames[:4], np.repeat(other, 3, axis=0)])
    track = estimate(kind, cut, range(7))
    assert [str(s) for s in track.status[:4]] == ["ok"] * 4
    assert not any(s in SEEN for s in track.status[4:])
    assert error_from_confidence(track.confidence[4:]).min() > 1.0


@pytest.mark.truth
def test_passing_object__status_or_place_is_right_and_it_recovers(kind: str) -> None:
    def bar(k: int, image: np.ndarray) -> np.ndarray:
        x = -60 + 26 * k
        image[:, max(x, 0) : max(x + 60, 0)] = 0.2
        return image

    sequence = planar_sequence("strong_weave", seed=4, count=18, width=320, height=240, travel=8.0, occluder=bar)
    track = estimate(kind, sequence.frames, range(18))
    found = errors(track, sequence).mean(axis=1)
    sure = np.array([s == "ok" for s in track.status])
    assert found[sure].max() < 0.5
    assert found[-1] < 0.1


@pytest.mark.truth
def test_held_out__what_passes_is_not_looked_at(kind: str) -> None:
    # The bar has a texture of its own, moves with the surface's neighbours, and covers half of the region.
    def bar(k: int, image: np.ndarray) -> np.ndarray:
        other = planar_sequence("strong_weave", seed=99, count=1, width=320, height=240).frames[0] / 255.0
        image[:, 40 + 6 * k : 150 + 6 * k] = other[:, 40:150]
        return image

    def passing(k: int) -> list[np.ndarray]:
        return [np.array([[40.0 + 6 * k, -5], [150 + 6 * k, -5], [150 + 6 * k, 245], [40 + 6 * k, 245]])]

    sequence = planar_sequence("weak_skin", seed=4, count=8, width=320, height=240, travel=8.0, occluder=bar)
    follower = FOLLOWERS[kind]
    region = Region(0, BOX, passing)
    track = follower.estimate(ArrayFrames(sequence.frames), region, follower.Options(), wanted=range(8))
    for row in range(8):
        free = (POINTS[:, 0] > 158 + 6 * row) & (POINTS[:, 0] > 158)
        if free.sum() >= 5:
            truth = apply_homography(sequence.frame_from_ref[row], POINTS[free])
            off = np.linalg.norm(track.carry(POINTS[free], row) - truth, axis=1)
            assert track.status[row] not in SEEN or off.mean() < 0.6


@pytest.mark.truth
def test_all_held_out__is_called_occluded_and_found_again(kind: str, skin: PlanarSequence) -> None:
    everything = [np.array([[-9.0, -9], [400, -9], [400, 300], [-9, 300]])]
    follower = FOLLOWERS[kind]
    region = Region(0, BOX, lambda k: everything if k in (3, 4) else [])
    track = follower.estimate(ArrayFrames(skin.frames), region, follower.Options(), wanted=range(7))
    assert [str(s) for s in track.status[3:5]] == ["occluded"] * 2
    assert track.status[6] == "ok"
    assert errors(track, skin)[6].mean() < BENDING_PX


@pytest.mark.truth
def test_leaving_the_picture__says_outside_and_finds_it_again(kind: str) -> None:
    base = planar_sequence("weak_skin", seed=6, count=1, width=960, height=240, travel=0.0).frames[0]
    # The surface walks out to the left by 240 px and comes back, 30 px a frame.
    steps = [*range(0, 241, 30), *range(210, -1, -30)]
    frames = np.stack([base[:, 300 + s : 620 + s] for s in steps])
    follower = FOLLOWERS[kind]
    region = Region(0, np.array([[60.0, 60], [180, 60], [180, 180], [60, 180]]))
    track = follower.estimate(ArrayFrames(frames), region, follower.Options(), wanted=range(len(frames)))
    assert "outside" in set(track.status)
    assert track.status[-1] == "ok"
    inner = np.array([[75.0, 75], [120, 120], [165, 165], [165, 75]])
    assert np.abs(track.carry(inner, len(frames) - 1) - inner).max() < 0.3


@pytest.mark.property
def test_same_bytes_twice__and_inputs_untouched(kind: str, skin: PlanarSequence) -> None:
    before = skin.frames[:5].copy()
    a, b = (estimate(kind, skin.frames[:5], range(5)) for _ in range(2))
    assert a.positions.tobytes() == b.positions.tobytes()
    assert a.confidence.tobytes() == b.confidence.tobytes()
    np.testing.assert_array_equal(skin.frames[:5], before)


@pytest.mark.property
def test_going_on_from_what_is_known__keeps_its_rows(kind: str, skin: PlanarSequence) -> None:
    first = estimate(kind, skin.frames, range(8))
    more = estimate(kind, skin.frames, range(8, 12), known=first)
    assert list(more.frames) == list(range(12))
    np.testing.assert_array_equal(more.positions[:8], first.positions)
    whole = estimate(kind, skin.frames, range(12))
    for k in range(8, 12):
        np.testing.assert_allclose(more.carry(POINTS, k), whole.carry(POINTS, k), atol=0.05 if kind == "plane" else 0.3)


def test_cancel__stops_at_once(kind: str, skin: PlanarSequence) -> None:
    calls = []

    def report(done: int, total: int, doing: str = "", /) -> None:
        calls.append((done, total))
        if done == 2:
            raise CancelledError

    with pytest.raises(CancelledError):
        estimate(kind, skin.frames, range(10), report=report)
    assert calls[-1] == (2, 9)


def test_stopped_on_the_way__what_was_followed_is_kept(kind: str, skin: PlanarSequence) -> None:
    def report(done: int, total: int, doing: str = "", /) -> None:
        if done == 4:
            raise CancelledError

    kept: list[SurfaceTrack] = []
    with pytest.raises(CancelledError):
        estimate(kind, skin.frames, range(10), report=report, keep=kept.append)
    assert list(kept[-1].frames) == [0, 1, 2, 3, 4]
    whole = estimate(kind, skin.frames, range(10))
    np.testing.assert_array_equal(kept[-1].positions, whole.positions[:5])


def test_region_without_pixels__is_refused_in_one_sentence(kind: str, skin: PlanarSequence) -> None:
    follower = FOLLOWERS[kind]
    tiny = Region(0, np.array([[5.0, 5], [7, 5], [6, 7]]))
    with pytest.raises(ParameterError, match="draw it larger"):
        follower.estimate(ArrayFrames(skin.frames), tiny, follower.Options(), wanted=[1])


@pytest.mark.truth
def test_confidence__errors_lie_mostly_within_what_is_said(kind: str, skin: PlanarSequence) -> None:
    track = estimate(kind, skin.frames, range(16))
    said = np.array([error_from_confidence(track.carry_confidence(POINTS, row)) for row in range(1, 16)])
    share = (errors(track, skin)[1:] < said).mean()
    assert 0.35 < share <= 1.0
    assert said.max() < 0.5
    assert set(track.status) <= set(STATUSES)


@pytest.mark.truth
def test_sixteen_bit_and_eight_bit__agree(kind: str, skin: PlanarSequence) -> None:
    deep = skin.frames[:6].astype(np.uint16) * 257
    a, b = estimate(kind, skin.frames[:6], range(6)), estimate(kind, deep, range(6))
    for row in range(6):
        np.testing.assert_allclose(a.carry(POINTS, row), b.carry(POINTS, row), atol=2e-3 if kind == "plane" else 0.01)


@pytest.mark.truth
def test_defocus__does_not_pull_the_surface_away(kind: str, skin: PlanarSequence) -> None:
    soft = np.stack([cv2.GaussianBlur(f, (0, 0), 0.4 + 0.12 * k) for k, f in enumerate(skin.frames)])
    track = estimate(kind, soft, range(16))
    assert errors(track, skin).mean() < 0.3


@pytest.mark.parametrize("value", [np.nan, np.inf, 1e30])
def test_float_pictures__what_is_no_number_spoils_nothing(kind: str, skin: PlanarSequence, value: float) -> None:
    frames = skin.frames[:7].astype(np.float32) / 255
    frames[3:5, 100:120, 130:160] = value
    before = frames.copy()
    track = estimate(kind, frames, range(7))
    assert np.isfinite(track.positions).all()
    assert errors(track, skin)[-1].mean() < BENDING_PX
    np.testing.assert_array_equal(frames, before)


@pytest.mark.parametrize("level", [0, 128, 255], ids=["black", "grey", "white"])
def test_frames_without_a_picture__are_called_lost_and_it_recovers(kind: str, skin: PlanarSequence, level: int) -> None:
    frames = skin.frames[:9].copy()
    frames[3:6] = level
    track = estimate(kind, frames, range(9))
    assert not set(track.status[3:6]) & set(SEEN)
    assert errors(track, skin)[-1].mean() < BENDING_PX
