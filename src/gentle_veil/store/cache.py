"""A bounded cache on disk, keyed by content. Entries are whole or absent; deleting any of them is safe."""

import io
import json
import os
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

DEFAULT_LIMIT = 20_000_000_000  # bytes
SWEEP_EVERY = 500  # writes


class Cache:
    """``kind`` groups entries for people (track, view, frame, flat, stats, prepared, proof)."""

    def __init__(self, root: Path, limit: int = DEFAULT_LIMIT) -> None:
        self.root = root
        self.limit = limit
        self._writes = 0

    def path(self, kind: str, key: str, suffix: str) -> Path:
        return self.root / kind / key[:2] / f"{key}{suffix}"

    def get(self, kind: str, key: str, suffix: str) -> bytes | None:
        path = self.path(kind, key, suffix)
        try:
            content = path.read_bytes()
            os.utime(path)  # least recently used goes first
        except OSError:
            return None
        return content

    def stamp(self, kind: str, key: str, suffix: str) -> tuple[int, int] | None:
        """What changes when an entry is replaced; reading it does not."""
        try:
            facts = self.path(kind, key, suffix).stat()
        except OSError:
            return None
        return facts.st_ino, facts.st_size

    def has(self, kind: str, key: str, suffix: str) -> bool:
        return self.path(kind, key, suffix).exists()

    def put(self, kind: str, key: str, suffix: str, content: bytes) -> None:
        """Write aside and rename; a full disk costs the entry, not the work."""
        path = self.path(kind, key, suffix)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with tempfile.NamedTemporaryFile(dir=path.parent, suffix=".part", delete=False) as aside:
                aside.write(content)
            Path(aside.name).replace(path)
        except OSError:
            return
        self._writes += 1
        if self._writes % SWEEP_EVERY == 0:
            self.sweep()

    def get_json(self, kind: str, key: str) -> Any | None:
        content = self.get(kind, key, ".json")
        return None if content is None else json.loads(content)

    def put_json(self, kind: str, key: str, value: Any) -> None:
        self.put(kind, key, ".json", json.dumps(value).encode())

    def get_arrays(self, kind: str, key: str) -> dict[str, np.ndarray] | None:
        content = self.get(kind, key, ".npz")
        if content is None:
            return None
        with np.load(io.BytesIO(content), allow_pickle=False) as stored:
            return {name: stored[name] for name in stored.files}

    def put_arrays(self, kind: str, key: str, arrays: dict[str, np.ndarray]) -> None:
        buffer = io.BytesIO()
        np.savez_compressed(buffer, **arrays)  # type: ignore[arg-type]
        self.put(kind, key, ".npz", buffer.getvalue())

    def sizes(self) -> dict[str, dict[str, int]]:
        """Kind -> count and bytes."""
        found: dict[str, dict[str, int]] = {}
        for path, size, _ in self._entries():
            kind = path.relative_to(self.root).parts[0]
            entry = found.setdefault(kind, {"count": 0, "bytes": 0})
            entry["count"] += 1
            entry["bytes"] += size
        return found

    def free(self, kind: str) -> int:
        """Delete all entries of a kind; returns the bytes freed."""
        freed = 0
        for path, size, _ in self._entries():
            if path.relative_to(self.root).parts[0] == kind:
                path.unlink(missing_ok=True)
                freed += size
        return freed

    def sweep(self) -> None:
        """Bring the size under the limit, the least recently used first."""
        entries = sorted(self._entries(), key=lambda e: e[2])
        total = sum(size for _, size, _ in entries)
        for path, size, _ in entries:
            if total <= self.limit:
                break
            path.unlink(missing_ok=True)
            total -= size

    def _entries(self) -> list[tuple[Path, int, float]]:
        entries = []
        for path in self.root.glob("*/*/*"):
            try:
                facts = path.stat()
            except OSError:
                continue
            entries.append((path, facts.st_size, facts.st_mtime))
        return entries
