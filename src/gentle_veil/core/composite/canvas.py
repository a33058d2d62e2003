"""A frame while veils are laid on it: untouched code values below, scene-linear patches above."""

import numpy as np

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.types import ImageF32, MaskBool, MatteF32, RawImage

Box = tuple[int, int, int, int]


class Canvas:
    """Reads what has been composed so far, and keeps every pixel that no matte touches bit for bit.

    Convention: boxes are (x0, y0, x1, y1) in frame px, exclusive end, inside the frame.
    """

    def __init__(self, img_raw: RawImage, encoding: CodeValues) -> None:
        self._raw = img_raw
        self._encoding = encoding
        self._lin: ImageF32 | None = None
        self._hull: Box | None = None  # around all patches
        self._touched: MaskBool | None = None

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in px."""
        return int(self._raw.shape[1]), int(self._raw.shape[0])

    @property
    def full_box(self) -> Box:
        return 0, 0, self.size[0], self.size[1]

    def read(self, box: Box) -> ImageF32:
        """Scene-linear (h, w, 3) copy of a box, patches included."""
        x0, y0, x1, y1 = box
        below = self._encoding.to_linear(self._raw[y0:y1, x0:x1])
        if self._lin is None or self._touched is None:
            return below
        touched = self._touched[y0:y1, x0:x1]
        return np.where(touched[..., None], self._lin[y0:y1, x0:x1], below)

    def original(self, box: Box) -> ImageF32:
        """Scene-linear (h, w, 3) copy of a box of the source, without patches."""
        x0, y0, x1, y1 = box
        return self._encoding.to_linear(self._raw[y0:y1, x0:x1])

    def lay(self, box: Box, img_lin: ImageF32, matte: MatteF32) -> None:
        """Mix a patch in, in scene-linear light, by its matte; where the matte is 0 nothing changes."""
        x0, y0, x1, y1 = box
        hit = matte > 0
        if not hit.any():
            return
        if self._lin is None or self._touched is None:
            self._lin = np.zeros((*self._raw.shape[:2], 3), np.float32)
            self._touched = np.zeros(self._raw.shape[:2], bool)
        below = self.read(box)
        mixed = below + matte[..., None] * (img_lin - below)
        np.copyto(self._lin[y0:y1, x0:x1], mixed, where=hit[..., None])
        self._touched[y0:y1, x0:x1] |= hit
        h = self._hull or box
        self._hull = (min(h[0], x0), min(h[1], y0), max(h[2], x1), max(h[3], y1))

    def code_values(self) -> RawImage:
        """The composed frame; untouched pixels are the source's own code values."""
        out = self._raw.copy()
        if self._lin is not None and self._touched is not None and self._hull is not None:
            x0, y0, x1, y1 = self._hull
            touched = self._touched[y0:y1, x0:x1]
            out[y0:y1, x0:x1][touched] = self._encoding.from_linear(self._lin[y0:y1, x0:x1][touched])
        return out
