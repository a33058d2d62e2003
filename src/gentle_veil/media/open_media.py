"""One door for every kind of clip: a movie file, a folder of numbered pictures, or one of those pictures."""

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from gentle_veil.core.errors import MediaError
from gentle_veil.media.info import MediaInfo
from gentle_veil.media.movie_frames import MovieFrames
from gentle_veil.media.movie_probe import index_movie, probe_movie
from gentle_veil.media.sequence import SequenceFrames, probe_sequence
from gentle_veil.media.stills import SUFFIXES

MediaFrames = MovieFrames | SequenceFrames


def probe(
    path: Path, *, rate: Fraction | None = None, gaps: str = "refuse", first_frame: int | None = None
) -> MediaInfo:
    """The facts of a clip.

    ``rate`` answers a sequence's missing rate, and overrides a movie's; ``first_frame`` renumbers a movie.
    Raises: MediaError with one clear sentence
    """
    if not path.exists():
        raise MediaError(f"'{path.name}' is not there; check its name.", code="missing")
    folder = _sequence_folder(path)
    if folder is not None:
        info = probe_sequence(folder, rate=rate, gaps=gaps)
    else:
        info, _ = probe_movie(path)
        if rate is not None and not info.variable:
            info = replace(info, rate=rate)
    return info if first_frame is None else replace(info, first_frame=first_frame)


def _sequence_folder(path: Path) -> Path | None:
    if path.is_dir():
        return path
    return path.parent if path.suffix.lower() in SUFFIXES else None


def open_frames(path: Path, info: MediaInfo) -> MediaFrames:
    """Frames of a clip that has been probed."""
    folder = _sequence_folder(path)
    if folder is not None:
        return SequenceFrames(folder, info)
    return MovieFrames(path, info, index_movie(path))
