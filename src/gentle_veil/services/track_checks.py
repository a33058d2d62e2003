"""Checks of a drape's track that take a job: kept by the content of what has been followed."""

from gentle_veil.core.composite.holdout import held_out
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.measure.track_checks import round_trip
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.services.following import (
    Followed,
    follower_options,
    holdouts_before,
    needed_track,
    options_from,
    reference_polygon,
)
from gentle_veil.services.vectors import FramesWithVectors
from gentle_veil.services.workspace import Workspace


def known_round_trip(workspace: Workspace, followed: Followed) -> dict[int, float] | None:
    """Per k, how far off the way back was; None while it has not been measured."""
    stored = workspace.cache.get_json("round_trip", followed.content)
    return None if stored is None else {int(k): float(v) for k, v in stored.items()}


def check_round_trip(
    workspace: Workspace, recipe: Recipe, drape: Drape, *, report: Report = silent
) -> dict[int, float]:
    """Follow the drape back from where its track ends, and say how far apart the two ways are.

    Raises: RuleError for a drape that has not been followed
    """
    followed = needed_track(workspace, recipe, drape)
    follower = FOLLOWERS[drape.follower.kind]
    options = follower_options(workspace, drape)
    frames = FramesWithVectors(workspace)
    holdouts, _ = holdouts_before(workspace, recipe, drape.name)

    def follow_from(region: Region, wanted: list[int]) -> SurfaceTrack:
        there = options_from(options, followed.track, region.reference)
        return follower.estimate(frames, region, there, wanted=wanted, report=report)

    region = Region(workspace.k_of(drape.reference), reference_polygon(drape), lambda k: held_out(holdouts, k))
    found = round_trip(followed.track, region, follow_from)
    workspace.cache.put_json("round_trip", followed.content, {str(k): round(v, 4) for k, v in found.items()})
    return found
