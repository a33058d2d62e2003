"""Writing so that nothing half-written ever looks whole."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from gentle_veil.core.errors import MediaError
from gentle_veil.core.types import RawImage
from gentle_veil.media.info import MediaInfo

PARTIAL = ".part"


def write_atomically(path: Path, content: bytes) -> None:
    """Write aside, flush to disk, rename."""
    path.parent.mkdir(parents=True, exist_ok=True)
    aside = path.with_name(path.name + PARTIAL)
    with aside.open("wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    aside.replace(path)


@contextmanager
def aside_of(path: Path) -> Iterator[Path]:
    """A path to write to instead; it is renamed when the block ends well, and removed otherwise."""
    path.parent.mkdir(parents=True, exist_ok=True)
    aside = path.with_name(path.stem + PARTIAL + path.suffix)
    try:
        yield aside
        aside.replace(path)
    except BaseException:
        aside.unlink(missing_ok=True)
        raise


class MovieWriter:
    """H.264 at an exact rate, tagged BT.709, limited range.

    Frames go in as uint8 or uint16 (H, W, 3) R'G'B'. Odd sizes are padded by one repeated row or column, since
    4:2:0 pictures have even sides. ``pts`` are the source's own times where its rate varies.
    """

    def __init__(self, path: Path, info: MediaInfo, *, quality: int = 14) -> None:
        rate = info.rate or Fraction(25)
        self._info = info
        self._container = av.open(str(path), "w", format="mp4", options={"movflags": "+faststart"})
        stream = self._container.add_stream("libx264", rate=rate)
        stream.width, stream.height = info.width + info.width % 2, info.height + info.height % 2
        stream.pix_fmt = "yuv420p"
        stream.time_base = info.time_base if info.variable and info.time_base else 1 / rate
        stream.codec_context.time_base = stream.time_base
        stream.options = {"crf": str(quality), "preset": "medium", "colorprim": "bt709"}
        context = stream.codec_context
        context.color_primaries = context.color_trc = context.colorspace = 1
        context.color_range = 1
        stream.sample_aspect_ratio = info.pixel_aspect
        self._stream = stream

    def add(self, picture: RawImage, pts: int) -> None:
        if picture.dtype == np.uint16:
            picture = (picture.astype(np.float32) / 257 + 0.5).astype(np.uint8)
        pad = ((0, picture.shape[0] % 2), (0, picture.shape[1] % 2), (0, 0))
        frame = av.VideoFrame.from_ndarray(np.pad(picture, pad, mode="edge"), format="rgb24")
        frame = frame.reformat(format="yuv420p", dst_colorspace="ITU709", dst_color_range="MPEG")
        frame.pts = pts
        frame.time_base = self._stream.time_base
        for packet in self._stream.encode(frame):
            self._container.mux(packet)

    def close(self) -> None:
        for packet in self._stream.encode(None):
            self._container.mux(packet)
        self._container.close()


@contextmanager
def movie_writer(path: Path, info: MediaInfo) -> Iterator[MovieWriter]:
    """A movie that appears under its name only when it is whole; a fault leaves nothing behind."""
    path.parent.mkdir(parents=True, exist_ok=True)
    aside = path.with_name(path.name + PARTIAL)
    writer = MovieWriter(aside, info)
    try:
        yield writer
        writer.close()
        with aside.open("rb") as file:
            os.fsync(file.fileno())
        aside.replace(path)
    except OSError as fault:
        aside.unlink(missing_ok=True)
        raise MediaError(
            f"'{path.name}' could not be written: {fault.strerror}. Make room or choose another place."
        ) from None
    except BaseException:
        aside.unlink(missing_ok=True)
        raise
