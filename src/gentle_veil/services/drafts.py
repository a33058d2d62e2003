"""Where a drape would go by the motion of every pixel alone, while one scrubs: nothing of it is kept.

Good enough to see whether vectors will do before the range is computed, and quick: one step is one field of motion,
which is kept with the shot's vectors.
"""

import threading

from gentle_veil.core.composite.holdout import held_out
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.motion.dense import QUALITIES
from gentle_veil.domain.keys import content_key
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.services.following import follower_options, holdouts_before, reference_polygon
from gentle_veil.services.vectors import FramesWithVectors
from gentle_veil.services.workspace import Workspace

_turn = threading.Lock()  # one draft at a time: the next one goes on from it


class _Drafted:
    """The draft so far, of one state of a drape."""

    track: SurfaceTrack | None = None


def drafted(workspace: Workspace, recipe: Recipe, drape: Drape, k: int) -> SurfaceTrack:
    """A track that holds frame ``k``, integrated from the reference without being held to it.

    The drape's own vectors are used where it is followed by vectors, else the quickest. Raises ParameterError for a
    region that can't be followed, RuleError where vectors were to be brought in and were not
    """
    follower = FOLLOWERS["vectors"]
    chosen = drape.follower.options if drape.follower.kind == "vectors" else {"quality": QUALITIES[0]}
    written = drape.model_copy(
        update={
            "follower": drape.follower.model_copy(update={"kind": "vectors", "options": chosen | {"anchor": False}})
        }
    )
    holdouts, passing = holdouts_before(workspace, recipe, drape.name)
    key = content_key("draft", workspace.media_key, written.model_dump(mode="json"), passing)
    kept: _Drafted = workspace.memory.get(("draft", key), _Drafted)
    reference = workspace.k_of(drape.reference)
    with _turn:
        track = kept.track
        if track is None or track.row(k) is None:
            region = Region(reference, reference_polygon(drape), lambda at: held_out(holdouts, at))
            between = range(min(reference, k), max(reference, k) + 1)
            wanted = [j for j in between if track is None or track.row(j) is None]
            options = follower_options(workspace, written)
            frames = FramesWithVectors(workspace)
            track = kept.track = follower.estimate(frames, region, options, wanted=wanted, known=track)
    return track
