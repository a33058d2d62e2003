"""Per-frame facts of a shot, computed once as a job: sharpness, motion, exposure, and pictures for looking."""

from dataclasses import asdict
from typing import Any

from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.measure.frame_stats import FrameStats, StatsMeter, propose_references
from gentle_veil.services.views import keep_view
from gentle_veil.services.workspace import Workspace

STATS_CODE = "1"


def stats_key(workspace: Workspace) -> str:
    return f"{workspace.media_key}{STATS_CODE}"


def analyse(workspace: Workspace, *, report: Report = silent) -> dict[str, Any]:
    """Walk the clip once: stats of every frame, and its picture into the view cache."""
    known = workspace.cache.get_json("stats", stats_key(workspace))
    if known is not None:
        return known  # type: ignore[no-any-return]
    meter = StatsMeter(workspace.frames.encoding)
    stats: list[FrameStats] = []
    total = len(workspace.frames)
    for k in range(total):
        report(k, total, f"looking at frame {workspace.frame_of(k)}")
        stats.append(meter.add(workspace.frames[k]))
        keep_view(workspace, k)
    result: dict[str, Any] = {
        name: [round(getattr(s, name), 5) for s in stats] for name in ("sharpness", "motion", "exposure", "clipped")
    }
    result["proposals"] = [{**asdict(p), "frame": workspace.frame_of(p.k)} for p in propose_references(stats)]
    workspace.cache.put_json("stats", stats_key(workspace), result)
    report(total, total, "looked at every frame")
    return result


def known_stats(workspace: Workspace) -> dict[str, Any] | None:
    return workspace.cache.get_json("stats", stats_key(workspace))
