"""Settings of veils that are kept for other shots."""

import json
import threading
from pathlib import Path
from typing import Any

from gentle_veil.core.errors import NotFoundError, RuleError
from gentle_veil.core.veils import VEILS
from gentle_veil.domain.checks import read_recipe
from gentle_veil.media.write import write_atomically


class Presets:
    """A JSON file of named settings, each for one kind of veil. Thread-safe."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = threading.Lock()

    def listing(self) -> list[dict[str, Any]]:
        """``{"name", "kind", "settings"}``, by name; a file that cannot be read counts as empty."""
        try:
            stored: list[dict[str, Any]] = json.loads(self._path.read_text())
        except (OSError, json.JSONDecodeError):
            return []
        return sorted(stored, key=lambda p: str(p["name"]))

    def keep(self, name: str, kind: str, settings: dict[str, Any]) -> None:
        """Keep settings under a name; one of that name is replaced. Raises RuleError or RecipeError, keeping nothing"""
        name = name.strip()
        if not name:
            raise RuleError("A preset needs a name, for example 'soft skin'.", code="name")
        if kind not in VEILS:
            raise RuleError(f"'{kind}' is none of {', '.join(VEILS)}.", code="kind")
        outline = [[0, 0], [1, 0], [0, 1]]
        trial = {"name": "trial", "kind": kind, "drape": "trial", "frame": 0, "outline": outline, **settings}
        read_recipe(
            {
                "drapes": [{"name": "trial", "reference_frames": [0], "outline": {"0": outline}}],
                "veils": [trial],
            }
        )
        with self._lock:
            others = [p for p in self.listing() if p["name"] != name]
            self._write([*others, {"name": name, "kind": kind, "settings": settings}])

    def forget(self, name: str) -> None:
        """Raises NotFoundError."""
        with self._lock:
            presets = self.listing()
            left = [p for p in presets if p["name"] != name]
            if len(left) == len(presets):
                raise NotFoundError(f"There is no preset '{name}'; it may have been forgotten already.")
            self._write(left)

    def _write(self, presets: list[dict[str, Any]]) -> None:
        write_atomically(self._path, json.dumps(presets, indent=1).encode())
