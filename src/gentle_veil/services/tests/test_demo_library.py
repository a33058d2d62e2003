"""The demo film as it comes with the program."""

import json
from pathlib import Path

import numpy as np

from gentle_veil.domain.checks import read_recipe
from gentle_veil.services.demo_library import NOTE, PRODUCTION, fill_demo
from gentle_veil.store.tables import ProductionRow
from gentle_veil.wiring import Config, open_library

DEMO = Config.demo


def test_fill_demo__four_shots_once(tmp_path: Path) -> None:
    library = open_library(tmp_path / "library")
    made = fill_demo(library, DEMO)
    assert len(made) == 4
    assert fill_demo(library, DEMO) == []
    with library.db.session() as session:
        owner = session.query(ProductionRow).one()
        assert (owner.name, owner.note) == (PRODUCTION, NOTE)
    assert list(library.inbox.iterdir()) == []
    workspace = library.workspace(made[0])
    assert (workspace.info.frame_count, workspace.frames.size) == (100, (960, 540))


def test_footage__has_its_truth_and_its_twins() -> None:
    listing = json.loads((DEMO / "production.json").read_text())
    for shot in listing["shots"]:
        folder = DEMO / "footage" / shot["folder"]
        assert (folder / "plate.mp4").exists()
        with np.load(folder / "truth.npz") as truth:
            assert "visible" in truth.files
        if "recipe" in shot:
            read_recipe(shot["recipe"])
    assert (DEMO / "footage" / "pilot" / "clean.mp4").exists()
