"""The tables: shots, their revisions, jobs and deliveries."""

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import JSON, ForeignKey, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


def now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


class Base(DeclarativeBase):
    type_annotation_map = {dict[str, Any]: JSON, list[Any]: JSON}  # noqa: RUF012


class ProductionRow(Base):
    __tablename__ = "production"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(200), unique=True)
    note: Mapped[str] = mapped_column(Text, default="")


class ShotRow(Base):
    """``media`` is a path inside the library's media folder; ``facts`` the MediaInfo as data."""

    __tablename__ = "shot"
    id: Mapped[int] = mapped_column(primary_key=True)
    production_id: Mapped[int] = mapped_column(ForeignKey("production.id"))
    name: Mapped[str] = mapped_column(String(200))
    media: Mapped[str] = mapped_column(Text)
    media_key: Mapped[str] = mapped_column(String(64))
    facts: Mapped[dict[str, Any]]
    note: Mapped[str] = mapped_column(Text, default="")
    in_frame: Mapped[int]
    out_frame: Mapped[int]
    head_id: Mapped[int | None] = mapped_column(default=None)
    created: Mapped[datetime] = mapped_column(default=now)


class RevisionRow(Base):
    """One state of a shot's recipe. A version is a revision with a name."""

    __tablename__ = "revision"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id", ondelete="CASCADE"), index=True)
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("revision.id"), default=None)
    label: Mapped[str] = mapped_column(String(200))
    recipe: Mapped[dict[str, Any]]
    version_name: Mapped[str | None] = mapped_column(String(200), default=None)
    created: Mapped[datetime] = mapped_column(default=now)


class JobRow(Base):
    """Long work. ``arguments`` are ids and settings, never pictures."""

    __tablename__ = "job"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(String(40))
    shot_id: Mapped[int | None] = mapped_column(ForeignKey("shot.id", ondelete="CASCADE"), default=None)
    title: Mapped[str] = mapped_column(String(200))
    arguments: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(String(20), default="pending", index=True)
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    doing: Mapped[str] = mapped_column(String(200), default="")
    error: Mapped[str] = mapped_column(Text, default="")
    result: Mapped[dict[str, Any]] = mapped_column(default=dict)
    attempts: Mapped[int] = mapped_column(default=0)
    stop_asked: Mapped[bool] = mapped_column(default=False)
    created: Mapped[datetime] = mapped_column(default=now)
    started: Mapped[datetime | None] = mapped_column(default=None)
    beat: Mapped[datetime | None] = mapped_column(default=None)
    finished: Mapped[datetime | None] = mapped_column(default=None)


class DeliveryRow(Base):
    """An export of one revision: where, with which settings, and what was written."""

    __tablename__ = "delivery"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id", ondelete="CASCADE"), index=True)
    revision_id: Mapped[int] = mapped_column(ForeignKey("revision.id"))
    job_id: Mapped[int | None] = mapped_column(default=None)
    settings: Mapped[dict[str, Any]]
    path: Mapped[str] = mapped_column(Text)
    state: Mapped[str] = mapped_column(String(20), default="pending")
    checksums: Mapped[dict[str, Any]] = mapped_column(default=dict)
    created: Mapped[datetime] = mapped_column(default=now)
