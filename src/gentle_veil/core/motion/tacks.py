"""Corrections by hand: points of the surface pinned to where they are, spread smoothly over place and time."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.geometry.mesh import locate_points
from gentle_veil.core.types import Points

RIDGE = 1e-6  # two tacks on one spot that disagree meet half way


@dataclass(frozen=True)
class Tack:
    """On frame ``frame`` (k, from 0) the surface's point ``at`` (px of the reference) lies at ``to`` (px).

    ``reach``: px of the reference over which the correction falls to a twentieth; ``span``: frames over which it
    fades to nothing, before and after.
    """

    frame: int
    at: tuple[float, float]
    to: tuple[float, float]
    reach: float
    span: int


def tack_span(tack: Tack, reference: int) -> tuple[int, int]:
    """First and last frame that a tack changes; the reference frame itself is never changed."""
    first, last = tack.frame - tack.span + 1, tack.frame + tack.span - 1
    if tack.frame > reference:
        first = max(first, reference + 1)
    else:
        last = min(last, reference - 1)
    return first, last


def _over_time(tack: Tack, reference: int, frames: np.ndarray) -> np.ndarray:
    """1 on the tack's frame, falling as a raised cosine to 0 at the end of its span."""
    first, last = tack_span(tack, reference)
    before, after = tack.frame - (first - 1), (last + 1) - tack.frame
    off = frames - tack.frame
    share = np.where(off < 0, -off / max(before, 1), off / max(after, 1))
    return np.asarray(0.5 * (1 + np.cos(np.pi * np.minimum(share, 1.0))))


def _over_place(tack: Tack, points_ref: Points) -> np.ndarray:
    d2 = ((points_ref - np.asarray(tack.at)) ** 2).sum(axis=-1)
    return np.asarray(np.exp(-3.0 * d2 / tack.reach**2))  # exp(-3) is a twentieth


def _between_vertices(track: SurfaceTrack, tack: Tack, points_ref: Points) -> np.ndarray:
    """`_over_place` at points (N, 2) as the mesh carries it: straight from vertex to vertex."""
    share = _over_place(tack, points_ref)
    triangle, weights = locate_points(track.vertices_ref, track.triangles, points_ref)
    hit = triangle >= 0
    corners = _over_place(tack, track.vertices_ref)[track.triangles[triangle[hit]]]
    share[hit] = (corners * weights[hit]).sum(axis=1)
    return share


def tacked(track: SurfaceTrack, tacks: Sequence[Tack]) -> SurfaceTrack:
    """The track with its tacks met exactly; where several overlap they share the correction.

    Tacks on frames that have not been followed, or on a reference frame, which is exact, change nothing.
    """
    reference = track.reference_frames[0]
    used = [t for t in tacks if track.row(t.frame) is not None and t.frame not in track.reference_frames]
    if not used:
        return track
    at = np.array([t.at for t in used], float)
    rows = [track.row(t.frame) for t in used]
    wanted = np.array([t.to for t in used]) - np.array(
        [track.carry(p, row)[0] for p, row in zip(at, rows, strict=True) if row is not None]
    )
    frames = np.array([t.frame for t in used])
    coupling = np.stack([_between_vertices(track, t, at) * _over_time(t, reference, frames) for t in used], axis=1)
    strength = np.linalg.solve(coupling.T @ coupling + RIDGE * np.eye(len(used)), coupling.T @ wanted)
    positions = track.positions.astype(np.float64).copy()
    for tack, push in zip(used, strength, strict=True):
        time = _over_time(tack, reference, track.frames)
        place = _over_place(tack, track.vertices_ref)
        positions += time[:, None, None] * place[None, :, None] * push
    return replace(track, positions=positions.astype(np.float32), homographies=None)
