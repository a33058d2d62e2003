"""Motion and coordinate maps as multi-part EXR: one file per frame, 32-bit float, described in docs/formats.md."""

from pathlib import Path

import numpy as np
import OpenEXR

from gentle_veil.core.errors import MediaError
from gentle_veil.core.types import ImageF32
from gentle_veil.media.write import aside_of

FORWARD, BACKWARD, PLACE = "forward", "backward", "place"
PARTS = (FORWARD, BACKWARD, PLACE)
AXES = {FORWARD: ("u", "v"), BACKWARD: ("u", "v"), PLACE: ("x", "y")}


def channels_of(part: str) -> tuple[str, str]:
    """The two channels of a part."""
    a, b = AXES[part]
    return f"{part}.{a}", f"{part}.{b}"


def write_motion(path: Path, parts: dict[str, ImageF32]) -> None:
    """Write named fields (H, W, 2) float32, bit for bit: ``forward`` and ``backward`` motion in px, ``place`` in px."""
    made = []
    for name, field in parts.items():
        x, y = (np.ascontiguousarray(field[..., i], np.float32) for i in range(2))
        a, b = channels_of(name)
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        made.append(OpenEXR.Part(header, {a: x, b: y}, name))
    with aside_of(path) as aside:
        OpenEXR.File(made).write(str(aside))


def read_motion(path: Path) -> dict[str, ImageF32]:
    """The fields of a file, (H, W, 2) float32. Raises MediaError with one sentence."""
    try:
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels = {n: np.asarray(c.pixels) for part in file.parts for n, c in part.channels.items()}
    except (OSError, RuntimeError, ValueError):
        raise MediaError(f"'{path.name}' is not an EXR that can be read; give multi-part EXR files.") from None
    found = {}
    for name in PARTS:
        a, b = channels_of(name)
        if a in channels and b in channels:
            found[name] = np.stack([channels[a], channels[b]], axis=-1)
    if not found:
        names = ", ".join(sorted(channels)[:6]) or "none"
        raise MediaError(
            f"'{path.name}' holds no motion; its channels are {names}, and forward.u, forward.v, backward.u, "
            "backward.v, or place.x, place.y are needed."
        )
    if any(f.dtype != np.float32 for f in found.values()):
        raise MediaError(f"'{path.name}' is not 32-bit float, so its motion is too coarse; write it as float.")
    return found
