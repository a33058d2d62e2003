"""Painted once, carried to every frame: in its light, with its grain."""

from dataclasses import replace

import cv2
import numpy as np
import pytest
from conftest import MARK, MARK_RADIUS, SpottedShot

from gentle_veil.core.colour.cielab import lab_from_linear
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.retouch.strokes import paint, stroke_from
from gentle_veil.core.veils import VEILS
from gentle_veil.core.veils.tests.test_conformance import circle, layer_for

PAINT = VEILS["paint"]


def layer(shot: SpottedShot, *strokes: dict, **more) -> tuple[ArrayFrames, Layer]:
    frames, made = layer_for("paint", shot)
    placement = replace(made.placement, polygon_ref=circle(70), **more)
    params = PAINT.Params(strokes=strokes)
    return frames, replace(made, placement=placement, params=params, prepared=PAINT.prepare(frames, placement, params))


HEAL = {"tool": "heal", "points": [list(MARK)], "radius": MARK_RADIUS + 6, "softness": 0.3, "offset": [26, 4]}


@pytest.mark.truth
def test_healed_once__the_spot_is_gone_on_every_frame(spotted_shot: SpottedShot) -> None:
    frames, one = layer(spotted_shot, HEAL)
    for k in (0, 7, 15):
        result = frames.encoding.to_linear(render_frame(frames, (one,), k).img_raw)
        clean, marked = (frames.encoding.to_linear(p[k]) for p in (spotted_shot.clean, spotted_shot.marked))
        soft = [lab_from_linear(cv2.GaussianBlur(p, (0, 0), 3)) for p in (result, clean, marked)]
        x, y = np.rint(apply_homography(spotted_shot.frame_from_ref[k], np.array([MARK]))[0]).astype(int)
        there = np.s_[y - 3 : y + 4, x - 3 : x + 4]
        left, before = (np.linalg.norm(s - soft[1], axis=-1)[there].mean() for s in (soft[0], soft[2]))
        assert left < 0.2 * before, (k, left, before)


@pytest.mark.truth
def test_grain__lives_on_in_what_was_painted_over(spotted_shot: SpottedShot) -> None:
    frames, one = layer(spotted_shot, HEAL)
    fine = []
    for k in (3, 4):
        result = render_frame(frames, (one,), k).img_raw.astype(np.float32)
        for picture in (result, spotted_shot.clean[k].astype(np.float32)):
            fine.append((picture - cv2.GaussianBlur(picture, (0, 0), 0.8))[115:122, 147:154])
    ours, theirs = (fine[0].std() + fine[2].std()) / 2, (fine[1].std() + fine[3].std()) / 2
    assert 0.75 < ours / theirs < 1.3
    # Two frames in a row do not share their grain.
    assert abs(np.corrcoef(fine[0].ravel(), fine[2].ravel())[0, 1]) < 0.4


@pytest.mark.property
def test_below__strokes_are_drawn_on_what_is_seen(spotted_shot: SpottedShot) -> None:
    clean = ArrayFrames(spotted_shot.clean).encoding.to_linear(spotted_shot.clean[0])
    frames, one = layer(spotted_shot, {"tool": "restore", "points": [list(MARK)], "radius": 5}, below=lambda: clean)
    under = replace(layer(spotted_shot, HEAL)[1], name="under")
    with_both = render_frame(frames, (under, one), 0).img_raw.astype(float)
    x, y = (int(v) for v in MARK)
    at = np.s_[y - 1 : y + 2, x - 1 : x + 2]
    marked, healed = spotted_shot.marked[0].astype(float), render_frame(frames, (under,), 0).img_raw.astype(float)
    assert np.abs(with_both - marked)[at].mean() < 0.5 * np.abs(healed - marked)[at].mean()


def test_no_strokes__and_strokes_off_or_far_away__change_nothing(spotted_shot: SpottedShot) -> None:
    for strokes in ((), ({**HEAL, "enabled": False},), ({**HEAL, "points": [[5000, 5000]], "offset": [0, 0]},)):
        frames, one = layer(spotted_shot, *strokes)
        np.testing.assert_array_equal(render_frame(frames, (one,), 2).img_raw, spotted_shot.marked[2])
    assert isinstance(one.placement, Placement)


@pytest.mark.property
def test_tone_only__the_skins_own_texture_stays(spotted_shot: SpottedShot) -> None:
    tint = {"tool": "colour", "points": [[110, 100]], "radius": 14, "colour": "#b8947f", "part": "tone"}
    frames, one = layer(spotted_shot, tint)
    k = 6
    x, y = np.rint(apply_homography(spotted_shot.frame_from_ref[k], np.array([[110.0, 100.0]]))[0]).astype(int)
    at = np.s_[y - 5 : y + 6, x - 5 : x + 6]
    logs = [
        np.log(np.maximum(frames.encoding.to_linear(p), 1e-3))
        for p in (render_frame(frames, (one,), k).img_raw, spotted_shot.marked[k])
    ]
    own = [(p - cv2.GaussianBlur(p, (0, 0), 2))[at] for p in logs]
    assert np.corrcoef(own[0].ravel(), own[1].ravel())[0, 1] > 0.9
    assert np.abs((logs[0] - logs[1])[at]).mean() > 0.05


@pytest.mark.truth
@pytest.mark.parametrize("part", ["whole", "tone"])
@pytest.mark.parametrize("softness", [0.0, 0.8])
def test_at_home__it_is_what_was_painted_up_to_its_edge(spotted_shot: SpottedShot, part: str, softness: float) -> None:
    line = {"points": [[95, 90], [125, 105]], "radius": 5, "colour": "#4050b0", "softness": softness, "part": part}
    frames, one = layer(spotted_shot, {"tool": "colour", **line})
    source = frames.encoding.to_linear(frames[0])
    painted = paint(source, source, (0, 0), [stroke_from({"tool": "colour", **line})], one.params.radius).img_lin
    # Nothing of it is half as strong, spreads, or ends in steps; only the grain is the frame's own.
    calm = [
        cv2.GaussianBlur(p.astype(np.float32), (0, 0), 1.0)[70:130, 70:150]
        for p in (render_frame(frames, (one,), 0).img_raw, frames.encoding.from_linear(painted), frames[0])
    ]
    assert np.abs(calm[1] - calm[2]).max() > 60
    assert np.abs(calm[0] - calm[1]).max() < 15
