"""What passes in front of a drape without being drawn, looked for once for each track."""

from typing import Any

from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.measure.passing import passing
from gentle_veil.core.types import Points
from gentle_veil.domain.keys import RENDER_CODE, content_key
from gentle_veil.services.following import Followed
from gentle_veil.services.workspace import Workspace


def passing_before(
    workspace: Workspace, followed: Followed, polygon_ref: Points, *, report: Report = silent
) -> dict[str, Any]:
    """As `measure.passing` gives it, frame numbers k; kept for as long as the track is the same."""
    key = content_key("passing", RENDER_CODE, followed.content)

    def read() -> dict[str, Any]:
        known: dict[str, Any] | None = workspace.cache.get_json("passing", key)
        if known is None:
            known = passing(workspace.frames, followed.track, polygon_ref, report=report)
            workspace.cache.put_json("passing", key, known)
        return known

    made: dict[str, Any] = workspace.memory.get(("passing", key), read)
    return made
