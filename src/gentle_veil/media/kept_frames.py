"""What every reader of clips does alike: its size, and the decoded frames it keeps, bounded by bytes."""

from collections import OrderedDict

import numpy as np

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.types import RawImage
from gentle_veil.media.info import MediaInfo

CACHE_BYTES = 400_000_000


class KeptFrames:
    """Base of the readers; see `core.contracts.frames.FrameSource`."""

    def __init__(self, info: MediaInfo) -> None:
        self.info = info
        self.encoding: CodeValues = info.encoding
        self._kept: OrderedDict[int, RawImage] = OrderedDict()
        self._room = max(4, CACHE_BYTES // (info.width * info.height * 3 * np.dtype(info.dtype).itemsize))

    def __len__(self) -> int:
        return self.info.frame_count

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in px."""
        return self.info.width, self.info.height

    def _recall(self, key: int) -> RawImage | None:
        if key in self._kept:
            self._kept.move_to_end(key)
        return self._kept.get(key)

    def _keep(self, key: int, picture: RawImage) -> RawImage:
        """Keep a frame, which nobody may write to from now on; the least recently used goes."""
        picture.setflags(write=False)
        self._kept[key] = picture
        while len(self._kept) > self._room:
            self._kept.popitem(last=False)
        return picture
