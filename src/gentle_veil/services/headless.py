"""A recipe on a clip without a library: follow, compose, prove, write. What `gentle-veil run` does."""

import csv
import io
import json
import re
import tempfile
from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from gentle_veil.core.contracts.report import Report, silent
from gentle_veil.core.contracts.surface_track import SurfaceTrack
from gentle_veil.core.errors import MediaError, RuleError
from gentle_veil.domain.recipe import Recipe
from gentle_veil.media.open_media import probe
from gentle_veil.media.stills import encode_png
from gentle_veil.media.write import write_atomically
from gentle_veil.services.composing import artwork_names, build_layers, composed
from gentle_veil.services.delivering import png_ready
from gentle_veil.services.following import follow, write_track
from gentle_veil.services.proving import ProofBook
from gentle_veil.services.shelf import Shelf
from gentle_veil.services.vector_files import send_out_vectors
from gentle_veil.services.vectors import analyse_vectors, bring_in_vectors
from gentle_veil.services.workspace import media_key_of, open_workspace
from gentle_veil.store.cache import Cache


def parse_frames(text: str) -> tuple[int, int]:
    """``A-B`` or ``A`` as frame numbers. Raises RuleError."""
    match = re.fullmatch(r"\s*(\d+)\s*(?:-\s*(\d+)\s*)?", text)
    if not match or (match[2] and int(match[2]) < int(match[1])):
        raise RuleError(f"'{text}' is not a range of frames; give it like 10-90.")
    return int(match[1]), int(match[2] or match[1])


def run_recipe(
    recipe: Recipe,
    media: Path,
    out: Path,
    *,
    frames: tuple[int, int] | None = None,
    rate: Fraction | None = None,
    gaps: str = "refuse",
    artwork: Path | None = None,
    vectors: Path | None = None,
    report: Report = silent,
) -> dict[str, Any]:
    """Follow every drape, lay every veil, write frames, mattes, tracks and the proof under ``out``.

    Convention: frame numbers are the file's own; the surface is followed to all frames of the range, and to the
                reference and design frames where those lie outside it
    Raises:     MediaError, RuleError, RecipeError
    """
    info = probe(media, rate=rate, gaps=gaps)
    first, last = frames or (info.first_frame, info.last_frame)
    if not info.first_frame <= first <= last <= info.last_frame:
        raise RuleError(
            f"Frames {first}-{last} do not lie within the clip's {info.first_frame}-{info.last_frame}; change --frames."
        )
    with tempfile.TemporaryDirectory(prefix="gentle-veil-") as scratch:
        shelf = _shelf(recipe, artwork, Path(scratch) / "artwork")
        brought = Path(scratch) / "vectors"
        workspace = open_workspace(media, info, media_key_of(media, info), Cache(Path(scratch)), shelf, brought)
        if vectors is not None:
            bring_in_vectors(workspace, sorted(vectors.glob("*.exr")))
        ks = list(range(workspace.k_of(first), workspace.k_of(last) + 1))
        # What carries a holdout comes first: others are followed around it.
        carriers = {h.rides for h in recipe.holdouts if h.enabled}
        for drape in sorted(recipe.drapes, key=lambda d: d.name not in carriers):
            designs = {workspace.k_of(f) for v in recipe.veils if v.drape == drape.name for f in (v.frame, *v.shapes)}
            designs |= {workspace.k_of(f) for h in recipe.holdouts if h.rides == drape.name for f in h.shapes}
            followed = follow(
                workspace, recipe, drape, _between({*ks, *designs}, workspace.k_of(drape.reference)), report=report
            )
            write_track(out / "tracks" / f"{drape.name}.npz", _rows(followed.track, ks).renumbered(info.first_frame))
        layers = build_layers(workspace, recipe, strict=True, report=report)
        book = ProofBook(workspace, layers)
        for i, (k, rendered) in enumerate(composed(workspace, layers, ks)):
            report(i, len(ks), f"composing frame {workspace.frame_of(k)}")
            book.add(k, rendered)
            name = f"{workspace.frame_of(k):05d}.png"
            write_atomically(out / "frames" / name, encode_png(png_ready(rendered.img_raw)))
            for layer in layers:
                matte = np.rint(rendered.matte(layer.name) * 65535).astype(np.uint16)
                write_atomically(out / "mattes" / layer.name / name, encode_png(matte))
        report(len(ks), len(ks), "done")
        proof = book.summed() | {
            "media": info.described(),
            "frames": [first, last],
            "tracks": {d.name: _track_summary(out / "tracks" / f"{d.name}.npz") for d in recipe.drapes},
            "recipe": recipe.written(),
        }
        write_atomically(out / "proof.json", json.dumps(proof, indent=1).encode())
        workspace.frames.close()
    return proof


def write_vectors(
    media: Path, out: Path, quality: str, frames: tuple[int, int] | None = None, *, report: Report = silent
) -> int:
    """The motion of a clip as multi-part EXR files, one per frame. Raises as `run_recipe`."""
    info = probe(media, rate=Fraction(25) if media.is_dir() else None)
    first, last = frames or (info.first_frame, info.last_frame)
    with tempfile.TemporaryDirectory(prefix="gentle-veil-") as scratch:
        root = Path(scratch)
        shelf, cache = Shelf(root / "artwork"), Cache(root)
        workspace = open_workspace(media, info, media_key_of(media, info), cache, shelf, root / "vectors")
        a, b = workspace.k_of(first), workspace.k_of(last)
        analyse_vectors(workspace, a, b, quality, report=report)
        count = send_out_vectors(workspace, out, a, b, quality, report=report)
        workspace.frames.close()
    return count


def _shelf(recipe: Recipe, folder: Path | None, root: Path) -> Shelf:
    """A shelf with the artwork that a recipe names: ``folder`` has a file or a folder of pictures for each name."""
    shelf = Shelf(root)
    for name in sorted({n for v in recipe.veils for n in artwork_names(v)}):
        found = [] if folder is None else sorted(p for p in folder.glob(f"{name}*") if name in (p.name, p.stem))
        if not found:
            raise RuleError(
                f"The recipe names the artwork '{name}', which is not in {folder or 'any folder'}; give "
                "the folder that holds it with --artwork."
            )
        files = sorted(p for p in found[0].iterdir() if p.is_file()) if found[0].is_dir() else [found[0]]
        shelf.add(name, files)
    return shelf


def _between(wanted: set[int], reference: int) -> list[int]:
    """All frames from the reference to the wanted ones: a surface is followed, not jumped to."""
    low, high = min({*wanted, reference}), max({*wanted, reference})
    return list(range(low, high + 1))


def _rows(track: SurfaceTrack, ks: list[int]) -> SurfaceTrack:
    return track.only(np.isin(track.frames, ks))


def _track_summary(path: Path) -> dict[str, int]:
    with np.load(path, allow_pickle=False) as stored:
        names, counts = np.unique(stored["status"], return_counts=True)
    return {str(n): int(c) for n, c in zip(names, counts, strict=True)}


def read_points(path: Path) -> list[tuple[str, float, float]]:
    """Rows of a CSV with the columns id, x, y. Raises MediaError naming the line."""
    try:
        rows = list(csv.DictReader(path.read_text(encoding="utf-8-sig").splitlines()))
    except (OSError, UnicodeDecodeError):
        raise MediaError(f"'{path.name}' cannot be read as text; give a CSV with the columns id,x,y.") from None
    points = []
    for line, row in enumerate(rows, start=2):
        try:
            points.append((str(row["id"]), float(row["x"]), float(row["y"])))
        except (KeyError, TypeError, ValueError):
            raise MediaError(
                f"Line {line} of '{path.name}' is not a point; the columns are id,x,y with numbers for x and y."
            ) from None
    if not points:
        raise MediaError(f"'{path.name}' holds no points; the columns are id,x,y.")
    return points


def carry_points(
    track: SurfaceTrack, points: Iterable[tuple[str, float, float]], *, reference: int | None = None
) -> str:
    """CSV text ``id,frame,x,y,confidence,status`` of points given on a reference frame, on every frame.

    ``reference`` None: the track's first. Another frame of the track may be given too.
    """
    given = list(points)
    xy = np.array([[x, y] for _, x, y in given], np.float64)
    start = track.reference_frames[0] if reference is None else reference
    if start != track.reference_frames[0]:
        row = track.row(start)
        if row is None:
            raise RuleError(
                f"Frame {start} is not in the track; give one of {int(track.frames[0])} to {int(track.frames[-1])}."
            )
        xy = track.to_reference(xy, row)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["id", "frame", "x", "y", "confidence", "status"])
    carried = [(track.carry(xy, row), track.carry_confidence(xy, row)) for row in range(len(track.frames))]
    for i, (name, _, _) in enumerate(given):
        for row, frame in enumerate(track.frames):
            place, conf = carried[row][0][i], carried[row][1][i]
            writer.writerow(
                [
                    name,
                    int(frame),
                    f"{place[0]:.4f}",
                    f"{place[1]:.4f}",
                    f"{conf:.4f}",
                    str(track.status[row]),
                ]
            )
    return out.getvalue()
