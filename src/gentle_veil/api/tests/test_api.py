"""The web's routes: the story by requests, refusals as plain sentences, and who may ask."""

import copy
import io
from pathlib import Path

import numpy as np
import pytest
from conftest import Studio, spot_recipe

from gentle_veil.api.guard import COOKIE
from gentle_veil.domain.recipe import Recipe
from gentle_veil.wiring import Config, create


@pytest.fixture
def client(studio: Studio):
    studio.shot()
    return studio.client()


def test_the_story__edit_follow_look_prove_hand_over(studio: Studio, client) -> None:
    shot = f"/api/shots/{studio.id}"
    listed = client.get("/api/shots").json["shots"]
    assert (listed[0]["facts"]["rate"], listed[0]["timecodes"]) == ("25", ["00:00:00:00", "00:00:00:15"])
    revision = client.get(f"{shot}/recipe").json
    body = {"recipe": spot_recipe(), "label": "Take spot off", "base": revision["revision"]}
    assert client.put(f"{shot}/recipe", json=body).json["can_undo"]
    assert client.get(f"{shot}/state").json["followed"] == {"skin": 0}
    assert client.get(f"{shot}/drapes/skin/track").json == {"track": None}
    assert client.post(f"{shot}/jobs", json={"kind": "follow", "drape": "skin"}).status_code == 201
    state = client.get(f"{shot}/state").json
    assert state["token"]
    assert state["veils"]["spot"]["ready"]
    track = client.get(f"{shot}/drapes/skin/track").json["track"]
    assert track["status"] == ["ok"] * 16
    positions = client.get(f"{shot}/drapes/skin/positions").data
    assert len(positions) == 16 * track["vertices"] * 2 * 4
    errors = np.frombuffer(client.get(f"{shot}/drapes/skin/errors").data, "<f4").reshape(16, track["vertices"])
    np.testing.assert_allclose(errors.mean(axis=1), track["error_px"], atol=2e-3)
    original = client.get(f"{shot}/frames/5.jpg")
    result = client.get(f"{shot}/frames/5.jpg?look=result")
    assert "immutable" in original.headers["Cache-Control"]
    assert original.data != result.data
    assert client.get(f"{shot}/drapes/skin/flat/5.png?look=result").mimetype == "image/png"
    client.post(f"{shot}/jobs", json={"kind": "prove"})
    assert client.get(f"{shot}/proof").json["proof"]["verdict"] == "pass"
    wanted = {"form": "png", "first": 0, "last": 3, "name": "ferry v1", "prefix": "ferry."}
    assert client.post(f"{shot}/deliveries", json=wanted).status_code == 201
    delivered = client.get(f"{shot}/deliveries").json["deliveries"][0]
    assert (delivered["state"], delivered["files"]) == ("done", 4)
    again = client.post(f"{shot}/deliveries", json=wanted)
    assert again.status_code == 409
    assert "another name" in again.json["message"]


def test_track_out__as_plain_data_that_comes_in_again(studio: Studio, client) -> None:
    shot = f"/api/shots/{studio.id}"
    assert client.get(f"{shot}/drapes/skin/track.csv").status_code == 404
    studio.edit(spot_recipe())
    assert client.get(f"{shot}/drapes/skin/track.csv").json["code"] == "unfollowed"
    drafted = client.get(f"{shot}/drapes/skin/draft/4").json
    assert len(drafted["outline"]) == len(spot_recipe()["drapes"][0]["outline"]["0"])
    assert len(drafted["positions"]) > 2 * max(max(e) for e in drafted["edges"])
    client.post(f"{shot}/jobs", json={"kind": "follow", "drape": "skin"})
    reply = client.get(f"{shot}/drapes/skin/track.csv?what=corners")
    assert "attachment" in reply.headers["Content-Disposition"]
    lines = reply.text.splitlines()
    assert lines[0] == "frame,x0,y0,x1,y1,x2,y2,x3,y3,status"
    assert len(lines) == 17
    points = client.get(f"{shot}/drapes/skin/track.json?what=points").text
    tacks = client.post(f"{shot}/drapes/skin/points", json={"text": points}).json
    assert tacks["points"] > 3
    assert client.get(f"{shot}/drapes/skin/apart/skin").json["px"] == [0.0] * 16


def test_locked_drape__an_edit_that_changes_it_is_refused_and_one_that_does_not_is_taken(
    studio: Studio, client
) -> None:
    def put(document) -> tuple[int, str]:
        base = client.get(f"/api/shots/{studio.id}/recipe").json["revision"]
        body = {"recipe": document, "label": "edit", "base": base}
        reply = client.put(f"/api/shots/{studio.id}/recipe", json=body)
        return reply.status_code, reply.json.get("message", "")

    document = spot_recipe()
    document["drapes"][0]["locked"] = True
    assert put(document)[0] == 200
    changed = copy.deepcopy(document)
    changed["drapes"][0]["follower"] = {"kind": "plane"}
    assert put(changed) == (409, "Drape 'skin' is locked, and stays as it is; unlock it to change it.")
    assert put({**document, "drapes": [], "veils": []})[0] == 409
    renamed = copy.deepcopy(document)
    renamed["drapes"][0]["name"] = renamed["veils"][0]["drape"] = "cheek"
    assert put(renamed)[0] == 200
    freed = copy.deepcopy(renamed)
    freed["drapes"][0]["locked"] = False
    assert put(freed)[0] == 200
    assert put({**freed, "drapes": [], "veils": []})[0] == 200


def test_result__while_a_veil_is_not_prepared__says_so(studio: Studio, client) -> None:
    from gentle_veil.services.following import follow
    from gentle_veil.services.recipes import current

    studio.edit(spot_recipe())
    drape = current(studio.library, studio.id).recipe.drapes[0]
    follow(studio.library.workspace(studio.id), Recipe(), drape, range(3))
    reply = client.get(f"/api/shots/{studio.id}/frames/1.jpg?look=result")
    assert (reply.status_code, reply.json["code"]) == (409, "preparing")


def test_upload__inspect_and_bring_in(studio: Studio, client) -> None:
    token = client.post("/api/uploads").json["token"]
    content = studio.movie.read_bytes()
    reply = client.put(
        f"/api/uploads/{token}/files/clip.mp4", input_stream=io.BytesIO(content), content_length=len(content)
    )
    assert reply.status_code == 200
    assert client.post("/api/inspect", json={"upload": token}).json["needs_rate"] is False
    made = client.post("/api/shots", json={"source": {"upload": token}, "name": "Ferry"}).json["id"]
    assert client.get(f"/api/shots/{made}/stats").json["stats"]["sharpness"]
    assert client.patch(f"/api/shots/{made}", json={"in_frame": 2, "out_frame": 9}).status_code == 200
    assert client.get(f"/api/shots/{made}").json["in_frame"] == 2
    assert client.delete(f"/api/shots/{made}").status_code == 200
    assert client.get(f"/api/shots/{made}").status_code == 404


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "part"),
    [
        ("get", "/api/shots/77/recipe", None, 404, "no shot 77"),
        ("get", "/api/shots/1/frames/99.jpg", None, 404, "frames 0 to 15"),
        ("get", "/api/shots/1/frames/1.gif", None, 422, "form"),
        ("put", "/api/shots/1/recipe", {"recipe": {"drapes": [{}]}, "label": "x"}, 422, "faults"),
        ("post", "/api/shots/1/jobs", {"kind": "follow", "drape": "x"}, 409, "Choose the drape"),
        ("post", "/api/shots/1/jobs", {"kind": "dance"}, 422, "kind"),
        ("post", "/api/shots/1/undo", None, 409, "nothing to undo"),
        ("post", "/api/inspect", {"inbox": "../x"}, 404, "inbox"),
        ("patch", "/api/shots/1", {"in_frame": 9, "out_frame": 2}, 409, "range"),
        ("get", "/api/nothing", None, 404, "nothing at this address"),
    ],
)
def test_refusals__status_and_one_sentence(client, method: str, path: str, body, status: int, part: str) -> None:
    reply = getattr(client, method)(path, json=body) if body is not None else getattr(client, method)(path)
    assert reply.status_code == status
    assert part in reply.json["message"]


def test_guard__foreign_host_and_foreign_page__are_refused(client) -> None:
    assert client.get("/api/shots", headers={"Host": "evil.example"}).status_code == 403
    assert client.get("/api/shots", headers={"Host": "127.0.0.1:8321"}).status_code == 200
    foreign = client.post("/api/shots/1/undo", headers={"Origin": "http://evil.example"})
    assert foreign.status_code == 403
    own = client.post("/api/shots/1/undo", headers={"Origin": "http://localhost"})
    assert own.status_code == 409


def test_guard__bound_to_a_network__asks_for_the_key(studio: Studio) -> None:
    app, _ = create(Config(library=studio.root, access_key="secret"), studio.runner)
    client = app.test_client()
    assert client.get("/api/shots", headers={"Host": "box.lan"}).status_code == 401
    assert client.get("/api/shots?key=wrong").status_code == 401
    assert client.get("/api/shots?key=secret").status_code == 200
    entered = client.get("/?key=secret")
    assert entered.status_code == 302
    assert COOKIE in entered.headers["Set-Cookie"]
    assert client.get("/api/shots").status_code == 200


def test_front_end__not_built__says_what_to_run(studio: Studio, tmp_path: Path) -> None:
    app, _ = create(Config(library=studio.root, web=tmp_path / "none"), studio.runner)
    reply = app.test_client().get("/")
    assert reply.status_code == 503
    assert "./run --setup" in reply.json["message"]


def test_cache__sizes_and_freeing(studio: Studio, client) -> None:
    client.get(f"/api/shots/{studio.id}/frames/1.jpg")
    assert client.get("/api/cache").json["kinds"]["view"]["count"] == 1
    assert client.delete("/api/cache/view").json["bytes"] > 0
    assert client.get("/api/cache").json["kinds"] == {}


def test_params__describe_every_kind_for_panels(client) -> None:
    params = client.get("/api/params").json
    names = [p["name"] for p in params["veils"]["conceal"]["params"]]
    assert names[:5] == ["way", "plate", "plates", "gaps", "donor"]
    assert params["followers"]["plane"]["params"][0]["type"] == "switch"
    told = {p["name"]: (p["when"], p["among"]) for p in params["veils"]["conceal"]["params"]}
    assert told["donor_turn"] == ("way", ["donor"])
    assert told["light"] == ("", [])


def test_events__a_job_is_told_as_it_changes(studio: Studio, client) -> None:
    client.post(f"/api/shots/{studio.id}/jobs", json={"kind": "analyse"})
    stream = client.get("/api/events")
    assert stream.mimetype == "text/event-stream"
    first = next(stream.response)
    assert first.startswith((b": here", b"event: job"))
    stream.close()
