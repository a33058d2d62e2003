"""Bring a clip into the library: from an upload or from the library's inbox folder."""

import re
import secrets
import shutil
from pathlib import Path
from typing import Any, BinaryIO

from sqlalchemy import select

from gentle_veil.core.errors import MediaError, NotFoundError, RuleError
from gentle_veil.media.info import MediaInfo, parse_rate
from gentle_veil.media.open_media import probe
from gentle_veil.media.sequence import sequence_files, spans_text
from gentle_veil.media.stills import SUFFIXES
from gentle_veil.services.library import Library
from gentle_veil.services.recipes import begin
from gentle_veil.services.workspace import facts_of, media_key_of
from gentle_veil.store.tables import DeliveryRow, JobRow, RevisionRow, ShotRow

MOVIE_SUFFIXES = (".mp4", ".mov", ".mkv", ".webm", ".avi", ".mxf", ".m4v", ".mpg", ".mpeg", ".ts", ".ogv")
SAFE_NAME = re.compile(r"[^A-Za-z0-9._ -]+")
SPARE_BYTES = 200_000_000  # left free for the cache and the database
CHUNK = 1 << 20
DEFAULT_PRODUCTION = "My shots"


def safe_name(name: str) -> str:
    """A file name with nothing in it that a path could abuse."""
    cleaned = SAFE_NAME.sub("_", Path(name.replace("\\", "/")).name).strip(" .")
    return cleaned[:120] or "clip"


def begin_upload(library: Library) -> str:
    """A fresh place for the files of one clip."""
    token = secrets.token_hex(8)
    (library.uploads / token).mkdir()
    return token


def _upload_folder(library: Library, token: str) -> Path:
    folder = library.uploads / token
    if not re.fullmatch(r"[0-9a-f]{16}", token) or not folder.is_dir():
        raise NotFoundError("This upload is no longer there; start it again.")
    return folder


def store_upload(library: Library, token: str, name: str, stream: BinaryIO, length: int | None) -> None:
    """Write one file of an upload. A broken stream or a full disk leaves no trace of it."""
    folder = _upload_folder(library, token)
    room = shutil.disk_usage(library.root).free - SPARE_BYTES
    if length is not None and length > room:
        raise MediaError(
            f"There is no space for '{name}': it needs {length / 1e6:.0f} MB and {max(room, 0) / 1e6:.0f} MB are free. "
            "Make room and try again.",
            code="no_space",
        )
    target = folder / safe_name(name)
    aside = target.with_name(target.name + ".part")
    written = 0
    try:
        with aside.open("wb") as file:
            while chunk := stream.read(CHUNK):
                file.write(chunk)
                written += len(chunk)
        if length is not None and written != length:
            raise MediaError(
                f"The upload of '{name}' broke off after {written} of {length} bytes; send it again.",
                code="broken_off",
            )
        aside.replace(target)
    except OSError:
        aside.unlink(missing_ok=True)
        raise MediaError(f"There is no space for '{name}'; make room and try again.", code="no_space") from None
    except BaseException:
        aside.unlink(missing_ok=True)
        raise


def uploaded_files(library: Library, token: str) -> list[Path]:
    """The whole files of an upload, by name."""
    return sorted(p for p in _upload_folder(library, token).iterdir() if p.is_file() and p.suffix != ".part")


def drop_upload(library: Library, token: str) -> None:
    """Forget an upload and its files."""
    shutil.rmtree(_upload_folder(library, token), ignore_errors=True)


def _clip_path(folder: Path) -> Path:
    """The clip in an upload's folder: its one movie, or the folder itself when it holds a sequence."""
    files = sorted(p for p in folder.iterdir() if p.is_file())
    stills = [p for p in files if p.suffix.lower() in SUFFIXES]
    if not files:
        raise MediaError("Nothing was uploaded; choose a movie or the pictures of a sequence.", code="empty")
    if len(files) == 1 and not stills:
        return files[0]
    if len(stills) == len(files):
        return folder
    raise MediaError(
        "Movies and pictures were sent together; bring in one movie, or the pictures of one sequence.",
        code="mixed",
    )


def source_path(library: Library, source: dict[str, str]) -> Path:
    """The clip that ``{"upload": token}`` or ``{"inbox": relative path}`` names; never outside these folders."""
    if "upload" in source:
        return _clip_path(_upload_folder(library, source["upload"]))
    wanted = (library.inbox / source.get("inbox", "")).resolve()
    if not wanted.is_relative_to(library.inbox.resolve()) or wanted == library.inbox.resolve() or not wanted.exists():
        raise NotFoundError("This clip is not in the library's inbox folder; put it there and look again.")
    return wanted


def inbox_clips(library: Library) -> list[dict[str, str]]:
    """Movies and sequence folders that lie in the inbox."""
    found = []
    for path in sorted(library.inbox.rglob("*")):
        relative = str(path.relative_to(library.inbox))
        if path.is_file() and path.suffix.lower() in MOVIE_SUFFIXES:
            found.append({"path": relative, "kind": "movie"})
        elif path.is_dir() and any(p.suffix.lower() in SUFFIXES for p in path.iterdir()):
            found.append({"path": relative, "kind": "sequence"})
    return found


def look_into(library: Library, source: dict[str, str]) -> dict[str, Any]:
    """What a clip is, before it is brought in: its facts, and what has to be asked."""
    path = source_path(library, source)
    info = probe(path, gaps="ask")
    facts = info.described()
    facts["name"] = _default_name(path, info)
    facts["needs_rate"] = info.rate is None
    facts["missing"] = list(info.held)
    facts["missing_text"] = spans_text(info.held)
    return facts


def _default_name(path: Path, info: MediaInfo) -> str:
    if info.kind == "sequence":
        first = next(iter(sequence_files(path).values()))
        stem = re.sub(r"\d+$", "", first.stem).strip("._- ")
        return stem or path.name
    return path.stem


def bring_in(
    library: Library,
    source: dict[str, str],
    *,
    name: str | None = None,
    rate: str | None = None,
    gaps: str = "refuse",
    first_frame: int | None = None,
    production: str = DEFAULT_PRODUCTION,
    note: str = "",
) -> int:
    """Bring a clip in; returns the shot's id.

    Raises: MediaError or RuleError with one sentence; then nothing of the clip stays in the library
    """
    path = source_path(library, source)
    try:
        wanted_rate = None if rate in (None, "") else parse_rate(str(rate))
    except ValueError as fault:
        raise RuleError(str(fault), code="rate") from None
    info = probe(path, rate=wanted_rate, gaps=gaps, first_frame=first_frame)
    if info.rate is None:
        raise RuleError(
            "A sequence of pictures says nothing about its speed; give its frame rate, for example 24 or 30000/1001.",
            code="needs_rate",
        )
    files = list(sequence_files(path).values()) if path.is_dir() else [path]
    size = sum(f.stat().st_size for f in files)
    if size > shutil.disk_usage(library.root).free - SPARE_BYTES:
        raise MediaError(
            f"There is no space for the clip ({size / 1e6:.0f} MB); make room and try again.", code="no_space"
        )
    folder = library.media / secrets.token_hex(6)
    folder.mkdir()
    try:
        move = "upload" in source
        for file in files:
            target = folder / safe_name(file.name)
            if move:
                file.replace(target)
            else:
                shutil.copy2(file, target)
        kept = folder if path.is_dir() else folder / safe_name(path.name)
        shot_id = _add_shot(library, kept, info, name or _default_name(kept, info), production, note)
    except OSError:
        shutil.rmtree(folder, ignore_errors=True)
        raise MediaError(
            "The clip could not be copied into the library: the disk is full. Make room.", code="no_space"
        ) from None
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    if "upload" in source:
        drop_upload(library, source["upload"])
    return shot_id


def _add_shot(library: Library, kept: Path, info: MediaInfo, name: str, production: str, note: str) -> int:
    key = media_key_of(kept, info)
    with library.db.session() as session:
        owner = library.production(session, production)
        row = ShotRow(
            production_id=owner.id,
            name=name[:200],
            media=str(kept.relative_to(library.media)),
            media_key=key,
            facts=facts_of(info),
            note=note,
            in_frame=info.first_frame,
            out_frame=info.last_frame,
        )
        session.add(row)
        session.flush()
        begin(session, row)
        return row.id


def remove_shot(library: Library, shot_id: int) -> None:
    """Take a shot, its revisions and its media out of the library. Deliveries stay on disk."""
    library.forget(shot_id)
    with library.db.session() as session:
        row = library.shot(session, shot_id)
        folder = library.media_path(row)
        folder = folder if folder.is_dir() else folder.parent
        row.head_id = None
        session.flush()
        for table in (DeliveryRow, JobRow):
            for dependent in session.scalars(select(table).where(table.shot_id == shot_id)):
                session.delete(dependent)
        session.flush()
        for revision in session.scalars(
            select(RevisionRow).where(RevisionRow.shot_id == shot_id).order_by(RevisionRow.id.desc())
        ):
            session.delete(revision)
            session.flush()
        session.delete(row)
    if folder.is_relative_to(library.media) and folder != library.media:
        shutil.rmtree(folder, ignore_errors=True)


def set_range(library: Library, shot_id: int, in_frame: int, out_frame: int) -> None:
    """The part of the shot that needs work; frame numbers are the file's own, both ends included."""
    with library.db.session() as session:
        row = library.shot(session, shot_id)
        first, last = row.facts["first_frame"], row.facts["first_frame"] + row.facts["frame_count"] - 1
        if not first <= in_frame <= out_frame <= last:
            raise RuleError(f"The range {in_frame} to {out_frame} does not lie within the shot's {first} to {last}.")
        row.in_frame, row.out_frame = in_frame, out_frame


def set_rate(library: Library, shot_id: int, rate: str) -> None:
    """Correct the frame rate that a sequence was given. Pictures and tracks do not depend on it."""
    try:
        exact = parse_rate(rate)
    except ValueError as fault:
        raise RuleError(str(fault), code="rate") from None
    with library.db.session() as session:
        row = library.shot(session, shot_id)
        row.facts = {**row.facts, "rate": str(exact)}
    library.forget(shot_id)
