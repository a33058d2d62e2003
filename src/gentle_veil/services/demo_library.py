"""The demo library: the invented film "The Lantern Ferry"."""

import json
import shutil
from pathlib import Path

from sqlalchemy import select

from gentle_veil.services.bringing_in import bring_in
from gentle_veil.services.library import Library
from gentle_veil.services.recipes import edit
from gentle_veil.store.tables import ShotRow

PRODUCTION = "The Lantern Ferry"
NOTE = "A short film about the ferry of North Harbour. All of it is rendered; nobody in it exists."


def fill_demo(library: Library, demo: Path, *, finished: bool = False) -> list[int]:
    """Bring in the demo shots that are not there yet; returns the new shots' ids.

    ``finished``: with the demo's recipes and artwork, which are then to be followed and composed
    """
    listing = json.loads((demo / "production.json").read_text())
    made = []
    with library.db.session() as session:
        library.production(session, PRODUCTION, NOTE)
        present = set(session.scalars(select(ShotRow.name)))
    if finished:
        on_shelf = {piece["name"] for piece in library.shelf.listing()}
        for piece in listing["artwork"]:
            if piece["name"] not in on_shelf:
                library.shelf.add(piece["name"], [demo / "artwork" / piece["file"]])
    for shot in listing["shots"]:
        if shot["name"] in present:
            continue
        staged = library.inbox / f"{shot['folder']}.mp4"
        shutil.copy2(demo / "footage" / shot["folder"] / "plate.mp4", staged)
        try:
            shot_id = bring_in(
                library, {"inbox": staged.name}, name=shot["name"], production=PRODUCTION, note=shot["note"]
            )
        finally:
            staged.unlink(missing_ok=True)
        if finished and "recipe" in shot:
            edit(library, shot_id, shot["recipe"], "As it comes with the demo")
        made.append(shot_id)
    return made
