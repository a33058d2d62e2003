"""Exact random access to the frames of a movie."""

import threading
from bisect import bisect_right
from pathlib import Path

import av
import numpy as np
from av.error import FFmpegError

from gentle_veil.core.errors import MediaError, NotFoundError
from gentle_veil.core.types import RawImage
from gentle_veil.media.info import MediaInfo
from gentle_veil.media.kept_frames import KeptFrames
from gentle_veil.media.movie_probe import MovieIndex, open_container

HD_LINES = 720  # an untagged matrix is BT.709 from here on, BT.601 below


class MovieFrames(KeptFrames):
    """See `core.contracts.frames.FrameSource`. Every frame equals what decoding from the start would give.

    A frame is reached by its own time stamp: seek to the last key frame at or before it, decode on until the
    stamp comes by. Going forward costs one decode; recent frames are kept.
    """

    def __init__(self, path: Path, info: MediaInfo, index: MovieIndex) -> None:
        super().__init__(info)
        self.path = path
        self._index = index
        self._k_of = {pts: k for k, pts in enumerate(index.pts)}
        self._format = "rgb24" if info.dtype == "uint8" else "rgb48le"
        self._lock = threading.Lock()
        self._container: av.container.InputContainer | None = None
        self._next = -1  # the frame that decoding on would give

    def __getitem__(self, k: int) -> RawImage:
        if not 0 <= k < len(self):
            raise NotFoundError(f"Frame {k} is not in '{self.path.name}', which has frames 0 to {len(self) - 1}.")
        with self._lock:
            known = self._recall(k)
            if known is not None:
                return known
            try:
                return self._reach(k)
            except FFmpegError:
                self._close()
                raise self._damaged(k, "decoded") from None

    def _reach(self, k: int) -> RawImage:
        going_on = self._container is not None and self._key_before(k) <= self._next <= k
        if not going_on:
            self._seek(k)
        for attempt in range(3):
            found = self._decode_until(k)
            if found is not None:
                return found
            # The demuxer landed too late, as some containers do: begin earlier, in the end at the start.
            self._seek(k, earlier=attempt + 1)
        raise self._damaged(k, "reached")

    def _damaged(self, k: int, done: str) -> MediaError:
        number = k + self.info.first_frame
        return MediaError(
            f"Frame {number} of '{self.path.name}' cannot be {done}; the file is damaged there.", code="damaged"
        )

    def _key_before(self, k: int) -> int:
        if not self._index.seekable:
            return 0
        i = bisect_right(self._index.keys, self._index.pts[k]) - 1
        return self._k_of[self._index.keys[i]] if i >= 0 else 0

    def _seek(self, k: int, earlier: int = 0) -> None:
        index = self._index
        key = bisect_right(index.keys, index.pts[k]) - 1 - earlier
        from_start = not index.seekable or key <= 0 or earlier >= 2
        if self._container is None or from_start:
            self._close()
            self._container = open_container(self.path)
            self._container.streams.video[0].thread_type = "AUTO"
        stream = self._container.streams.video[0]
        if not from_start:
            self._container.seek(index.keys[key], stream=stream, backward=True, any_frame=False)
        self._decoder = self._container.decode(stream)
        self._next = -1 if index.seekable else 0

    def _decode_until(self, k: int) -> RawImage | None:
        counted = self._next
        for frame in self._decoder:
            if self._index.seekable:
                if frame.pts not in self._k_of:
                    continue
                j = self._k_of[frame.pts]
            else:
                j, counted = counted, counted + 1
            self._next = j + 1
            if j > k:
                return None
            # What lies on the way is kept only where someone is likely to step back to it.
            if j == k or k - j <= self._room // 2:
                picture = self._keep(j, self._picture(frame))
                if j == k:
                    return picture
        self._next = -1
        return None

    def _picture(self, frame: av.VideoFrame) -> RawImage:
        matrix = None
        if int(frame.colorspace) == 2 and not frame.format.is_rgb:
            matrix = "ITU709" if self.info.height >= HD_LINES else "ITU601"
        picture = frame.reformat(format=self._format, src_colorspace=matrix).to_ndarray()
        turns = int(frame.rotation or 0) // 90 % 4
        if turns:
            picture = np.rot90(picture, turns)
        return np.ascontiguousarray(picture)

    def _close(self) -> None:
        if self._container is not None:
            self._container.close()
        self._container = None
        self._next = -1

    def close(self) -> None:
        """Let go of the file."""
        with self._lock:
            self._close()
