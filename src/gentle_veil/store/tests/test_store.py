"""The cache keeps whole entries and its bound; the migrations make exactly the tables."""

import os
from pathlib import Path

import numpy as np
import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import text

from gentle_veil.core.errors import RuleError
from gentle_veil.store.cache import Cache
from gentle_veil.store.database import Database
from gentle_veil.store.tables import Base, ProductionRow


def test_cache__arrays_and_json_come_back(tmp_path: Path) -> None:
    cache = Cache(tmp_path)
    cache.put_json("stats", "k1", {"a": [1, 2]})
    cache.put_arrays("track", "k2", {"x": np.arange(6).reshape(2, 3)})
    assert cache.get_json("stats", "k1") == {"a": [1, 2]}
    np.testing.assert_array_equal(cache.get_arrays("track", "k2")["x"], [[0, 1, 2], [3, 4, 5]])
    assert cache.get("stats", "absent", ".json") is None
    assert cache.sizes()["stats"]["count"] == 1


def test_cache__sweep__the_least_recently_used_goes_first(tmp_path: Path) -> None:
    cache = Cache(tmp_path, limit=2500)
    for i in range(4):
        cache.put("view", f"key{i}", ".jpg", b"x" * 1000)
        os.utime(cache.path("view", f"key{i}", ".jpg"), (1000 + i, 1000 + i))
    cache.get("view", "key0", ".jpg")
    cache.sweep()
    kept = {i for i in range(4) if cache.has("view", f"key{i}", ".jpg")}
    assert kept == {0, 3}


def test_cache__freed_while_in_use__is_only_a_miss(tmp_path: Path) -> None:
    cache = Cache(tmp_path)
    cache.put("frame", "k", ".png", b"abc")
    before = cache.stamp("frame", "k", ".png")
    assert cache.free("frame") == 3
    assert cache.get("frame", "k", ".png") is None
    assert (before, cache.stamp("frame", "k", ".png")) == (before, None)


def test_cache__place_that_cannot_be_written__costs_the_entry_only(tmp_path: Path) -> None:
    (tmp_path / "view").write_text("a file where a folder should be")
    Cache(tmp_path).put("view", "k", ".jpg", b"abc")
    assert Cache(tmp_path).get("view", "k", ".jpg") is None


def test_migrations__make_exactly_the_tables(tmp_path: Path) -> None:
    database = Database(tmp_path / "library.db")
    database.migrate()
    database.migrate()
    with database.engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), Base.metadata) == []


def test_migrate__library_of_a_newer_program__is_refused_and_unharmed(tmp_path: Path) -> None:
    database = Database(tmp_path / "library.db")
    database.migrate()
    with database.engine.begin() as connection:
        connection.execute(text("update alembic_version set version_num = '9999'"))
    with pytest.raises(RuleError, match="newer version"):
        database.migrate()


def test_session__an_exception__undoes_everything(tmp_path: Path) -> None:
    database = Database(tmp_path / "library.db")
    database.migrate()
    with pytest.raises(ValueError, match="no"), database.session() as session:
        session.add(ProductionRow(name="x"))
        session.flush()
        raise ValueError("no")
    with database.session() as session:
        assert session.query(ProductionRow).count() == 0
