"""What of a region its own surface tells, and not the edge against what stands behind it.

The silhouette of a cheek or a limb is the strongest edge there is, and it does not go with the skin: as the surface
turns, other skin comes to stand there. A mesh that is held by it is drawn over the cheek by its rim.
"""

from gentle_veil.core.composite.matte import distance_from
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.followers.plane.plane import box_around, clip_box
from gentle_veil.core.retouch.surface_colour import on_surface
from gentle_veil.core.types import MaskBool, Points

# px on the surface's side; more would take the texture that holds the rim, which lies beyond the edge's own blur.
CLEAR_PX = 4
LEAST_LEFT = 0.75  # of a region: a rim is narrow; what would be more is another shade of the surface, or its hair
AROUND_PX = 32  # that are looked at around the outline, to know the surface from what is behind


def clear_of_the_silhouette(frames: FrameSource, reference: int, polygon: Points, mask: MaskBool) -> MaskBool:
    """The pixels of a region's ``mask`` (H, W) on its reference that lie clear of what is seen behind its surface.

    Convention: ``polygon`` (N, 2) frame px, the outline that was drawn; what is behind is told by its colour alone
    """
    x0, y0, x1, y1 = clip_box(box_around(polygon, AROUND_PX), *frames.size)
    part = (slice(y0, y1), slice(x0, x1))
    _, behind = on_surface(frames.encoding.to_linear(frames[reference][part]), mask[part])
    if not behind.any():
        return mask
    clear = mask.copy()
    clear[part] &= distance_from(behind) > CLEAR_PX
    return clear if clear.sum() >= LEAST_LEFT * mask.sum() else mask
