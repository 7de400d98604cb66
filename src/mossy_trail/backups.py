"""All that an installation holds, out to a folder and in again: the database, and its key."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path

from sqlalchemy import inspect

from mossy_trail.intake.installation import KEY, installation_key, keep_key
from mossy_trail.store.cluster import Cluster, ClusterError, program
from mossy_trail.store.database import connect, migrate
from mossy_trail.web.context import forget_caches

DATABASE, ABOUT = "database.dump", "about.json"


def backup(data: Path, to: Path) -> None:
    """Write a backup to this folder, whole or not at all, also while the server runs.

    It is as of one moment. Raises `ClusterError` where it cannot be made.
    """
    if to.exists() and (not to.is_dir() or any(to.iterdir())):
        raise ClusterError(f"{to} is there already. Name a folder that is not, or is empty.")
    part = to.with_name(f"{to.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(mode=0o700, parents=True)
    with _database(data, running=True) as url:
        _run("pg_dump", "--format=custom", f"--file={part / DATABASE}", f"--dbname={url}")
    (part / KEY).write_bytes(installation_key(data))
    told = {"mossy_trail": version("mossy-trail"), "made_at": f"{datetime.now(UTC):%FT%TZ}"}
    (part / ABOUT).write_text(json.dumps(told))
    for file in part.iterdir():
        file.chmod(0o600)
    part.replace(to)


def restore(data: Path, source: Path) -> None:
    """Take a backup in, of this release or one before, where nothing is yet.

    Raises `ClusterError` where something is, the server runs, or the backup is not whole.
    """
    if missing := [name for name in (DATABASE, KEY, ABOUT) if not (source / name).is_file()]:
        raise ClusterError(f"{source} is no backup: it has no {missing[0]}.")
    with _database(data, running=False) as url:
        engine = connect(url)
        try:
            if inspect(engine).get_table_names():
                raise ClusterError(
                    "There is something already, which a backup would mix with. "
                    "Restore where nothing is: with another MOSSY_DATA, or an empty database."
                )
            _run(
                *("pg_restore", "--no-owner", "--exit-on-error", "--single-transaction"),
                *(f"--dbname={url}", str(source / DATABASE)),
            )
            migrate(engine)
        finally:
            engine.dispose()
    forget_caches(data)
    keep_key(data, (source / KEY).read_bytes())


@contextmanager
def _database(data: Path, running: bool) -> Iterator[str]:
    """The URL of one's own server, of a private cluster that runs, or of it started for this."""
    if own := os.environ.get("DATABASE_URL"):
        yield own
        return
    cluster = Cluster(data / "postgres")
    if url := cluster.running():
        if not running:
            raise ClusterError("The server runs. Stop it first.")
        yield url
        return
    try:
        yield cluster.start()
    finally:
        cluster.stop()


def _run(name: str, *args: str) -> None:
    done = subprocess.run([program(name), *args], capture_output=True, text=True, check=False)
    if done.returncode:
        said = done.stderr.strip().splitlines() or [f"{name} ended with {done.returncode}"]
        raise ClusterError("\n".join(said[-3:]))
