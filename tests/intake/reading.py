"""Reading a file while keeping its bytes, as an import keeps them, and reading these again."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

from mossy_trail.intake.mapping import Mapping
from mossy_trail.intake.reader import (
    KeptFile,
    LogFile,
    Reading,
    Watcher,
    read_log,
    without_records,
)
from mossy_trail.intake.records import Block


class _Keeper(Watcher):
    def __init__(self) -> None:
        self.blocks: list[Block] = []

    def on_block(self, file: int, block: Block) -> None:
        self.blocks.append(block)


def read_and_keep(path: Path, key: bytes = b"") -> tuple[Reading, list[Block]]:
    keeper = _Keeper()
    return read_log([LogFile(path)], lambda shape: None, keeper, key), keeper.blocks


def read_kept(
    reading: Reading, blocks: Sequence[Block], gone: Collection[int] = (), key: bytes = b""
) -> Reading:
    """What comes of the kept bytes alone, after rows on these lines were cut from them."""
    (file,) = reading.files

    def pieces() -> Iterator[tuple[int, bytes]]:
        for block in blocks:
            for first, data in block.pieces():
                yield first, without_records(file, data, first, list(gone)) if gone else data

    mapping = Mapping.of(file["mapping"]) if "hashed" in file else None
    return read_log([KeptFile(file, 0, pieces)], lambda shape: mapping, None, key)
