"""Working ahead changes neither what comes nor when it breaks off, and is never far ahead."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from mossy_trail.core.ahead import ahead


def counted(most: int, made: list[int]) -> Iterator[int]:
    for number in range(most):
        made.append(number)
        yield number
    raise ValueError(most)


def test_the_same_comes_and_breaks_off_where_it_did() -> None:
    found: list[int] = []
    with pytest.raises(ValueError, match="5"):
        found += ahead(counted(5, []))
    items = ahead(counted(5, []))
    assert [next(items) for _ in range(5)] == [0, 1, 2, 3, 4]
    with pytest.raises(ValueError, match="5"):
        next(items)
    assert list(ahead(iter(()))) == []


def test_one_that_nobody_wants_is_not_asked_for_long_before() -> None:
    made: list[int] = []
    items = ahead(counted(100, made))
    assert [next(items) for _ in range(3)] == [0, 1, 2]
    items.close()  # type: ignore[attr-defined]
    assert made == [0, 1, 2, 3]
