"""SQLite through SQLAlchemy, and the content-keyed cache."""
