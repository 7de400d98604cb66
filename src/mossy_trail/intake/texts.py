"""Texts by number, as they keep coming in."""

from __future__ import annotations

import secrets
from collections.abc import Sequence

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from mossy_trail.core.kernel import inner_kernel, kernel, read_only
from mossy_trail.core.model.log import NONE

_PRIME = 2**31 - 1
BASE = secrets.randbelow(_PRIME - 2**20) + 2**20
"""Nobody can know which texts have one hash, and make the table slow by them."""

Codes = NDArray[np.int32]


class Texts:
    """Different texts, numbered as they are first met; those to `begin` with by their places.

    To Python each text of each block would be an object, and it would look them up one by one under
    its lock. So they lie behind one another in UTF-8, and are found by a table of their hashes:
    polynomials at a random place, modulo a prime (R. Karp and M. Rabin, IBM J. Res. Dev. 31, 1987).
    """

    def __init__(self, begin: Sequence[str] = ()) -> None:
        self._count = 0
        self._bytes, self._edges = np.empty(0, "u1"), np.zeros(1, "i8")
        self._hashes, self._slots = np.empty(0, "i8"), np.full(1, NONE, "i4")
        if begin:
            self._number(pa.array(begin, pa.string()), each=True)

    def __len__(self) -> int:
        return self._count

    def numbers(self, texts: pa.Array) -> Codes:
        """Of each text its number; those that are new get the next ones. −1 of empty text and of
        null; shape (texts,)."""
        return self._number(texts, each=False)

    def since(self, count: int) -> pa.Array:
        """Those that have come since there were so many."""
        edges = self._edges[count : self._count + 1]
        data = self._bytes[edges[0] : edges[-1]]
        buffers = [None, pa.py_buffer(edges - edges[0]), pa.py_buffer(data)]
        return pa.Array.from_buffers(pa.large_string(), len(edges) - 1, buffers)

    def all(self) -> list[str]:
        """All of them, in the order of their numbers."""
        found: list[str] = self.since(0).to_pylist()
        return found

    def _number(self, texts: pa.Array, each: bool) -> Codes:
        begins, data = _buffers(texts.fill_null("") if texts.null_count else texts)
        self._make_room(len(texts), int(begins[-1] - begins[0]))
        held = self._bytes, self._edges, self._hashes, self._slots
        codes, self._count = _numbered(begins, data, *held, self._count, each, BASE)
        return codes

    def _make_room(self, texts: int, size: int) -> None:
        most = self._count + texts
        self._bytes = _with_room(self._bytes, int(self._edges[self._count]) + size)
        self._edges = _with_room(self._edges, most + 1)
        self._hashes = _with_room(self._hashes, most)
        if len(self._slots) < 2 * most:
            self._slots = _slots(self._hashes[: self._count], 1 << (4 * most).bit_length())


def _with_room(held: NDArray, least: int) -> NDArray:  # type: ignore[type-arg]
    if len(held) >= least:
        return held
    return np.concatenate([held, np.empty(max(least, 2 * len(held)) - len(held), held.dtype)])


def _buffers(texts: pa.Array) -> tuple[Codes, NDArray[np.uint8]]:
    """Where texts begin, and where the last one ends, in these bytes."""
    _, begins, data = texts.buffers()
    if not len(texts):
        return read_only(np.zeros(1, "i4")), read_only(np.empty(0, "u1"))
    own = np.frombuffer(begins, "i4")[texts.offset : texts.offset + len(texts) + 1]
    return read_only(own), read_only(np.frombuffer(data or b"", "u1"))


@inner_kernel
def _hash(data: NDArray[np.uint8], begin: int, end: int, base: int) -> int:
    found = 1
    for i in range(begin, end):
        found = (found * base + data[i]) % _PRIME
    return found


@inner_kernel
def _is_same(
    own: NDArray[np.uint8], first: int, last: int, data: NDArray[np.uint8], begin: int, end: int
) -> bool:
    if last - first != end - begin:
        return False
    for i in range(end - begin):  # noqa: SIM110 - to the compiler, a loop is the fast one
        if own[first + i] != data[begin + i]:
            return False
    return True


@kernel
def _slots(hashes: NDArray[np.int64], size: int) -> Codes:
    """A table of so many places, a power of two, in which each stands at its hash or after it."""
    slots = np.full(size, NONE, np.int32)
    for i in range(len(hashes)):
        place = hashes[i] & (size - 1)
        while slots[place] != NONE:
            place = (place + 1) & (size - 1)
        slots[place] = i
    return slots


@kernel
def _numbered(
    begins: Codes,
    data: NDArray[np.uint8],
    own: NDArray[np.uint8],
    edges: NDArray[np.int64],
    hashes: NDArray[np.int64],
    slots: Codes,
    count: int,
    each: bool,
    base: int,
) -> tuple[Codes, int]:
    """The number of each text, and how many there are then; `each` gets one, though it is empty or
    there already."""
    codes = np.empty(len(begins) - 1, np.int32)
    for i in range(len(codes)):
        begin, end = begins[i], begins[i + 1]
        codes[i] = NONE
        if begin == end and not each:
            continue
        hashed = _hash(data, begin, end, base)
        place = hashed & (len(slots) - 1)
        while slots[place] != NONE:
            there = slots[place]
            if hashes[there] == hashed and _is_same(
                own, edges[there], edges[there + 1], data, begin, end
            ):
                codes[i] = there
                break
            place = (place + 1) & (len(slots) - 1)
        if codes[i] != NONE and not each:
            continue
        if codes[i] == NONE:
            slots[place] = count
        codes[i] = count
        hashes[count], edges[count + 1] = hashed, edges[count] + end - begin
        for k in range(end - begin):
            own[edges[count] + k] = data[begin + k]
        count += 1
    return codes, count
