"""Who works on parts: this machine's threads, or a Dask cluster."""

from __future__ import annotations

from concurrent.futures import Executor, ThreadPoolExecutor
from typing import Any

threads = ThreadPoolExecutor(2, "parts")
makers = ThreadPoolExecutor(2, "makers")
"""Replay parts, and put rows beside them: others than who is asked, so that neither a question nor
live rows wait until all parts have been gone through for the other."""


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
