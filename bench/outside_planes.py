"""Followers on a published pair of photographs: graf1 to graf3 of the Oxford affine covariant data set.

K. Mikolajczyk et al., "A Comparison of Affine Region Detectors", IJCV 65, 2005: a painted wall seen from two places 30
degrees apart, and the homography between them, which is itself good to a pixel or so. The pictures are not ours and
are not in this repository; Debian ships them in its package opencv-doc:

    apt-get download opencv-doc && dpkg-deb -x opencv-doc_*.deb outside
    python bench/outside_planes.py outside/usr/share/doc/opencv-doc/examples/data

Peer in the same run: SIFT features and a robust homography, unrefined.
"""

import sys
import time
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import cv2
import numpy as np

import record
from gentle_veil.core.contracts.follower import Region
from gentle_veil.core.contracts.frames import ArrayFrames
from gentle_veil.core.followers import FOLLOWERS
from gentle_veil.core.geometry.homography import apply_homography
from gentle_veil.core.geometry.outline import polygon_mask
from gentle_veil.core.motion.features import KnownFeatures

REGIONS = {
    "middle": np.array([[200.0, 150], [600, 150], [600, 500], [200, 500]]),
    "a small part": np.array([[300.0, 200], [420, 200], [420, 320], [300, 320]]),
}


def figures(off: np.ndarray, seconds: float, status: str) -> dict[str, object]:
    return {
        "median_px": round(float(np.median(off)), 3),
        "most_px": round(float(off.max()), 3),
        "ms": round(1000 * seconds, 1),
        "status": status,
    }


def main() -> None:
    folder = Path(sys.argv[1])
    first, third = (cv2.imread(str(folder / name))[..., ::-1] for name in ("graf1.png", "graf3.png"))
    written = ElementTree.parse(folder / "H1to3p.xml").find(".//data")
    assert written is not None
    assert written.text is not None
    truth = np.array(written.text.split(), float).reshape(3, 3)
    told: dict[str, object] = {}
    for name, region in REGIONS.items():
        grid = np.meshgrid(np.linspace(*region[[0, 1], 0], 12), np.linspace(*region[[0, 2], 1], 12))
        points = np.stack(grid, axis=-1).reshape(-1, 2)
        there = apply_homography(truth, points)
        one: dict[str, object] = {}
        for kind in ("plane", "points", "mesh"):
            follower = FOLLOWERS[kind]
            start = time.perf_counter()
            track = follower.estimate(
                ArrayFrames(np.stack([first, third])), Region(0, region), follower.Options(), wanted=range(2)
            )
            off = np.linalg.norm(track.carry(points, 1) - there, axis=1)
            one[kind] = figures(off, time.perf_counter() - start, str(track.status[1]))
        grey = [cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) for p in (first, third)]
        start = time.perf_counter()
        found = KnownFeatures(grey[0], polygon_mask(region, 800, 640)).frame_from_ref(grey[1])
        assert found is not None
        off = np.linalg.norm(apply_homography(found, points) - there, axis=1)
        one["SIFT_and_MAGSAC"] = figures(off, time.perf_counter() - start, "")
        told[name] = one
    record.write("outside_planes", told)


if __name__ == "__main__":
    main()
