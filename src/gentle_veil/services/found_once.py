"""What is told of a drape's surface once for each track: what passes in front, what is behind it, its focus."""

from collections.abc import Callable
from typing import Any

from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.types import Points
from gentle_veil.domain.keys import RENDER_CODE, content_key
from gentle_veil.services.following import Followed
from gentle_veil.services.workspace import Workspace


def found_once(
    workspace: Workspace,
    name: str,
    followed: Followed,
    find: Callable[..., dict[str, Any]],
    polygon_ref: Points,
    *,
    report: Report = silent,
) -> dict[str, Any]:
    """What ``find(frames, track, polygon_ref, report=...)`` tells, plain data with frame numbers k.

    It is kept under a ``name`` for as long as the track is the same.
    """
    key = content_key(name, RENDER_CODE, followed.content)

    def read() -> dict[str, Any]:
        known: dict[str, Any] | None = workspace.cache.get_json(name, key)
        if known is None:
            known = find(workspace.frames, followed.track, polygon_ref, report=report)
            workspace.cache.put_json(name, key, known)
        return known

    made: dict[str, Any] = workspace.memory.get((name, key), read)
    return made
