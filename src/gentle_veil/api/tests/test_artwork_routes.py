"""Artwork, presets, faces and drafts by requests."""

import io

import cv2
import numpy as np
import pytest
from conftest import Studio, spot_recipe


@pytest.fixture
def client(studio: Studio):
    studio.shot()
    return studio.client()


def bring_in(client, name: str, content: bytes, file: str = "emblem.png"):
    token = client.post("/api/uploads").json["token"]
    sent = client.put(f"/api/uploads/{token}/files/{file}", input_stream=io.BytesIO(content))
    assert sent.status_code == 200
    return client.post("/api/artwork", json={"name": name, "upload": token, "alpha": "told", "rate": None})


def red_square() -> bytes:
    picture = np.zeros((40, 40, 4), np.uint8)
    picture[8:32, 8:32] = (20, 20, 200, 255)
    return cv2.imencode(".png", picture)[1].tobytes()


def with_artwork(**params: object) -> dict[str, object]:
    recipe = spot_recipe()
    veil = {**recipe["veils"][0], "name": "art", "kind": "apply", "params": {"art": "red", **params}}
    return {**recipe, "veils": [veil]}


def test_artwork__is_brought_in_laid_tried_and_taken_off(studio: Studio, client) -> None:
    shot = f"/api/shots/{studio.id}"
    assert bring_in(client, "red", red_square()).json == {"name": "red"}
    assert [p["size"] for p in client.get("/api/artwork").json["pieces"]] == [[40, 40]]
    assert client.get("/api/artwork/red/thumb.png").mimetype == "image/png"
    studio.edit(with_artwork())
    studio.job("follow", drape="skin")
    laid = client.get(f"{shot}/frames/5.jpg?look=result")
    assert laid.data != client.get(f"{shot}/frames/5.jpg").data
    tried = client.post(f"{shot}/preview", json={"recipe": with_artwork(size=2.0), "frame": 5})
    assert tried.status_code == 200
    assert tried.headers["Cache-Control"] == "no-store"
    assert tried.data != laid.data
    alone = client.get(f"{shot}/frames/5.jpg?look=result&only=nobody")
    assert alone.data == client.get(f"{shot}/frames/5.jpg").data
    assert client.delete("/api/artwork/red").status_code == 200
    assert client.get(f"{shot}/state").json["empty"]


def test_refusals__say_what_to_do_and_keep_nothing(studio: Studio, client) -> None:
    answer = bring_in(client, "broken", b"no picture")
    assert answer.status_code >= 400
    assert "broken" not in str(client.get("/api/artwork").json)
    assert "artwork may be" in answer.json["message"]
    draft = {"recipe": with_artwork(size=-3), "frame": 5}
    assert "params.size" in client.post(f"/api/shots/{studio.id}/preview", json=draft).json["message"]
    assert client.get(f"/api/shots/{studio.id}/faces/face%201.png").status_code == 404


def test_faces__are_looked_for_and_told(studio: Studio, client) -> None:
    shot = f"/api/shots/{studio.id}"
    assert client.get(f"{shot}/faces").json == {"faces": None}
    assert client.post(f"{shot}/jobs", json={"kind": "faces"}).status_code == 201
    assert client.get(f"{shot}/faces").json == {"faces": []}
    everybody = {"name": "all", "kind": "obscure", "frame": 0, "params": {"whom": "all faces"}}
    studio.edit({**spot_recipe(), "veils": [everybody]})
    studio.job("ready")
    state = client.get(f"{shot}/state").json["veils"]["all"]
    assert (state["ready"], state["laid"], state["hidden"]) == (True, True, [])


def test_presets__by_requests(client) -> None:
    preset = {"name": "soft", "kind": "smooth", "settings": {"feather": 20}}
    assert client.put("/api/presets", json=preset).status_code == 200
    assert client.get("/api/presets").json == {"presets": [preset]}
    assert client.delete("/api/presets/soft").status_code == 200
    assert client.delete("/api/presets/soft").status_code == 404
