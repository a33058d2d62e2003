"""Look into a movie file: its stream, its exact frame times, and whether it is whole."""

from collections import Counter
from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

import av
from av.error import FFmpegError

from gentle_veil.core.errors import MediaError
from gentle_veil.media.info import MAX_FRAMES, MAX_SIDE, MIN_SIDE, MediaInfo

DEEP_FORMATS = (
    "10le",
    "12le",
    "16le",
    "10be",
    "12be",
    "14le",
    "p010",
    "p016",
    "rgb48",
    "gbrp10",
    "gbrp12",
    "gbrp16",
)
PRIMARIES = {1: "BT.709", 5: "BT.601 625", 6: "BT.601 525", 9: "BT.2020", 12: "P3-D65"}
TRANSFERS = {
    1: "BT.709",
    4: "gamma 2.2",
    6: "BT.601",
    8: "linear",
    13: "sRGB",
    14: "BT.2020",
    16: "PQ",
    18: "HLG",
}
MATRICES = {0: "RGB", 1: "BT.709", 5: "BT.601", 6: "BT.601", 7: "SMPTE 240M", 9: "BT.2020"}
RANGES = {1: "limited", 2: "full"}
TRUNCATED = "is cut off: its index promises {expected} frames and {found} can be read. Copy or export it again."


class PacketFacts(NamedTuple):
    pts: int
    is_key: bool
    duration: int


class MovieIndex(NamedTuple):
    """Frame k has time stamp ``pts[k]``; ``keys`` are the stamps from which decoding can begin, rising."""

    pts: tuple[int, ...]
    keys: tuple[int, ...]
    seekable: bool


def open_container(path: Path) -> "av.container.InputContainer":
    """Open a movie, or raise one plain sentence."""
    if path.stat().st_size == 0:
        raise MediaError(f"'{path.name}' is empty (0 bytes); copy or export it again.", code="empty")
    try:
        return av.open(str(path))
    except FFmpegError as fault:
        raise MediaError(
            f"'{path.name}' cannot be read as a movie ({fault.strerror or 'unknown content'}): it is cut off or is "
            "no movie at all. Bring in a movie file or an image sequence.",
            code="unreadable",
        ) from None


def _video_stream(container: "av.container.InputContainer", name: str) -> "av.video.VideoStream":
    # A cover picture inside a sound file is not a shot.
    streams = [s for s in container.streams.video if "ATTACHED_PIC" not in str(s.disposition).upper()]
    if not streams:
        raise MediaError(
            f"'{name}' has sound but no moving picture; bring in the movie that holds the picture.",
            code="no_picture",
        )
    stream = streams[0]
    if stream.codec_context is None:
        raise MediaError(f"'{name}' holds pictures in a form that is not known here.", code="unsupported")
    return stream


def index_movie(path: Path) -> MovieIndex:
    """Walk all packets once (nothing is decoded): the exact times of all frames."""
    with open_container(path) as container:
        stream = _video_stream(container, path.name)
        facts: list[PacketFacts] = []
        stamped = True
        try:
            for packet in container.demux(stream):
                if packet.size == 0 or packet.is_discard:
                    continue
                stamped &= packet.pts is not None
                facts.append(PacketFacts(packet.pts or 0, bool(packet.is_keyframe), packet.duration or 0))
                if len(facts) > MAX_FRAMES:
                    raise MediaError(
                        f"'{path.name}' has more than {MAX_FRAMES} frames; cut it into shots.",
                        code="too_long",
                    )
        except FFmpegError:
            raise MediaError(
                f"'{path.name}' " + TRUNCATED.format(expected=stream.frames or "more", found=len(facts)),
                code="truncated",
            ) from None
        pts = tuple(sorted(f.pts for f in facts))
        if not stamped or len(set(pts)) != len(pts):
            # An elementary stream says no times: frames are counted in the order they come.
            return MovieIndex(tuple(range(len(facts))), (0,), False)
        return MovieIndex(pts, tuple(sorted(f.pts for f in facts if f.is_key)), True)


def probe_movie(path: Path) -> tuple[MediaInfo, MovieIndex]:
    """All facts of a movie file.

    Raises: MediaError for a file that is empty, cut off, no movie, sound only, or of an absurd size
    """
    with open_container(path) as container:
        stream = _video_stream(container, path.name)
        context = stream.codec_context
        width, height = context.width, context.height
        _check_size(path.name, width, height)
        index = index_movie(path)
        if not index.pts:
            raise MediaError(f"'{path.name}' holds no frames; export it again.", code="no_picture")
        _check_whole(path, container, stream, index)
        rotation = _first_rotation(container, stream, path.name)
        if rotation in (90, 270, -90):
            width, height = height, width
        pixel_format = context.pix_fmt or "unknown"
        colour, transfer, warnings = _colour(context, height)
        time_base = stream.time_base or Fraction(1, 1000)
        rate, variable = _rate(stream, index, time_base)
        if variable:
            warnings.append(
                "The frame rate varies: frames keep their own times; the rate shown is the average. "
                "Check the hand-over's rate with whoever receives it."
            )
        if not index.seekable:
            warnings.append("The file carries no frame times; frames are counted in the order they are stored.")
        deep = any(mark in pixel_format for mark in DEEP_FORMATS)
        if "f32" in pixel_format or "f16" in pixel_format:
            deep = True
        info = MediaInfo(
            kind="movie",
            width=width,
            height=height,
            rate=rate,
            first_frame=0,
            frame_count=len(index.pts),
            codec=context.name,
            pixel_format=pixel_format,
            dtype="uint16" if deep else "uint8",
            transfer=transfer,
            colour=colour,
            pixel_aspect=Fraction(stream.sample_aspect_ratio or 1),
            timecode=stream.metadata.get("timecode") or container.metadata.get("timecode"),
            variable=variable,
            time_base=time_base,
            pts=index.pts,
            warnings=tuple(warnings),
        )
        return info, index


def _check_size(name: str, width: int, height: int) -> None:
    if not (MIN_SIDE <= width <= MAX_SIDE and MIN_SIDE <= height <= MAX_SIDE):
        raise MediaError(
            f"'{name}' is {width}x{height} pixels; pictures from {MIN_SIDE} to {MAX_SIDE} pixels a side can be used.",
            code="size",
        )


def _check_whole(
    path: Path, container: "av.container.InputContainer", stream: "av.video.VideoStream", index: MovieIndex
) -> None:
    promised = stream.frames
    found = len(index.pts)
    if promised and found < promised:
        raise MediaError(f"'{path.name}' " + TRUNCATED.format(expected=promised, found=found), code="truncated")
    if not promised and container.duration and index.seekable and stream.time_base:
        end = float(index.pts[-1] * stream.time_base) - (container.start_time or 0) / av.time_base
        lasts = container.duration / av.time_base
        if end < 0.9 * lasts - 1.0:
            raise MediaError(
                f"'{path.name}' is cut off: it says it lasts {lasts:.1f} s, and its pictures end at {end:.1f} s. "
                "Copy or export it again.",
                code="truncated",
            )


def _first_rotation(container: "av.container.InputContainer", stream: "av.video.VideoStream", name: str) -> int:
    try:
        for frame in container.decode(stream):
            return int(frame.rotation or 0)
    except FFmpegError:
        pass
    raise MediaError(
        f"No picture of '{name}' can be decoded: it is damaged or of an unknown kind. Export it again.",
        code="unreadable",
    )


def _colour(context: "av.VideoCodecContext", height: int) -> tuple[dict[str, str], str, list[str]]:
    warnings = []
    trc = int(context.color_trc or 2)
    matrix = int(context.colorspace or 2)
    colour = {
        "primaries": PRIMARIES.get(int(context.color_primaries or 2), "not tagged"),
        "transfer": TRANSFERS.get(trc, "not tagged"),
        "matrix": MATRICES.get(matrix, "not tagged"),
        "range": RANGES.get(int(context.color_range or 0), "not tagged"),
    }
    if trc in (16, 18):
        warnings.append(
            f"The clip is tagged {TRANSFERS[trc]}; its light is worked with as BT.709, so blends are approximate."
        )
    if matrix in (2,) and not (context.pix_fmt or "").startswith(("rgb", "gbr")):
        assumed = "BT.709" if height >= 720 else "BT.601"
        warnings.append(f"The colour matrix is not tagged; {assumed} is assumed, as its size suggests.")
    transfer = {13: "srgb", 8: "linear"}.get(trc, "bt709")
    return colour, transfer, warnings


def _rate(stream: "av.video.VideoStream", index: MovieIndex, time_base: Fraction) -> tuple[Fraction, bool]:
    guessed = Fraction(stream.average_rate or stream.guessed_rate or 25)
    if not index.seekable or len(index.pts) < 3:
        return guessed, False
    steps = Counter(b - a for a, b in zip(index.pts, index.pts[1:], strict=False))
    # Containers with coarse clocks (1 ms) round each step by up to one tick, and never drift.
    mean = Fraction(index.pts[-1] - index.pts[0], len(index.pts) - 1)
    drift = max(abs(p - index.pts[0] - mean * k) for k, p in enumerate(index.pts))
    variable = drift > max(Fraction(1), mean / 20) and max(steps) - min(steps) > 1
    if variable:
        return (1 / (mean * time_base)).limit_denominator(100_000), True
    stated = Fraction(stream.average_rate or stream.base_rate or 25)
    counted = 1 / (mean * time_base)
    # The container's own rational is exact where it agrees with its time stamps.
    for candidate in (Fraction(stream.guessed_rate or 0), stated, Fraction(stream.base_rate or 0)):
        if candidate and abs(candidate - counted) / counted < Fraction(1, 2000):
            return candidate, False
    return counted.limit_denominator(100_000), False
