"""Work that makes a shot's result there to be seen, without anybody asking for each part."""

from gentle_veil.jobs.runner import JobRunner
from gentle_veil.services import recipes
from gentle_veil.store.tables import ShotRow


def finish_shot(runner: JobRunner, shot_id: int) -> None:
    """Follow every drape of a shot and compose its range, as jobs."""
    with runner.library.db.session() as session:
        row = session.get(ShotRow, shot_id)
        assert row is not None
        span = {"first": row.in_frame, "last": row.out_frame}
    state = recipes.current(runner.library, shot_id)
    arguments = {"revision": state.id, **span}
    for drape in state.recipe.drapes:
        runner.submit("follow", shot_id, f"Following {drape.name}", {**arguments, "drape": drape.name})
    if state.recipe.veils:
        runner.submit("ready", shot_id, "Composing", arguments)
