"""What every veil kind must do, run over whatever the loader finds."""

import json
from dataclasses import asdict, replace

import numpy as np
import pytest

from gentle_veil.core.composite.canvas import Canvas
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import constant
from gentle_veil.core.contracts.params import specs_of
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.geometry.outline import outline_polygon
from gentle_veil.core.render import Layer, render_frame
from gentle_veil.core.synth.planar import planar_track
from gentle_veil.core.veils import VEILS

pytestmark = pytest.mark.parametrize("kind", sorted(VEILS))
CENTRE = (150.0, 118.0)
GIVEN = {
    "apply": {"art": "patch"},
    "smooth": {"tolerance": 100.0},
    "paint": {"strokes": ({"tool": "heal", "points": [[150, 118]], "radius": 9, "offset": [22, 0]},)},
}  # what a kind needs before it does anything
COVER = VEILS["obscure"].Params(look="cover", margin=0.0)


class Patchwork:
    """A still piece of artwork: half transparent, half red."""

    size, count, seconds = (8, 6), 1, 0.0

    def frame(self, i: int) -> np.ndarray:
        picture = np.zeros((6, 8, 4), np.float32)
        picture[:, 4:] = (0.4, 0.02, 0.02, 1.0)
        return picture


def circle(radius: float) -> np.ndarray:
    angles = np.arange(12) * 2 * np.pi / 12
    return outline_polygon(np.array(CENTRE) + radius * np.stack([np.cos(angles), np.sin(angles)], axis=1))


def layer_for(kind: str, shot, **more) -> tuple[ArrayFrames, Layer]:
    frames = ArrayFrames(shot.marked)
    track = planar_track((70, 40, 230, 200), 12, shot.frame_from_ref)
    placement = Placement(track, circle(9), circle(70), pictures={"patch": Patchwork()})
    params = VEILS[kind].Params(**GIVEN.get(kind, {}))
    prepared = VEILS[kind].prepare(frames, placement, params)
    return frames, Layer("veil", VEILS[kind], placement, params, prepared=prepared, **more)


def laid(frames: ArrayFrames, layer: Layer, k: int):
    """The frame with the veil; below one that only gives back, there is something to give back from."""
    if layer.kind.kind != "keep":
        return render_frame(frames, (layer,), k)
    hider = VEILS["obscure"]
    prepared = hider.prepare(frames, layer.placement, COVER)
    below = replace(layer, name="below", kind=hider, params=COVER, prepared=prepared)
    return render_frame(frames, (below, layer), k)


@pytest.mark.property
def test_nothing_moves_outside_the_matte(kind: str, spotted_shot) -> None:
    frames, layer = layer_for(kind, spotted_shot)
    for k in (0, 9):
        rendered = laid(frames, layer, k)
        outside = (rendered.matte("veil") == 0) & (rendered.matte("below") == 0)
        assert outside.any()
        np.testing.assert_array_equal(rendered.img_raw[outside], spotted_shot.marked[k][outside])
        if kind == "keep":
            inside = rendered.matte("veil") == 1
            np.testing.assert_array_equal(rendered.img_raw[inside], spotted_shot.marked[k][inside])
        else:
            assert (rendered.img_raw != spotted_shot.marked[k]).any()


@pytest.mark.property
def test_zero_strength__is_the_identity_bit_for_bit(kind: str, spotted_shot) -> None:
    frames, layer = layer_for(kind, spotted_shot, opacity=constant(0.0))
    rendered = render_frame(frames, (layer,), 5)
    np.testing.assert_array_equal(rendered.img_raw, spotted_shot.marked[5])
    assert rendered.laid == ()


@pytest.mark.property
def test_same_bytes_twice__and_inputs_not_written_to(kind: str, spotted_shot) -> None:
    before = spotted_shot.marked.copy()
    frames, layer = layer_for(kind, spotted_shot)
    a, b = (render_frame(frames, (layer,), 7) for _ in range(2))
    assert a.img_raw.tobytes() == b.img_raw.tobytes()
    np.testing.assert_array_equal(spotted_shot.marked, before)


@pytest.mark.property
def test_prepared__is_plain_json_and_the_same_twice(kind: str, spotted_shot) -> None:
    _, layer = layer_for(kind, spotted_shot)
    _, again = layer_for(kind, spotted_shot)
    assert json.loads(json.dumps(layer.prepared)) == layer.prepared == again.prepared


def test_params__survive_json_and_have_complete_specs(kind: str, spotted_shot) -> None:
    params_type = VEILS[kind].Params
    stored = json.loads(json.dumps(asdict(params_type())))
    assert json.loads(json.dumps(asdict(params_type(**stored)))) == stored
    for name, (spec, default) in specs_of(params_type).items():
        assert spec.label, name
        assert spec.help, name
        if spec.type == "number":
            assert spec.low is not None
            assert spec.high is not None
            assert spec.low <= default <= spec.high


@pytest.mark.property
def test_range_and_unseen_frames__nothing_is_laid(kind: str, spotted_shot) -> None:
    frames, layer = layer_for(kind, spotted_shot, first=3, last=6)
    assert [layer.on(k) for k in (2, 3, 6, 7)] == [False, True, True, False]
    layer.placement.track.status[4] = "lost"
    assert not layer.on(4)
    np.testing.assert_array_equal(render_frame(frames, (layer,), 4).img_raw, spotted_shot.marked[4])


def test_mark_at_the_edge_of_the_picture__does_not_fail(kind: str, spotted_shot) -> None:
    frames, layer = layer_for(kind, spotted_shot)
    shifted = layer.placement.polygon_ref + np.array([-150.0, -110.0])
    moved = Layer(
        "veil",
        layer.kind,
        Placement(layer.placement.track, shifted, layer.placement.drape_ref),
        layer.params,
        prepared=layer.prepared,
    )
    rendered = render_frame(frames, (moved,), 0)
    assert np.isfinite(rendered.matte("veil")).all()
    away = Placement(layer.placement.track, shifted - 500, layer.placement.drape_ref)
    nowhere = Layer("veil", layer.kind, away, layer.params, prepared=layer.prepared)
    np.testing.assert_array_equal(render_frame(frames, (nowhere,), 0).img_raw, spotted_shot.marked[0])


@pytest.mark.property
def test_canvas__two_veils_see_each_other(kind: str, spotted_shot) -> None:
    canvas = Canvas(spotted_shot.marked[0], ArrayFrames(spotted_shot.marked).encoding)
    grey = np.full((10, 10, 3), 0.18, np.float32)
    canvas.lay((20, 20, 30, 30), grey, np.ones((10, 10), np.float32))
    np.testing.assert_allclose(canvas.read((20, 20, 30, 30)), grey)
    assert (canvas.code_values()[:20] == spotted_shot.marked[0][:20]).all()
