"""Curves of what patches share with a surface: measured by a job, kept by the content of the track."""

from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.measure.belonging import Curve, belonging_curves
from gentle_veil.domain.keys import content_key
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.services.following import Followed, needed_track, reference_polygon
from gentle_veil.services.workspace import Workspace

CODE = "2"  # raised when the curves are measured otherwise


def known_curves(workspace: Workspace, followed: Followed) -> dict[str, Curve] | None:
    """Per curve its values by k; None while they have not been measured."""
    stored = workspace.cache.get_json("belonging", content_key(CODE, followed.content))
    return None if stored is None else {n: {int(k): float(v) for k, v in c.items()} for n, c in stored.items()}


def measure_curves(workspace: Workspace, recipe: Recipe, drape: Drape, *, report: Report = silent) -> dict[str, Curve]:
    """Measure the curves of a drape.

    Raises: RuleError for a drape that has not been followed
    """
    followed = needed_track(workspace, recipe, drape)
    found = belonging_curves(workspace.frames, followed.track, reference_polygon(drape), report=report)
    kept = {n: {str(k): v for k, v in curve.items()} for n, curve in found.items()}
    workspace.cache.put_json("belonging", content_key(CODE, followed.content), kept)
    return found
