"""Follow a drape, and keep what has been followed so far."""

import io
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from gentle_veil.core.composite.holdout import Holdout, held_out
from gentle_veil.core.contracts.follower import Drawn, Placing, Region
from gentle_veil.core.contracts.params import specs_of
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import MediaError, NotFoundError, RuleError
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.followers.points.choosing import LEAST_REACH_PX
from gentle_veil.core.geometry.keyed_outline import keyed_outline
from gentle_veil.core.geometry.outline import outline_polygon
from gentle_veil.core.motion.blending import blended
from gentle_veil.core.motion.bridging import bridged
from gentle_veil.core.motion.crossing import crossed
from gentle_veil.core.motion.settling import settled
from gentle_veil.core.motion.tacks import Tack, tacked
from gentle_veil.core.motion.vertices import VertexChoice, with_vertices
from gentle_veil.core.types import MaskBool, Points
from gentle_veil.domain.keys import content_key, track_key
from gentle_veil.domain.recipe import Drape, Outline, PlacingWritten, Recipe
from gentle_veil.domain.recipe import Holdout as WrittenHoldout
from gentle_veil.media.write import write_atomically
from gentle_veil.services.recipes import drape_of
from gentle_veil.services.vectors import FramesWithVectors, content_brought_for
from gentle_veil.services.workspace import Workspace


def control_points(outline: Outline) -> tuple[Points, MaskBool]:
    """An outline's points (N, 2) and corners (N,)."""
    corners = outline.corners or [False] * len(outline.points)
    return np.array(outline.points, np.float64), np.array(corners, bool)


def polygon_of(outline: Outline) -> Points:
    """The outline's curve as a polygon (M, 2) in frame px."""
    return outline_polygon(*control_points(outline))


def reference_polygon(drape: Drape) -> Points:
    outline = drape.reference_outline()
    if outline is None:
        raise RuleError(f"Drape '{drape.name}' has no outline on its reference frame {drape.reference}; draw one.")
    return polygon_of(outline)


def track_arrays(track: SurfaceTrack) -> dict[str, np.ndarray]:
    """A track as named arrays, the form of ``tracks/<drape>.npz``."""
    arrays = {
        "vertices_ref": track.vertices_ref,
        "triangles": track.triangles,
        "positions": track.positions,
        "confidence": track.confidence,
        "status": track.status,
        "frames": track.frames,
        "reference_frames": np.array(track.reference_frames, np.int64),
    }
    if track.homographies is not None:
        arrays["homographies"] = track.homographies
    return arrays


def track_from_arrays(arrays: dict[str, np.ndarray]) -> SurfaceTrack:
    """The inverse of `track_arrays`. Raises MediaError when an array is missing."""
    needed = ("vertices_ref", "triangles", "positions", "confidence", "status", "frames", "reference_frames")
    missing = [name for name in needed if name not in arrays]
    if missing:
        raise MediaError(f"This is no track: it lacks {', '.join(missing)}. Give the npz of a drape.", code="track")
    return SurfaceTrack(
        vertices_ref=np.asarray(arrays["vertices_ref"], np.float64),
        triangles=np.asarray(arrays["triangles"]),
        positions=np.asarray(arrays["positions"], np.float32),
        confidence=np.asarray(arrays["confidence"], np.float32),
        status=np.asarray(arrays["status"]),
        frames=np.asarray(arrays["frames"], np.int64),
        reference_frames=tuple(int(f) for f in arrays["reference_frames"]),
        homographies=arrays.get("homographies"),
    )


def followed_points(drape: Drape, track: SurfaceTrack) -> np.ndarray:
    """Which vertices (N,) of a track are points that are followed one by one; none for followers but points."""
    if drape.follower.kind != "points":
        return np.empty(0, int)
    polygon = reference_polygon(drape)
    low, high = polygon.min(axis=0) - LEAST_REACH_PX / 2, polygon.max(axis=0) + LEAST_REACH_PX / 2
    own = ((track.vertices_ref >= low) & (track.vertices_ref <= high)).all(axis=1)
    for place in drape.follower.options.get("placed", ()):
        own |= np.linalg.norm(track.vertices_ref - np.array(place), axis=1) < 1e-6
    return np.flatnonzero(own)


def write_track(path: Path, track: SurfaceTrack) -> None:
    buffer = io.BytesIO()
    np.savez_compressed(buffer, **track_arrays(track))  # type: ignore[arg-type]
    write_atomically(path, buffer.getvalue())


def read_track(path: Path) -> SurfaceTrack:
    """A track file, frame numbers as written. Raises MediaError."""
    try:
        with np.load(path, allow_pickle=False) as stored:
            return track_from_arrays({name: stored[name] for name in stored.files})
    except (OSError, ValueError, EOFError):
        raise MediaError(f"'{path.name}' is no track file; give the npz of a drape.", code="track") from None


@dataclass(frozen=True)
class Followed:
    """A drape's track, k from 0, and the content key of exactly these rows."""

    track: SurfaceTrack
    content: str


def holdouts_before(workspace: Workspace, recipe: Recipe, drape: str | None) -> tuple[tuple[Holdout, ...], str]:
    """What passes in front of a drape (None: of the picture itself), and the content it all depends on.

    A shape that rides on a drape which has not been followed to its frames is not there. A drape that carries one is
    itself followed as if only shapes that rest on the picture passed, so that nothing goes round in a circle.
    """
    carries = {h.rides for h in recipe.holdouts if h.enabled and h.rides is not None}
    made, contents = [], []
    for written in recipe.holdouts:
        if not written.enabled or (written.before is not None and drape not in written.before):
            continue
        if written.rides is not None and drape in carries:
            continue
        carrier = None if written.rides is None else known_track(workspace, recipe, drape_of(recipe, written.rides))
        if written.rides is not None and carrier is None:
            continue
        holdout = _holdout(workspace, written, carrier)
        if holdout is not None:
            made.append(holdout)
            contents.append([written.model_dump(mode="json"), None if carrier is None else carrier.content])
    return tuple(made), content_key(contents) if contents else ""


def _holdout(workspace: Workspace, written: WrittenHoldout, carrier: Followed | None) -> Holdout | None:
    offset = workspace.info.first_frame
    track = None if carrier is None else carrier.track
    keys = {f - offset: control_points(o) for f, o in written.shapes.items()}
    if track is not None:
        rows = {k: track.row(k) for k in keys}
        keys = {k: (track.to_reference(p, row), c) for k, (p, c) in keys.items() if (row := rows[k]) is not None}
    if not keys:
        return None
    first, last = (None, None) if written.range is None else (f - offset for f in written.range)
    return Holdout(keyed_outline(keys), track, written.feather, first, last)


def known_track(workspace: Workspace, recipe: Recipe, drape: Drape) -> Followed | None:
    """What has been followed of a drape as it is now, settled; None after any change that makes it stale."""
    if drape.reference_outline() is None:
        return None
    key = _key_of(workspace, drape, holdouts_before(workspace, recipe, drape.name)[1])
    # Files are replaced whole whenever more has been followed; their times tell.
    stamp = [workspace.cache.stamp("track", k, ".npz") for k in _keys(workspace, drape, key)]
    by_hand = drape.model_dump(mode="json", include={"tacks", "forgotten", "crossed", "vertices"})
    followed: Followed | None = workspace.memory.get(
        ("track", key, content_key(stamp, by_hand)), lambda: _read_known(workspace, drape, key)
    )
    return followed


def needed_track(workspace: Workspace, recipe: Recipe, drape: Drape) -> Followed:
    """What is known of a drape. Raises RuleError where it has not been followed."""
    followed = known_track(workspace, recipe, drape)
    if followed is None:
        raise RuleError(f"'{drape.name}' has not been followed yet; follow it first.", code="unfollowed")
    return followed


def _key_of(workspace: Workspace, drape: Drape, passing: str) -> str:
    brought = content_brought_for(workspace, drape.follower.options.get("quality"))
    return track_key(workspace.media_key, drape, passing + brought)


def _raw_track(workspace: Workspace, key: str) -> SurfaceTrack | None:
    """A track as the follower left it, from which it can go on."""
    arrays = workspace.cache.get_arrays("track", key)
    return None if arrays is None else track_from_arrays(arrays)


def _read_known(workspace: Workspace, drape: Drape, key: str) -> Followed | None:
    raw = [_raw_track(workspace, k) for k in _keys(workspace, drape, key)]
    if raw[0] is None:
        return None
    return _finished(workspace, drape, [r for r in raw if r is not None], key)


def _references(workspace: Workspace, drape: Drape) -> list[int]:
    """The drape's reference frames as k, the main one first, then outward from it."""
    main, *others = [f - workspace.info.first_frame for f in drape.reference_frames]
    return [main, *sorted(set(others) - {main}, key=lambda k: (k < main, abs(k - main)))]


def _keys(workspace: Workspace, drape: Drape, key: str) -> list[str]:
    """Where the raw track of each reference is kept; the main one under the drape's own key."""
    return [key, *[content_key(key, k) for k in _references(workspace, drape)[1:]]]


def _joined(workspace: Workspace, drape: Drape, raw: list[SurfaceTrack]) -> SurfaceTrack:
    """The tracks of all references as one: settled over all frames, their short gaps closed."""
    placed_anew = {p.frame for p in getattr(follower_options(workspace, drape), "again", ())}
    return blended([bridged(settled(r, placed_anew)) for r in raw], _drawn_on(workspace, drape))


def _drawn_on(workspace: Workspace, drape: Drape) -> dict[int, Points]:
    """The points of the outline on every reference, as k, on which it was drawn."""
    drawn = {f: drape.outline[f] for f in drape.reference_frames if f in drape.outline}
    return {f - workspace.info.first_frame: control_points(outline)[0] for f, outline in drawn.items()}


def _finished(workspace: Workspace, drape: Drape, raw: list[SurfaceTrack], key: str) -> Followed:
    """What everything else works with: settled over all frames, joined over all references, tacks met."""
    tacks = [Tack(t.frame - workspace.info.first_frame, t.at, t.to, t.reach, t.span) for t in drape.tacks]
    written = [t.model_dump(mode="json") for t in drape.tacks]
    rows = [(r.frames.tolist(), r.status.tolist()) for r in raw]
    chosen = VertexChoice(drape.vertices.adapted, tuple(drape.vertices.added), tuple(drape.vertices.removed))
    whole = tacked(with_vertices(_joined(workspace, drape, raw), chosen), tacks)
    if chosen != VertexChoice():
        written.append({"vertices": drape.vertices.model_dump(mode="json")})
    forgotten, across = (_spans(workspace, s) for s in (drape.forgotten, drape.crossed))
    if across:
        whole = crossed(whole, across)
        written.append({"crossed": across})
    if forgotten:
        kept = [not any(a <= int(k) <= b for a, b in forgotten) for k in whole.frames]
        whole = whole.only(np.array(kept))
        written.append({"forgotten": forgotten})
    return Followed(whole, content_key(key, rows, written))


def _spans(workspace: Workspace, written: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Spans of frame numbers as spans of k."""
    offset = workspace.info.first_frame
    return [(first - offset, last - offset) for first, last in written]


def follower_options(workspace: Workspace, drape: Drape) -> Any:
    """What is set on a drape's follower, with frames as k."""
    given, declared = dict(drape.follower.options), FOLLOWERS[drape.follower.kind].Options
    for name, (spec, _) in specs_of(declared).items():
        if spec.type == "placings" and name in given:
            written = [PlacingWritten.model_validate(v) for v in given[name]]
            given[name] = tuple(Placing(w.frame - workspace.info.first_frame, w.at, w.to) for w in written)
    return declared(**given)


def options_from(options: Any, track: SurfaceTrack, k: int) -> Any:
    """A follower's options for following from frame ``k``: places on the reference are carried there; points that were
    placed again on the way are for the way out."""
    row = track.row(k)
    assert row is not None
    changed: dict[str, Any] = {}
    for name, (spec, _) in specs_of(type(options)).items():
        places = getattr(options, name)
        if spec.type == "placings":
            changed[name] = ()
        elif spec.type == "points" and len(places):
            changed[name] = tuple((float(x), float(y)) for x, y in track.carry(np.array(places), row))
    return replace(options, **changed)


def follow(
    workspace: Workspace,
    recipe: Recipe,
    drape: Drape,
    wanted: Iterable[int],
    *,
    again: bool = False,
    report: Report = silent,
) -> Followed:
    """Follow a drape to the wanted frames (k from 0), going on from what is known; ``again`` starts anew.

    With several reference frames each is followed both ways up to the next one; between two of them the surface is
    shared out. What has been followed is kept on the way, and when it is stopped.
    """
    if drape.locked and again:
        raise RuleError(f"Drape '{drape.name}' is locked, and is not followed anew; unlock it first.", code="locked")
    if FOLLOWERS.get(drape.follower.kind) is None:
        raise NotFoundError(f"There is no follower '{drape.follower.kind}'; choose {', '.join(FOLLOWERS)}.")
    holdouts, passing = holdouts_before(workspace, recipe, drape.name)
    key = _key_of(workspace, drape, passing)
    for frame in drape.reference_frames:
        workspace.k_of(frame)  # raises where the clip has no such frame
    references = _references(workspace, drape)
    asked = set(wanted)
    if len(references) > 1 and asked:
        asked = set(range(min(asked | set(references)), max(asked | set(references)) + 1))
    parts = [_within(asked, k, references) for k in references]
    total, done = sum(len(p) for p in parts), 0
    raw: list[SurfaceTrack] = []
    options, drawn = follower_options(workspace, drape), _drawn_on(workspace, drape)
    for k, part, kept in zip(references, parts, _keys(workspace, drape, key), strict=True):
        others = {other: Drawn(drawn[k], there) for other, there in drawn.items() if k in drawn and other != k}
        region = Region(k, _polygon_on(workspace, drape, k, raw), partial(held_out, holdouts), others)
        # What is said of the main reference is carried to the others.
        there = options if not raw or raw[0].row(k) is None else options_from(options, raw[0], k)
        raw.append(_follow_one(workspace, drape, region, there, part, kept, again, _part_of(report, done, total)))
        done += len(part)
    report(total, total, "followed")
    return _finished(workspace, drape, raw, key)


def _within(asked: set[int], reference: int, references: list[int]) -> list[int]:
    """The asked frames from one reference up to its neighbours, which it must reach."""
    low = max((r for r in references if r < reference), default=-1)
    high = min((r for r in references if r > reference), default=max(asked, default=0) + 1)
    return sorted(k for k in asked if low <= k <= high)


def _polygon_on(workspace: Workspace, drape: Drape, k: int, raw: list[SurfaceTrack]) -> Points:
    """The outline on a reference frame: as drawn there, or as an earlier part has carried it there."""
    if not raw:
        return reference_polygon(drape)
    drawn = drape.outline.get(workspace.frame_of(k))
    if drawn is not None:
        return polygon_of(drawn)
    whole = _joined(workspace, drape, raw)
    row = whole.row(k)
    if row is None or not whole.seen(k):
        raise RuleError(
            f"Drape '{drape.name}' is not seen on reference frame {workspace.frame_of(k)} from the ones before it; "
            f"draw its outline there, or take that frame from its references.",
            code="reference",
        )
    return whole.carry(reference_polygon(drape), row)


def _follow_one(
    workspace: Workspace,
    drape: Drape,
    region: Region,
    options: Any,
    wanted: list[int],
    key: str,
    again: bool,
    report: Report,
) -> SurfaceTrack:
    follower = FOLLOWERS[drape.follower.kind]
    frames = FramesWithVectors(workspace)
    track = None if again else _raw_track(workspace, key)
    missing = [k for k in wanted if track is None or track.row(k) is None]
    if track is not None and not missing:
        return track

    def keep(so_far: SurfaceTrack) -> None:
        workspace.cache.put_arrays("track", key, track_arrays(so_far))

    track = follower.estimate(frames, region, options, wanted=missing, known=track, report=report, keep=keep)
    keep(track)
    return track


def _part_of(report: Report, before: int, total: int) -> Report:
    def tell(done: int, _: int, doing: str = "") -> None:
        report(before + done, total, doing)

    return tell
