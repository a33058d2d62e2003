"""A plate as it lies on one frame: what was kept of its reference, looked up at the places that the frame shows."""

from functools import cached_property
from typing import Any

import cv2
import numpy as np

from gentle_veil.core.composite.carried import sampled_field, within_box
from gentle_veil.core.types import ImageF32, MaskBool
from gentle_veil.core.veils.conceal.drawn import away_px, haze_at


class LaidPlate:
    """The fields of a ``plate`` over a box of a frame, each looked up when it is first asked for.

    Convention: ``where`` (h, w, 2) are the reference's places over the box; beyond the plate its edge goes on
    """

    def __init__(self, plate: dict[str, Any], where: np.ndarray) -> None:
        self.plate = plate
        self._at = within_box(plate, where)

    @cached_property
    def tone(self) -> ImageF32:
        """Log light of the surface without the mark, (h, w, 3)."""
        return self._field("tone")

    @cached_property
    def picture(self) -> ImageF32:
        """The reference itself, linear light (h, w, 3)."""
        return self._field("picture")

    @cached_property
    def weight(self) -> ImageF32:
        """How clean the surface is, (h, w, 1): 1 where all is plain skin, 0 where nothing is known."""
        return np.asarray((self._field("weight") / np.float32(255)) ** 2)

    @cached_property
    def depth(self) -> ImageF32:
        """Reference px within the rim of the surface, (h, w)."""
        return self._field("depth")[..., 0]

    @cached_property
    def away(self) -> ImageF32:
        """Reference px from what is drawn, (h, w)."""
        return away_px(self._field("away"))

    @cached_property
    def haze(self) -> ImageF32:
        """By how much ink that has run darkens the skin there, log light (h, w, 3)."""
        return haze_at(np.array(self.plate["haze"]), self.away)

    def own_ratios(self, inside: MaskBool) -> np.ndarray | None:
        """The surface's own `log_ratios` (2,), by its tone under a mark (h, w)."""
        if not inside.any():
            return None
        tone = np.median(self.tone[inside], axis=0)
        return np.array([tone[0] - tone[1], tone[2] - tone[1]])

    @property
    def whole(self) -> bool:
        """Whether all within the outline is the mark, and none of it a drawing."""
        return bool(self.plate["whole"])

    @property
    def limb(self) -> np.ndarray:
        """By how much the surface is darker towards its rim, as `at_limb` has it."""
        return np.array(self.plate["limb"])

    def _field(self, name: str) -> ImageF32:
        return sampled_field(self.plate, name, *self._at, beyond=cv2.BORDER_REPLICATE)
