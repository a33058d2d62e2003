"""Artwork with alpha: stills, sequences and movies, read as scene-linear premultiplied pictures.

References
    [PNG]   W3C PNG (third edition), 6.2: the alpha of a PNG is not premultiplied.
    [TIFF]  TIFF 6.0, ExtraSamples: 1 is associated (premultiplied) alpha, 2 unassociated.
    [EXR]   "OpenEXR file layout": colour is premultiplied by alpha, and scene-linear.
"""

from fractions import Fraction
from pathlib import Path
from typing import Literal

import av
import cv2
import numpy as np
import OpenEXR
import tifffile
from av.error import FFmpegError

from gentle_veil.core.colour.transfer import DECODE
from gentle_veil.core.errors import MediaError
from gentle_veil.core.types import ImageF32

STILLS = (".png", ".tif", ".tiff", ".exr", ".webp", ".jpg", ".jpeg")
MOVIES = (".mov", ".webm", ".mkv", ".mp4", ".avi")
LARGEST_SIDE = 8192
MOST_BYTES = 800_000_000  # of all frames of one piece together, as half floats

Alpha = Literal["told", "straight", "premultiplied"]


class Artwork:
    """See `core.contracts.picture.Picture`. Frames are read when they are first asked for, and kept as half floats."""

    def __init__(self, files: list[Path], alpha: Alpha = "told", rate: Fraction | None = None) -> None:
        self._files, self._alpha = files, alpha
        self._kept: dict[int, np.ndarray] = {}
        if not files:
            raise MediaError("This piece of artwork has no files any more; bring it in again.", code="empty")
        self._movie = files[0].suffix.lower() in MOVIES
        if self._movie:
            self._seconds = self._read_movie(files[0])
            self._count = len(self._kept)
        else:
            self._count = len(files)
            self._seconds = float(1 / (rate or Fraction(25))) if len(files) > 1 else 0.0
        height, width = self.frame(0).shape[:2]
        self._size = (width, height)

    @property
    def size(self) -> tuple[int, int]:
        return self._size

    @property
    def count(self) -> int:
        return self._count

    @property
    def seconds(self) -> float:
        return self._seconds

    def frame(self, i: int) -> ImageF32:
        if i not in self._kept:
            self._kept[i] = read_rgba(self._files[i], self._alpha).astype(np.float16)
        return self._kept[i].astype(np.float32)

    def _read_movie(self, path: Path) -> float:
        told = self._alpha == "premultiplied"
        try:
            with av.open(str(path)) as container:
                stream = container.streams.video[0]
                seconds = float(1 / (stream.average_rate or Fraction(25)))
                total = 0
                for i, frame in enumerate(container.decode(stream)):
                    encoded = frame.to_ndarray(format="rgba64le").astype(np.float32) / 65535
                    self._kept[i] = _premultiplied(encoded, "bt709", told).astype(np.float16)
                    total += self._kept[i].nbytes
                    if total > MOST_BYTES:
                        raise MediaError(
                            f"'{path.name}' is too large for artwork: unpacked it may take "
                            f"{MOST_BYTES // 1_000_000} MB. Make it smaller or shorter.",
                            code="too_large",
                        )
        except (FFmpegError, IndexError, ValueError):
            raise MediaError(f"'{path.name}' cannot be read as a movie; export it again.", code="unreadable") from None
        if not self._kept:
            raise MediaError(f"'{path.name}' has no pictures in it; export it again.", code="empty")
        return seconds


def read_rgba(path: Path, alpha: Alpha = "told") -> ImageF32:
    """(H, W, 4) float32, scene-linear, premultiplied; a picture without alpha is opaque.

    ``alpha`` "told": as the format or the file says [PNG] [TIFF] [EXR]. Raises MediaError
    """
    suffix = path.suffix.lower()
    try:
        if suffix == ".exr":
            return _sized(_read_exr(path), path)
        told = False
        if suffix in (".tif", ".tiff"):
            with tifffile.TiffFile(path) as file:
                picture = file.pages[0].asarray()
                told = 1 in tuple(getattr(file.pages[0], "extrasamples", ()))
        else:
            decoded = cv2.imdecode(np.frombuffer(path.read_bytes(), np.uint8), cv2.IMREAD_UNCHANGED)
            if decoded is None:
                raise ValueError("undecodable")
            order = {3: [2, 1, 0], 4: [2, 1, 0, 3]}
            picture = decoded if decoded.ndim == 2 else decoded[..., order[decoded.shape[2]]]
    except (OSError, RuntimeError, ValueError, KeyError, tifffile.TiffFileError):
        raise MediaError(
            f"'{path.name}' cannot be read as a picture; artwork may be {', '.join(s[1:] for s in STILLS + MOVIES)}.",
            code="unreadable",
        ) from None
    premultiplied = told if alpha == "told" else alpha == "premultiplied"
    transfer = "linear" if picture.dtype in (np.float32, np.float16) else "srgb"
    full = np.iinfo(picture.dtype).max if np.issubdtype(picture.dtype, np.integer) else 1
    return _sized(
        _premultiplied(_four_channels(picture).astype(np.float32) / np.float32(full), transfer, premultiplied), path
    )


def _four_channels(picture: np.ndarray) -> np.ndarray:
    full = np.iinfo(picture.dtype).max if np.issubdtype(picture.dtype, np.integer) else 1
    if picture.ndim == 2:
        picture = picture[..., None]
    if picture.shape[2] in (1, 2):
        picture = np.concatenate([np.repeat(picture[..., :1], 3, axis=2), picture[..., 1:]], axis=2)
    if picture.shape[2] == 3:
        picture = np.concatenate([picture, np.full((*picture.shape[:2], 1), full, picture.dtype)], axis=2)
    return picture[..., :4]


def _premultiplied(encoded: ImageF32, transfer: str, premultiplied: bool) -> ImageF32:
    alpha = np.clip(encoded[..., 3:], 0.0, 1.0)
    colour = encoded[..., :3]
    if premultiplied and transfer != "linear":
        # It was multiplied as encoded numbers: light is what those numbers mean once the alpha is out of them.
        colour = np.divide(colour, alpha, out=np.zeros_like(colour), where=alpha > 0)
        premultiplied = False
    light = DECODE[transfer](colour)
    return np.concatenate([light if premultiplied else light * alpha, alpha], axis=-1).astype(np.float32)


def _read_exr(path: Path) -> ImageF32:
    with OpenEXR.File(str(path)) as exr:
        channels = exr.channels()
        if "RGBA" in channels:
            return np.ascontiguousarray(channels["RGBA"].pixels.astype(np.float32))
        if "RGB" in channels:
            return _four_channels(channels["RGB"].pixels.astype(np.float32))
        planes = [channels[c].pixels.astype(np.float32) for c in ("R", "G", "B")]
        planes.append(channels["A"].pixels.astype(np.float32) if "A" in channels else np.ones_like(planes[0]))
        return np.stack(planes, axis=-1)


def _sized(picture: ImageF32, path: Path) -> ImageF32:
    if max(picture.shape[:2]) > LARGEST_SIDE:
        raise MediaError(
            f"'{path.name}' is {picture.shape[1]}x{picture.shape[0]} px; artwork may have at most {LARGEST_SIDE} a "
            "side. Make it smaller.",
            code="too_large",
        )
    return picture
