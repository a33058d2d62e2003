"""The motion of a shot: analysed once and kept, or brought in from elsewhere."""

import hashlib
import re
import shutil
import tempfile
from collections.abc import Iterable
from pathlib import Path

import numpy as np

from gentle_veil.core.colour.code_values import CodeValues
from gentle_veil.core.contracts.frames import FrameSource
from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.errors import MediaError, RuleError
from gentle_veil.core.followers.vectors.options import BROUGHT_IN, MAPS
from gentle_veil.core.motion.dense import QUALITIES, ComputedVectors, Motion
from gentle_veil.core.types import RawImage
from gentle_veil.domain.keys import content_key
from gentle_veil.media.motion_files import BACKWARD, FORWARD, PLACE, channels_of, read_motion
from gentle_veil.media.write import write_atomically
from gentle_veil.services.workspace import Workspace

VECTORS_CODE = "1"  # raised when motion is analysed otherwise
CONTENT = ".content"
NUMBER = re.compile(r"(\d+)\.exr$", re.IGNORECASE)


class KeptVectors:
    """See `core.motion.dense.Vectors`: from the cache, computed and kept where they are not there."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._computed = ComputedVectors(workspace.frames)

    def between(self, k: int, to: int, quality: str) -> Motion:
        # Fields are large and asked for once or twice: the disk is near enough, and memory stays flat.
        w = self._workspace
        if quality in (BROUGHT_IN, MAPS):
            return self._brought_in(k, to)
        width, height = w.frames.size
        key = _key(w, k, to, quality)
        known = w.cache.get("vectors", key, f".{quality}")
        if known is not None and len(known) == width * height * 8:
            return np.frombuffer(known, "<f4").reshape(height, width, 2)
        motion = self._computed.between(k, to, quality)
        w.cache.put("vectors", key, f".{quality}", motion.astype("<f4").tobytes())
        return motion

    def _brought_in(self, k: int, to: int) -> Motion:
        return self._part(k, FORWARD if to > k else BACKWARD)

    def place(self, k: int) -> Motion | None:
        return self._part(k, PLACE)

    def _part(self, k: int, part: str) -> Motion:
        frame = self._workspace.frame_of(k)
        path = self._workspace.brought / f"{frame:05d}.exr"
        if not path.is_file():
            raise RuleError(
                f"Nothing was brought in for frame {frame}; bring in one EXR per frame, or choose another quality."
            )
        motion = read_motion(path).get(part)
        if motion is None:
            raise RuleError(f"The EXR of frame {frame} lacks its {part} part, {' and '.join(channels_of(part))}.")
        return motion


class FramesWithVectors:
    """The frames of a workspace with their motion: what followers are given."""

    def __init__(self, workspace: Workspace) -> None:
        self._frames: FrameSource = workspace.frames
        self.encoding: CodeValues = workspace.frames.encoding
        self.vectors = KeptVectors(workspace)

    def __len__(self) -> int:
        return len(self._frames)

    def __getitem__(self, k: int) -> RawImage:
        return self._frames[k]

    @property
    def size(self) -> tuple[int, int]:
        return self._frames.size


def _key(workspace: Workspace, k: int, to: int, quality: str) -> str:
    return content_key("vectors", VECTORS_CODE, workspace.media_key, quality, k, to)


def _pairs(first: int, last: int) -> list[tuple[int, int]]:
    return [pair for k in range(first, last) for pair in ((k, k + 1), (k + 1, k))]


def analyse_vectors(workspace: Workspace, first: int, last: int, quality: str, *, report: Report = silent) -> int:
    """Analyse the motion between frames ``first`` and ``last`` (k), both ways; returns how many fields are kept."""
    if quality not in QUALITIES:
        raise RuleError(f"Motion is analysed as {', '.join(QUALITIES)}; choose one of them.")
    kept, pairs = KeptVectors(workspace), _pairs(first, last)
    for i, (k, to) in enumerate(pairs):
        report(i, len(pairs), f"motion of frame {workspace.frame_of(k)}")
        if not workspace.cache.has("vectors", _key(workspace, k, to, quality), f".{quality}"):
            kept.between(k, to, quality)
    report(len(pairs), len(pairs), "analysed")
    return len(pairs)


def vectors_kept(workspace: Workspace) -> list[dict[str, object]]:
    """Per quality: how many fields of the shot are kept, of how many, and their size in bytes."""
    pairs = _pairs(0, len(workspace.frames) - 1)
    found: list[dict[str, object]] = []
    for quality in QUALITIES:
        paths = [workspace.cache.path("vectors", _key(workspace, *p, quality), f".{quality}") for p in pairs]
        sizes = [p.stat().st_size for p in paths if p.exists()]
        found.append({"quality": quality, "kept": len(sizes), "of": len(pairs), "bytes": sum(sizes)})
    files = sorted(workspace.brought.glob("*.exr")) if workspace.brought.is_dir() else []
    size = sum(f.stat().st_size for f in files)
    found.append({"quality": BROUGHT_IN, "kept": len(files), "of": len(workspace.frames), "bytes": size})
    return found


def free_vectors(workspace: Workspace, quality: str) -> None:
    """Forget the motion of a quality; what has been followed with it stays."""
    if quality == BROUGHT_IN:
        shutil.rmtree(workspace.brought, ignore_errors=True)
    for pair in _pairs(0, len(workspace.frames) - 1):
        workspace.cache.path("vectors", _key(workspace, *pair, quality), f".{quality}").unlink(missing_ok=True)


def content_brought_for(workspace: Workspace, quality: object) -> str:
    """What a track depends on beside its recipe: the hash of what was brought in, where its vectors are of that."""
    return brought_content(workspace) if quality in (BROUGHT_IN, MAPS) else ""


def brought_content(workspace: Workspace) -> str:
    """A hash of the vectors that were brought in; empty without any."""
    path = workspace.brought / CONTENT
    return path.read_text() if path.is_file() else ""


def bring_in_vectors(workspace: Workspace, files: Iterable[Path]) -> int:
    """Take one EXR per frame, numbered as the clip's own frames. Nothing is kept unless all of them are right.

    Raises: MediaError, RuleError with one sentence
    """
    numbered = {}
    for file in files:
        match = NUMBER.search(file.name)
        if match is None:
            raise MediaError(f"'{file.name}' has no frame number before .exr; name the files like vectors.0042.exr.")
        numbered[int(match[1])] = file
    if not numbered:
        raise MediaError("No EXR files were sent; bring in one per frame.", code="empty")
    width, height = workspace.frames.size
    digest = hashlib.sha256()
    workspace.brought.parent.mkdir(parents=True, exist_ok=True)
    aside = Path(tempfile.mkdtemp(prefix=".part", dir=workspace.brought.parent))
    try:
        for frame, file in sorted(numbered.items()):
            workspace.k_of(frame)
            for part, field in read_motion(file).items():
                if field.shape != (height, width, 2):
                    size = f"{field.shape[1]}x{field.shape[0]}"
                    raise MediaError(
                        f"'{file.name}' is {size} px in '{part}', the clip {width}x{height}; make them alike."
                    )
                digest.update(f"{frame} {part}".encode())
                digest.update(np.ascontiguousarray(field).tobytes())
            shutil.copy2(file, aside / f"{frame:05d}.exr")
        write_atomically(aside / CONTENT, digest.hexdigest()[:32].encode())
        shutil.rmtree(workspace.brought, ignore_errors=True)
        aside.replace(workspace.brought)
    except BaseException:
        shutil.rmtree(aside, ignore_errors=True)
        raise
    return len(numbered)
