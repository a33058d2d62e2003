"""Revisions of a shot's recipe: edit, undo, redo, name a version, go back to one."""

from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from gentle_veil.core.errors import NotFoundError, RuleError
from gentle_veil.domain.checks import read_recipe
from gentle_veil.domain.locks import touched_lock
from gentle_veil.domain.recipe import Drape, Recipe
from gentle_veil.services.library import Library
from gentle_veil.store.tables import RevisionRow, ShotRow


@dataclass(frozen=True)
class RevisionFacts:
    """Where a shot's recipe stands."""

    id: int
    label: str
    version_name: str | None
    can_undo: bool
    can_redo: bool
    recipe: Recipe


def _head(session: Session, shot: ShotRow) -> RevisionRow:
    row = session.get(RevisionRow, shot.head_id) if shot.head_id else None
    if row is None:
        raise NotFoundError(f"Shot '{shot.name}' has no recipe; bring the clip in again.")
    return row


def begin(session: Session, shot: ShotRow) -> None:
    """The first revision of a shot that is being brought in: nothing is done to it yet."""
    row = RevisionRow(shot_id=shot.id, label="Brought in", recipe=Recipe().written())
    session.add(row)
    session.flush()
    shot.head_id = row.id


def _newest_child(session: Session, revision_id: int) -> RevisionRow | None:
    return session.scalar(
        select(RevisionRow).where(RevisionRow.parent_id == revision_id).order_by(RevisionRow.id.desc()).limit(1)
    )


def _facts(session: Session, row: RevisionRow) -> RevisionFacts:
    return RevisionFacts(
        row.id,
        row.label,
        row.version_name,
        row.parent_id is not None,
        _newest_child(session, row.id) is not None,
        read_recipe(row.recipe),
    )


def current(library: Library, shot_id: int) -> RevisionFacts:
    """The revision that a shot stands at."""
    with library.db.session() as session:
        return _facts(session, _head(session, library.shot(session, shot_id)))


def at_revision(library: Library, shot_id: int, revision_id: int) -> Recipe:
    """The recipe of one revision of a shot."""
    with library.db.session() as session:
        row = session.get(RevisionRow, revision_id)
        if row is None or row.shot_id != shot_id:
            raise NotFoundError(f"Revision {revision_id} is not one of this shot's.")
        return read_recipe(row.recipe)


def drape_of(recipe: Recipe, name: str) -> Drape:
    """A drape by its name. Raises NotFoundError."""
    drape = recipe.drape(name)
    if drape is None:
        raise NotFoundError(f"There is no drape '{name}' in this state of the shot.")
    return drape


def edit(library: Library, shot_id: int, document: Any, label: str, *, base: int | None = None) -> RevisionFacts:
    """Make a new revision on top of the current one.

    ``base`` is the revision that the edit was made on; RuleError when the shot has moved on since.
    Raises: RecipeError listing all faults
    """
    recipe = read_recipe(document)
    with library.db.session() as session:
        shot = library.shot(session, shot_id)
        head = _head(session, shot)
        if base is not None and base != head.id:
            raise RuleError(
                "The recipe has changed in another window since this edit began; look at the newest state and repeat "
                "the edit.",
                code="stale",
            )
        if recipe.written() == head.recipe:
            return _facts(session, head)
        locked = touched_lock(read_recipe(head.recipe), recipe)
        if locked is not None:
            raise RuleError(f"Drape '{locked}' is locked, and stays as it is; unlock it to change it.", code="locked")
        row = RevisionRow(shot_id=shot_id, parent_id=head.id, label=label[:200] or "Edited", recipe=recipe.written())
        session.add(row)
        session.flush()
        shot.head_id = row.id
        return _facts(session, row)


def undo(library: Library, shot_id: int) -> RevisionFacts:
    with library.db.session() as session:
        shot = library.shot(session, shot_id)
        head = _head(session, shot)
        if head.parent_id is None:
            raise RuleError("There is nothing to undo; this is the shot as it was brought in.", code="nothing")
        shot.head_id = head.parent_id
        row = session.get(RevisionRow, head.parent_id)
        assert row is not None
        return _facts(session, row)


def redo(library: Library, shot_id: int) -> RevisionFacts:
    """Forward along the newest line of edits."""
    with library.db.session() as session:
        shot = library.shot(session, shot_id)
        row = _newest_child(session, _head(session, shot).id)
        if row is None:
            raise RuleError("There is nothing to redo; this is the newest state.", code="nothing")
        shot.head_id = row.id
        return _facts(session, row)


def name_version(library: Library, shot_id: int, name: str) -> RevisionFacts:
    """Give the current revision a name, so that one can come back to it."""
    cleaned = name.strip()[:200]
    if not cleaned:
        raise RuleError("A version needs a name, for example 'for review 1'.", code="name")
    with library.db.session() as session:
        head = _head(session, library.shot(session, shot_id))
        taken = session.scalar(
            select(RevisionRow).where(RevisionRow.shot_id == shot_id, RevisionRow.version_name == cleaned)
        )
        if taken is not None and taken.id != head.id:
            raise RuleError(f"There is a version '{cleaned}' of this shot already; choose another name.", code="name")
        head.version_name = cleaned
        return _facts(session, head)


def go_to(library: Library, shot_id: int, revision_id: int) -> RevisionFacts:
    """Stand at an older (or newer) revision; later edits grow from there, and nothing is lost."""
    with library.db.session() as session:
        shot = library.shot(session, shot_id)
        row = session.get(RevisionRow, revision_id)
        if row is None or row.shot_id != shot_id:
            raise NotFoundError(f"Revision {revision_id} is not one of this shot's.")
        shot.head_id = row.id
        return _facts(session, row)


def history(library: Library, shot_id: int, limit: int = 200) -> list[dict[str, Any]]:
    """Newest first: id, parent, label, version name, time, and whether the shot stands there."""
    with library.db.session() as session:
        shot = library.shot(session, shot_id)
        rows = session.scalars(
            select(RevisionRow).where(RevisionRow.shot_id == shot_id).order_by(RevisionRow.id.desc()).limit(limit)
        )
        return [
            {
                "id": row.id,
                "parent": row.parent_id,
                "label": row.label,
                "version_name": row.version_name,
                "created": row.created.isoformat(timespec="seconds"),
                "current": row.id == shot.head_id,
            }
            for row in rows
        ]
