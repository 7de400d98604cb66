"""The start of the server: its database, its pages, and its end."""

from __future__ import annotations

import os
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import uvicorn
from rich.console import Console

from mossy_trail.demo.load import load_if_empty
from mossy_trail.engine.workers import client_of, executor_of
from mossy_trail.intake.installation import installation_key
from mossy_trail.notes import keep_notes
from mossy_trail.store.cluster import Cluster, ClusterError, free_port
from mossy_trail.store.database import connect, migrate
from mossy_trail.team.team import Refused, Team
from mossy_trail.warm import Preparing
from mossy_trail.web.app import LOOPBACK, create_app
from mossy_trail.web.context import Context, forget_caches, new_context
from mossy_trail.web.signing import Provider, Signing


@dataclass(frozen=True)
class ForTeam:
    """How people reach a server on which they sign in."""

    host: str
    """The address it listens on."""
    address: str
    """Where people find it, as “https://trail.example.org”; where it listens, if empty."""
    proxy: str
    """Whom it believes when told for whom a request is."""
    manager: str
    """The e-mail of whom to invite to manage everything; nobody, if empty."""
    provider: Provider | None


def serve(
    data: Path,
    say: Console,
    port: int,
    memory: int,
    cluster: str,
    fresh: bool = False,
    demo_rows: int = 0,
    team: ForTeam | None = None,
) -> None:
    """Start everything, and serve the pages until it is interrupted.

    `memory` is for replayed logs, in bytes; `cluster` is the address of one that replays them.
    With no rows for it there is no demo. Without a team nobody signs in, and it listens on loopback
    alone.
    """
    signal.signal(signal.SIGTERM, signal.getsignal(signal.SIGINT))
    keep_notes()
    try:
        with _database(data, fresh) as url:
            workers = executor_of(client_of(cluster)) if cluster else None
            preparing = Preparing()
            context = new_context(connect(url), data, memory, workers, lambda: preparing.says)
            migrate(context.engine)
            port = port or free_port()
            signing = _signing(context, data, team, port, say) if team else None
            if demo_rows and load_if_empty(context.importer, data, demo_rows):
                say.print("Loading the demo: Skerry Crossings, a made-up ferry app.")
            preparing.start()
            try:
                _serve_pages(context, _config(context, signing, team, port), say)
            finally:
                preparing.stop()
    except ClusterError as error:
        say.print(str(error), style="red", markup=False, soft_wrap=True)
        raise SystemExit(1) from None


def _signing(context: Context, data: Path, team: ForTeam, port: int, say: Console) -> Signing:
    """Ends the start where nobody could sign in, or in clear text from elsewhere."""
    own = Team(context.engine)
    address = team.address.rstrip("/") or f"http://{team.host}:{port}"
    signing = Signing(own, address, installation_key(data), team.provider)
    if team.host not in LOOPBACK and not signing.secure:
        raise ClusterError(
            f"On {team.host} passwords would cross the network in clear text. Listen on 127.0.0.1 "
            "behind a proxy that has TLS, and say --address https://…; docs/deploy.md shows how."
        )
    if team.manager:
        try:
            secret = own.invite_to_all(team.manager)
        except Refused as error:
            raise ClusterError(f"{error.what} {error.mend}") from None
        say.print(f"{team.manager} sets a password here, within a week, and manages everything:")
        say.print(signing.link(secret), soft_wrap=True, markup=False, highlight=False)
    elif own.empty():
        raise ClusterError(
            "Nobody has an account yet. Say --manager name@example.org for whoever is to manage it."
        )
    return signing


def _config(
    context: Context, signing: Signing | None, team: ForTeam | None, port: int
) -> uvicorn.Config:
    return uvicorn.Config(
        create_app(context, signing),
        host=team.host if team else "127.0.0.1",
        port=port if team else free_port(port),
        log_level="warning",
        proxy_headers=team is not None,
        forwarded_allow_ips=team.proxy if team else None,
        timeout_graceful_shutdown=2,
        timeout_keep_alive=75,  # a busy server must not hang up on who is about to ask more
    )


def _serve_pages(context: Context, config: uvicorn.Config, say: Console) -> None:
    at = f"http://{config.host}:{config.port}"
    say.print(f"Mossy Trail is at [bold]{at}[/bold] · Ctrl-C stops it")
    _serve(uvicorn.Server(config), say)
    context.engine.dispose()


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
        forget_caches(data)
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
