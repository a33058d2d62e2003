"""A plate goes out, is painted, and comes back."""

from pathlib import Path
from typing import Any

import cv2
import numpy as np
import OpenEXR
import pytest
import tifffile
from conftest import spot_recipe

from gentle_veil.core.errors import ParameterError, RecipeError, RuleError
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.stills import read_still
from gentle_veil.services.composing import build_layers, compose
from gentle_veil.services.following import follow
from gentle_veil.services.plates import plate_out
from gentle_veil.services.workspace import Workspace


def recipe(**params: Any):  # type: ignore[no-untyped-def]
    document = spot_recipe()
    document["veils"][0]["params"] = {"way": "brought in", "plate": "painted", **params}
    return read_recipe(document)


@pytest.fixture
def followed(workspace: Workspace) -> Workspace:
    follow(workspace, recipe(), recipe().drapes[0], range(16))
    return workspace


@pytest.mark.published
def test_sent_out__all_three_files_hold_the_same_light(workspace: Workspace, tmp_path: Path) -> None:
    """Read back by OpenCV, tifffile and OpenEXR."""
    drape = recipe().drapes[0]
    for form in ("png", "tif", "exr"):
        (tmp_path / f"p.{form}").write_bytes(plate_out(workspace, drape, form))  # type: ignore[arg-type]
    png = cv2.imread(str(tmp_path / "p.png"), cv2.IMREAD_UNCHANGED)[..., ::-1]
    assert png.dtype == np.uint16
    np.testing.assert_array_equal(png, tifffile.imread(tmp_path / "p.tif"))
    with OpenEXR.File(str(tmp_path / "p.exr")) as file:
        linear = file.channels()["RGB"].pixels
    encoded = np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * np.maximum(linear, 0) ** (1 / 2.4) - 0.055)
    assert np.abs(encoded * 65535 - png).max() <= 1.0


@pytest.mark.truth
def test_painted__it_takes_the_marks_place_and_follows_the_light(
    followed: Workspace, tmp_path: Path, spotted_shot
) -> None:
    """The clean twin's own reference frame as the painted plate."""
    twin = Workspace(
        **{
            **vars(followed),
            "frames": type(
                "Twin",
                (),
                {
                    "size": followed.frames.size,
                    "encoding": followed.frames.encoding,
                    "__getitem__": lambda self, k: spotted_shot.clean[k],
                    "__len__": lambda self: 16,
                },
            )(),
        }
    )
    (tmp_path / "painted.png").write_bytes(plate_out(twin, recipe().drapes[0], "png"))
    followed.shelf.add("painted", [tmp_path / "painted.png"])
    layers = build_layers(followed, recipe(), strict=True)
    for k in (3, 12):
        cover = spotted_shot.cover[k] > 0.5
        calm = [
            cv2.GaussianBlur(p.astype(np.float32), (0, 0), 2)
            for p in (compose(followed, layers, k).img_raw, spotted_shot.clean[k], spotted_shot.marked[k])
        ]
        left, before = (np.abs(calm[i] - calm[1])[cover].mean() for i in (0, 2))
        assert left < 0.15 * before


def test_wrong_size_missing_or_jpeg__is_said(followed: Workspace, tmp_path: Path) -> None:
    cv2.imwrite(str(tmp_path / "small.png"), np.zeros((10, 10, 3), np.uint8))
    followed.shelf.add("small", [tmp_path / "small.png"])
    with pytest.raises(ParameterError, match="same size"):
        build_layers(followed, recipe(plate="small"), strict=True)
    with pytest.raises(RuleError, match="bring in the artwork"):
        build_layers(followed, recipe(plate="nowhere"), strict=True)
    with pytest.raises(ParameterError, match="no plate yet"):
        build_layers(followed, recipe(plate=""), strict=True)
    picture = plate_out(followed, recipe().drapes[0], "png")
    decoded = cv2.imdecode(np.frombuffer(picture, np.uint8), cv2.IMREAD_COLOR)
    cv2.imwrite(str(tmp_path / "lossy.jpg"), decoded)
    followed.shelf.add("lossy", [tmp_path / "lossy.jpg"])
    with pytest.raises(RuleError, match="JPEG"):
        build_layers(followed, recipe(plate="lossy"), strict=True)
    assert read_still(tmp_path / "lossy.jpg").shape == decoded.shape


def test_whole_frames__go_out_and_stand_for_other_frames(followed: Workspace, tmp_path: Path) -> None:
    sent = plate_out(followed, recipe().drapes[0], "png", frame=12)
    decoded = cv2.imdecode(np.frombuffer(sent, np.uint8), cv2.IMREAD_UNCHANGED)
    assert decoded.shape[1::-1] == followed.frames.size
    (tmp_path / "later.png").write_bytes(sent)
    followed.shelf.add("later", [tmp_path / "later.png"])
    both = recipe(plate="", plates=[{"frame": 12, "plate": "later"}])
    layers = build_layers(followed, both, strict=True)
    rendered = compose(followed, layers, 12).img_raw
    # The frame's own picture as its plate: nothing but the grain changes there.
    calm = [cv2.GaussianBlur(p.astype(np.float32), (0, 0), 3) for p in (rendered, followed.frames[12])]
    assert np.abs(calm[0] - calm[1]).max() < 4
    cv2.imwrite(str(tmp_path / "lossy.jpg"), (decoded // 257).astype(np.uint8))
    followed.shelf.add("lossy", [tmp_path / "lossy.jpg"])
    with pytest.raises(RuleError, match="JPEG"):
        build_layers(followed, recipe(plate="", plates=[{"frame": 12, "plate": "lossy"}]), strict=True)


def test_plates_written_wrongly__are_faults() -> None:
    with pytest.raises(RecipeError) as fault:
        recipe(plates=[{"frame": "early"}])
    paths = [f["path"] for f in fault.value.detail["faults"]]
    assert paths == ["veils[0].params.plates[0].frame", "veils[0].params.plates[0].plate"]
