"""Who the rows of a log are of, where installs and accounts are told apart."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel
from mossy_trail.core.model.log import NONE, Column, Log, sorted_rows


def tells_accounts(log: Log) -> bool:
    """Whether any row says which account was signed in."""
    return bool((log.columns["account"] != NONE).any())


def people(log: Log) -> Log:
    """The log with persons for its installs.

    Parameters
    ----------
    log : rows in any order, whose `user` is an install where they have an `account` too.

    Returns
    -------
    The same rows in the same order. A row is of its account; without one, of the account that was
    last on its install, else of the first to come there, else of the install. So a person stays
    one through signing in and out and on several installs, and accounts on one install stay
    apart. What is returned is returned again as it is. Without accounts it is the log itself.
    """
    if not tells_accounts(log):
        return log
    names = Names.of(log.terms)
    used, person = np.unique(names.of_rows(log.columns), return_inverse=True)
    return Log(
        {**log.columns, "user": person.astype("int32")},
        {**log.terms, "user": [names.text[code] for code in used]},
    )


class Names(NamedTuple):
    """The names of installs, then of accounts; and per name the code of the first that is the
    same."""

    text: list[str]
    first: NDArray[np.int32]
    installs: int

    @classmethod
    def of(cls, terms: Mapping[str, list[str]]) -> Names:
        text = [*terms["user"], *terms["account"]]
        codes = {name: code for code, name in reversed(list(enumerate(text)))}
        return cls(text, np.array([codes[name] for name in text], "int32"), len(terms["user"]))

    def of_rows(self, columns: Mapping[str, Column]) -> NDArray[np.int32]:
        """The code of the person that each row is of, of rows with all that their installs have;
        shape (rows,)."""
        order = sorted_rows(
            columns["user"],
            self.installs,
            *(columns[name] for name in ("time", "order", "file", "line")),
        )
        return self.first[_people(order, columns["user"], columns["account"], self.installs)]


@kernel
def _people(
    order: NDArray[np.int64], install: Column, account: Column, installs: int
) -> NDArray[np.int64]:
    """Per row its install, or `installs` + its account; `order` is by install and time."""
    person = np.empty(len(order), np.int64)
    begin = 0
    for i in range(len(order)):
        row = order[i]
        if install[row] != install[order[begin]]:
            begin = i
        if account[row] != NONE:
            person[row] = installs + account[row]
            if i > begin and person[order[begin]] < installs:
                person[order[begin:i]] = person[row]
        else:
            person[row] = install[row] if i == begin else person[order[i - 1]]
    return person
