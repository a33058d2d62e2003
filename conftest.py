"""Fixtures shared by all tests: small synthetic clips with truth, and a studio that reads as the workflow does."""

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import pytest

from gentle_veil.core.synth.planar import PlanarSequence, planar_sequence
from gentle_veil.core.synth.spots import spotted
from gentle_veil.jobs.runner import InlineExecutor, JobRunner
from gentle_veil.media.open_media import probe
from gentle_veil.services import recipes
from gentle_veil.services.bringing_in import bring_in
from gentle_veil.services.library import Library
from gentle_veil.services.shelf import Shelf
from gentle_veil.services.workspace import media_key_of, open_workspace
from gentle_veil.store.cache import Cache
from gentle_veil.wiring import Config, create, open_library

MARK = (150.0, 118.0)
MARK_RADIUS = 6.0


def ring(centre: tuple[float, float], radius: float, count: int = 10) -> list[list[float]]:
    """A circle as outline points."""
    angles = np.arange(count) * 2 * np.pi / count
    return [[centre[0] + radius * float(np.cos(a)), centre[1] + radius * float(np.sin(a))] for a in angles]


def write_movie(
    path: Path,
    frames: np.ndarray,
    *,
    rate: Fraction = Fraction(25),
    gop: int = 12,
    b_frames: int = 2,
    pts: list[int] | None = None,
    time_base: Fraction | None = None,
    options: dict[str, str] | None = None,
) -> Path:
    """H.264 of frames (T, H, W, 3) uint8, long-GOP with B-frames unless told otherwise."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=rate)
        stream.width, stream.height = frames.shape[2], frames.shape[1]
        stream.pix_fmt = "yuv420p"
        stream.gop_size, stream.codec_context.max_b_frames = gop, b_frames
        stream.options = {"crf": "12", "preset": "veryfast", **(options or {})}
        context = stream.codec_context
        context.color_primaries = context.color_trc = context.colorspace = 1
        context.color_range = 1
        if time_base is not None:
            stream.time_base = context.time_base = time_base
        for k, picture in enumerate(frames):
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24").reformat(
                format="yuv420p", dst_colorspace="ITU709", dst_color_range="MPEG"
            )
            frame.pts = k if pts is None else pts[k]
            frame.time_base = time_base or 1 / rate
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    return path


@dataclass(frozen=True)
class SpottedShot:
    """A planar skin sequence with a mark on it, its twin without, and the exact motion."""

    marked: np.ndarray
    clean: np.ndarray
    cover: np.ndarray  # (T, H, W) of the mark
    frame_from_ref: np.ndarray


@pytest.fixture(scope="session")
def skin() -> PlanarSequence:
    return planar_sequence("weak_skin", seed=5, count=16, width=320, height=240, travel=10.0)


@pytest.fixture(scope="session")
def spotted_shot() -> SpottedShot:
    sequence = planar_sequence("weak_skin", seed=8, count=16, width=320, height=240, travel=10.0)
    marked, cover = spotted(sequence, MARK, MARK_RADIUS)
    return SpottedShot(marked, sequence.frames, cover, sequence.frame_from_ref)


@pytest.fixture(scope="session")
def movie_path(spotted_shot: SpottedShot, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_movie(tmp_path_factory.mktemp("clips") / "skin.mp4", spotted_shot.marked)


@pytest.fixture
def workspace(movie_path: Path, tmp_path: Path):
    info = probe(movie_path)
    opened = open_workspace(
        movie_path,
        info,
        media_key_of(movie_path, info),
        Cache(tmp_path / "cache"),
        Shelf(tmp_path / "artwork"),
        tmp_path / "vectors",
    )
    yield opened
    opened.frames.close()


def spot_recipe(frame: int = 0) -> dict[str, Any]:
    """A recipe written by hand with only what is necessary."""
    return {
        "format": "gentle-veil-recipe",
        "version": 1,
        "drapes": [{"name": "skin", "reference_frames": [frame], "outline": {str(frame): ring(MARK, 70)}}],
        "veils": [
            {
                "name": "spot",
                "kind": "conceal",
                "drape": "skin",
                "frame": frame,
                "outline": ring(MARK, MARK_RADIUS + 3),
                "feather": 3,
            }
        ],
    }


class Studio:
    """Drives a library the way a person would: ``studio.shot().edit(...).job("follow")``."""

    def __init__(self, root: Path, movie: Path) -> None:
        self.root = root
        self.library: Library = open_library(root)
        self.runner = JobRunner(self.library, InlineExecutor())
        self.movie = movie
        self.id = 0

    def shot(self) -> "Studio":
        inbox = self.library.inbox / self.movie.name
        inbox.write_bytes(self.movie.read_bytes())
        self.id = bring_in(self.library, {"inbox": self.movie.name})
        return self

    def edit(self, document: dict[str, Any], label: str = "edit") -> "Studio":
        recipes.edit(self.library, self.id, document, label)
        return self

    def job(self, kind: str, **arguments: Any) -> dict[str, Any]:
        from gentle_veil.jobs.runner import job_facts
        from gentle_veil.store.tables import JobRow

        given = {"revision": recipes.current(self.library, self.id).id, "first": 0, "last": 15, **arguments}
        job_id = self.runner.submit(kind, self.id, kind, given)
        with self.library.db.session() as session:
            row = session.get(JobRow, job_id)
            assert row is not None
            return job_facts(row)

    def client(self):
        app, _ = create(Config(library=self.root), self.runner)
        app.testing = True
        return app.test_client()


@pytest.fixture
def studio(tmp_path: Path, movie_path: Path) -> Studio:
    return Studio(tmp_path / "library", movie_path)


@pytest.fixture
def still_folder(tmp_path: Path, spotted_shot: SpottedShot) -> Path:
    """A PNG sequence numbered from 1001."""
    folder = tmp_path / "plates"
    folder.mkdir()
    for k in range(6):
        cv2.imwrite(str(folder / f"plate.{1001 + k}.png"), spotted_shot.marked[k][..., ::-1])
    return folder
