"""The library: a folder with the database, the media, the cache, uploads and deliveries."""

import threading
from collections import OrderedDict
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from gentle_veil.core.errors import NotFoundError
from gentle_veil.services.presets import Presets
from gentle_veil.services.shelf import Shelf
from gentle_veil.services.workspace import Workspace, info_from, open_workspace
from gentle_veil.store.cache import Cache
from gentle_veil.store.database import Database
from gentle_veil.store.tables import ProductionRow, ShotRow

OPEN_CLIPS = 6


class Library:
    """Where everything is. One object per process; safe to use from several threads."""

    def __init__(self, root: Path) -> None:
        self.root = root.resolve()
        self.media = self.root / "media"
        self.inbox = self.root / "inbox"
        self.uploads = self.root / "uploads"
        self.deliveries = self.root / "deliveries"
        for folder in (self.media, self.inbox, self.uploads, self.deliveries):
            folder.mkdir(parents=True, exist_ok=True)
        self.cache = Cache(self.root / "cache")
        self.shelf = Shelf(self.root / "artwork")
        self.presets = Presets(self.root / "presets.json")
        self.db = Database(self.root / "gentle-veil.db")
        self._open: OrderedDict[int, Workspace] = OrderedDict()
        self._lock = threading.Lock()

    def shot(self, session: Session, shot_id: int) -> ShotRow:
        row = session.get(ShotRow, shot_id)
        if row is None:
            raise NotFoundError(f"There is no shot {shot_id} in this library; open it from the list of shots.")
        return row

    def media_path(self, row: ShotRow) -> Path:
        return self.media / row.media

    def workspace(self, shot_id: int) -> Workspace:
        """The opened clip of a shot, kept open for the next time."""
        with self._lock:
            if shot_id in self._open:
                self._open.move_to_end(shot_id)
                return self._open[shot_id]
        with self.db.session() as session:
            row = self.shot(session, shot_id)
        path = self.media_path(row)
        if not path.exists():
            raise NotFoundError(f"The media of shot '{row.name}' is gone from the library; bring it in again.")
        brought = self.root / "vectors" / row.media_key
        opened = open_workspace(path, info_from(row.facts), row.media_key, self.cache, self.shelf, brought)
        with self._lock:
            self._open[shot_id] = opened
            while len(self._open) > OPEN_CLIPS:
                self._open.popitem(last=False)[1].frames.close()
        return opened

    def forget(self, shot_id: int) -> None:
        """Close a clip that is about to be removed."""
        with self._lock:
            opened = self._open.pop(shot_id, None)
        if opened is not None:
            opened.frames.close()

    def production(self, session: Session, name: str, note: str = "") -> ProductionRow:
        """The production of that name, made if it is not there."""
        row = session.scalar(select(ProductionRow).where(ProductionRow.name == name))
        if row is None:
            row = ProductionRow(name=name, note=note)
            session.add(row)
            session.flush()
        return row
