"""Plates that are painted elsewhere: the reference frame sent out, and what may come back."""

from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Literal

import numpy as np
import OpenEXR
import tifffile

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.contracts.params import specs_of
from gentle_veil.core.contracts.surface_track import still_track
from gentle_veil.core.contracts.veil import Placement
from gentle_veil.core.errors import RuleError
from gentle_veil.core.veils import VEILS
from gentle_veil.core.veils.conceal.painted import sent_box
from gentle_veil.domain.recipe import Drape, PlateWritten, Veil
from gentle_veil.media.stills import encode_png
from gentle_veil.services.following import reference_polygon
from gentle_veil.services.workspace import Workspace

PlateForm = Literal["png", "tif", "exr"]


def plate_out(workspace: Workspace, drape: Drape, form: PlateForm, frame: int | None = None) -> bytes:
    """The drape's part of its reference frame, or the whole of ``frame``: 16-bit sRGB PNG or TIFF, or scene-linear
    float EXR.

    Raises: NotFoundError for a frame that the clip has not
    """
    k = workspace.k_of(drape.reference if frame is None else frame)
    size = workspace.frames.size
    x0, y0, x1, y1 = 0, 0, *size
    if frame is None:
        polygon = reference_polygon(drape)
        x0, y0, x1, y1 = sent_box(Placement(still_track(size, 1, 0), polygon, polygon), size)
    img_lin = workspace.frames.encoding.to_linear(workspace.frames[k][y0:y1, x0:x1])
    if form == "exr":
        return _exr(img_lin)
    deep = CodeValues("srgb", "uint16").from_linear(img_lin)
    if form == "png":
        return encode_png(deep)
    buffer = BytesIO()
    tifffile.imwrite(buffer, deep, photometric="rgb", compression="zlib")
    return buffer.getvalue()


def _exr(img_lin: np.ndarray) -> bytes:
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with TemporaryDirectory(prefix="gentle-veil-") as folder:
        path = Path(folder) / "plate.exr"
        with OpenEXR.File(header, {"RGB": np.ascontiguousarray(img_lin, np.float32)}) as file:
            file.write(str(path))
        return path.read_bytes()


def pictures_named(veil: Veil, kind: str) -> list[str]:
    """The pictures on the shelf that a veil's parameters of one kind name: ``artwork``, ``plate`` or ``plates``."""
    specs = specs_of(VEILS[veil.kind].Params)
    given = [v for n, v in veil.params.items() if v and n in specs and specs[n][0].type == kind]
    if kind == "plates":
        return [PlateWritten.model_validate(w).plate for v in given for w in v]
    return [str(v) for v in given]


def refuse_lossy(workspace: Workspace, veil: Veil) -> None:
    """Raises RuleError for a plate that came back as JPEG."""
    for name in [*pictures_named(veil, "plate"), *pictures_named(veil, "plates")]:
        if any(f.lower().endswith((".jpg", ".jpeg")) for f in workspace.shelf.about(name)["files"]):
            raise RuleError(
                f"The plate '{name}' is a JPEG, whose blocks and lost colour would stand still on the skin; bring it "
                "back as PNG, TIFF or EXR.",
                code="lossy",
            )
