"""The proof of a revision: figures per veil and frame, with a verdict and what to do."""

from dataclasses import asdict
from typing import Any

import numpy as np

from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.measure.coverage import Coverage, measure_coverage
from gentle_veil.core.measure.proof import ADVICE, VeilFigures, flicker_series, judge, measure_veil
from gentle_veil.core.render import Layer, Rendered
from gentle_veil.domain.keys import content_key
from gentle_veil.domain.recipe import Recipe
from gentle_veil.media.stills import for_screen
from gentle_veil.services.composing import build_layers, composed, layer_keys
from gentle_veil.services.workspace import Workspace

ORDER = {"pass": 0, "caution": 1, "fail": 2}


class ProofBook:
    """Collects figures frame by frame, in any order, and sums them up."""

    def __init__(self, workspace: Workspace, layers: tuple[Layer, ...]) -> None:
        self._workspace = workspace
        self._layers = {layer.name: layer for layer in layers}
        self._rows: dict[str, dict[int, VeilFigures]] = {name: {} for name in self._layers}
        self._unlaid: dict[str, dict[int, str]] = {name: {} for name in self._layers}
        self._untouched_differ = 0
        self._coverage: dict[str, dict[int, list[Coverage]]] = {name: {} for name in self._layers}

    def add(self, k: int, rendered: Rendered) -> None:
        result_enc = self._workspace.frames.encoding.to_encoded(rendered.img_raw)
        laid = {entry.name: entry for entry in rendered.laid}
        total = np.zeros(rendered.img_raw.shape[:2], bool)
        for name, layer in self._layers.items():
            row = layer.placement.track.row(k)
            if name in laid and row is not None:
                figures = measure_veil(result_enc, laid[name], layer.placement.track, row)
                if figures is not None:
                    self._rows[name][k] = figures
                x0, y0, x1, y1 = laid[name].patch.box
                total[y0:y1, x0:x1] |= laid[name].matte > 0
            elif layer.placement.track.status_at(k) not in ("ok", "weak"):
                self._unlaid[name][k] = layer.placement.track.status_at(k)
            people, hidden = layer.placement.people, layer.prepared.get("hidden")
            if people is not None and hidden:
                shown = for_screen(rendered.img_raw, self._workspace.frames.encoding)
                self._coverage[name][k] = measure_coverage(shown, rendered.matte(name), people, hidden, k)
        source = self._workspace.frames[k]
        self._untouched_differ += int((rendered.img_raw != source).any(axis=2)[~total].sum())

    def summed(self) -> dict[str, Any]:
        """The proof as plain data; frame numbers are the file's own."""
        veils = {name: self._one(name) for name in self._layers}
        verdicts = [v["verdict"] for v in veils.values()]
        if self._untouched_differ:
            verdicts.append("fail")
        return {
            "format": "gentle-veil-proof",
            "version": 1,
            "verdict": max(verdicts, key=lambda v: ORDER[v]) if verdicts else "pass",
            "untouched_pixels_that_differ": self._untouched_differ,
            "veils": veils,
        }

    def _one(self, name: str) -> dict[str, Any]:
        rows, asked = self._rows[name], self._layers[name].kind.judged
        order = sorted(rows)
        flicker = flicker_series(np.array([rows[k].level for k in order]))
        frames = []
        for k, jump in zip(order, flicker, strict=True):
            figures = {
                **{n: round(v, 4) for n, v in asdict(rows[k]).items()},
                "flicker": round(float(jump), 4),
            }
            verdicts = [judge(n, figures[n]) for n in asked]
            worst = max(verdicts, key=lambda v: ORDER[v], default="pass")
            frames.append({"frame": self._workspace.frame_of(k), **figures, "verdict": worst})
        medians = {n: float(np.median([f[n] for f in frames])) for n in asked} if frames else {}
        judged = {n: judge(n, v) for n, v in medians.items()}
        verdict = max(judged.values(), key=lambda v: ORDER[v], default="caution" if asked else "pass")
        uncovered = {str(self._workspace.frame_of(k)): s for k, s in sorted(self._unlaid[name].items())}
        if any(s == "lost" for s in uncovered.values()):
            verdict = "fail"
        elif verdict == "pass" and any(f["verdict"] == "fail" for f in frames):
            verdict = "caution"
        advice = [f"{n}: {ADVICE[n]}" for n, v in judged.items() if v != "pass"]
        if uncovered:
            advice.append("track: nothing is laid where the drape is lost or outside; follow or correct it there")
        prepared = self._layers[name].prepared
        coverage = self._covered(name)
        if coverage is not None:
            verdict = coverage["verdict"]
            advice += coverage.pop("advice")
        return {
            "verdict": verdict,
            "medians": {n: round(v, 4) for n, v in medians.items()},
            "advice": advice,
            "why_donor": prepared.get("why", ""),
            "coverage": coverage,
            "not_laid": uncovered,
            "frames": frames,
        }

    def _covered(self, name: str) -> dict[str, Any] | None:
        """The coverage proof of a veil that hides faces."""
        rows = self._coverage[name]
        if not rows:
            return None
        frame_of = self._workspace.frame_of
        bared = [frame_of(k) for k, faces in sorted(rows.items()) if any(f.share < 1 for f in faces)]
        found = [frame_of(k) for k, faces in sorted(rows.items()) if any(f.found for f in faces)]
        verdict = "fail" if bared else "caution" if found else "pass"
        advice = ["coverage: raise the margin, some part of a face is bared"] if bared else []
        advice += ["found again: a finder takes some frames for a face; choose blur or larger cells"] if found else []
        return {
            "verdict": verdict,
            "advice": advice,
            "least_share": round(min((f.share for faces in rows.values() for f in faces), default=1.0), 4),
            "frames_bared": bared,
            "frames_found_again": found,
            "frames": [
                {
                    "frame": frame_of(k),
                    "faces": {
                        f.name: {"covered": round(f.share, 4), "found_again": f.found, "seen": f.seen} for f in faces
                    },
                }
                for k, faces in sorted(rows.items())
            ],
        }


def prove(workspace: Workspace, recipe: Recipe, ks: list[int], *, report: Report = silent) -> dict[str, Any]:
    """Compose and measure frames ``ks`` (from 0); kept by content."""
    layers = build_layers(workspace, recipe, report=report)
    key = content_key("proof-5", workspace.media_key, layer_keys(workspace, recipe), ks)
    known = workspace.cache.get_json("proof", key)
    if known is not None:
        return known  # type: ignore[no-any-return]
    book = ProofBook(workspace, layers)
    for i, (k, rendered) in enumerate(composed(workspace, layers, ks)):
        report(i, len(ks), f"measuring frame {workspace.frame_of(k)}")
        book.add(k, rendered)
    proof = book.summed()
    workspace.cache.put_json("proof", key, proof)
    report(len(ks), len(ks), "measured")
    return proof


def known_proof(workspace: Workspace, recipe: Recipe, ks: list[int]) -> dict[str, Any] | None:
    """The proof of exactly this state, if it has been made."""
    keys = layer_keys(workspace, recipe)
    return (
        None
        if keys is None
        else workspace.cache.get_json("proof", content_key("proof-5", workspace.media_key, keys, ks))
    )
