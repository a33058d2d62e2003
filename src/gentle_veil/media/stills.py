"""Single pictures: PNG, TIFF, JPEG and EXR, read and written without loss of their numbers."""

from pathlib import Path

import cv2
import numpy as np
import OpenEXR
import tifffile
from PIL import Image, UnidentifiedImageError

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.errors import MediaError
from gentle_veil.core.types import RawImage

SUFFIXES = (".png", ".tif", ".tiff", ".jpg", ".jpeg", ".exr")


def still_size(path: Path) -> tuple[int, int]:
    """Width and height from the header alone."""
    try:
        if path.suffix.lower() == ".exr":
            with OpenEXR.File(str(path), header_only=True) as exr:
                low, high = exr.header()["dataWindow"]
            return int(high[0] - low[0] + 1), int(high[1] - low[1] + 1)
        with Image.open(path) as image:
            return image.size
    except (UnidentifiedImageError, OSError, RuntimeError, ValueError, Image.DecompressionBombError):
        raise MediaError(
            f"'{path.name}' is not a picture that can be read; replace it or leave it out.", code="unreadable"
        ) from None


def read_still(path: Path) -> RawImage:
    """(H, W, 3) in R, G, B order: uint8, uint16 or float32 as stored; alpha is dropped, grey is tripled."""
    suffix = path.suffix.lower()
    try:
        if suffix == ".exr":
            return _read_exr(path)
        if suffix in (".tif", ".tiff"):
            return _three_channels(_sane_type(tifffile.imread(path)))
        picture = cv2.imdecode(np.frombuffer(path.read_bytes(), np.uint8), cv2.IMREAD_UNCHANGED)
        if picture is None:
            raise ValueError("undecodable")
        return _three_channels(picture[..., [2, 1, 0]] if picture.ndim == 3 else picture)
    except (OSError, RuntimeError, ValueError, tifffile.TiffFileError):
        raise MediaError(
            f"'{path.name}' cannot be read: it is cut off or damaged. Export it again.", code="truncated"
        ) from None


def _sane_type(picture: np.ndarray) -> np.ndarray:
    if picture.dtype in (np.uint8, np.uint16, np.float32):
        return picture
    if picture.dtype == np.float16:
        return picture.astype(np.float32)
    raise ValueError(f"samples of type {picture.dtype}")


def _three_channels(picture: np.ndarray) -> RawImage:
    if picture.ndim == 2:
        picture = np.repeat(picture[..., None], 3, axis=2)
    return np.ascontiguousarray(picture[..., :3])


def _read_exr(path: Path) -> RawImage:
    with OpenEXR.File(str(path)) as exr:
        channels = exr.channels()
        for name in ("RGB", "RGBA"):
            if name in channels:
                return _three_channels(channels[name].pixels.astype(np.float32))
        single = [channels[c].pixels for c in ("R", "G", "B") if c in channels] or [channels["Y"].pixels]
        planes = single if len(single) == 3 else [single[0]] * 3
        return np.ascontiguousarray(np.stack(planes, axis=-1).astype(np.float32))


def for_screen(img_raw: RawImage, encoding: CodeValues) -> np.ndarray:
    """8-bit encoded picture of code values: BT.709 or sRGB as it is, scene-linear through the BT.709 curve."""
    if encoding.dtype == "uint8":
        return img_raw
    if encoding.dtype == "uint16":
        return (img_raw >> 8).astype(np.uint8)
    display = CodeValues("srgb", "uint8")
    return display.from_linear(img_raw) if encoding.transfer == "linear" else display.from_encoded(img_raw)


def encode_png(picture: np.ndarray, level: int = 3) -> bytes:
    """PNG bytes of uint8 or uint16 (H, W), (H, W, 3) or (H, W, 4) pictures in R, G, B, A order."""
    order = {3: [2, 1, 0], 4: [2, 1, 0, 3]}
    ordered = picture if picture.ndim == 2 else picture[..., order[picture.shape[2]]]
    ok, buffer = cv2.imencode(".png", np.ascontiguousarray(ordered), [cv2.IMWRITE_PNG_COMPRESSION, level])
    if not ok:
        raise MediaError("A picture could not be encoded as PNG; this is a fault of the program.")
    return buffer.tobytes()


def encode_jpeg(picture: RawImage, quality: int = 92) -> bytes:
    """JPEG bytes, full chroma, for looking only."""
    options = [
        cv2.IMWRITE_JPEG_QUALITY,
        quality,
        cv2.IMWRITE_JPEG_SAMPLING_FACTOR,
        cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444,
    ]
    _, buffer = cv2.imencode(".jpg", cv2.cvtColor(picture, cv2.COLOR_RGB2BGR), options)
    return buffer.tobytes()
