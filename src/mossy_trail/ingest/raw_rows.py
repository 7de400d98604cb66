"""The rows of logs byte for byte as they came."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from mossy_trail.intake.reader import raw_record
from mossy_trail.store.logs import raw_block
from mossy_trail.store.models import LiveEvent, StoredLog

SHOWN = 4000
"""Bytes of a row that are shown."""


class RawRows:
    """Looks up raw rows; a block that was unpacked is kept for the next row."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._logs: dict[int, StoredLog] = {}
        self._block: tuple[str, int, bytes] = ("", 0, b"")

    def place(self, file_key: str) -> tuple[StoredLog, int]:
        """The log that a key `LOG/FILE` names, and the number of its file."""
        log_id, number = map(int, file_key.split("/"))
        if log_id not in self._logs:
            self._logs[log_id] = self._session.get_one(StoredLog, log_id)
        return self._logs[log_id], number

    def name(self, file_key: str) -> str:
        log, number = self.place(file_key)
        return str(log.files[number]["name"])

    def text(self, file_key: str, line: int) -> str:
        """The row as text; bytes that are not UTF-8 as escapes."""
        log, number = self.place(file_key)
        found = self._live(log, line) if log.live else self._kept(log, number, file_key, line)
        return (found or b"")[:SHOWN].decode("utf-8", "backslashreplace")

    def _live(self, log: StoredLog, line: int) -> bytes:
        one = select(LiveEvent.text).where(LiveEvent.log_id == log.id, LiveEvent.line == line)
        return (self._session.scalar(one) or "").encode()

    def _kept(self, log: StoredLog, number: int, file_key: str, line: int) -> bytes | None:
        file: dict[str, Any] = log.files[number]
        key, first, data = self._block
        raw = raw_record(file, data, first, line) if key == file_key else None
        if raw is None:
            found = raw_block(self._session, log.id, number, line)
            if found is None:
                return None
            first, data = found[0].first_line, found[1]
            self._block = (file_key, first, data)
            raw = raw_record(file, data, first, line)
        return raw
