"""Laying veils on a frame: order, keyed values, and what is left alone."""

from dataclasses import dataclass, replace

import numpy as np
import pytest

from gentle_veil.core.composite.holdout import Holdout
from gentle_veil.core.composite.in_front import InFront
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.contracts.keyed import Keyed
from gentle_veil.core.contracts.packed import pack
from gentle_veil.core.contracts.params import number
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.contracts.veil import Patch, Placement
from gentle_veil.core.errors import ShapeError
from gentle_veil.core.geometry.keyed_outline import KeyedOutline, keyed_outline
from gentle_veil.core.geometry.mesh import grid_mesh
from gentle_veil.core.render import Layer, render_frame


@dataclass(frozen=True)
class Level:
    level: float = number(0.2, label="Level", help="h", group="g", low=0, high=1, step=0.1)


class Flat:
    """A veil kind that paints a flat box; it remembers what it saw below."""

    kind, label, help, Params = "flat", "Flat", "h", Level

    def __init__(self, box=(4, 4, 12, 12)) -> None:
        self.box = box
        self.below: list[float] = []

    def prepare(self, frames, placement, params, *, report=None):
        return {}

    def apply(self, site, params, prepared):
        x0, y0, x1, y1 = self.box
        self.below.append(float(site.canvas.read(self.box).mean()))
        lin = np.full((y1 - y0, x1 - x0, 3), params.level, np.float32)
        return Patch(self.box, lin, np.ones((y1 - y0, x1 - x0), np.float32))


@pytest.fixture
def frames() -> ArrayFrames:
    return ArrayFrames(np.full((3, 20, 24, 3), 90, np.uint8))


def layer(kind: Flat, name: str, **more) -> Layer:
    vertices, triangles, _ = grid_mesh((0, 0, 20, 16), 8)
    track = SurfaceTrack(
        vertices,
        triangles,
        np.repeat(vertices[None], 3, axis=0).astype(np.float32),
        np.ones((3, len(vertices)), np.float32),
        np.array(["ok", "weak", "lost"]),
        np.arange(3),
        (0,),
    )
    return Layer(name, kind, Placement(track, vertices, vertices), more.pop("params", Level()), **more)


def test_no_layers__the_frame_itself(frames: ArrayFrames) -> None:
    rendered = render_frame(frames, (), 0)
    np.testing.assert_array_equal(rendered.img_raw, frames[0])
    assert rendered.matte("none").sum() == 0


def test_order__a_later_veil_sees_and_covers_the_earlier(frames: ArrayFrames) -> None:
    first, second = Flat(), Flat((8, 8, 16, 16))
    layers = (layer(first, "a", params=Level(0.7)), layer(second, "b", params=Level(0.05)))
    out = frames.encoding.to_linear(render_frame(frames, layers, 0).img_raw)
    assert out[5, 5, 0] == pytest.approx(0.7, abs=0.01)
    assert out[10, 10, 0] == pytest.approx(0.05, abs=0.01)
    assert second.below[0] > first.below[0]


def test_keyed_values__are_those_of_the_frame(frames: ArrayFrames) -> None:
    keyed = {"level": Keyed(((0, 0.0), (2, 1.0)))}
    one = layer(Flat(), "a", keyed=keyed, opacity=Keyed(((0, 1.0), (1, 0.5))))
    assert one.params_at(1).level == 0.5
    laid = render_frame(frames, (one,), 1).laid[0]
    assert laid.matte.max() == pytest.approx(0.5)
    assert laid.patch.img_lin[0, 0, 0] == pytest.approx(0.5)


def behind(one: Layer, **given) -> Layer:
    placement = one.placement
    return replace(one, placement=replace(placement, front=InFront(placement.track, **given)))


def test_holdout__is_the_source_itself_and_fades_out_around_it(frames: ArrayFrames) -> None:
    square = np.array([[6.0, 6], [9, 6], [9, 9], [6, 9]])
    passing = Holdout(keyed_outline({0: (square, np.ones(4, bool))}), feather=2.0, first=0, last=0)
    one = behind(layer(Flat(), "a"), holdouts=(passing,))
    held, free = render_frame(frames, (one,), 0), render_frame(frames, (one,), 1)
    np.testing.assert_array_equal(held.img_raw[6:10, 6:10], frames[0][6:10, 6:10])
    np.testing.assert_array_equal(held.img_raw[4, 4], free.img_raw[4, 4])
    assert 0 < held.matte("a")[10, 8] < 1


def test_what_was_found_to_pass__is_the_source_itself(frames: ArrayFrames) -> None:
    field = np.zeros((16, 16), np.uint8)
    field[:, :8] = 255
    found = {"box": [0, 0, 16, 16], "step": 1, "frames": {"0": pack(field)}}
    one = behind(layer(Flat(), "a"), found=found)
    held, free = render_frame(frames, (one,), 0), render_frame(frames, (one,), 1)
    np.testing.assert_array_equal(held.img_raw[:, :7], frames[0][:, :7])
    assert (held.matte("a")[6:8, 9:11] == free.matte("a")[6:8, 9:11]).all()
    assert (free.img_raw[5, 5] != frames[1][5, 5]).any()


def test_holdout__rides_on_its_drape_and_is_not_there_where_that_is_lost(frames: ArrayFrames) -> None:
    square = np.array([[2.0, 2], [6, 2], [6, 6], [2, 6]])
    corners = np.ones(4, bool)
    track = layer(Flat(), "a").placement.track
    moved = replace(track, positions=track.positions + np.float32([3, 1]))
    riding = Holdout(keyed_outline({0: (square, corners), 10: (square + 10, corners)}), moved)
    np.testing.assert_allclose(riding.polygon(0), square + np.array([3, 1]), atol=1e-5)
    np.testing.assert_allclose(riding.polygon(1), square + np.array([4, 2]), atol=1e-5)
    assert riding.polygon(2) is None


def test_keyed_outline__each_frame_has_its_own_place(frames: ArrayFrames) -> None:
    seen = []

    class Looking(Flat):
        def apply(self, site, params, prepared):
            seen.append(float(site.placement.polygon_ref[:, 0].min()))
            return super().apply(site, params, prepared)

    square = np.array([[2.0, 2], [6, 2], [6, 6], [2, 6]])
    keys = {0: (square, np.ones(4, bool)), 2: (square + 8, np.ones(4, bool))}
    one = layer(Looking(), "a", outline=keyed_outline(keys))
    for k in (0, 1):
        render_frame(frames, (one,), k)
    assert seen == [2.0, 6.0]
    with pytest.raises(ShapeError):
        KeyedOutline((0, 1), np.zeros((1, 3, 2)), np.zeros((1, 3), bool))


def test_weak_is_laid_lost_is_not(frames: ArrayFrames) -> None:
    one = layer(Flat(), "a")
    assert [len(render_frame(frames, (one,), k).laid) for k in range(3)] == [1, 1, 0]
