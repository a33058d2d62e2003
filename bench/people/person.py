"""Somebody: a body with skin of their own, hair, brows and eyes, who turns and talks, and wears marks."""

from collections.abc import Callable

import cv2
import numpy as np

from people.body import TARGET_UNIT, Body, Part, data, image, normals, skinned
from people.kernels import draw, noise, to_nearest

FACE_FROM_Y, MOST_MOVED, TARGETS_USED = 6.2, 2500, 15
SHOWN_DEPTH = 0.8  # of a mark that is laid on flat
# Skin, in model units: period and strength of its blotches and pores, and of its redness.
TONES = ((0.35, 0.05), (0.12, 0.04), (0.05, 0.035), (0.022, 0.04), (0.012, 0.03))
REDS = ((0.5, 0.06), (0.17, 0.05))

Turns = Callable[[float], dict[str, np.ndarray]]


class Riding:
    """One part of somebody, as a scene draws it; ``textures`` by the name of a variant, the first for all others."""

    def __init__(self, owner: "Person", part: Part, texture: np.ndarray, gloss: float, *, through: bool) -> None:
        self.owner, self.part, self.gloss, self.through = owner, part, gloss, through
        self.triangles = part.triangles.astype(np.int64)
        self.uvs = part.uvs[part.corners].astype(np.float32)
        self.textures = {"clean": np.ascontiguousarray(texture)}

    def at(self, t: float) -> np.ndarray:
        return self.owner.placed(self.part, t)


class Person:
    """``seed`` makes the face and the skin's own pores; ``skin`` names the package's; ``only`` bones' names, by whose
    beginnings the body is cut; ``contrast`` of the skin's texture, ``freckles`` 0 to 1."""

    def __init__(
        self,
        seed: int,
        skin: str,
        *,
        hair: str | None = None,
        brows: str = "eyebrow002",
        hair_tone: float = 1.0,
        only: tuple[str, ...] = (),
        contrast: float = 1.0,
        freckles: float = 0.0,
        gloss: float = 0.06,
        texture_size: int = 3072,
    ) -> None:
        self.body, self.turns, self.known = Body(), (lambda t: {}), (np.nan, np.zeros(0))
        self.move: Callable[[float], np.ndarray] = lambda t: np.zeros(3)
        self.bend: Callable[[float], np.ndarray | float] = lambda t: 0.0  # of the base at rest
        base = self.body.base
        if not only:
            base.vertices = base.vertices + self._features(seed)
        skins = sorted((data() / "skins" / skin / "textures").glob("*diffuse*.png"))
        texture, self.where = self._skin(seed, image(skins[0]), texture_size, contrast, freckles)
        if only:
            own = [i for name, i in self.body.bone.items() if name.startswith(only)]
            kept = (np.isin(base.bones, own) * base.weights).sum(axis=1) > 0.5
            whole = kept[base.triangles].all(axis=1)
            base.triangles, base.corners = base.triangles[whole], base.corners[whole]
        self.skin = Riding(self, base, texture, gloss, through=False)
        self.things = [self.skin]
        if not only:
            self._add("eyebrows", brows, 0.0, hair_tone)
            self._add("eyelashes", "eyelashes02", 0.0)
            self._add("eyes", "Low-Poly", 0.3, picture="brown_eye.png")
        if hair:
            self._add("hair", hair, 0.03, hair_tone)

    def _features(self, seed: int) -> np.ndarray:
        """How a face of its own differs from the package's, by some targets that move a face alone."""
        rng, base, chosen = np.random.default_rng(seed), self.body.base.vertices, 0
        moved = np.zeros_like(base)
        for i in rng.permutation(len(self.body.targets)):
            target = np.asarray(self.body.targets[i], np.float32)
            touched = np.abs(target).max(axis=1) > 0
            small = 40 <= touched.sum() <= MOST_MOVED and np.abs(target).max() <= 700
            if small and base[touched, 1].min() >= FACE_FROM_Y:
                moved += 0.5 * rng.uniform(0.2, 0.7) * target * TARGET_UNIT
                chosen += 1
            if chosen == TARGETS_USED:
                break
        return moved

    def _skin(self, seed: int, plain: np.ndarray, size: int, contrast: float, freckles: float):  # type: ignore[no-untyped-def]
        """The skin with pores of its own (size, size, 6): linear RGB, alpha, marks, gloss; and which of its texels are
        the body's, with their places at rest."""
        base = self.body.base
        uvs = base.uvs[base.corners]
        flat = np.stack([uvs[..., 0] * size, (1 - uvs[..., 1]) * size], axis=-1).reshape(-1, 2) - 0.5
        depth, ids, shares = np.full((size, size), 1e9), np.full((size, size), -1), np.zeros((size, size, 2))
        triangles, none = np.arange(len(flat)).reshape(-1, 3), np.zeros((2, 2, 4), np.float32)
        draw(flat, np.ones(len(flat)), triangles, uvs, none, False, 0, 0, depth, ids, shares)
        there = ids >= 0
        share = np.concatenate([shares[there], 1 - shares[there].sum(axis=1, keepdims=True)], axis=1)
        places = (base.vertices[base.triangles[ids[there]]] * share[..., None]).sum(axis=1)
        off = places + np.random.default_rng(seed).uniform(-100, 100, 3)

        def waves(kinds: tuple[tuple[float, float], ...], first: int) -> np.ndarray:
            return np.sum(
                [s * noise(off / period, seed * 31 + first + i) for i, (period, s) in enumerate(kinds)], axis=0
            )

        tone = 1 + contrast * waves(TONES, 1)
        tone -= contrast * 0.12 * np.clip(0.32 - to_nearest(off / 0.035, seed + 5), 0, 1) / 0.32
        red = contrast * waves(REDS, 11)[:, None] * np.array([0.3, -0.6, -0.5])
        rgb = np.maximum(cv2.resize(plain[..., :3], (size, size), interpolation=cv2.INTER_CUBIC)[there], 1e-4)
        rgb = rgb * tone[:, None] * (1 + red)
        spots = np.clip((0.16 - to_nearest(off / 0.16, seed + 9)) / 0.08, 0, 1) * np.clip(
            0.5 + noise(off / 0.4, 8), 0, 1
        )
        rgb *= 1 - freckles * spots[:, None] * np.array([0.35, 0.5, 0.6])
        out = np.zeros((size, size, 6), np.float32)
        out[there, :3] = rgb
        out[there, 5] = np.clip(1 + 0.5 * noise(off / 0.03, 21) + 0.4 * noise(off / 0.1, 22), 0, 2)
        count = cv2.GaussianBlur(there.astype(np.float32), (0, 0), 3)[..., None]
        out[~there] = (cv2.GaussianBlur(out, (0, 0), 3) / np.maximum(count, 1e-3))[~there]
        out[..., 3], out[..., 4] = 1, 0
        return out, (there, places)

    def _add(self, kind: str, name: str, gloss: float, tone: float = 1.0, picture: str | None = None) -> None:
        part = self.body.riding(kind, name)
        if picture is not None:
            part.texture = image(data() / "proxies" / kind / name / "textures" / picture)
        assert part.texture is not None
        texture = part.texture * np.float32([tone, tone, tone, 1])
        self.things.append(Riding(self, part, texture, gloss, through=True))

    def placed(self, part: Part, t: float) -> np.ndarray:
        """A part's vertices (N, 3) at a moment ``t``, in frames."""
        if self.known[0] != t:
            self.known = (t, self.body.posed(self.turns(t)))
        rest = part.vertices + (self.bend(t) if part is self.body.base else 0.0)
        return skinned(part, rest, self.known[1]) + self.move(t)

    def wear(self, art: np.ndarray, size: float, centre: np.ndarray, right: np.ndarray, out: np.ndarray) -> None:
        """Lay ``art`` (H, W, 4), linear RGB and alpha, on the variant "marked": flat, at a place at rest."""
        there, places = self.where
        right = right - out * (right @ out)
        right /= np.linalg.norm(right)
        u, v, w = ((places - centre) @ axis for axis in (right, np.cross(out, right), out))
        near = np.flatnonzero((np.abs(u) < size / 2) & (np.abs(v) < size / 2) & (np.abs(w) < SHOWN_DEPTH))
        x, y = ((s * c[near] / size + 0.5) * (n - 1) for s, c, n in ((1, u, art.shape[1]), (-1, v, art.shape[0])))
        rows = -(-len(near) // 1000)
        x, y = (np.resize(p.astype(np.float32), (rows, 1000)) for p in (x, y))
        got = cv2.remap(art, x, y, cv2.INTER_LINEAR).reshape(-1, 4)[: len(near)]
        texture = self.skin.textures.setdefault("marked", self.skin.textures["clean"].copy())
        flat, at = texture.reshape(-1, texture.shape[2]), np.flatnonzero(there.ravel())[near]
        flat[at, :3] += got[:, 3:] * (got[:, :3] - flat[at, :3])
        flat[at, 4] = np.maximum(flat[at, 4], got[:, 3])

    def wear_at(self, art: np.ndarray, size: float, seen: np.ndarray, px: tuple[float, float], angle: float) -> None:
        """`wear` at the place ``px`` of a picture in which the base's vertices lie at ``seen`` (N, 3): px x, y and
        how far away."""
        base, (a, b, c) = self.body.base, (seen[self.skin.triangles[:, i]] for i in range(3))
        across, down, off = (b - a)[:, :2], (c - a)[:, :2], np.array(px) - a[:, :2]
        area = _turned(across, down)
        area = np.where(np.abs(area) < 1e-9, 1e-9, area)
        u, v = _turned(off, down) / area, _turned(across, off) / area
        hit = np.flatnonzero((u >= 0) & (v >= 0) & (u + v <= 1))
        t = hit[np.argmin((a + b + c)[hit, 2])]
        corners, share = base.triangles[t], np.array([1 - u[t] - v[t], u[t], v[t]])
        rest = base.vertices[corners]
        out = share @ normals(base.vertices, base.triangles)[corners]
        by_px = np.stack([rest[1] - rest[0], rest[2] - rest[0]], 1) @ np.linalg.inv(np.stack([across[t], down[t]], 1))
        right = by_px @ np.array([np.cos(angle), np.sin(angle)])
        self.wear(art, size, share @ rest, right, out / np.linalg.norm(out))


def _turned(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """The signed area (N,) between vectors (N, 2)."""
    return np.asarray(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
