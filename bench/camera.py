"""A camera that moves otherwise than the demo's did: shots shaken as in the hand, or rolled and zoomed as they run."""

import cv2
import numpy as np

from gentle_veil.core.colour.transfer import bt709_decode, bt709_encode

SHAKE_PX, SHAKE_FRAMES, SHUTTER = 9.0, 1.25, 0.5  # standard deviation; how fast it changes; share of a frame's time
FINE = 4  # steps of the shake's path per frame
MOMENTS = 7  # that a blurred frame is the mean of
ROLL_DEGREES, ZOOM = 24.0, 1.35  # at the end


def linear(picture: np.ndarray) -> np.ndarray:
    return bt709_decode(picture.astype(np.float32) / 255)


def shaken(frames: list[np.ndarray]) -> tuple[list[np.ndarray], np.ndarray]:
    """Frames with the blur of their own motion, and by how many px (T, 2) each is off."""
    walk = np.random.default_rng(6).standard_normal((FINE * len(frames), 2))
    walk = cv2.GaussianBlur(walk, (1, 0), sigmaX=0.01, sigmaY=FINE * SHAKE_FRAMES)
    walk *= SHAKE_PX / walk.std()
    out = []
    for k, picture in enumerate(frames):
        times = FINE * (k + SHUTTER * np.linspace(-0.5, 0.5, MOMENTS))
        by = np.stack([np.interp(times, np.arange(len(walk)), walk[:, i]) for i in (0, 1)], axis=1)
        looks = [_warped(linear(picture), np.array([[1, 0, x], [0, 1, y]])) for x, y in by]
        out.append(_coded(np.mean(looks, axis=0)))
    return out, walk[::FINE]


def rolled(frames: list[np.ndarray]) -> tuple[list[np.ndarray], np.ndarray]:
    """Frames turned and zoomed about their middle more and more, and by what (T, 2, 3), there from here."""
    height, width = frames[0].shape[:2]
    done = np.linspace(0, 1, len(frames))
    middle = ((width - 1) / 2, (height - 1) / 2)
    maps = [cv2.getRotationMatrix2D(middle, ROLL_DEGREES * d, ZOOM**d) for d in done]
    return [_coded(_warped(linear(p), m)) for p, m in zip(frames, maps, strict=True)], np.array(maps)


def _warped(picture: np.ndarray, there: np.ndarray) -> np.ndarray:
    size = picture.shape[1::-1]
    return cv2.warpAffine(picture, there, size, flags=cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REPLICATE)


def _coded(img_lin: np.ndarray) -> np.ndarray:
    return np.rint(255 * bt709_encode(np.clip(img_lin, 0, 1))).astype(np.uint8)
