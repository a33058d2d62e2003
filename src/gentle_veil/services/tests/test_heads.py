"""Parts of faces and the head's pose, on a clip made of a real portrait."""

from pathlib import Path

import numpy as np
import pytest
from conftest import Studio, write_movie

from gentle_veil.core.errors import RuleError
from gentle_veil.core.followers.face.tests.test_face import nodding
from gentle_veil.domain.checks import read_recipe
from gentle_veil.services.following import follow
from gentle_veil.services.heads import face_parts, pose_facts, pose_of, turn_of
from gentle_veil.services.workspace import Workspace


@pytest.fixture
def head_shot(tmp_path: Path) -> Studio:
    frames, _ = nodding(5)
    return Studio(tmp_path / "library", write_movie(tmp_path / "head.mp4", frames)).shot()


def recipe_on(part: list[list[float]]):
    drape = {"name": "part", "reference_frames": [0], "outline": {"0": part}, "follower": {"kind": "face"}}
    return read_recipe({"format": "gentle-veil-recipe", "version": 1, "drapes": [drape]})


def test_parts_and_pose__through_the_services_and_the_web(head_shot: Studio) -> None:
    workspace: Workspace = head_shot.library.workspace(head_shot.id)
    parts = face_parts(workspace, 0)[0]
    assert face_parts(workspace, 0)[0] == parts, "kept"
    client = head_shot.client()
    shown = client.get(f"/api/shots/{head_shot.id}/frames/0/faces").json["faces"][0]
    assert set(shown) == set(parts)
    whole = recipe_on(parts["face"])
    with pytest.raises(RuleError, match="follow it first"):
        pose_of(workspace, whole, whole.drapes[0])
    follow(workspace, whole, whole.drapes[0], range(5))
    facts = pose_facts(pose_of(workspace, whole, whole.drapes[0]))
    assert facts["points"] >= 12
    assert facts["judgement"] != "bad"
    assert facts["worst"]
    assert facts["worst_px"] >= facts["average_px"]
    # The picture is turned clockwise by -2.5 degrees a frame: the head rolls along.
    assert facts["turn"][4][2] - facts["turn"][0][2] == pytest.approx(-10, abs=2.5)
    head_shot.edit(whole.written())
    assert client.get(f"/api/shots/{head_shot.id}/drapes/part/head").json["points"] == facts["points"]


def test_pose_refusals__few_points_and_no_face(head_shot: Studio) -> None:
    workspace: Workspace = head_shot.library.workspace(head_shot.id)
    cheek = recipe_on(face_parts(workspace, 0)[0]["cheek left"])
    follow(workspace, cheek, cheek.drapes[0], range(2))
    with pytest.raises(RuleError, match="8 are needed"):
        pose_of(workspace, cheek, cheek.drapes[0])
    corner = recipe_on([[4, 250], [60, 250], [60, 296], [4, 296]])
    follow(workspace, corner, corner.drapes[0], range(2))
    with pytest.raises(RuleError, match="No face is found"):
        pose_of(workspace, corner, corner.drapes[0])


def test_turn_of__plain_turns_have_plain_angles() -> None:
    angle = np.deg2rad(20)
    roll = np.eye(4)
    roll[:2, :2] = [[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]
    assert turn_of(roll) == [0, 0, 20]
    yaw = np.eye(4)
    yaw[0, 0] = yaw[2, 2] = np.cos(angle)
    yaw[0, 2], yaw[2, 0] = np.sin(angle), -np.sin(angle)
    assert turn_of(yaw) == [20, 0, 0]
