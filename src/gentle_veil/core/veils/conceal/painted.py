"""Plates that were painted elsewhere: which part of the frame went out, and what it says when it is back."""

import numpy as np

from gentle_veil.core.composite.matte import Box, clip_box
from gentle_veil.core.contracts.picture import Picture
from gentle_veil.core.contracts.veil import Placement, Site
from gentle_veil.core.errors import ParameterError
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.motion.sampling import sample_cubic
from gentle_veil.core.types import ImageF32
from gentle_veil.core.veils.conceal.params import ConcealParams
from gentle_veil.core.veils.conceal.plate import DARKEST
from gentle_veil.core.veils.conceal.surround import Surround

SENT_MARGIN = 24  # reference px around the drape that are sent out


def sent_box(placement: Placement, size: tuple[int, int]) -> Box:
    """The part of the reference frame that goes out: the drape and some room.

    Raises: ParameterError where the drape is not in the picture
    """
    box = clip_box(bounding_box(placement.drape_ref, SENT_MARGIN), *size)
    if box is None:
        raise ParameterError("The drape is not in the picture on its reference frame; choose another frame.")
    return box


def check_painted(placement: Placement, size: tuple[int, int], params: ConcealParams) -> None:
    """Raises ParameterError for plates that are not there, or of no size that was sent out.

    The main reference's plate may be of the sent part or of the whole frame; those of other frames of the whole one.
    """
    if not params.plate and not params.plates:
        raise ParameterError("There is no plate yet; send the reference out, paint it, and bring it back.")
    x0, y0, x1, y1 = sent_box(placement, size)
    for name in filter(None, (params.plate, *(n for _, n in params.plates))):
        picture = placement.pictures.get(name)
        if picture is None:
            raise ParameterError(f"The plate '{name}' is not on the shelf; bring it in, or choose another.")
        asked = "" if name != params.plate else f"{x1 - x0}x{y1 - y0} px, the part that was sent out, or "
        if picture.size != size and not (asked and picture.size == (x1 - x0, y1 - y0)):
            raise ParameterError(
                f"The plate '{name}' is {picture.size[0]}x{picture.size[1]} px; it must be {asked}"
                f"{size[0]}x{size[1]}, the whole frame. Bring back a picture of the same size, or send it out again."
            )


def _corner(placement: Placement, picture: Picture, size: tuple[int, int]) -> np.ndarray:
    """Where on the frame a plate's top left pixel lies."""
    return np.zeros(2) if picture.size == size else np.array(sent_box(placement, size)[:2], np.float64)


def painted_tone(site: Site, name: str, around: Surround) -> ImageF32:
    """The log light of a painted plate over the surround's box of the frame, as it was on the reference."""
    picture = site.placement.pictures[name]
    where = site.placement.track.map_ref_from_frame(site.row, around.box)
    where -= _corner(site.placement, picture, site.canvas.size)
    painted = picture.frame(0)[..., :3]
    return np.log(np.maximum(sample_cubic(np.ascontiguousarray(painted), where), DARKEST))
