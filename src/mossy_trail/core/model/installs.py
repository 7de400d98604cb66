"""What is known of installs: so that whose rows are that arrive later is told without all those
that were there."""

from __future__ import annotations

from collections.abc import Container, Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.log import (
    DICTIONARY_OF,
    DTYPES,
    NONE,
    Codes,
    Column,
    Log,
    bucket_of,
    comes_after,
    empty_log,
    joined,
    merge,
    of_users,
    ordered,
)
from mossy_trail.core.model.people import people


class Install(NamedTuple):
    """What the rows of an install tell: the account that was the last on it, empty for none; the
    moment of its last row, in microseconds; and whether there were several accounts."""

    account: str
    last: int
    several: bool

    def then(self, later: Install) -> Install:
        """What is known when more rows have come."""
        several = self.several or later.several
        several |= bool(self.account and later.account and self.account != later.account)
        return Install(later.account or self.account, max(self.last, later.last), several)


class Arrived(NamedTuple):
    """Rows that arrived, by who they are of; persons whose earlier rows turn out to be of others;
    and what is known of installs now."""

    log: Log
    renamed: dict[str, str]
    known: dict[str, Install]

    def under(self, codes: Codes) -> Tail:
        """The same in the codes of the rows before."""
        log = codes.recoded(self.log)
        becomes = np.arange(len(log.terms["user"]), dtype="int32")
        moving = np.zeros(len(becomes), bool)
        moving[log.columns["user"]] = True
        for name, person in self.renamed.items():
            old = codes.of["user"][name]
            becomes[old], moving[old] = codes.of["user"][person], True
        return Tail(log, moving, becomes)


class Tail(NamedTuple):
    """Rows that arrived, in codes that go on from those of the rows before; whose rows come
    together by them, and who each user is from now on, both of shape (users,)."""

    log: Log
    moving: NDArray[np.bool_]
    becomes: NDArray[np.int32]

    def with_users(self, users: Sequence[Column]) -> Tail:
        """The same, but that these come together as well."""
        moving = self.moving.copy()
        for own in users:
            moving[own] = True
        return self._replace(moving=moving)

    def joined_by(self, moved: Sequence[Log]) -> Log:
        """These rows with others of their users', in order."""
        log = joined([*moved, self.log])
        user = self.becomes[log.columns["user"]]
        return ordered(Log({**log.columns, "user": user}, self.log.terms))

    def into(self, parts: Sequence[Log]) -> list[Log]:
        """The parts of a split log, with these rows put in where they belong; parts that no row
        comes to or leaves keep their columns as they are."""
        leaving = self.becomes != np.arange(len(self.becomes))
        home = bucket_of(self.log.terms["user"], len(parts))
        for number, part in enumerate(parts):
            home[part.columns["user"]] = number
        home = home[self.becomes]
        moved = [of_users(part, leaving) for part in parts]
        whole = self.joined_by(moved)
        place = home[whole.columns["user"]]
        grown = []
        for number, (part, gone) in enumerate(zip(parts, moved, strict=True)):
            part = Log(part.columns, self.log.terms)
            rows = np.flatnonzero(place == number)
            if len(gone):
                part = of_users(part, ~leaving)
            if len(rows):
                part = ordered(joined([part, whole.take(rows)]))
            grown.append(part)
        return grown


class Installs:
    """The installs of a log's rows, those that have rows; every column has shape (installs,)."""

    def __init__(
        self,
        names: list[str],
        accounts: list[str],
        last: NDArray[np.int64],
        several: NDArray[np.bool_],
    ) -> None:
        self.names, self.accounts, self.last, self.several = names, accounts, last, several
        self._since: dict[str, Install] = {}

    @classmethod
    def of(cls, log: Log) -> Installs:
        """Of rows in any order, whose `user` is an install."""
        names = ("user", "account", "time", "order", "file", "line")
        columns = (read_only(log.columns[name]) for name in names)
        row, signed, several = _last_rows(len(log.terms["user"]), *columns)
        here = row != NONE
        texts = [*log.terms["account"], ""]
        account = np.append(log.columns["account"], NONE)[signed[here]]
        return cls(
            [name for name, own in zip(log.terms["user"], here.tolist(), strict=True) if own],
            [texts[code] for code in account.tolist()],
            log.columns["time"][row[here]],
            several[here],
        )

    @cached_property
    def _place(self) -> dict[str, int]:
        return {name: place for place, name in enumerate(self.names)}

    def named(self, name: str) -> Install | None:
        if name in self._since:
            return self._since[name]
        place = self._place.get(name)
        if place is None:
            return None
        return Install(self.accounts[place], int(self.last[place]), bool(self.several[place]))

    def learn(self, known: dict[str, Install]) -> None:
        """Take what is known since more rows have come."""
        self._since |= known

    def whole(self) -> Installs:
        """The same as columns alone, with what was learnt."""
        if not self._since:
            return self
        known = self.all()
        accounts, last, several = zip(*known.values(), strict=True)
        columns = np.array(last, "int64"), np.array(several, bool)
        return Installs(list(known), list(accounts), *columns)

    def all(self) -> dict[str, Install]:
        """Each by its name."""
        columns = (self.accounts, self.last.tolist(), self.several.tolist())
        own = map(Install, *columns)
        return dict(zip(self.names, own, strict=True)) | self._since

    def arrived(self, tail: Log, accounts: Container[str]) -> Arrived | None:
        """Tell whose the rows are that have come since.

        Parameters
        ----------
        tail : rows in any order, whose `user` is an install.
        accounts : those that the rows before told.

        Returns
        -------
        What `people` would tell of these rows among all others. None where only all rows
        together tell it: rows lie among those that were there, on an install that had several
        accounts, or earlier rows turn out to be of an account, and their install is named as
        another one.
        """
        own = Installs.of(tail).all()
        before = {name: self.named(name) for name in own}
        there = {name: install for name, install in before.items() if install}
        known = own | {name: install.then(own[name]) for name, install in there.items()}
        begins = _first_moments(tail)
        if any(known[name].several and begins[name] <= there[name].last for name in there):
            return None
        log = people(merge([_one_row_each(there), tail]))
        persons = [log.text("user", row) or "" for row in range(len(there))]
        renamed = {
            name: person
            for (name, install), person in zip(there.items(), persons, strict=True)
            if person != (install.account or name)
        }
        if any(name in accounts or name in tail.terms["account"] for name in renamed):
            return None
        own_rows = {name: column[len(there) :] for name, column in log.columns.items()}
        return Arrived(Log(own_rows, log.terms), renamed, known)


def _first_moments(log: Log) -> dict[str, int]:
    first = np.full(len(log.terms["user"]), np.iinfo("int64").max)
    np.minimum.at(first, log.columns["user"], log.columns["time"])
    return dict(zip(log.terms["user"], first.tolist(), strict=True))


def _one_row_each(installs: dict[str, Install]) -> Log:
    """A row that says of each what is known: by `people`, what follows is taken as after all."""
    accounts = list(dict.fromkeys(one.account for one in installs.values() if one.account))
    code = {account: code for code, account in enumerate(accounts)}
    columns = {
        name: np.full(len(installs), NONE if name in DICTIONARY_OF else 0, dtype)
        for name, dtype in DTYPES.items()
    }
    columns["user"] = np.arange(len(installs), dtype="int32")
    columns["time"] = np.array([one.last for one in installs.values()], "int64")
    columns["account"] = np.array(
        [code.get(one.account, NONE) for one in installs.values()], "int32"
    )
    return Log(columns, {**empty_log().terms, "user": list(installs), "account": accounts})


@kernel
def _last_rows(
    installs: int,
    install: Column,
    account: Column,
    time: Column,
    order: Column,
    file: Column,
    line: Column,
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
    """Of each install its last row, its last one with an account, and whether it had several."""
    last, signed = np.full(installs, NONE, np.int64), np.full(installs, NONE, np.int64)
    several = np.zeros(installs, np.bool_)
    for row in range(len(install)):
        own = install[row]
        if last[own] == NONE or comes_after(row, last[own], time, order, file, line):
            last[own] = row
        if account[row] == NONE:
            continue
        if signed[own] != NONE and account[signed[own]] != account[row]:
            several[own] = True
        if signed[own] == NONE or comes_after(row, signed[own], time, order, file, line):
            signed[own] = row
    return last, signed, several
