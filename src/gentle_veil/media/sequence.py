"""Numbered image sequences."""

import re
from collections import defaultdict
from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

import numpy as np

from gentle_veil.core.errors import MediaError, NotFoundError
from gentle_veil.core.types import RawImage
from gentle_veil.media.info import MAX_FRAMES, MAX_SIDE, MIN_SIDE, MediaInfo
from gentle_veil.media.kept_frames import KeptFrames
from gentle_veil.media.stills import SUFFIXES, read_still, still_size

NUMBERED = re.compile(r"^(?P<prefix>.*?)(?P<number>\d+)(?P<suffix>\.[A-Za-z]+)$")


def sequence_files(folder: Path) -> dict[int, Path]:
    """Number -> file of the one sequence in a folder.

    Raises: MediaError when there is none, or more than one
    """
    groups: dict[tuple[str, str], dict[int, Path]] = defaultdict(dict)
    for path in sorted(folder.iterdir()):
        match = NUMBERED.match(path.name)
        if path.is_file() and match and match["suffix"].lower() in SUFFIXES:
            groups[match["prefix"], match["suffix"].lower()][int(match["number"])] = path
    if not groups:
        raise MediaError(
            f"'{folder.name}' holds no numbered pictures; name them like shot.0001.png ({', '.join(SUFFIXES)}).",
            code="no_picture",
        )
    if len(groups) > 1:
        names = ", ".join(f"{prefix}#{suffix}" for prefix, suffix in sorted(groups))
        raise MediaError(f"'{folder.name}' holds several sequences ({names}); bring them in one by one.", code="mixed")
    return dict(sorted(next(iter(groups.values())).items()))


def missing_numbers(numbers: Iterable[int]) -> tuple[int, ...]:
    """The numbers that are left out between the first and the last."""
    present = sorted(numbers)
    return tuple(sorted(set(range(present[0], present[-1] + 1)) - set(present)))


def spans_text(numbers: Iterable[int]) -> str:
    """``1004-1006, 1010`` for people."""
    spans: list[list[int]] = []
    for n in sorted(numbers):
        if spans and n == spans[-1][1] + 1:
            spans[-1][1] = n
        else:
            spans.append([n, n])
    return ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in spans)


def probe_sequence(folder: Path, *, rate: Fraction | None = None, gaps: str = "refuse") -> MediaInfo:
    """All facts of a sequence; ``gaps`` is what to do about missing numbers: ``refuse``, ``hold`` or ``ask``.

    Raises: MediaError for gaps that are refused (detail["missing"] lists them), mixed sizes or types, pictures
            that cannot be read, absurd sizes
    """
    files = sequence_files(folder)
    numbers = list(files)
    held = missing_numbers(numbers)
    if held and gaps == "refuse":
        raise MediaError(
            f"The numbering of '{folder.name}' has gaps: {spans_text(held)} missing. Bring in the missing pictures, "
            "or choose to hold the frame before each gap.",
            code="gaps",
            missing=list(held),
        )
    count = numbers[-1] - numbers[0] + 1
    if count > MAX_FRAMES:
        raise MediaError(f"The numbering of '{folder.name}' spans {count} frames; check the numbers.", code="too_long")
    sizes = {n: still_size(path) for n, path in files.items()}
    width, height = sizes[numbers[0]]
    odd = [n for n, size in sizes.items() if size != (width, height)]
    if odd:
        w, h = sizes[odd[0]]
        raise MediaError(
            f"The pictures of '{folder.name}' differ in size: {files[numbers[0]].name} is {width}x{height} and "
            f"{files[odd[0]].name} is {w}x{h}. A shot has one size; export it again.",
            code="mixed_sizes",
        )
    if not (MIN_SIDE <= width <= MAX_SIDE and MIN_SIDE <= height <= MAX_SIDE):
        raise MediaError(
            f"The pictures of '{folder.name}' are {width}x{height}; from {MIN_SIDE} to {MAX_SIDE} pixels a side can "
            "be used.",
            code="size",
        )
    first = read_still(files[numbers[0]])
    read_still(files[numbers[-1]])
    suffix = files[numbers[0]].suffix.lower()
    transfer = "linear" if first.dtype == np.float32 else "srgb"
    warnings = []
    if held:
        warnings.append(f"Frames {spans_text(held)} are missing; each shows the frame before it.")
    return MediaInfo(
        kind="sequence",
        width=width,
        height=height,
        rate=rate,
        first_frame=numbers[0],
        frame_count=count,
        codec=suffix.strip("."),
        pixel_format=f"rgb {first.dtype}",
        dtype=first.dtype.name,
        transfer=transfer,
        colour={"transfer": "scene-linear" if transfer == "linear" else "sRGB", "range": "full"},
        held=held,
        warnings=tuple(warnings),
    )


class SequenceFrames(KeptFrames):
    """See `core.contracts.frames.FrameSource`; a missing number shows the frame before it."""

    def __init__(self, folder: Path, info: MediaInfo) -> None:
        super().__init__(info)
        self._files = sequence_files(folder)

    def __getitem__(self, k: int) -> RawImage:
        if not 0 <= k < len(self):
            raise NotFoundError(f"Frame {k} is not in the sequence, which has frames 0 to {len(self) - 1}.")
        number = k + self.info.first_frame
        while number not in self._files:
            number -= 1
        known = self._recall(number)
        if known is not None:
            return known
        picture = read_still(self._files[number])
        if picture.shape[:2] != (self.info.height, self.info.width) or picture.dtype.name != self.info.dtype:
            raise MediaError(
                f"'{self._files[number].name}' differs in size or depth from the first picture; export it again.",
                code="mixed_sizes",
            )
        return self._keep(number, picture)

    def close(self) -> None:
        """Nothing is held open."""
