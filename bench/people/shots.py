"""A shot: things before a camera in some light, rendered frame by frame, with where every point of a surface is."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.colour.transfer import bt709_encode
from people.body import normals
from people.kernels import draw, shade

SIZE, FRAMES, MOMENTS, SHUTTER = (540, 960), 100, 8, 0.5
EXPOSURE, GRAIN_BLUR, POINTS, SEEN_BY = 0.5, 0.55, 3000, 0.06
NO_SHADOW = (1.0, 0.0, 1e6, 1.0, 0.0, 1e6)


@dataclass(frozen=True)
class Light:
    """``towards(t)`` the lamp; ``shadow(t)`` a band as `shade` has it; ``gain(t)`` of all light."""

    towards: Callable[[float], tuple[float, float, float]]
    rgb: tuple[float, float, float] = (2.2, 2.0, 1.8)
    gain: Callable[[float], float] = lambda t: 1.0
    shadow: Callable[[float], tuple[float, ...]] = lambda t: NO_SHADOW
    ambient: tuple[tuple[float, float, float], ...] = ((0.35, 0.38, 0.45), (0.22, 0.20, 0.18))


class Camera:
    def __init__(self, at: Any, to: Any, focal_px: float) -> None:
        self.at, self.focal = np.array(at, float), focal_px
        z = np.array(to, float) - self.at
        z /= np.linalg.norm(z)
        x = np.cross(z, [0, 1, 0])
        x /= np.linalg.norm(x)
        self.axes = np.stack([x, np.cross(z, x), z])

    def project(self, places: np.ndarray) -> np.ndarray:
        """Places (N, 3) as px x, y and how far away they are (N, 3)."""
        x, y, z = ((places - self.at) @ self.axes.T).T
        near = np.maximum(z, 0.1)
        centre = ((SIZE[1] - 1) / 2, (SIZE[0] - 1) / 2)
        return np.stack([x / near * self.focal + centre[0], y / near * self.focal + centre[1], z], axis=1)


@dataclass(frozen=True)
class Rendered:
    """Frames (T, H, W, 3) uint8 by variant, "clean" and where anything is worn "marked"; ``cover`` (T, H, W) 0 to 1 of
    the marks; ``tracks`` (T, N, 2) px, ``visible`` and ``facing`` (T, N) of points on what is followed."""

    frames: dict[str, np.ndarray]
    cover: np.ndarray
    tracks: np.ndarray
    visible: np.ndarray
    facing: np.ndarray


@dataclass
class Shot:
    """``things`` to draw, the first of which is followed; ``box`` px on the ``reference`` that its points lie in."""

    things: list[Any]
    camera: Callable[[float], Camera]
    light: Light
    reference: int
    seed: int
    box: tuple[int, int, int, int]
    defocus: Callable[[float], float] = lambda t: 0.0
    grain: float = 0.009
    pan: float = 0.0
    triangles: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        counts = np.cumsum([0, *(len(thing.at(0.0)) for thing in self.things)])
        self.triangles = np.concatenate([t.triangles + n for t, n in zip(self.things, counts[:-1], strict=True)])
        self.uvs = np.concatenate([thing.uvs for thing in self.things])
        self.thing = np.concatenate([np.full(len(t.triangles), i) for i, t in enumerate(self.things)])
        self.gloss = np.array([thing.gloss for thing in self.things], np.float32)

    def _drawn(self, t: float, shift: tuple[float, float], seed: int):  # type: ignore[no-untyped-def]
        camera, places, across, start = self.camera(t), [], [], 0
        depth, ids, shares = np.full(SIZE, 1e9), np.full(SIZE, -1), np.zeros((*SIZE, 2))
        for thing in self.things:
            at = thing.at(t)
            seen = camera.project(at)
            first = next(iter(thing.textures.values()))
            z = np.ascontiguousarray(seen[:, 2])
            draw(
                seen[:, :2] + shift,
                z,
                thing.triangles,
                thing.uvs,
                first,
                thing.through,
                start,
                seed,
                depth,
                ids,
                shares,
            )
            places.append(at)
            across.append(normals(at, thing.triangles))
            start += len(thing.triangles)
        return camera, depth, ids, shares, np.concatenate(places), np.concatenate(across)

    def _frame(self, k: int, back: np.ndarray) -> tuple[dict[str, np.ndarray], np.ndarray]:
        names = sorted({name for thing in self.things for name in thing.textures})
        light = {name: np.zeros((*SIZE, 4), np.float32) for name in names}
        cover = np.zeros(SIZE, np.float32)
        for m in range(MOMENTS):
            t = k + ((m + 0.5) / MOMENTS - 0.5) * SHUTTER
            shift = ((0.618 * m) % 1 - 0.5, (0.381 * m + 0.3) % 1 - 0.5)
            camera, _, ids, shares, at, across = self._drawn(t, shift, self.seed * 7919 + k * 13 + m)
            to_light, gain = np.array(self.light.towards(t), float), self.light.gain(t)
            given = (
                to_light / np.linalg.norm(to_light),
                gain * np.array(self.light.rgb),
                gain * np.array(self.light.ambient),
                camera.at,
                np.array(self.light.shadow(t), float),
            )
            for name in names:
                textures = tuple(thing.textures.get(name, thing.textures["clean"]) for thing in self.things)
                marks = cover if name == names[-1] else np.zeros_like(cover)
                shade(
                    ids,
                    shares,
                    self.triangles,
                    self.uvs,
                    self.thing,
                    at,
                    across,
                    textures,
                    self.gloss,
                    *given,
                    light[name],
                    marks,
                )
        rng = np.random.default_rng(self.seed * 1000 + k)
        noise = cv2.GaussianBlur(rng.normal(size=(*SIZE, 3)).astype(np.float32), (0, 0), GRAIN_BLUR)
        moved = np.float32([[1, 0, self.pan * k - 130], [0, 1, -80]])
        wall = cv2.warpAffine(back, moved, SIZE[::-1], borderMode=cv2.BORDER_REFLECT) * np.float32(self.light.gain(k))
        out = {}
        for name, sent in light.items():
            img_lin = sent[..., :3] / MOMENTS * EXPOSURE + (1 - sent[..., 3:] / MOMENTS) * wall
            if self.defocus(k) > 0.05:
                img_lin = cv2.GaussianBlur(img_lin, (0, 0), self.defocus(k))
            img = bt709_encode(np.clip(img_lin, 0, 1))
            img = img + noise / noise.std() * self.grain * (0.6 + 0.8 * np.sqrt(img) * (1.2 - img))
            out[name] = np.clip(np.rint(255 * img), 0, 255).astype(np.uint8)
        return out, cover / MOMENTS

    def rendered(self) -> Rendered:
        rng, back = np.random.default_rng(self.seed), wall_of(self.seed)
        followed = self.things[0]
        camera, _, _, _, at, across = self._drawn(self.reference, (0, 0), 1)
        triangles = followed.triangles
        middle, out = at[triangles].mean(axis=1), across[triangles].mean(axis=1)
        to_eye = camera.at - middle
        facing = (out * to_eye).sum(axis=1) / np.linalg.norm(to_eye, axis=1) > 0.25
        x, y, _ = camera.project(middle).T
        x0, y0, x1, y1 = self.box
        wanted = np.flatnonzero(facing & (x > x0) & (x < x1) & (y > y0) & (y < y1))
        corners = at[triangles[wanted]]
        area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        chosen, share = rng.choice(wanted, POINTS, p=area / area.sum()), rng.dirichlet((1, 1, 1), POINTS)
        frames, told = [], []
        for k in range(FRAMES):
            frames.append(self._frame(k, back))
            told.append(self._truth(k, triangles[chosen], share))
        tracks, visible, turned = (np.array(values) for values in zip(*told, strict=True))
        by_name = {name: np.stack([f[name] for f, _ in frames]) for name in frames[0][0]}
        return Rendered(by_name, np.stack([cover for _, cover in frames]), tracks, visible, turned)

    def _truth(self, k: int, triangles: np.ndarray, share: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        camera, depth, _, _, at, across = self._drawn(k, (0, 0), 1)
        here, out = ((values[triangles] * share[..., None]).sum(axis=1) for values in (at, across))
        to_eye = camera.at - here
        facing = (out * to_eye).sum(axis=1) / (np.linalg.norm(out, axis=1) * np.linalg.norm(to_eye, axis=1))
        seen = camera.project(here)
        x, y = (np.rint(seen[:, i]).astype(int) for i in (0, 1))
        inside = (x >= 0) & (y >= 0) & (x < SIZE[1]) & (y < SIZE[0])
        nearest = np.where(inside, depth[y.clip(0, SIZE[0] - 1), x.clip(0, SIZE[1] - 1)], -1.0)
        return seen[:, :2], inside & (seen[:, 2] < nearest + SEEN_BY) & (facing > 0.02), facing


def wall_of(seed: int) -> np.ndarray:
    """What is behind: panels out of focus, linear (H, W, 3)."""
    rng, height, width = np.random.default_rng(seed), 700, 1300
    img = np.full((height, width, 3), rng.uniform(0.05, 0.3, 3), np.float32)
    for _ in range(14):
        x, y, w, h = (int(v) for v in rng.uniform((0, 0, 60, 60), (width, height, 400, 400)))
        colour = rng.uniform(0.03, 0.5) * rng.uniform(0.7, 1.2, 3)
        cv2.rectangle(img, (x, y), (x + w, y + h), tuple(float(c) for c in colour), -1)
    return cv2.GaussianBlur(img, (0, 0), 9)
