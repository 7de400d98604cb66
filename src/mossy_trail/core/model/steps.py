"""The columns of replayed steps, of the stack entries they stand on, and of journeys."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import brief_kernel, read_only
from mossy_trail.core.model.app_map import ROLE, Places
from mossy_trail.core.model.log import (
    NONE,
    Column,
    Log,
    Stretched,
    Stretches,
    kept,
    picked,
    stretches,
)

MOVES = (
    "start",
    "push",
    "pop",
    "pop_to",
    "replace",
    "reset",
    "switch_tab",
    "open_modal",
    "close_modal",
    "update",
    "forward",
    "redirect",
    "link",
)
MOVE = {word: code for code, word in enumerate(MOVES)}
BACK_MOVES = tuple(MOVE[word] for word in ("pop", "pop_to", "close_modal"))
"""The moves that go back."""
GOES_BACK = np.isin(np.arange(len(MOVES)), BACK_MOVES)
"""Per move, whether it is one of these."""

REGIONS = ("outside", "tab", "sheet")
OUTSIDE, TAB, SHEET = range(3)

MARKS = (
    "landed_elsewhere",
    "piled_up",
    "ping_pong",
    "tab_mismatch",
    "gate_loop",
    "placeholder",
    "unknown_screen",
    "not_found",
    "back_to_gate",
    "dead_end",
    "stuck",
    "bounce",
)
MARK = {word: 1 << bit for bit, word in enumerate(MARKS)}
"""The bit of each mark; a step's marks are the sum of its bits."""

FATES = ("kept", "made", "merged", "doubled", "repeated", "resent")
"""What became of a row: kept on a step, made one, merged into the one that another row made, or
merged since it says once more what was said: at once, later, or as a row that was sent again."""
FATE = {word: code for code, word in enumerate(FATES)}

EXITS = ("closed", "backgrounded", "signed_out", "silent", "cut")
EXIT = {word: code for code, word in enumerate(EXITS)}
STARTS = ("cold", "warm")

UNKNOWN_TIME = -1
"""A load time that no row tells, and the end and dwell of a journey's last step."""


class Entries(NamedTuple):
    """Stack entries: a tree of parents. A stack is the chain of `below` from its top entry.

    Entries never change, so a chain tells the stack of any moment: an `update` or `replace` makes
    a new entry with the parent of the old. All arrays have shape (entries,).
    """

    screen: NDArray[np.int32]
    params: NDArray[np.int32]
    below: NDArray[np.int32]
    """The next entry down; −1 at a stack's bottom, where "back" goes by the history rules."""
    depth: NDArray[np.int32]
    region: NDArray[np.uint8]
    tab: NDArray[np.int32]
    under: NDArray[np.int32]
    """On sheets: the entry that the sheet lies on."""


class StepColumns(NamedTuple):
    """What the replay writes per step. Times in microseconds; all arrays have shape (steps,)."""

    entry: NDArray[np.int32]
    below: NDArray[np.int32]
    """The entry that "back" would reveal at this moment; −1: back leaves the app."""
    expected: NDArray[np.int32]
    """Where the step is marked `landed_elsewhere`, the entry that its move should have led to."""
    move: NDArray[np.uint8]
    inferred: NDArray[np.bool_]
    unsure: NDArray[np.bool_]
    """Another reading of the journey, with another move or `below` here, is nearly as likely."""
    asked: NDArray[np.int64]
    visible: NDArray[np.int64]
    loaded: NDArray[np.bool_]
    """A view confirmed the move: `visible` − `asked` is its load time."""
    away: NDArray[np.int64]
    """Time in the background while this step was visible."""
    wanted: NDArray[np.int32]
    tab_reported: NDArray[np.int32]
    uri: NDArray[np.int32]
    source: NDArray[np.int32]
    marks: NDArray[np.uint16]
    repeats: NDArray[np.int32]
    """Views that showed it once more."""
    refused: NDArray[np.int32]
    """Moves away from it that were refused, and backs that went nowhere."""
    first_row: NDArray[np.int32]
    """A step's rows run from here to the next step's first row, or to the journey's end."""
    journey: NDArray[np.int32]


class PickedSteps:
    """Some of the steps of a part: like `StepColumns`, but that a column is copied when it is first
    asked for, as most questions need few. Those in `told` are not as the part has them.

    `steps` and `ahead` are of shape (journeys,): how many steps each has, and how many rows further
    ahead it stands than in the part.
    """

    def __init__(
        self,
        columns: Stretched,
        steps: NDArray[np.int32],
        ahead: NDArray[np.int32],
        told: Mapping[str, Column],
    ) -> None:
        self._columns, self._steps, self.ahead, self._told = columns, steps, ahead, told

    @classmethod
    def of(
        cls,
        steps: StepColumns | PickedSteps,
        own: Stretches,
        journeys: JourneyColumns,
        ahead: NDArray[np.int32],
    ) -> PickedSteps:
        """Some stretches of steps, which are of these journeys."""
        if isinstance(steps, PickedSteps):
            told = {name: picked(column, own) for name, column in steps._told.items()}
            return cls(Stretched.of(steps._columns, own), journeys.steps, ahead, told)
        return cls(Stretched.of(steps._asdict(), own), journeys.steps, ahead, {})

    def __getattr__(self, name: str) -> Column:
        if name not in StepColumns._fields:
            raise AttributeError(name)
        return self._told[name] if name in self._told else self._columns[name]

    @cached_property
    def journey(self) -> NDArray[np.int32]:
        return np.repeat(np.arange(len(self._steps), dtype="int32"), self._steps)

    @cached_property
    def first_row(self) -> NDArray[np.int32]:
        own: NDArray[np.int32] = self._columns["first_row"]
        return own - np.repeat(self.ahead, self._steps)

    def _replace(self, **told: Column) -> PickedSteps:
        return PickedSteps(self._columns, self._steps, self.ahead, {**self._told, **told})


class JourneyColumns(NamedTuple):
    """One session each. Times in microseconds; all arrays have shape (journeys,)."""

    first_step: NDArray[np.int32]
    steps: NDArray[np.int32]
    first_row: NDArray[np.int32]
    rows: NDArray[np.int32]
    user: NDArray[np.int32]
    session: NDArray[np.int32]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    start_kind: NDArray[np.uint8]
    exit: NDArray[np.uint8]
    marks: NDArray[np.uint16]
    deepest: NDArray[np.int32]


class Users(NamedTuple):
    """Whose each journey is, by numbers from 0 without gaps, shape (journeys,); how many users
    there are, and how many journeys one has at the most."""

    of: NDArray[np.int32]
    many: int
    most: int

    @classmethod
    def among(cls, user: NDArray[np.int32]) -> Users:
        """Of the user of each journey, those of one side by side."""
        fresh = np.append(True, user[1:] != user[:-1])[: len(user)]
        of = (np.cumsum(fresh) - 1).astype("i4")
        return cls(of, int(of[-1]) + 1 if len(of) else 0, int(np.bincount(of).max(initial=1)))


def count_users(user: NDArray[np.int32]) -> int:
    """How many users there are, given that of each journey by its code."""
    return int(np.count_nonzero(np.bincount(user)))


@dataclass(frozen=True, eq=False)
class Steps:
    """The replay of one part: its log, the places of its map, and what was rebuilt from them."""

    log: Log
    places: Places
    entries: Entries
    steps: StepColumns
    """Or, of some users, `PickedSteps`."""
    journeys: JourneyColumns
    fate: NDArray[np.uint8]
    """What became of each row: a code of `FATES`; shape (rows,)."""

    @cached_property
    def screen(self) -> NDArray[np.int32]:
        return self.entries.screen[self.steps.entry]

    @cached_property
    def tab(self) -> NDArray[np.int32]:
        return self.entries.tab[self.steps.entry]

    @cached_property
    def params(self) -> NDArray[np.int32]:
        return self.entries.params[self.steps.entry]

    @cached_property
    def role(self) -> NDArray[np.uint8]:
        return self.places.role[self.screen]

    @cached_property
    def made_by(self) -> NDArray[np.int64]:
        """The row that made each step; shape (steps,)."""
        return np.flatnonzero(self.fate == FATE["made"])

    @cached_property
    def began_by_link(self) -> NDArray[np.bool_]:
        """Journeys whose first screen past the splash is where a link led; shape (journeys,)."""
        found = np.zeros(len(self.journeys.start), bool)
        past = np.flatnonzero(self.role != ROLE["splash"])
        own = self.steps.journey[past]
        first = past[np.append(True, own[1:] != own[:-1])[: len(past)]]
        found[self.steps.journey[first]] = self.steps.uri[first] != NONE
        return found

    @cached_property
    def users(self) -> Users:
        return Users.among(self.journeys.user)

    @cached_property
    def until(self) -> NDArray[np.int64]:
        """When the next step of the journey became visible; −1 for its last."""
        until = np.full(len(self.steps.entry), UNKNOWN_TIME, "int64")
        until[:-1] = self.steps.visible[1:]
        until[self.last_steps()] = UNKNOWN_TIME
        return until

    @cached_property
    def dwell(self) -> NDArray[np.int64]:
        """Time on the screen in the foreground; −1 for a journey's last step."""
        until = self.until
        known = until != UNKNOWN_TIME
        return np.where(known, until - self.steps.visible - self.steps.away, UNKNOWN_TIME)

    @cached_property
    def load(self) -> NDArray[np.int64]:
        return np.where(self.steps.loaded, self.steps.visible - self.steps.asked, UNKNOWN_TIME)

    def of_users(self, users: NDArray[np.bool_]) -> Steps:
        """The replay of some users, by their codes, as if the part had no others."""
        chosen = stretches(self.journeys.user, users)
        rows = _standing(chosen, self.journeys.first_row, len(self.log))
        steps = _standing(chosen, self.journeys.first_step, int(self.journeys.steps.sum()))
        whole = JourneyColumns._make(read_only(column) for column in self.journeys)
        own, ahead = _cut(whole, chosen)
        if isinstance(self.steps, PickedSteps):
            ahead += picked(self.steps.ahead, chosen)
        own_steps: Any = PickedSteps.of(self.steps, steps, own, ahead)
        return Steps(
            self.log.stretched(rows),
            self.places,
            self.entries,
            own_steps,
            own,
            picked(self.fate, rows),
        )

    def under(self, terms: dict[str, list[str]], places: Places) -> Steps:
        """The same under dictionaries and places that go on from its own. What was worked out of it
        stays known."""
        return self._but(log=self.log.under(terms), places=places)

    def with_exits(self, exits: NDArray[np.uint8]) -> Steps:
        """The same with other ends of journeys; marks are its own, to be marked anew."""
        return self._but(
            steps=self.steps._replace(marks=self.steps.marks.copy()),
            journeys=self.journeys._replace(exit=exits, marks=self.journeys.marks.copy()),
        )

    def _but(self, **changed: Any) -> Steps:
        """With what was worked out of it: nothing of that is of dictionaries, or of marks."""
        same = replace(self, **changed)
        own = {field.name for field in fields(self)}
        vars(same).update({name: made for name, made in vars(self).items() if name not in own})
        return same

    def last_steps(self) -> NDArray[np.int32]:
        """The position of each journey's last step; journeys without steps have none."""
        some = self.journeys.steps > 0
        return (self.journeys.first_step + self.journeys.steps - 1)[some]

    def stack(self, entry: int) -> Iterator[int]:
        """The entries from this one down to the one from which "back" leaves the app."""
        while entry != NONE:
            yield entry
            entry = int(self.entries.below[entry])


def _standing(journeys: Stretches, begins: NDArray[np.int32], end: int) -> Stretches:
    """Where what stretches of journeys have stands, of which each has its own after the last's."""
    return np.append(begins.astype("int64"), end)[journeys]


@brief_kernel
def _cut(whole: JourneyColumns, chosen: Stretches) -> tuple[JourneyColumns, NDArray[np.int32]]:
    """Some stretches of journeys as if there were no others, and by how many rows each of them now
    stands further in front; compiled as one, as parts are often cut, and calls cost more."""
    first_row, first_step = kept(whole.first_row, chosen), kept(whole.first_step, chosen)
    rows, steps = kept(whole.rows, chosen), kept(whole.steps, chosen)
    ahead = np.empty_like(first_row)
    row, step = 0, 0
    for i in range(len(rows)):
        ahead[i] = first_row[i] - row
        first_row[i], first_step[i] = row, step
        row, step = row + rows[i], step + steps[i]
    own = JourneyColumns(
        first_step,
        steps,
        first_row,
        rows,
        kept(whole.user, chosen),
        kept(whole.session, chosen),
        kept(whole.start, chosen),
        kept(whole.end, chosen),
        kept(whole.start_kind, chosen),
        kept(whole.exit, chosen),
        kept(whole.marks, chosen),
        kept(whole.deepest, chosen),
    )
    return own, ahead
