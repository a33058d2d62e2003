"""Frame stats and proof figures."""

import cv2
import numpy as np
import pytest

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Patch
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.measure.frame_stats import FrameStats, StatsMeter, propose_references
from gentle_veil.core.measure.proof import flicker_series, judge, measure_veil
from gentle_veil.core.render import LaidPatch


@pytest.mark.truth
def test_stats__softer_frames__are_less_sharp_whatever_their_light(skin) -> None:
    wall = cv2.GaussianBlur(
        np.kron(np.random.default_rng(1).uniform(60, 200, (24, 32, 1)), np.ones((10, 10, 3))), (0, 0), 0.8
    )
    sharpness = []
    for sigma, gain in ((0.01, 1.0), (1.0, 0.6), (2.0, 1.2), (3.0, 0.8)):
        frame = np.clip(cv2.GaussianBlur(wall, (0, 0), sigma) * gain, 0, 255).astype(np.uint8)
        sharpness.append(StatsMeter(CodeValues()).add(frame).sharpness)
    assert sharpness == sorted(sharpness, reverse=True)


@pytest.mark.truth
def test_stats__known_shift__is_the_motion() -> None:
    base = cv2.GaussianBlur(np.random.default_rng(2).uniform(0, 255, (200, 260, 3)), (0, 0), 2.0)
    base = ((base - base.min()) / np.ptp(base) * 255).astype(np.uint8)
    meter = StatsMeter(CodeValues())
    assert meter.add(base[:, :240]).motion == 0
    assert meter.add(base[:, 4:244]).motion == pytest.approx(4.0, abs=0.4)


def test_stats__exposure_and_clipping() -> None:
    frame = np.full((40, 40, 3), 128, np.uint8)
    frame[:20] = 255
    found = StatsMeter(CodeValues()).add(frame)
    assert found.exposure == pytest.approx((128 + 255) / 2 / 255, abs=0.01)
    assert found.clipped == pytest.approx(0.5)


def test_propose_references__sharp_still_and_typical__with_reasons() -> None:
    stats = [FrameStats(1.0, 3.0, 0.5, 0.0) for _ in range(30)]
    stats[12] = FrameStats(2.0, 0.2, 0.5, 0.0)
    stats[13] = FrameStats(1.9, 0.2, 0.5, 0.0)
    stats[25] = FrameStats(1.8, 0.5, 0.5, 0.0)
    proposals = propose_references(stats)
    assert [p.k for p in proposals[:2]] == [12, 25]
    assert "sharper than" in proposals[0].why
    assert "moves 0.2 px" in proposals[0].why
    assert propose_references([]) == []


def still_track() -> SurfaceTrack:
    vertices, triangles, _ = grid_mesh((0, 0, 90, 90), 30)
    return SurfaceTrack(
        vertices,
        triangles,
        vertices[None].astype(np.float32),
        np.full((1, len(vertices)), 0.5, np.float32),
        np.array(["ok"]),
        np.array([0]),
        (0,),
        np.eye(3)[None],
    )


def figures_of(picture: np.ndarray):
    ys, xs = np.mgrid[:30, :30]
    matte = np.clip(12.5 - np.hypot(xs - 14.5, ys - 14.5), 0, 1).astype(np.float32)
    patch = Patch((30, 30, 60, 60), np.zeros((30, 30, 3), np.float32), matte)
    return measure_veil(picture.astype(np.float32), LaidPatch("v", patch, matte), still_track(), 0)


GRAINY = np.clip(0.5 + 0.03 * np.random.default_rng(3).standard_normal((90, 90, 3)), 0, 1)
DISC = np.hypot(*np.mgrid[-44.5:45.5, -44.5:45.5]) < 12


def test_measure_veil__untouched_skin__passes_everything() -> None:
    figures = figures_of(GRAINY)
    assert figures is not None
    assert figures.slide == pytest.approx(1.0)
    for name in ("seam", "grain", "tone"):
        assert judge(name, getattr(figures, name)) == "pass", name


def test_measure_veil__each_fault_shows_in_its_own_figure() -> None:
    brighter = GRAINY + 0.08 * DISC[..., None]
    smooth = np.where(DISC[..., None], cv2.GaussianBlur(GRAINY, (0, 0), 3.0), GRAINY)
    assert judge("tone", figures_of(brighter).tone) == "fail"
    assert judge("seam", figures_of(brighter).seam) != "pass"
    assert judge("grain", figures_of(smooth).grain) == "fail"
    assert judge("tone", figures_of(smooth).tone) == "pass"


def test_measure_veil__hardly_in_the_picture__says_nothing() -> None:
    patch = Patch((0, 0, 3, 3), np.zeros((3, 3, 3), np.float32), np.ones((3, 3), np.float32))
    assert measure_veil(GRAINY.astype(np.float32), LaidPatch("v", patch, patch.matte), still_track(), 0) is None


def test_flicker_series__a_ramp_is_no_flicker_a_jump_is() -> None:
    assert flicker_series(np.linspace(0, 5, 20)).max() < 1e-9
    levels = np.zeros(9)
    levels[4] = 1.0
    assert flicker_series(levels).argmax() == 4
    assert (flicker_series(np.array([1.0, 2.0])) == 0).all()
