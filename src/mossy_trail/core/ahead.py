"""Working out what comes next while what came last is looked at."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")
_END = object()


def ahead(items: Iterator[Item]) -> Iterator[Item]:
    """The same items, each of them asked for before the one before it is let go."""
    with ThreadPoolExecutor(1, "ahead") as pool:
        coming = pool.submit(next, items, _END)
        while (item := coming.result()) is not _END:
            coming = pool.submit(next, items, _END)
            yield item  # type: ignore[misc]
