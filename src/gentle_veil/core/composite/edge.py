"""The soft edge of a veil's outline: how far it reaches in and out, all round or differently at each point."""

import cv2
import numpy as np

from gentle_veil.core.composite.matte import Box, feathered, outline_distance
from gentle_veil.core.contracts.veil import Site
from gentle_veil.core.geometry.outline import bounding_box
from gentle_veil.core.types import ImageF32, MatteF32, Points

SPREAD_PX = 3.0  # over which the feather of one part of the edge goes over into that of the next


def edge_matte(site: Site, polygon: Points, box: Box, scale: float, *, distance: ImageF32 | None = None) -> MatteF32:
    """The matte (h, w) of a veil's outline over a box of the frame.

    Convention: polygon (M, 2) is the placement's outline on the frame, point for point; ``scale`` frame px per
                reference px; ``distance`` (h, w) px from the grown outline, negative inside, where it is known already
    """
    if distance is None:
        distance = outline_distance(polygon, box) - np.float32(site.grow * scale)
    times: ImageF32 | float = 1.0
    if site.placement.feathers is not None:
        times = nearest_value(polygon, site.placement.feathers, box)
    return feathered(distance, site.feather * scale * times, inner=site.feather_in * scale * times)


def edge_reach(site: Site, scale: float) -> float:
    """How far a veil's matte may reach beyond its outline, in frame px."""
    return (max(site.grow, 0.0) + widest_feather(site)) * scale


def widest_feather(site: Site) -> float:
    """The feather where it is widest, in reference px."""
    return site.feather * (1.0 if site.placement.feathers is None else float(site.placement.feathers.max()))


def nearest_value(polygon: Points, values: np.ndarray, box: Box) -> ImageF32:
    """At each pixel of a box the value (h, w) that the nearest part of a closed polygon has.

    Convention: values (M,) at the polygon's points (M, 2), straight in between
    """
    x0, y0, x1, y1 = box
    left, top, right, bottom = bounding_box(polygon, 2)
    left, top, right, bottom = min(left, x0), min(top, y0), max(right, x1), max(bottom, y1)
    following = np.roll(polygon, -1, axis=0)
    counts = np.ceil(np.abs(following - polygon).max(axis=1)).astype(int) + 1
    part = np.concatenate([np.linspace(0, 1, n, endpoint=False) for n in counts])
    first = np.repeat(np.arange(len(polygon)), counts)
    places = polygon[first] + part[:, None] * (following - polygon)[first]
    along = values[first] + part * (np.roll(values, -1) - values)[first]
    columns, rows = np.rint(places - (left, top)).astype(int).T
    free = np.ones((bottom - top, right - left), np.uint8)
    free[rows, columns] = 0
    _, labels = cv2.distanceTransformWithLabels(free, cv2.DIST_L2, cv2.DIST_MASK_5, labelType=cv2.DIST_LABEL_PIXEL)
    of_label = np.zeros(int(labels.max()) + 1, np.float32)
    of_label[labels[rows, columns]] = along
    field = cv2.GaussianBlur(of_label[labels], (0, 0), SPREAD_PX, borderType=cv2.BORDER_REPLICATE)
    return field[y0 - top : y1 - top, x0 - left : x1 - left]
