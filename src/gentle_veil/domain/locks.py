"""What a lock keeps: a locked drape stays followed as it is until it is unlocked."""

from gentle_veil.domain.recipe import Drape, Recipe

KEPT = {"reference_frames", "outline", "follower", "vertices", "tacks", "forgotten", "crossed"}


def touched_lock(before: Recipe, after: Recipe) -> str | None:
    """The name of a locked drape that an edit changes or removes without unlocking it, or None.

    A drape that only gets another name is not changed.
    """
    there = [_kept(d) for d in after.drapes if d.locked]
    for drape in before.drapes:
        if not drape.locked:
            continue
        now = after.drape(drape.name)
        if now is not None and not now.locked:
            continue
        if now is None and _kept(drape) not in there:
            return drape.name
        if now is not None and _kept(now) != _kept(drape):
            return drape.name
    return None


def _kept(drape: Drape) -> dict[str, object]:
    return drape.model_dump(mode="json", include=KEPT)
