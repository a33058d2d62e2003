"""The recipe as data: what is accepted, how faults are told, and what keys depend on."""

import json
from pathlib import Path

import pytest
from conftest import spot_recipe

from gentle_veil.core.errors import RecipeError
from gentle_veil.domain.checks import read_recipe
from gentle_veil.domain.keys import content_key, prepared_key, track_key
from gentle_veil.domain.recipe import Keys, Recipe, recipe_schema


def faults_of(document: object) -> dict[str, str]:
    with pytest.raises(RecipeError) as caught:
        read_recipe(document)
    return {f["path"]: f["message"] for f in caught.value.detail["faults"]}


def test_read_recipe__only_the_necessary_keys__has_good_defaults() -> None:
    recipe = read_recipe(spot_recipe())
    assert recipe.drapes[0].follower.kind == "mesh"
    assert (recipe.veils[0].opacity, recipe.veils[0].enabled, recipe.veils[0].range) == (1.0, True, None)


@pytest.mark.property
def test_written__leaves_defaults_out_and_reads_back_the_same() -> None:
    document = spot_recipe()
    document["veils"][0]["outline"] = {
        "points": document["veils"][0]["outline"][:4],
        "corners": [True, False, False, True],
    }
    document["veils"][0]["opacity"] = {"keys": {"0": 0.0, "8": 1.0}, "ease": "smooth"}
    recipe = read_recipe(document)
    written = json.loads(json.dumps(recipe.written()))
    assert "enabled" not in written["veils"][0]
    assert read_recipe(written) == recipe
    assert isinstance(recipe.veils[0].opacity, Keys)


def test_read_recipe__many_faults__all_are_told_with_their_paths() -> None:
    document = spot_recipe()
    document["drapes"][0]["follower"] = {"kind": "glue"}
    document["drapes"].append(
        {**document["drapes"][0], "outline": {"9": [[0, 0], [5, 0], [5, 5]]}, "reference_frames": [3]}
    )
    document["veils"][0] |= {
        "drape": "cloth",
        "opacity": 3,
        "range": [9, 2],
        "params": {"light": 7, "sparkle": 1, "donor": [1]},
    }
    found = faults_of(document)
    assert "none of" in found["drapes[0].follower.kind"]
    assert "used twice" in found["drapes[1].name"]
    assert "reference frame 3" in found["drapes[1].outline"]
    assert "not a drape" in found["veils[0].drape"]
    assert "0 to 1" in found["veils[0].opacity"]
    assert "swap" in found["veils[0].range"]
    assert "0 to 1" in found["veils[0].params.light"]
    assert "not known" in found["veils[0].params.sparkle"]
    assert "two numbers" in found["veils[0].params.donor"]


@pytest.mark.parametrize(
    ("path", "change"),
    [
        ("drapes[0].reference_frames", lambda d: d["drapes"][0].pop("reference_frames")),
        ("drapes[0].colour", lambda d: d["drapes"][0].__setitem__("colour", 1)),
        ("drapes[0].name", lambda d: d["drapes"][0].__setitem__("name", "../../etc")),
        ("veils[0].outline.points", lambda d: d["veils"][0].__setitem__("outline", [[0, 0]])),
        ("version", lambda d: d.__setitem__("version", 9)),
        ("veils[0].frame", lambda d: d["veils"][0].__setitem__("frame", "first")),
    ],
)
def test_read_recipe__shape_faults__name_the_place(path: str, change) -> None:
    document = spot_recipe()
    change(document)
    assert path in faults_of(document)


@pytest.mark.parametrize("document", [None, [], "recipe", {}])
def test_read_recipe__no_recipe__one_sentence(document: object) -> None:
    if document == {}:
        assert read_recipe(document) == Recipe()
        return
    with pytest.raises(RecipeError, match="JSON object"):
        read_recipe(document)


@pytest.mark.published
def test_recipe_schema__is_the_published_file_and_takes_the_hand_written_recipe() -> None:
    published = json.loads((Path(__file__).parents[4] / "docs" / "recipe.schema.json").read_text())
    assert published == json.loads(json.dumps(recipe_schema()))
    assert {"drapes", "veils"} <= set(published["properties"])


def test_checks__donors_and_selections__name_the_very_place_of_a_fault() -> None:
    veils = [
        {"name": "a", "kind": "conceal", "drape": "arm", "frame": 1, "outline": [[0, 0], [9, 0], [9, 9]]},
        {"name": "b", "kind": "smooth", "drape": "arm", "frame": 1, "outline": [[0, 0], [9, 0], [9, 9]]},
    ]
    veils[0]["params"] = {"donors": [{"x": 1, "y": {"keys": {"3": 2.0}}}, {"x": 1}, {"x": 1, "y": 2, "size": 90}]}
    veils[1]["params"] = {"selection": [{"tool": "heal", "points": [[1, 2]]}, {"tool": "add", "points": [[1, 2, 0.5]]}]}
    drape = {"name": "arm", "reference_frames": [1], "outline": {"1": [[0, 0], [99, 0], [99, 99]]}}
    found = faults_of({"format": "gentle-veil-recipe", "version": 1, "drapes": [drape], "veils": veils})
    assert set(found) == {
        "veils[0].params.donors[1].y",
        "veils[0].params.donors[2].size",
        "veils[1].params.selection[0].tool",
    }


def test_keys__touching_opacity_keeps_track_and_donor() -> None:
    before, document = read_recipe(spot_recipe()), spot_recipe()
    document["veils"][0] |= {"opacity": 0.4, "feather": 9, "enabled": False}
    after = read_recipe(document)
    assert track_key("m", before.drapes[0]) == track_key("m", after.drapes[0])
    args = [(r.drapes[0], r.veils[0], [], [], ["donor"]) for r in (before, after)]
    assert prepared_key("t", *args[0]) == prepared_key("t", *args[1])


def test_keys__what_matters_changes_them() -> None:
    drape = read_recipe(spot_recipe()).drapes[0]
    moved = spot_recipe()
    moved["drapes"][0]["outline"]["0"][0][0] += 1
    assert track_key("m", drape) != track_key("m", read_recipe(moved).drapes[0])
    assert track_key("m", drape) != track_key("other media", drape)
    assert content_key({"a": 1, "b": 2}) == content_key({"b": 2, "a": 1})


def test_outline__keeps_its_feathers_and_asks_for_one_at_each_point() -> None:
    document = spot_recipe()
    soft = {"points": [[0, 0], [40, 0], [40, 40]], "feathers": [1, 4, 0]}
    document["veils"][0] |= {"outline": soft, "feather_in": 2}
    recipe = read_recipe(document)
    written = recipe.written()["veils"][0]
    assert written["outline"]["feathers"] == [1, 4, 0]
    assert written["feather_in"] == 2
    assert read_recipe(recipe.written()) == recipe
    document["veils"][0]["outline"] = soft | {"feathers": [1, 2]}
    assert any("3 points but 2 feathers" in message for message in faults_of(document).values())


def test_feathers__prepare_nothing_anew() -> None:
    veil = read_recipe(spot_recipe()).veils[0]
    assert veil.outline is not None
    soft = veil.outline.model_copy(update={"feathers": [2.0] * len(veil.outline.points)})
    softer = veil.model_copy(update={"outline": soft, "feather_in": 3.0})
    a, b = (prepared_key("track", None, v, [], [], ()) for v in (veil, softer))
    assert a == b
