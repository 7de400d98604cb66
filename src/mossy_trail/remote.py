"""A server as the command line asks it, with a token where people sign in."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import IO, Any
from urllib.error import HTTPError, URLError
from urllib.request import Request, urlopen

_ENDED = ("done", "failed", "cancelled", "interrupted", "asking")
_BETWEEN_LOOKS = 0.5


class RemoteError(Exception):
    """What the server refused, or that it does not answer; the message says what to do."""


class Remote:
    """A server at an address such as `https://trail.example.org`."""

    def __init__(self, address: str, token: str = "") -> None:
        self._address = address.rstrip("/")
        self._headers = {"Authorization": f"Bearer {token}"} if token else {}

    def bring_in(
        self, app: str, files: Sequence[Path], tell: Callable[[dict[str, Any]], None]
    ) -> dict[str, Any]:
        """Bring files in as one log, and return what the server has of it.

        `tell` is told how far it is. Raises `RemoteError` where it did not come in.
        """
        sizes = [{"name": path.name, "bytes": path.stat().st_size} for path in files]
        job = self._ask("POST", f"apps/{app}/imports", json.dumps({"files": sizes}).encode())
        for number, path in enumerate(files):
            with path.open("rb") as body:
                self._ask("PUT", f"jobs/{job['id']}/files/{number}", body, path.stat().st_size)
        while (job := self._ask("GET", f"jobs/{job['id']}"))["state"] not in _ENDED:
            tell(job)
            time.sleep(_BETWEEN_LOOKS)
        if job["state"] == "asking":
            raise RemoteError("It asks on the page Logs how its columns are to be read.")
        if job["state"] != "done":
            raise RemoteError(f"{job['message']} {job['mend']}")
        logs = self._ask("GET", f"apps/{app}/logs")["logs"]
        return next(log for log in logs if log["id"] == job["log_id"])

    def _ask(
        self, method: str, path: str, body: bytes | IO[bytes] | None = None, size: int | None = None
    ) -> dict[str, Any]:
        """`size` is how many bytes a file has."""
        kind = "application/json" if isinstance(body, bytes) else "application/octet-stream"
        headers = {**self._headers, "Content-Type": kind}
        headers |= {} if size is None else {"Content-Length": str(size)}
        request = Request(f"{self._address}/api/{path}", body, headers, method=method)
        try:
            with urlopen(request) as answer:
                found: dict[str, Any] = json.load(answer)
        except HTTPError as error:
            raise RemoteError(_said(error)) from None
        except (URLError, OSError, ValueError) as error:
            raise RemoteError(
                f"{self._address} does not answer as a server of ours: {error}"
            ) from None
        return found


def _said(error: HTTPError) -> str:
    try:
        told = json.load(error)
        return f"{told['title']} {told.get('detail', '')}".strip()
    except (ValueError, KeyError, TypeError):
        return f"The server answered with {error.code}."
