"""The answers asked for most recently."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any, Generic, TypeVar

Answer = TypeVar("Answer")
_UNKNOWN = object()


class Recent(Generic[Answer]):
    """Keeps so many answers, or as many as are so large together; the one that was not asked for
    longest goes first."""

    def __init__(self, most: int, size: Callable[[Answer], int] = lambda _: 1) -> None:
        self._most, self._size, self._lock = most, size, Lock()
        self._answers: OrderedDict[Hashable, Answer] = OrderedDict()
        self._sizes: dict[Hashable, int] = {}

    def get(self, question: Hashable, default: Any = None) -> Any:
        """The answer that is kept, if there is one."""
        with self._lock:
            if question not in self._answers:
                return default
            self._answers.move_to_end(question)
            return self._answers[question]

    def of(self, question: Hashable, answer: Callable[[], Answer]) -> Answer:
        """The answer that is kept, or else worked out now."""
        known: Answer = self.get(question, _UNKNOWN)
        if known is not _UNKNOWN:
            return known
        found = answer()
        with self._lock:
            self._answers[question] = found
            self._answers.move_to_end(question)
            self._sizes[question] = self._size(found)
            while sum(self._sizes.values()) > self._most:
                del self._sizes[self._answers.popitem(last=False)[0]]
        return found

    def clear(self) -> None:
        """Let all of them go."""
        with self._lock:
            self._answers.clear()
            self._sizes.clear()

    def __len__(self) -> int:
        return len(self._answers)
