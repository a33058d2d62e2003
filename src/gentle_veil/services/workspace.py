"""A clip that is open, with the cache that belongs to it: what following and composing work on."""

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

from gentle_veil.core.errors import NotFoundError
from gentle_veil.media.info import MediaInfo
from gentle_veil.media.open_media import MediaFrames, open_frames
from gentle_veil.services.shelf import Shelf
from gentle_veil.store.cache import Cache


class Memory:
    """What was read from the cache a moment ago, so that a frame does not begin with reading files. Thread-safe."""

    def __init__(self, room: int = 64) -> None:
        self._kept: OrderedDict[Hashable, Any] = OrderedDict()
        self._room = room
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], Any]) -> Any:
        """The value of ``key``, made when it is not there; None is not kept."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        value = make()
        if value is not None:
            with self._lock:
                self._kept[key] = value
                while len(self._kept) > self._room:
                    self._kept.popitem(last=False)
        return value


@dataclass(frozen=True)
class Workspace:
    """A clip and what belongs to it; ``frames`` count k from 0, people count from ``first_frame``.

    ``media_key`` is the hash of the clip's bytes; ``shelf`` holds the artwork; ``brought`` is the folder of vectors
    that were brought in.
    """

    info: MediaInfo
    frames: MediaFrames
    media_key: str
    cache: Cache
    shelf: Shelf
    brought: Path
    memory: Memory = field(default_factory=lambda: Memory())

    def k_of(self, frame: int) -> int:
        """The file's own frame number to k; raises NotFoundError outside the clip."""
        k = frame - self.info.first_frame
        if not 0 <= k < self.info.frame_count:
            raise NotFoundError(
                f"Frame {frame} is not in the clip; it has frames {self.info.first_frame} to {self.info.last_frame}."
            )
        return k

    def frame_of(self, k: int) -> int:
        return k + self.info.first_frame


def open_workspace(path: Path, info: MediaInfo, media_key: str, cache: Cache, shelf: Shelf, brought: Path) -> Workspace:
    return Workspace(info, open_frames(path, info), media_key, cache, shelf, brought)


def media_key_of(path: Path, info: MediaInfo) -> str:
    """Hash of a movie's bytes, or of a sequence's names, sizes and bytes, and of how it is read."""
    digest = hashlib.sha256(f"{info.kind} {info.first_frame} {info.transfer}".encode())
    for file in sorted(path.iterdir()) if path.is_dir() else [path]:
        if not file.is_file():
            continue
        digest.update(file.name.encode())
        with file.open("rb") as stream:
            while chunk := stream.read(1 << 20):
                digest.update(chunk)
    return digest.hexdigest()[:32]


def facts_of(info: MediaInfo) -> dict[str, Any]:
    """A MediaInfo as JSON data; the inverse of `info_from`."""
    facts = dict(vars(info))
    for name in ("rate", "pixel_aspect", "time_base"):
        facts[name] = None if facts[name] is None else str(facts[name])
    facts["pts"] = list(info.pts) if info.pts is not None and info.variable else None
    facts["held"], facts["warnings"] = list(info.held), list(info.warnings)
    return facts


def info_from(facts: dict[str, Any]) -> MediaInfo:
    values = dict(facts)
    for name in ("rate", "pixel_aspect", "time_base"):
        values[name] = None if values[name] is None else Fraction(values[name])
    values["pts"] = None if values["pts"] is None else tuple(values["pts"])
    values["held"], values["warnings"] = tuple(values["held"]), tuple(values["warnings"])
    return MediaInfo(**values)
