"""Which queued or running work a newer piece of work makes pointless."""

from typing import Any

from gentle_veil.core.errors import NotFoundError
from gentle_veil.domain.keys import track_key
from gentle_veil.services import recipes
from gentle_veil.services.library import Library

NEWEST_ONLY = ("ready",)  # kinds of which only the newest of a shot is worth doing


def overtakes(library: Library, shot_id: int, kind: str, newer: dict[str, Any], older: dict[str, Any]) -> bool:
    """Whether a job of a kind makes another of that kind and shot pointless.

    Composing an older state does not matter any more; nor does following a drape as it was before it was changed.
    """
    if kind in NEWEST_ONLY:
        return True
    if kind != "follow" or newer.get("drape") != older.get("drape"):
        return False
    try:
        now, before = (
            track_key("", recipes.drape_of(recipes.at_revision(library, shot_id, int(a["revision"])), a["drape"]))
            for a in (newer, older)
        )
    except NotFoundError:
        return False
    return now != before
