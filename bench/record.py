"""Write a benchmark's figures with what is needed to compare them later."""

import json
import platform
import subprocess
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from gentle_veil.core.contracts.surface_track import SurfaceTrack

ROOT = Path(__file__).resolve().parent.parent
RESULTS = ROOT / "bench" / "results"


def _cpu() -> str:
    for line in Path("/proc/cpuinfo").read_text().splitlines():
        if line.startswith("model name"):
            return line.split(":", 1)[1].strip()
    return platform.processor()


def scratch() -> "tempfile.TemporaryDirectory[str]":
    """A folder for caches, gone afterwards, so that nothing is measured warm."""
    return tempfile.TemporaryDirectory(prefix="gentle-veil-bench-")


def statuses(track: SurfaceTrack) -> dict[str, int]:
    """On how many frames a track is ok, weak, lost and so on."""
    names, counts = np.unique(track.status, return_counts=True)
    return {str(n): int(c) for n, c in zip(names, counts, strict=True)}


def write(name: str, figures: dict[str, Any]) -> None:
    commit = subprocess.run(["git", "rev-parse", "--short", "HEAD"], cwd=ROOT, capture_output=True, text=True)
    record = {
        "name": name,
        "commit": commit.stdout.strip(),
        "when": datetime.now(UTC).isoformat(timespec="seconds"),
        "machine": {"cpu": _cpu(), "python": platform.python_version(), "system": platform.system()},
        "figures": figures,
    }
    RESULTS.mkdir(exist_ok=True)
    (RESULTS / f"{name}.json").write_text(json.dumps(record, indent=1) + "\n")
    print(json.dumps(figures, indent=1))
