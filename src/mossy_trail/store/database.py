"""Connecting to PostgreSQL, and bringing its tables up to date."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection, Engine, create_engine

MIGRATIONS = Path(__file__).parent / "migrations"


def connect(url: str) -> Engine:
    """An engine on psycopg; connections that the server dropped are replaced."""
    scheme, separator, rest = url.partition("://")
    if separator and scheme in ("postgres", "postgresql"):
        url = f"postgresql+psycopg://{rest}"
    return create_engine(url, pool_pre_ping=True, connect_args={"connect_timeout": 5})


def migrate(engine: Engine) -> None:
    """Bring the tables to the newest form."""
    with engine.begin() as connection:
        command.upgrade(migrations(connection), "head")


def migrations(connection: Connection) -> Config:
    """What Alembic needs to work on this connection."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["connection"] = connection
    return config
