"""Working out what comes next while what came last is looked at."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")
Made = TypeVar("Made")
_END = object()


def ahead(items: Iterator[Item]) -> Iterator[Item]:
    """The same items, each of them asked for before the one before it is let go."""
    with ThreadPoolExecutor(1, "ahead") as pool:
        coming = pool.submit(next, items, _END)
        while (item := coming.result()) is not _END:
            coming = pool.submit(next, items, _END)
            yield item  # type: ignore[misc]


def two_at_once(make: Callable[[Item], Made], items: Iterable[Item]) -> Iterator[Made]:
    """What is made of each item, in their order, by two threads; few wait to be looked at."""
    coming: deque[Future[Made]] = deque()
    with ThreadPoolExecutor(2, "two at once") as pool:
        for item in items:
            coming.append(pool.submit(make, item))
            if len(coming) > 2:
                yield coming.popleft().result()
        while coming:
            yield coming.popleft().result()
