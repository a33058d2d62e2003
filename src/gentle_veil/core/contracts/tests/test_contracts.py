"""Tracks, keyed values, parameters and the loader."""

from dataclasses import dataclass
from types import ModuleType

import numpy as np
import pytest

from gentle_veil.core import followers, veils
from gentle_veil.core.contracts.keyed import Keyed, constant
from gentle_veil.core.contracts.loader import load_plugins
from gentle_veil.core.contracts.params import number, specs_of, switch
from gentle_veil.core.contracts.surface_track import (
    SurfaceTrack,
    confidence_from_error,
    error_from_confidence,
    merge_tracks,
)
from gentle_veil.core.errors import CoreError, ShapeError
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.geometry.mesh import grid_mesh, grid_triangles

TILT = np.array([[1.05, 0.02, 4.0], [-0.03, 0.98, -2.0], [1e-4, 5e-5, 1.0]])


def track_of(*, planar: bool, frames: tuple[int, ...] = (0, 1)) -> SurfaceTrack:
    vertices, triangles, _ = grid_mesh((10, 10, 90, 70), 8)
    maps = np.stack([np.eye(3) if k == 0 else TILT for k in frames])
    return SurfaceTrack(
        vertices_ref=vertices,
        triangles=triangles,
        positions=np.stack([apply_homography(h, vertices) for h in maps]).astype(np.float32),
        confidence=np.full((len(frames), len(vertices)), 0.8, np.float32),
        status=np.array(["ok"] * len(frames), dtype="<U10"),
        frames=np.array(frames),
        reference_frames=(0,),
        homographies=maps if planar else None,
    )


@pytest.mark.property
@pytest.mark.parametrize("planar", [True, False])
def test_surface_track__carry_and_back__is_the_identity(planar: bool) -> None:
    track = track_of(planar=planar)
    points = np.array([[20.0, 20], [55.5, 41.2], [88, 66]])
    there = track.carry(points, 1)
    np.testing.assert_allclose(track.to_reference(there, 1), points, atol=1e-4)
    np.testing.assert_allclose(there, apply_homography(TILT, points), atol=0.02)


@pytest.mark.property
@pytest.mark.parametrize("planar", [True, False])
def test_surface_track__forward_and_inverse_maps_agree(planar: bool) -> None:
    track = track_of(planar=planar)
    forward = track.map_frame_from_ref(1, (30, 30, 60, 50))
    inverse = track.map_ref_from_frame(1, (34, 30, 60, 50))
    ys, xs = np.mgrid[30:50, 34:60]
    np.testing.assert_allclose(track.carry(inverse.reshape(-1, 2), 1), np.stack([xs, ys], -1).reshape(-1, 2), atol=2e-2)
    np.testing.assert_allclose(forward[0, 0], track.carry(np.array([[30.0, 30.0]]), 1)[0], atol=1e-6)


@pytest.mark.parametrize("planar", [True, False])
def test_map_along_surface__a_step_on_the_reference__is_that_step_on_the_frame(planar: bool) -> None:
    track = track_of(planar=planar)
    step = np.array([[1, 0, 12.0], [0, 1, -6.0], [0, 0, 1]])
    box = (40, 36, 44, 40)
    found = track.map_along_surface(1, box, step)
    ys, xs = np.mgrid[36:40, 40:44]
    here = np.stack([xs, ys], -1).reshape(-1, 2).astype(float)
    truth = track.carry(track.to_reference(here, 1) + np.array([12.0, -6.0]), 1)
    np.testing.assert_allclose(found.reshape(-1, 2), truth, atol=0.05)


@pytest.mark.property
@pytest.mark.parametrize("planar", [True, False])
def test_surface_track__moved__steps_where_it_is_told_and_lies_as_on_another_frame(planar: bool) -> None:
    track, some = track_of(planar=planar, frames=(0, 1, 2)), np.array([[20.0, 20], [70.0, 50]])
    moved = track.moved({"1": (3.0, -2.0), "2": (1.0, 0.0)}, {"2": 0})
    np.testing.assert_array_equal(moved.carry(some, 0), track.carry(some, 0))
    np.testing.assert_allclose(moved.carry(some, 1), track.carry(some, 1) + np.array([3.0, -2.0]), atol=1e-4)
    np.testing.assert_allclose(moved.carry(some, 2), track.carry(some, 0) + np.array([1.0, 0.0]), atol=1e-4)


def test_surface_track__wrong_shape__says_which() -> None:
    track = track_of(planar=True)
    with pytest.raises(ShapeError, match="confidence"):
        SurfaceTrack(
            track.vertices_ref, track.triangles, track.positions, track.confidence[:1], track.status, track.frames, (0,)
        )


def test_merge_tracks__new_rows_win_and_order_is_kept() -> None:
    old, new = track_of(planar=True, frames=(0, 1, 2)), track_of(planar=True, frames=(1, 5))
    merged = merge_tracks(old, new)
    assert list(merged.frames) == [0, 1, 2, 5]
    assert merged.homographies is not None
    assert merged.status_at(3) == "unfollowed"
    assert merged.renumbered(1000).row(1005) == 3


@pytest.mark.property
def test_confidence__there_and_back() -> None:
    errors = np.array([0.0, 0.1, 1.0, 30.0])
    np.testing.assert_allclose(error_from_confidence(confidence_from_error(errors)), errors, rtol=1e-4)


@pytest.mark.parametrize(
    ("ease", "frame", "expected"),
    [("linear", 15, 0.5), ("smooth", 12, 0.104), ("hold", 19, 0.0), ("linear", 5, 0.0), ("smooth", 99, 1.0)],
)
def test_keyed__eases(ease, frame: int, expected: float) -> None:
    assert Keyed(((10, 0.0), (20, 1.0)), ease).at(frame) == pytest.approx(expected)


def test_keyed__constant_and_shifted() -> None:
    assert constant(2.5).at(-7) == 2.5
    assert Keyed(((10, 0.0), (20, 1.0))).shifted(-10).at(5) == pytest.approx(0.5)


def test_specs_of__reads_unit_range_and_default() -> None:
    @dataclass(frozen=True)
    class Example:
        amount: float = number(0.5, label="Amount", help="h", group="g", low=0, high=2, step=0.1, unit="px")
        on: bool = switch(True, label="On", help="h", group="g")

    specs = specs_of(Example)
    assert list(specs) == ["amount", "on"]
    assert (specs["amount"][0].unit, specs["amount"][0].high, specs["amount"][1]) == ("px", 2, 0.5)
    assert Example().amount == 0.5


@pytest.mark.parametrize(("package", "exported"), [(followers, "FOLLOWER"), (veils, "VEIL")])
def test_loader__every_folder_is_found_and_documented(package: ModuleType, exported: str) -> None:
    found = load_plugins(package, exported)
    assert found
    for plugin in found.values():
        assert plugin.label
        assert plugin.help


def test_loader__a_folder_that_exports_nothing__stops_the_start() -> None:
    with pytest.raises(CoreError, match="must export NOTHING"):
        load_plugins(veils, "NOTHING")


@pytest.mark.truth
@pytest.mark.parametrize("turn", [0.6, 0.9])
def test_a_surface_that_lies_over_itself__shows_the_side_that_faces(turn: float) -> None:
    """A strip round a column: what has turned past the rim lies over what has not, and is not what is seen there."""
    from_middle, radius = np.linspace(-1.2, 1.2, 25), 100.0
    angle, down = (v.ravel() for v in np.meshgrid(from_middle, np.linspace(0, 60, 7)))
    vertices = np.stack([150 + radius * angle, down], axis=1)
    turned = np.stack([150 + radius * np.sin(angle + turn), down], axis=1)
    track = SurfaceTrack(
        vertices,
        grid_triangles(25, 7),
        np.stack([vertices, turned]).astype(np.float32),
        np.ones((2, len(vertices)), np.float32),
        np.array(["ok", "ok"], "<U10"),
        np.array([0, 1]),
        (0,),
    )
    xs = np.arange(190, 246)
    there = 150 + radius * (np.arcsin((xs - 150) / radius) - turn)
    seen = track.map_ref_from_frame(1, (190, 20, 246, 40))
    np.testing.assert_allclose(seen[..., 0], np.broadcast_to(there, (20, 56)), atol=2.5)
    points = np.stack([xs, np.full(len(xs), 30.0)], axis=1)
    np.testing.assert_allclose(track.to_reference(points, 1)[:, 0], there, atol=2.5)
