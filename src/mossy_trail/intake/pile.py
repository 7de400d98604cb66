"""The columns of rows that keep coming in: in memory while they are few, else in files."""

from __future__ import annotations

from mmap import ACCESS_COPY, mmap
from tempfile import TemporaryFile
from typing import IO

import numpy as np

from mossy_trail.core.model.log import DTYPES, Column

FEW = 500_000
"""Rows whose pieces are joined at the end."""
MOST_IN_MEMORY = 20_000_000
"""Rows that are piled up in memory, about 1.5 GB."""


class Pile:
    """Pieces of columns, one on the other: of few rows as they come; of more, in room for the most
    that there can be, which takes no memory before it is written to; of too many, in files."""

    def __init__(self) -> None:
        self._pieces: list[dict[str, Column]] = []
        self._rows = 0
        self._room: dict[str, Column] = {}
        self._files: dict[str, IO[bytes]] = {}

    def add(self, piece: dict[str, Column]) -> None:
        begin = self._rows
        self._rows += len(piece["time"])
        if self._rows <= FEW:
            self._pieces.append(dict(piece))
            return
        if begin <= FEW:
            self._make_room(begin)
        if self._rows > MOST_IN_MEMORY and not self._files:
            self._put_down(begin)
        if self._files:
            self._write(piece)
        else:
            for name, column in self._room.items():
                column[begin : self._rows] = piece[name]

    def _make_room(self, rows: int) -> None:
        for name, dtype in DTYPES.items():
            self._room[name] = np.empty(MOST_IN_MEMORY, dtype)
            self._room[name][:rows] = self._joined(name)
        self._pieces.clear()

    def _joined(self, name: str) -> Column:
        none = np.empty(0, DTYPES[name])
        return np.concatenate([none, *(piece[name] for piece in self._pieces)])

    def _put_down(self, rows: int) -> None:
        """Write what there is to a file of each column, which nobody else sees."""
        self._files = {name: TemporaryFile() for name in DTYPES}  # noqa: SIM115
        self._write({name: column[:rows] for name, column in self._room.items()})
        self._room.clear()

    def _write(self, piece: dict[str, Column]) -> None:
        for name, file in self._files.items():
            file.write(np.ascontiguousarray(piece[name]).data)

    def taken(self) -> dict[str, Column]:
        """The whole columns."""
        if self._files:
            return {name: self._mapped(name) for name in DTYPES}
        if self._room:
            return {name: column[: self._rows] for name, column in self._room.items()}
        return {name: self._joined(name) for name in DTYPES}

    def _mapped(self, name: str) -> Column:
        """What is written to it goes into no file."""
        with self._files.pop(name) as file:
            file.flush()
            return np.frombuffer(mmap(file.fileno(), 0, access=ACCESS_COPY), DTYPES[name])
