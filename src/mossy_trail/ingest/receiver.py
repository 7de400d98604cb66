"""Live logs in a process of their own: taking events in keeps an interpreter busy, and the one that
is asked questions is not to wait for that."""

from __future__ import annotations

import json
import os
import secrets
import signal
import subprocess
import sys
from multiprocessing.managers import BaseManager
from threading import Lock, Thread
from typing import Any

from sqlalchemy import Engine, exists, select
from sqlalchemy.orm import Session

from mossy_trail.ingest.live import LiveLogs, Read, Receipt
from mossy_trail.notes import keep_notes
from mossy_trail.store.database import connect
from mossy_trail.store.models import App


class _Manager(BaseManager):
    """How the two processes talk."""


_Manager.register("logs")


class Receiver:
    """Begins the other process when events may come, and again should it die. It ends with this
    one, however that ends."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._order = Lock()
        self._process: subprocess.Popen[str] | None = None
        self._logs: Any = None
        self._ended = False

    def start(self) -> None:
        """Go on with what was received before, behind."""
        Thread(target=self._go_on, name="receiver", daemon=True).start()

    def _go_on(self) -> None:
        with Session(self._engine) as session:
            awaited = session.scalar(select(exists().where(App.ingest_key.is_not(None))))
        if awaited:
            self._begun()

    def expect(self) -> None:
        """Begin behind: events are about to come."""
        Thread(target=self._begun, name="receiver", daemon=True).start()

    def stop(self) -> None:
        with self._order:
            self._ended = True
            self._end()

    def take(self, app_id: int, read: Read, headers: dict[str, str], body: bytes) -> Receipt:
        """Keep the events of a request, which `read` reads. They are durable when this returns."""
        logs = self._begun()
        try:
            receipt: Receipt = logs.take(app_id, read, headers, body)
        except (EOFError, ConnectionError):
            # It died. What it has kept of these events is known to come again.
            receipt = self._begun(instead_of=logs).take(app_id, read, headers, body)
        return receipt

    def _begun(self, instead_of: Any = None) -> Any:
        with self._order:
            if self._logs is instead_of and not self._ended:
                self._end()
                self._begin()
            return self._logs

    def _begin(self) -> None:
        address, key = f"\0mossy-trail-{secrets.token_hex(16)}", secrets.token_bytes(32)
        self._process = subprocess.Popen(
            [sys.executable, "-m", __name__],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,  # an interrupt from the terminal is for the first process
            env={**os.environ, "POLARS_MAX_THREADS": "1"},
        )
        assert self._process.stdin
        assert self._process.stdout
        url = self._engine.url.render_as_string(hide_password=False)
        told = {"url": url, "address": address, "key": key.hex()}
        self._process.stdin.write(json.dumps(told) + "\n")
        self._process.stdin.flush()
        self._process.stdout.readline()
        manager: Any = _Manager(address, key)
        manager.connect()
        self._logs = manager.logs()

    def _end(self) -> None:
        process, self._process, self._logs = self._process, None, None
        if process:
            with process:  # its input is closed, with which it ends, and it is waited for
                pass


def main() -> None:
    """What the other process does, until its input ends."""
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    keep_notes()
    told = json.loads(sys.stdin.readline())
    logs = LiveLogs(connect(told["url"]))
    logs.start()
    _Manager.register("logs", callable=lambda: logs)
    server = _Manager(told["address"], bytes.fromhex(told["key"])).get_server()
    Thread(target=_end_with_the_first, daemon=True).start()
    print("ready", flush=True)
    server.serve_forever()


def _end_with_the_first() -> None:
    sys.stdin.read()
    os._exit(0)


if __name__ == "__main__":
    main()
