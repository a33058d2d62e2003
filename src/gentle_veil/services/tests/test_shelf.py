from pathlib import Path

import cv2
import numpy as np
import pytest

from gentle_veil.core.errors import MediaError, NotFoundError, RecipeError, RuleError
from gentle_veil.services.presets import Presets
from gentle_veil.services.shelf import Shelf


@pytest.fixture
def emblem(tmp_path: Path) -> Path:
    path = tmp_path / "emblem.png"
    cv2.imwrite(str(path), np.full((30, 40, 4), 200, np.uint8))
    return path


def test_shelf__add_list_open_and_remove(tmp_path: Path, emblem: Path) -> None:
    shelf = Shelf(tmp_path / "shelf")
    assert shelf.listing() == []
    assert shelf.add("emblem", [emblem]) == "emblem"
    (piece,) = shelf.listing()
    assert (piece["name"], piece["size"], piece["count"]) == ("emblem", [40, 30], 1)
    assert shelf.picture("emblem") is shelf.picture("emblem")
    assert shelf.thumb("emblem").startswith(b"\x89PNG")
    content = shelf.content("emblem")
    shelf.remove("emblem")
    assert shelf.content("emblem") == ""
    with pytest.raises(NotFoundError, match="emblem"):
        shelf.picture("emblem")
    cv2.imwrite(str(emblem), np.full((30, 40, 4), 90, np.uint8))
    shelf.add("emblem", [emblem])
    assert shelf.content("emblem") != content


def test_shelf__refusals_leave_nothing(tmp_path: Path, emblem: Path) -> None:
    shelf = Shelf(tmp_path / "shelf")
    broken = tmp_path / "broken.png"
    broken.write_bytes(b"nothing")
    for name, files, kind in (
        ("../up", [emblem], RuleError),
        ("none", [], MediaError),
        ("text", [tmp_path / "a.txt"], MediaError),
        ("broken", [broken], MediaError),
    ):
        with pytest.raises(kind):
            shelf.add(name, files)
    assert shelf.listing() == []
    shelf.add("twice", [emblem])
    with pytest.raises(RuleError, match="already"):
        shelf.add("twice", [emblem])


def test_presets__kept_replaced_refused_and_forgotten(tmp_path: Path) -> None:
    presets = Presets(tmp_path / "presets.json")
    presets.keep("soft", "smooth", {"feather": 20, "params": {"amount": 0.4}})
    presets.keep("soft", "smooth", {"feather": 30})
    assert presets.listing() == [{"name": "soft", "kind": "smooth", "settings": {"feather": 30}}]
    with pytest.raises(RecipeError, match="amount"):
        presets.keep("odd", "smooth", {"params": {"amount": 7}})
    with pytest.raises(RuleError):
        presets.keep(" ", "smooth", {})
    assert len(presets.listing()) == 1
    presets.forget("soft")
    with pytest.raises(NotFoundError, match="soft"):
        presets.forget("soft")
