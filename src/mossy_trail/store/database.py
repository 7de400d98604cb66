"""Connecting to PostgreSQL, and bringing its tables up to date."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import psycopg
from alembic import command
from alembic.config import Config
from sqlalchemy import Connection, Engine, create_engine
from sqlalchemy.exc import OperationalError

MIGRATIONS = Path(__file__).parent / "migrations"
SLOWEST = 20
"""Seconds that a busy machine may take to begin a connection."""
_TRIES = 5
Made = TypeVar("Made")


def connect(url: str) -> Engine:
    """An engine on psycopg; connections that the server dropped are replaced."""
    scheme, separator, rest = url.partition("://")
    if separator and scheme in ("postgres", "postgresql"):
        url = f"postgresql+psycopg://{rest}"
    return create_engine(url, pool_pre_ping=True, connect_args={"connect_timeout": SLOWEST})


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


def tried_again(work: Callable[[], Made]) -> Made:
    """What a transaction makes: where it and another wait for each other, the other goes first."""
    for _ in range(_TRIES):
        try:
            return work()
        except (OperationalError, psycopg.OperationalError) as error:
            if not isinstance(getattr(error, "orig", error), psycopg.errors.DeadlockDetected):
                raise
    return work()
