"""Alembic's entry: run the migrations on the library's database."""

from alembic import context
from sqlalchemy import create_engine

from gentle_veil.store.tables import Base

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "", connect_args={"timeout": 30})
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
