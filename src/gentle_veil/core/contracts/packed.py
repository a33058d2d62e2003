"""Arrays inside plain JSON data: what a preparation found may hold a picture."""

import base64
import zlib
from functools import lru_cache
from typing import Any

import numpy as np

Packed = dict[str, Any]


def pack(array: np.ndarray) -> Packed:
    """An array as ``{"dtype", "shape", "data"}``, its bytes deflated and in base 64."""
    held = np.ascontiguousarray(array)
    data = base64.b64encode(zlib.compress(held.tobytes(), 1)).decode()
    return {"dtype": str(held.dtype), "shape": list(held.shape), "data": data}


def unpack(packed: Packed) -> np.ndarray:
    """The inverse of `pack`; the array must not be written to."""
    return _unpacked(packed["dtype"], tuple(packed["shape"]), packed["data"])


@lru_cache(maxsize=32)
def _unpacked(dtype: str, shape: tuple[int, ...], data: str) -> np.ndarray:
    array = np.frombuffer(zlib.decompress(base64.b64decode(data)), dtype).reshape(shape)
    array.setflags(write=False)
    return array
