"""Cloth, coats and posts: sheets that bend over time, and the weaves and drawings that are on them."""

from collections.abc import Callable

import cv2
import numpy as np

from gentle_veil.core.colour.transfer import srgb_decode


def linear(colour: str) -> np.ndarray:
    """Linear RGB of six hexadecimal digits."""
    return srgb_decode(np.array([int(colour[i : i + 2], 16) for i in (0, 2, 4)], np.float32) / 255)


class Sheet:
    """A sheet of ``size`` (width, height) whose vertices (N, 3) ``path(t, flat)`` gives at a moment."""

    through = False

    def __init__(
        self,
        size: tuple[float, float],
        cells: tuple[int, int],
        texture: np.ndarray,
        path: Callable[[float, np.ndarray], np.ndarray],
        gloss: float = 0.01,
    ) -> None:
        rows, columns = cells
        ys, xs = np.mgrid[:rows, :columns]
        x, y = xs / (columns - 1), ys / (rows - 1)
        self.flat = np.stack([(x - 0.5) * size[0], (0.5 - y) * size[1], 0 * x], axis=-1).reshape(-1, 3)
        i = np.arange(rows * columns).reshape(rows, columns)
        a, b, c, d = (i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1])
        pairs = [np.stack([p.ravel() for p in three], axis=1) for three in ((a, c, b), (a, d, c))]
        self.triangles = np.concatenate(pairs).astype(np.int64)
        self.uvs = np.stack([x, 1 - y], axis=-1).reshape(-1, 2)[self.triangles].astype(np.float32)
        self.textures, self.path, self.gloss = {"clean": texture}, path, gloss

    def at(self, t: float) -> np.ndarray:
        return self.path(t, self.flat)


def weave(kind: str, seed: int, size: int, colour: str) -> np.ndarray:
    """A weave (size, size, 6), as a skin's texture: "twill", or "striped" plain cloth."""
    rng, (ys, xs) = np.random.default_rng(seed), np.mgrid[:size, :size].astype(np.float32)
    tau, own = np.float32(2 * np.pi), np.broadcast_to(linear(colour), (size, size, 3)).copy()
    if kind == "twill":
        threads = 1 + 0.22 * np.sin(tau * (xs + ys) / 11) + 0.10 * np.sin(tau * (xs - 2 * ys) / 17)
    else:
        threads = 1 + 0.16 * np.sin(tau * xs / 9) * np.sin(tau * ys / 9)
        for x in range(0, size, 180):
            own[:, x : x + 46] = linear("c8b27a")
    for sigmas, strength in (((1.2, 24), 0.05), ((24, 1.2), 0.05), ((40, 40), 0.03)):
        uneven = cv2.GaussianBlur(rng.normal(size=(size, size)).astype(np.float32), (0, 0), sigmas[0], sigmaY=sigmas[1])
        threads = threads * (1 + strength * uneven / uneven.std())
    out = np.ones((size, size, 6), np.float32)
    out[..., :3], out[..., 4] = own * np.clip(threads, 0.2, 2)[..., None], 0
    return out


def cloth(kind: str, seed: int, colour: str, speed: float = 1.0, size: float = 5.2) -> Sheet:
    """A sheet that fills the picture and crumples: waves and creases that wander."""
    rng = np.random.default_rng(seed)
    waves = [
        (*rng.uniform(-2.2, 2.2, 2), rng.uniform(0, 6), rng.uniform(-0.07, 0.07), rng.uniform(0.04, 0.1))
        for _ in range(6)
    ]
    creases = [
        (
            rng.uniform(1.5, 4.5) * rng.choice([-1, 1]),
            *rng.uniform((-3, 0), (3, 6)),
            rng.uniform(-0.1, 0.1),
            rng.uniform(0.02, 0.05),
        )
        for _ in range(3)
    ]

    def path(t: float, flat: np.ndarray) -> np.ndarray:
        x, y, _ = flat.T
        out, amount = np.zeros((3, len(flat))), 0.7 - 0.3 * np.cos(2 * np.pi * t / 80)
        for kx, ky, phase, pace, high in waves:
            s, aside = kx * x + ky * y + phase + pace * speed * t, 1.05 * high**2 * amount
            out += np.stack([-aside * kx * np.cos(s), -aside * ky * np.cos(s), high * amount * np.sin(s)])
        for kx, ky, phase, pace, high in creases:
            s = kx * x + ky * y + phase + pace * speed * t
            ridge = np.exp(-3 * (1 - np.cos(s)))
            aside = 0.54 * high * amount * np.sin(s) * ridge
            out += np.stack([aside * kx, aside * ky, 2.2 * high * amount * ridge])
        stretch = 1 - 0.03 * amount
        moved = np.stack([x * stretch + 0.08 * np.sin(t / 15), y * stretch + 0.05 * np.cos(t / 19), 0 * x])
        return np.asarray((moved + out).T)

    return Sheet((1.78 * size, size), (140, 200), weave(kind, seed, 2048, colour), path, 0.015)


def print_on(sheet: Sheet, art: np.ndarray, size: float, at: tuple[float, float], angle: float) -> None:
    """Print ``art`` (H, W, 4) on a sheet's variant "marked": how large, where from its middle, in model units."""
    clean = sheet.textures["clean"]
    side, (width, height) = clean.shape[0], np.ptp(sheet.flat[:, :2], axis=0)
    scale = np.array([side / width, side / height]) * size / art.shape[0]
    middle = np.array([0.5 + at[0] / width, 0.5 - at[1] / height]) * side
    c, s = np.cos(angle), np.sin(angle)
    to = np.diag(scale) @ np.array([[c, -s], [s, c]])
    by = np.column_stack([to, middle - to @ (np.array(art.shape[1::-1]) / 2)])
    got = cv2.warpAffine(art, by, (side, side), flags=cv2.INTER_AREA)
    texture = clean.copy()
    texture[..., :3] += got[..., 3:] * (got[..., :3] - texture[..., :3])
    texture[..., 4] = np.maximum(texture[..., 4], got[..., 3])
    sheet.textures["marked"] = texture


def coat(seed: int, colour: str, z: float, where: Callable[[float], float], width: float) -> Sheet:
    """A coat that passes at a distance z, its middle at ``where(t)`` along x."""
    a, b = np.random.default_rng(seed).uniform(0, 6, 2)

    def path(t: float, flat: np.ndarray) -> np.ndarray:
        x, y, _ = flat.T
        folds = 0.12 * np.sin(5 * x + a + 0.4 * np.sin(y))
        return np.stack([x + 0.12 * np.sin(1.3 * y + b) + where(t), y + 7, folds + z], axis=1)

    return Sheet((width, 9), (60, 40), weave("twill", seed, 1024, colour), path)


def mole(colour: str, seed: int, soft: float = 0.35, size: int = 64) -> np.ndarray:
    """A blotch (size, size, 4), linear RGB and alpha."""
    rng, (ys, xs) = np.random.default_rng(seed), np.mgrid[:size, :size]
    x, y = (2 * (p - (size - 1) / 2) / size for p in (xs, ys))
    a, (b, c) = np.arctan2(y, x), rng.uniform(0, 6, 2)
    edge = 0.7 * (1 + 0.15 * np.sin(2 * a + b) + 0.075 * np.sin(3 * a + c))
    alpha = np.clip((edge - np.hypot(x, y)) / soft + 0.5, 0, 1)
    return np.dstack([np.broadcast_to(linear(colour), (size, size, 3)), alpha]).astype(np.float32)


def drawing(kind: str, colour: str, opacity: float = 0.85) -> np.ndarray:
    """A drawing (512, 512, 4), linear RGB and alpha: "anchor", "rose", "bands" or "letters"."""
    ink, c = np.zeros((512, 512), np.uint8), 256
    if kind == "anchor":
        cv2.circle(ink, (c, 90), 46, 255, 18)
        cv2.line(ink, (c, 136), (c, 440), 255, 26)
        cv2.line(ink, (c - 110, 190), (c + 110, 190), 255, 22)
        cv2.ellipse(ink, (c, 300), (170, 150), 0, 15, 165, 255, 26)
        for tip in ([[60, 340], [130, 310], [110, 400]], [[452, 340], [382, 310], [402, 400]]):
            cv2.fillPoly(ink, [np.array(tip)], 255)
    elif kind == "rose":
        for r, from_angle in ((200, 0), (150, 30), (100, 60), (55, 10)):
            for angle in range(from_angle, from_angle + 360, 60):
                at = [round(c + 0.55 * r * f(np.radians(angle))) for f in (np.cos, np.sin)]
                cv2.ellipse(ink, at, (r // 2, round(0.36 * r)), angle, 0, 360, 255, 10)
        cv2.circle(ink, (c, c), 22, 255, -1)
    elif kind == "bands":
        for y, high in ((150, 40), (230, 60), (330, 40)):
            cv2.rectangle(ink, (30, y), (482, y + high), 255, -1)
    else:
        for i, word in enumerate(("NORD", "KAI")):
            cv2.putText(ink, word, (40 + 60 * i, 220 + 190 * i), cv2.FONT_HERSHEY_TRIPLEX, 5.0, 255, 16)
    alpha = cv2.GaussianBlur(ink, (0, 0), 1.5).astype(np.float32) / 255 * opacity
    return np.dstack([np.broadcast_to(linear(colour), (512, 512, 3)), alpha]).astype(np.float32)
