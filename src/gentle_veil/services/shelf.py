"""The shelf: artwork that veils put on surfaces, kept once and named in recipes."""

import hashlib
import json
import re
import shutil
from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from gentle_veil.core.colour.transfer import ENCODE
from gentle_veil.core.errors import MediaError, NotFoundError, RuleError
from gentle_veil.media.artwork import MOVIES, STILLS, Alpha, Artwork
from gentle_veil.media.info import parse_rate
from gentle_veil.media.stills import encode_png
from gentle_veil.media.write import write_atomically

ABOUT = "about.json"
NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9 _.\-]{0,63}")
THUMB_SIDE = 160


class Shelf:
    """A folder with one folder for each piece of artwork: its files, and ``about.json``."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._open: dict[str, tuple[str, Artwork]] = {}

    def add(self, name: str, files: list[Path], *, alpha: Alpha = "told", rate: str | None = None) -> str:
        """Put a piece on the shelf; the files are copied. Returns its name.

        Raises: MediaError or RuleError with one sentence; then nothing of it stays on the shelf
        """
        name = name.strip()
        if not NAME.fullmatch(name):
            raise RuleError(
                "Artwork needs a name of letters, digits, spaces, dots and dashes, at most 64.", code="name"
            )
        suffixes = {f.suffix.lower() for f in files}
        if not files or not suffixes <= {*STILLS, *MOVIES} or (len(files) > 1 and suffixes & set(MOVIES)):
            raise MediaError(
                "Artwork is one picture, one movie or the pictures of one sequence; choose files of these types: "
                f"{', '.join(s[1:] for s in STILLS + MOVIES)}.",
                code="mixed",
            )
        folder, aside = self.root / name, self.root / f".{name}.part"
        if folder.exists():
            raise RuleError(f"There is a piece of artwork '{name}' already; choose another name.", code="name")
        try:
            exact = None if rate is None else parse_rate(rate)
        except ValueError as fault:
            raise RuleError(str(fault), code="rate") from None
        shutil.rmtree(aside, ignore_errors=True)
        aside.mkdir(parents=True)
        try:
            for file in files:
                shutil.copy2(file, aside / file.name)
            piece = Artwork(sorted(aside / f.name for f in files), alpha, exact)
            about = {
                "files": sorted(f.name for f in files),
                "alpha": alpha,
                "rate": None if exact is None else str(exact),
                "size": list(piece.size),
                "count": piece.count,
                "content": _hash(sorted(aside / f.name for f in files)),
            }
            write_atomically(aside / ABOUT, json.dumps(about, indent=1).encode())
            write_atomically(aside / ".thumb.png", _thumb(piece))
            aside.replace(folder)
        except BaseException:
            shutil.rmtree(aside, ignore_errors=True)
            raise
        return name

    def listing(self) -> list[dict[str, Any]]:
        """What lies on the shelf, by name."""
        if not self.root.is_dir():
            return []
        return [{"name": p.name, **self.about(p.name)} for p in sorted(self.root.iterdir()) if (p / ABOUT).is_file()]

    def about(self, name: str) -> dict[str, Any]:
        """Facts of a piece. Raises NotFoundError."""
        path = self.root / name / ABOUT
        if not NAME.fullmatch(name) or not path.is_file():
            raise NotFoundError(f"There is no artwork '{name}' on the shelf; bring it in, or choose another.")
        facts: dict[str, Any] = json.loads(path.read_text())
        return facts

    def content(self, name: str) -> str:
        """A hash of a piece's bytes and of how they are read; empty where there is no such piece."""
        try:
            about = self.about(name)
        except NotFoundError:
            return ""
        return f"{about['content']} {about['alpha']} {about['rate']}"

    def picture(self, name: str) -> Artwork:
        """A piece, open. Raises NotFoundError, MediaError"""
        about, content = self.about(name), self.content(name)
        known = self._open.get(name)
        if known is None or known[0] != content:
            files = [self.root / name / f for f in about["files"]]
            known = (
                content,
                Artwork(files, about["alpha"], None if about["rate"] is None else Fraction(about["rate"])),
            )
            self._open[name] = known
        return known[1]

    def thumb(self, name: str) -> bytes:
        """A small PNG of a piece."""
        self.about(name)
        return (self.root / name / ".thumb.png").read_bytes()

    def remove(self, name: str) -> None:
        """Take a piece off the shelf. Veils that name it are left out until there is one of that name again."""
        self.about(name)
        self._open.pop(name, None)
        shutil.rmtree(self.root / name)


def _hash(files: Iterable[Path]) -> str:
    digest = hashlib.sha256()
    for file in files:
        digest.update(file.name.encode())
        digest.update(file.read_bytes())
    return digest.hexdigest()[:32]


def _thumb(piece: Artwork) -> bytes:
    picture = piece.frame(0)
    step = max(1, max(piece.size) // THUMB_SIDE)
    h, w = (s // step * step for s in picture.shape[:2])
    small = picture[:h, :w].reshape(h // step, step, w // step, step, 4).mean(axis=(1, 3))
    alpha = small[..., 3:]
    colour = np.divide(small[..., :3], alpha, out=np.zeros_like(small[..., :3]), where=alpha > 0)
    encoded = np.concatenate([np.clip(ENCODE["srgb"](colour), 0, 1), alpha], axis=-1)
    return encode_png(np.rint(encoded * 255).astype(np.uint8))
