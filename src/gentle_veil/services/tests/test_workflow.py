"""The whole path through the services: bring in, follow, conceal, prove, hand over; undo across restarts."""

import io
import json
from pathlib import Path

import cv2
import numpy as np
import pytest
from conftest import MARK, Studio, ring, spot_recipe

from gentle_veil.core.errors import CancelledError, MediaError, NotFoundError, RecipeError, RuleError
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.open_media import open_frames, probe
from gentle_veil.media.stills import read_still
from gentle_veil.services import bringing_in, recipes
from gentle_veil.services.composing import build_layers, compose, compose_tried, composed, layer_keys, veil_notes
from gentle_veil.services.delivering import DeliverySettings, check_settings, deliver
from gentle_veil.services.following import follow, known_track
from gentle_veil.services.library import Library
from gentle_veil.services.proving import known_proof, prove
from gentle_veil.services.ribbons import analyse, known_stats
from gentle_veil.services.views import flat_view, frame_view
from gentle_veil.services.workspace import facts_of, info_from

RECIPE = read_recipe(spot_recipe())


def test_follow__in_parts_is_the_same_as_at_once_and_survives_a_stop(workspace) -> None:
    def stop(done: int, total: int, doing: str = "", /) -> None:
        if done == 3:
            raise CancelledError

    drape = RECIPE.drapes[0]
    follow(workspace, RECIPE, drape, range(6))
    with pytest.raises(CancelledError):
        follow(workspace, RECIPE, drape, range(16), report=stop)
    kept = known_track(workspace, RECIPE, drape)
    assert kept is not None
    assert list(kept.track.frames) == list(range(9)), "frames 6, 7 and 8 had been followed when it was stopped"
    whole = follow(workspace, RECIPE, drape, range(16))
    again = follow(workspace, RECIPE, drape, range(16), again=True)
    inner = np.array(ring(MARK, 50))
    for k in range(16):
        # A mesh that goes on knows how the surface looked of late, but not all it had measured.
        np.testing.assert_allclose(whole.track.carry(inner, k), again.track.carry(inner, k), atol=0.15)
    assert set(whole.track.status) == {"ok"}


def test_known_track__after_the_outline_changed__is_stale_and_undo_finds_it_again(workspace) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(4))
    moved = spot_recipe()
    moved["drapes"][0]["outline"]["0"][0][0] -= 4
    assert known_track(workspace, RECIPE, read_recipe(moved).drapes[0]) is None
    assert known_track(workspace, RECIPE, RECIPE.drapes[0]) is not None


@pytest.mark.truth
def test_compose__the_mark_goes_and_the_rest_is_untouched(workspace, spotted_shot) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    layers = build_layers(workspace, RECIPE, strict=True)
    for k in (0, 8, 15):
        rendered = compose(workspace, layers, k)
        outside = rendered.matte("spot") == 0
        np.testing.assert_array_equal(rendered.img_raw[outside], workspace.frames[k][outside])
        inside = spotted_shot.cover[k] > 0.5
        before = np.abs(workspace.frames[k].astype(float) - spotted_shot.clean[k])[inside].mean()
        after = np.abs(rendered.img_raw.astype(float) - spotted_shot.clean[k])[inside].mean()
        assert after < 0.15 * before


@pytest.mark.property
def test_composed__in_order_and_the_same_as_one_by_one(workspace) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    layers = build_layers(workspace, RECIPE, strict=True)
    ks = [0, 3, 2, 9, 15]
    made = list(composed(workspace, layers, ks))
    assert [k for k, _ in made] == ks
    for k, rendered in made:
        assert rendered.img_raw.tobytes() == compose(workspace, layers, k).img_raw.tobytes()
    assert list(composed(workspace, layers, [])) == []


def test_composed__a_fault_in_one_frame_comes_out_where_it_is(workspace) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(4))
    made = composed(workspace, build_layers(workspace, RECIPE, strict=True), [0, 1, 500, 2])
    assert [next(made)[0], next(made)[0]] == [0, 1]
    with pytest.raises(NotFoundError):
        next(made)


def test_build_layers__unfollowed__is_left_out_or_refused(workspace) -> None:
    assert build_layers(workspace, RECIPE) == ()
    assert layer_keys(workspace, RECIPE) == []
    with pytest.raises(RuleError, match="follow its drape 'skin'"):
        build_layers(workspace, RECIPE, strict=True)


def test_layer_keys__none_until_prepared_then_change_with_the_veil(workspace) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(3))
    assert layer_keys(workspace, RECIPE) is None
    build_layers(workspace, RECIPE)
    keys = layer_keys(workspace, RECIPE)
    softer = spot_recipe()
    softer["veils"][0]["feather"] = 8
    assert keys
    assert layer_keys(workspace, read_recipe(softer)) != keys
    assert "px away" in veil_notes(workspace, RECIPE)["spot"]["why"]


def test_prove__holds_here_and_is_kept(workspace) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    proof = prove(workspace, RECIPE, list(range(16)))
    assert proof["verdict"] == "pass"
    assert proof["untouched_pixels_that_differ"] == 0
    assert len(proof["veils"]["spot"]["frames"]) == 16
    assert known_proof(workspace, RECIPE, list(range(16))) == json.loads(json.dumps(proof))
    assert known_proof(workspace, RECIPE, list(range(15))) is None


def test_prove__a_veil_without_light_match__is_not_passed(workspace) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    document = spot_recipe()
    document["veils"][0]["params"] = {"donor": [40, 10], "light": 0.0}
    document["veils"][0]["opacity"] = {"keys": {"0": 1.0, "1": 0.2, "2": 1.0, "3": 0.2, "4": 1.0}, "ease": "hold"}
    assert prove(workspace, read_recipe(document), list(range(8)))["verdict"] != "pass"


def test_analyse__one_value_a_frame_and_pictures_for_scrubbing(workspace) -> None:
    assert known_stats(workspace) is None
    stats = analyse(workspace)
    assert len(stats["sharpness"]) == len(stats["motion"]) == 16
    assert stats["proposals"][0]["frame"] in range(16)
    assert workspace.cache.sizes()["view"]["count"] == 16


def test_views__original_result_matte_and_flat(workspace) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))

    def seen(content: bytes) -> np.ndarray:
        return cv2.imdecode(np.frombuffer(content, np.uint8), cv2.IMREAD_COLOR)[..., ::-1]

    np.testing.assert_array_equal(seen(frame_view(workspace, RECIPE, 4, "original", "png")), workspace.frames[4])
    result = seen(frame_view(workspace, RECIPE, 4, "result", "png"))
    matte = seen(frame_view(workspace, RECIPE, 4, "matte", "png", "spot"))
    assert ((result != workspace.frames[4]).any(axis=2) <= (matte[..., 0] > 0)).all()
    flats = [seen(flat_view(workspace, RECIPE, RECIPE.drapes[0], k, "original", "png")).astype(float) for k in (0, 15)]
    gain = flats[0].mean() / flats[1].mean()
    middle = (slice(40, -40), slice(40, -40))
    assert np.abs(flats[0] - flats[1] * gain)[middle].mean() < 5
    with pytest.raises(NotFoundError):
        workspace.k_of(99)


def test_deliver__sequence__numbered_as_asked_and_only_whole(workspace, tmp_path: Path) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    settings = DeliverySettings("png", 2, 6, prefix="ferry.", start_number=101, digits=5)
    sums = deliver(workspace, RECIPE, settings, tmp_path / "out")
    assert sorted(sums) == [f"ferry.{n:05d}.png" for n in range(101, 106)]
    layers = build_layers(workspace, RECIPE)
    np.testing.assert_array_equal(
        read_still(tmp_path / "out" / "ferry.00101.png"), compose(workspace, layers, 2).img_raw
    )
    assert not list(tmp_path.glob("*.in-work"))
    with pytest.raises(RuleError, match="exists already"):
        deliver(workspace, RECIPE, settings, tmp_path / "out")


def test_deliver__stopped_on_the_way__looks_unfinished_and_goes_on(workspace, tmp_path: Path) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    settings = DeliverySettings("png", 0, 9)

    def stop(done: int, total: int, doing: str = "", /) -> None:
        if done == 4 and "writing" in doing:
            raise CancelledError

    with pytest.raises(CancelledError):
        deliver(workspace, RECIPE, settings, tmp_path / "out", report=stop)
    assert not (tmp_path / "out").exists()
    assert len(list((tmp_path / "out.in-work").glob("*.png"))) == 4
    said: list[str] = []
    deliver(workspace, RECIPE, settings, tmp_path / "out", report=lambda d, t, doing="", /: said.append(doing))
    assert sum("already" in s for s in said) == 4
    assert len(list((tmp_path / "out").iterdir())) == 10


def test_deliver__leftovers_of_another_recipe__are_not_mixed_in(workspace, tmp_path: Path) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    work = tmp_path / "out.in-work"
    work.mkdir()
    (work / "delivery.json").write_text("{}")
    (work / "frame.0000.png").write_bytes(b"old")
    deliver(workspace, RECIPE, DeliverySettings("png", 0, 1), tmp_path / "out")
    assert read_still(tmp_path / "out" / "frame.0000.png").shape == (240, 320, 3)


def test_deliver__movie__at_the_exact_rate(workspace, tmp_path: Path) -> None:
    follow(workspace, RECIPE, RECIPE.drapes[0], range(16))
    deliver(workspace, RECIPE, DeliverySettings("movie", 3, 10), tmp_path / "out.mp4")
    info = probe(tmp_path / "out.mp4")
    assert (info.rate, info.frame_count) == (workspace.info.rate, 8)
    layers = build_layers(workspace, RECIPE)
    got = open_frames(tmp_path / "out.mp4", info)[5]
    assert np.abs(got.astype(float) - compose(workspace, layers, 8).img_raw).mean() < 3
    assert [p.name for p in tmp_path.iterdir() if p.name.startswith("out")] == ["out.mp4"]


@pytest.mark.parametrize(
    "change", [{"form": "gif"}, {"first": -1}, {"last": 99}, {"prefix": "../x"}, {"digits": 0}, {"start_number": -4}]
)
def test_check_settings__each_fault__one_sentence(workspace, change: dict) -> None:
    settings = DeliverySettings(**{"form": "png", "first": 0, "last": 5, **change})
    with pytest.raises(RuleError) as caught:
        check_settings(workspace, settings)
    assert caught.value.message.endswith(".")


def test_recipes__undo_redo_versions_across_a_restart(studio: Studio) -> None:
    studio.shot().edit(spot_recipe(), "Take spot off")
    softer = spot_recipe()
    softer["veils"][0]["feather"] = 9
    studio.edit(softer, "Softer")
    recipes.name_version(studio.library, studio.id, "for review 1")
    assert recipes.undo(studio.library, studio.id).label == "Take spot off"
    reopened = Library(studio.root)
    assert recipes.current(reopened, studio.id).recipe.veils[0].feather == 3
    assert recipes.redo(reopened, studio.id).version_name == "for review 1"
    recipes.undo(reopened, studio.id)
    recipes.undo(reopened, studio.id)
    with pytest.raises(RuleError, match="nothing to undo"):
        recipes.undo(reopened, studio.id)
    entries = recipes.history(reopened, studio.id)
    assert [e["label"] for e in entries] == ["Softer", "Take spot off", "Brought in"]
    assert recipes.go_to(reopened, studio.id, entries[0]["id"]).recipe.veils[0].feather == 9
    with pytest.raises(RuleError, match="another name"):
        recipes.undo(reopened, studio.id)
        recipes.name_version(reopened, studio.id, "for review 1")


def test_recipes__edit_on_an_old_state__is_refused_and_nothing_is_lost(studio: Studio) -> None:
    studio.shot()
    base = recipes.current(studio.library, studio.id).id
    recipes.edit(studio.library, studio.id, spot_recipe(), "first", base=base)
    with pytest.raises(RuleError, match="another window"):
        recipes.edit(studio.library, studio.id, {"drapes": []}, "second", base=base)
    assert recipes.current(studio.library, studio.id).label == "first"
    with pytest.raises(RecipeError):
        recipes.edit(studio.library, studio.id, {"drapes": [{}]}, "broken")
    same = recipes.edit(studio.library, studio.id, spot_recipe(), "the same again")
    assert same.label == "first"


def test_bring_in__upload__moves_the_file_and_leaves_no_trace(studio: Studio) -> None:
    token = bringing_in.begin_upload(studio.library)
    content = studio.movie.read_bytes()
    bringing_in.store_upload(studio.library, token, "../../my clip.mp4", io.BytesIO(content), len(content))
    facts = bringing_in.look_into(studio.library, {"upload": token})
    assert (facts["rate"], facts["needs_rate"], facts["frame_count"]) == ("25", False, 16)
    shot_id = bringing_in.bring_in(studio.library, {"upload": token})
    assert list(studio.library.uploads.iterdir()) == []
    workspace = studio.library.workspace(shot_id)
    assert workspace.frames[3].shape == (240, 320, 3)
    bringing_in.remove_shot(studio.library, shot_id)
    assert list(studio.library.media.iterdir()) == []


@pytest.mark.parametrize("content", [b"", b"no movie at all, just text\n" * 30])
def test_bring_in__refused__nothing_stays(studio: Studio, content: bytes) -> None:
    (studio.library.inbox / "bad.mp4").write_bytes(content)
    with pytest.raises(MediaError):
        bringing_in.bring_in(studio.library, {"inbox": "bad.mp4"})
    assert list(studio.library.media.iterdir()) == []


def test_bring_in__broken_upload_and_no_space__nothing_stays(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    token = bringing_in.begin_upload(studio.library)
    with pytest.raises(MediaError, match="broke off after 3 of 10"):
        bringing_in.store_upload(studio.library, token, "a.mp4", io.BytesIO(b"abc"), 10)
    assert list((studio.library.uploads / token).iterdir()) == []
    monkeypatch.setattr(bringing_in.shutil, "disk_usage", lambda _: type("Usage", (), {"free": 1000})())
    with pytest.raises(MediaError, match="no space"):
        bringing_in.store_upload(studio.library, token, "a.mp4", io.BytesIO(b"abc"), 3)
    (studio.library.inbox / "a.mp4").write_bytes(studio.movie.read_bytes())
    with pytest.raises(MediaError, match="no space"):
        bringing_in.bring_in(studio.library, {"inbox": "a.mp4"})
    assert list(studio.library.media.iterdir()) == []


@pytest.mark.parametrize("name", ["../gentle-veil.db", "..", "", "/etc/passwd", "none.mp4"])
def test_source_path__outside_the_inbox__is_never_opened(studio: Studio, name: str) -> None:
    with pytest.raises(NotFoundError):
        bringing_in.source_path(studio.library, {"inbox": name})
    with pytest.raises(NotFoundError):
        bringing_in.drop_upload(studio.library, "../media")


def test_bring_in__sequence__is_asked_its_rate(studio: Studio, still_folder: Path) -> None:
    target = studio.library.inbox / "plates"
    still_folder.rename(target)
    with pytest.raises(RuleError, match="frame rate") as caught:
        bringing_in.bring_in(studio.library, {"inbox": "plates"})
    assert caught.value.code == "needs_rate"
    shot_id = bringing_in.bring_in(studio.library, {"inbox": "plates"}, rate="23.976")
    with studio.library.db.session() as session:
        row = studio.library.shot(session, shot_id)
        assert (row.in_frame, row.out_frame, row.name) == (1001, 1006, "plate")
    assert [c["kind"] for c in bringing_in.inbox_clips(studio.library)] == ["sequence"]
    bringing_in.set_range(studio.library, shot_id, 1002, 1004)
    with pytest.raises(RuleError, match="1001 to 1006"):
        bringing_in.set_range(studio.library, shot_id, 900, 1004)


@pytest.mark.property
def test_facts__there_and_back(workspace) -> None:
    info = info_from(json.loads(json.dumps(facts_of(workspace.info))))
    assert info.described() == workspace.info.described()


def test_painted__is_there_at_once_and_on_every_frame(workspace) -> None:
    document = spot_recipe()
    stroke = {"tool": "colour", "points": [list(MARK)], "radius": 12, "colour": "#2040c0"}
    outline = document["drapes"][0]["outline"]["0"]
    paint = {"name": "paint", "kind": "paint", "drape": "skin", "frame": 0, "outline": outline}
    document["veils"] = [paint | {"params": {"strokes": [stroke]}}]
    recipe = read_recipe(document)
    follow(workspace, recipe, recipe.drapes[0], range(6))
    assert layer_keys(workspace, recipe) is not None
    layers = build_layers(workspace, recipe)
    for k in (0, 5):
        matte = compose(workspace, layers, k).matte("paint")
        assert 100 < (matte > 0.5).sum() < 1200
    tried = compose_tried(workspace, recipe, layers, 3)
    assert np.abs(tried.astype(int) - compose(workspace, layers, 3).img_raw).max() <= 1
    wrong = document["veils"][0] | {"params": {"strokes": [stroke | {"tool": "smudge"}, {"tool": "heal"}]}}
    with pytest.raises(RecipeError) as caught:
        read_recipe(document | {"veils": [wrong]})
    paths = [f["path"] for f in caught.value.detail["faults"]]
    assert paths == ["veils[0].params.strokes[0].tool", "veils[0].params.strokes[1].points"]
