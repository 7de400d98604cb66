"""The start of the server: its database, its pages, and its end."""

from __future__ import annotations

import os
import shutil
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import structlog
import uvicorn
from rich.console import Console

from mossy_trail.demo.load import load_if_empty
from mossy_trail.engine.workers import client_of, executor_of
from mossy_trail.store.cluster import Cluster, ClusterError, free_port
from mossy_trail.store.database import connect, migrate
from mossy_trail.warm import Preparing
from mossy_trail.web.app import create_app
from mossy_trail.web.context import Context, new_context


def serve(
    data: Path, fresh: bool, port: int, demo_rows: int, memory: int, cluster: str, say: Console
) -> None:
    """Start everything, and serve the pages until it is interrupted.

    `memory` is for replayed logs, in bytes; `cluster` is the address of one that replays them.
    """
    signal.signal(signal.SIGTERM, signal.getsignal(signal.SIGINT))
    _keep_notes()
    try:
        with _database(data, fresh) as url:
            workers = executor_of(client_of(cluster)) if cluster else None
            preparing = Preparing()
            context = new_context(connect(url), data, memory, workers, lambda: preparing.says)
            preparing.start()
            try:
                _serve_pages(context, port, demo_rows, say)
            finally:
                preparing.stop()
    except ClusterError as error:
        say.print(str(error), style="red", markup=False, soft_wrap=True)
        raise SystemExit(1) from None


def _serve_pages(context: Context, port: int, demo_rows: int, say: Console) -> None:
    migrate(context.engine)
    if load_if_empty(context.importer, demo_rows):
        say.print("Loading the demo: Skerry Crossings, a made-up ferry app.")
    serve_on = free_port(port)
    say.print(f"Mossy Trail is at [bold]http://127.0.0.1:{serve_on}[/bold] · Ctrl-C stops it")
    config = uvicorn.Config(
        create_app(context),
        port=serve_on,
        log_level="warning",
        timeout_graceful_shutdown=2,
        timeout_keep_alive=75,  # a busy server must not hang up on who is about to ask more
    )
    _serve(uvicorn.Server(config), say)
    context.engine.dispose()


def _keep_notes() -> None:
    """What the server notes: lines for a person in a terminal, JSON for whatever collects them."""
    shown: list[Any] = [structlog.dev.ConsoleRenderer()]
    if not sys.stderr.isatty():
        shown = [structlog.processors.format_exc_info, structlog.processors.JSONRenderer()]
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            *shown,
        ],
        logger_factory=structlog.WriteLoggerFactory(sys.stderr),
    )


def _serve(server: uvicorn.Server, say: Console) -> None:
    try:
        server.run()
    except KeyboardInterrupt:
        say.print("Stopped.")


@contextmanager
def _database(data: Path, fresh: bool) -> Iterator[str]:
    """The URL of one's own server, or of a private cluster that lives as long as this does."""
    own = os.environ.get("DATABASE_URL")
    cluster = Cluster(data / "postgres")
    if fresh:
        for cache in ("parts", "replays", "uploads"):
            shutil.rmtree(data / cache, ignore_errors=True)
        cluster.remove()
    if own:
        yield own
        return
    url = cluster.start()
    cluster.keep_up()
    try:
        yield url
    finally:
        cluster.stop()
