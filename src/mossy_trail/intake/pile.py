"""The columns of rows that keep coming in: in memory while they are few, else in files."""

from __future__ import annotations

from mmap import ACCESS_COPY, mmap
from tempfile import TemporaryFile
from typing import IO

import numpy as np

from mossy_trail.core.ahead import two_at_once
from mossy_trail.core.model.log import DTYPES, Column

MOST_IN_MEMORY = 20_000_000
"""Rows that are piled up in memory, about 1.5 GB."""


class Pile:
    """Pieces of columns, one on the other."""

    def __init__(self) -> None:
        self._pieces: list[dict[str, Column]] = []
        self._rows = 0
        self._files: dict[str, IO[bytes]] = {}

    def add(self, piece: dict[str, Column]) -> None:
        self._pieces.append(dict(piece))
        self._rows += len(piece["time"])
        if self._rows > MOST_IN_MEMORY:
            self._put_down()

    def _put_down(self) -> None:
        """Write the pieces to a file of each column, which nobody else sees."""
        self._files = self._files or {name: TemporaryFile() for name in DTYPES}  # noqa: SIM115
        for name, file in self._files.items():
            for piece in self._pieces:
                file.write(np.ascontiguousarray(piece.pop(name)).data)
        self._pieces.clear()
        self._rows = MOST_IN_MEMORY  # from now on each piece follows at once

    def taken(self) -> dict[str, Column]:
        """The whole columns; the pieces are let go column by column, so that few are in memory
        twice."""
        if not self._files:
            return dict(zip(DTYPES, two_at_once(self._joined, DTYPES), strict=True))
        return {name: self._mapped(name) for name in DTYPES}

    def _joined(self, name: str) -> Column:
        return np.concatenate([piece.pop(name) for piece in self._pieces])

    def _mapped(self, name: str) -> Column:
        """What is written to it goes into no file."""
        with self._files.pop(name) as file:
            file.flush()
            return np.frombuffer(mmap(file.fileno(), 0, access=ACCESS_COPY), DTYPES[name])
