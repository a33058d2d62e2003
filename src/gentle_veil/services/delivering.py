"""Hand over: a range of composed frames as a numbered sequence or a movie, resumable and never half looking whole."""

import hashlib
import json
import re
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.errors import MediaError, RuleError
from gentle_veil.core.render import Rendered
from gentle_veil.core.types import RawImage
from gentle_veil.domain.recipe import Recipe
from gentle_veil.media.stills import encode_png, read_still
from gentle_veil.media.write import movie_writer, write_atomically
from gentle_veil.services.composing import build_layers, composed, layer_keys
from gentle_veil.services.workspace import Workspace

IN_WORK = ".in-work"  # the folder's name until all of it is there
PREFIX = re.compile(r"^[A-Za-z0-9][A-Za-z0-9 _.\-]{0,63}$")


@dataclass(frozen=True)
class DeliverySettings:
    """``first`` and ``last`` are the file's own frame numbers; a sequence is renumbered from ``start_number``."""

    form: str  # png | movie
    first: int
    last: int
    prefix: str = "frame."
    start_number: int | None = None
    digits: int = 4
    matte: str | None = None  # a veil's name: its matte instead of the picture

    def number_of(self, frame: int) -> int:
        return frame if self.start_number is None else self.start_number + frame - self.first

    def file_name(self, frame: int) -> str:
        return f"{self.prefix}{self.number_of(frame):0{self.digits}d}.png"


def check_settings(workspace: Workspace, settings: DeliverySettings) -> None:
    """Raises RuleError with what to change."""
    info = workspace.info
    if settings.form not in ("png", "movie"):
        raise RuleError(f"'{settings.form}' is not a way to hand over; choose png or movie.")
    if not info.first_frame <= settings.first <= settings.last <= info.last_frame:
        raise RuleError(
            f"Frames {settings.first} to {settings.last} do not lie within {info.first_frame} to {info.last_frame}."
        )
    if not PREFIX.match(settings.prefix):
        raise RuleError(
            "The prefix may hold letters, digits, space, dot, dash and underscore, and begins with a letter or digit."
        )
    if not 1 <= settings.digits <= 10:
        raise RuleError("Give 1 to 10 digits for the numbers.")
    if settings.start_number is not None and settings.start_number < 0:
        raise RuleError("The start number must not be negative.")


def deliver(
    workspace: Workspace, recipe: Recipe, settings: DeliverySettings, target: Path, *, report: Report = silent
) -> dict[str, Any]:
    """Write the range to ``target``: a folder for png, a file for a movie. Returns name -> SHA-256.

    A sequence is written into ``<target>.in-work`` and renamed when whole, so a kill loses one frame at most: the
    next call goes on from what is there, as long as the recipe and settings are the same. A movie is written
    aside from composed frames that are kept on the way, so going on costs encoding only.
    """
    check_settings(workspace, settings)
    layers = build_layers(workspace, recipe, strict=True, report=report)
    ks = range(workspace.k_of(settings.first), workspace.k_of(settings.last) + 1)
    work = target.with_name(target.name + IN_WORK)
    _begin(
        work,
        {"settings": vars(settings), "layers": layer_keys(workspace, recipe), "media": workspace.media_key},
    )

    def picture(rendered: Rendered) -> RawImage:
        if settings.matte is None:
            return rendered.img_raw
        return (rendered.matte(settings.matte) * 65535 + 0.5).astype("uint16")

    try:
        missing = [k for k in ks if not (work / settings.file_name(workspace.frame_of(k))).exists()]
        there = len(ks) - len(missing)
        for i, k in enumerate(set(ks).difference(missing)):
            report(i, len(ks), f"frame {workspace.frame_of(k)} is there already")
        for i, (k, rendered) in enumerate(composed(workspace, layers, missing)):
            frame = workspace.frame_of(k)
            report(there + i, len(ks), f"writing frame {frame}")
            write_atomically(work / settings.file_name(frame), encode_png(png_ready(picture(rendered))))
    except OSError as fault:
        raise MediaError(f"Frames could not be written to '{target.parent}': {fault.strerror}. Make room.") from None
    if settings.form == "movie":
        _movie_from(workspace, work, target, settings, report)
        shutil.rmtree(work)
        return {target.name: _sha256(target)}
    (work / "delivery.json").unlink()
    if target.exists():
        raise RuleError(f"'{target.name}' exists already; choose another name.")
    work.replace(target)
    return {p.name: _sha256(p) for p in sorted(target.iterdir())}


def _begin(work: Path, facts: dict[str, Any]) -> None:
    """Open the folder in work, or go on in it when it is of the very same delivery."""
    stamp = work / "delivery.json"
    text = json.dumps(facts, sort_keys=True)
    if work.exists() and (not stamp.exists() or stamp.read_text() != text):
        shutil.rmtree(work)
    work.mkdir(parents=True, exist_ok=True)
    if not stamp.exists():
        write_atomically(stamp, text.encode())


def png_ready(picture: RawImage) -> RawImage:
    """PNG holds integers: float pictures (scene-linear) are encoded by sRGB at 16 bit."""
    if picture.dtype.kind == "f":
        return CodeValues("srgb", "uint16").from_linear(picture)
    return picture


def _movie_from(workspace: Workspace, work: Path, target: Path, settings: DeliverySettings, report: Report) -> None:
    info = workspace.info
    first_k = workspace.k_of(settings.first)
    count = settings.last - settings.first + 1
    with movie_writer(target, info) as movie:
        for i in range(count):
            report(i, count, f"encoding frame {settings.first + i}")
            pts = i
            if info.variable and info.pts is not None:
                pts = info.pts[first_k + i] - info.pts[first_k]
            movie.add(read_still(work / settings.file_name(settings.first + i)), pts)


def abandon(target: Path) -> None:
    """Remove what a stopped delivery has left in work."""
    shutil.rmtree(target.with_name(target.name + IN_WORK), ignore_errors=True)


def _sha256(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
