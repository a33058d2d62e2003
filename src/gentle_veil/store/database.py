"""Opening the library's database, migrated to the newest schema."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.util import CommandError
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session

from gentle_veil.core.errors import RuleError

MIGRATIONS = Path(__file__).parent / "migrations"


class Database:
    """Sessions over one SQLite file; several processes may use it at once (write-ahead log)."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.url = f"sqlite:///{path}"
        self.engine: Engine = create_engine(self.url, connect_args={"timeout": 30})
        event.listen(self.engine, "connect", _pragmas)

    def migrate(self) -> None:
        """Bring the schema up to date; a library of a newer program is refused, not harmed."""
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        config.set_main_option("sqlalchemy.url", self.url)
        try:
            command.upgrade(config, "head")
        except CommandError:
            raise RuleError("This library was made by a newer version; update Gentle Veil to open it.") from None

    @contextmanager
    def session(self) -> Iterator[Session]:
        """One transaction: committed at the end, undone by any exception."""
        with Session(self.engine, expire_on_commit=False) as session, session.begin():
            yield session


def _pragmas(connection: object, _: object) -> None:
    cursor = connection.cursor()  # type: ignore[attr-defined]
    for pragma in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=NORMAL"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()
