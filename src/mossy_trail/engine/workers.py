"""Who works on parts: this machine's threads, or a Dask cluster."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from typing import Any, TypeVar

threads = ThreadPoolExecutor(2, "parts")
makers = ThreadPoolExecutor(2, "makers")
"""Replay all parts of a log: others than who is asked, so that no question waits for that."""
growers = ThreadPoolExecutor(2, "growers")
"""Put live rows beside parts: others than both, so that these wait for neither."""


Item = TypeVar("Item")
Made = TypeVar("Made")


def soon(make: Callable[[Item], Made], items: Sequence[Item]) -> list[Made]:
    """What is made of each, in order, by `growers`: each is handed its share at once, as to hand
    over many small pieces would take longer than they do."""
    shares = [items[::2], items[1::2]]
    first, second = growers.map(lambda own: [make(item) for item in own], shares)
    found = list(first)
    for place, one in enumerate(second):
        found.insert(2 * place + 1, one)
    return found


class UnusableCluster(OSError):
    """There is no cluster to work with."""


def client_of(address: str) -> Any:
    """A `distributed.Client` of the cluster whose scheduler is at this address, such as
    `tcp://host:8786`; raises `UnusableCluster` where there is none."""
    try:
        from distributed import Client
    except ModuleNotFoundError:
        raise UnusableCluster("A cluster needs more: pip install 'mossy-trail[cluster]'") from None
    try:
        connect: Any = Client
        return connect(address, timeout="10s", set_as_default=False)
    except (OSError, ValueError) as error:
        raise UnusableCluster(f"There is no cluster at {address}: {error}") from None


def executor_of(client: Any) -> Executor:
    """What a lost worker had in hand is done by another, as Dask has it."""
    executor: Executor = client.get_executor(pure=False)
    return executor
