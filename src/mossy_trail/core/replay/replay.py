"""Replaying the back stack: a part's rows and an app map become steps.

One pass over the rows of each user. The stacks of all moments live in one tree of entries (see
`steps.Entries`); of the app's state only the visible entry and the top entry of each tab are
held. A row therefore costs the same however deep the stack is; searches of a stack are bounded by
the number of rows, so that time is linear in it.

Where rows do not tell every move, several readings are weighed first (see `weighing`), by how
usual each move is in this app, and the rows are then taken as the likeliest one says.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.inference.lattice import BEAM_WIDTH, new_lattice, weigh
from mossy_trail.core.inference.transitions import (
    ONE,
    REPLACING,
    Tally,
    TransitionModel,
    counted,
    pairs_of,
    slots_of,
    transition_model,
)
from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.app_map import AppMap, Places, resolve
from mossy_trail.core.model.log import EVENT, SECOND, Column, Log, empty_log, ordered
from mossy_trail.core.model.steps import MOVES, Steps
from mossy_trail.core.replay.batches import (
    FIRST_WAYS,
    Choices,
    Walked,
    nothing_walked,
    walk_through,
)
from mossy_trail.core.replay.journeys import journeys_of
from mossy_trail.core.replay.linked import led_first
from mossy_trail.core.replay.marks import mark
from mossy_trail.core.replay.run import Run, Source, fill, new_run
from mossy_trail.core.replay.sessions import cut_sessions, resent, without

_TELLING = np.isin(
    np.arange(256), [code for word, code in EVENT.items() if word in MOVES or word == "open_link"]
)
LEAPS = 3
"""How often what is usual is learned anew from the readings that it makes likely, three times in
a row, and a leap taken in the direction that these show."""


@dataclass(frozen=True)
class Settings:
    """How rows are told apart in time, in microseconds."""

    idle: int = 30 * 60 * SECOND
    """Without a session id, a longer gap starts a new session."""
    settle: int = 2 * SECOND
    """A view this soon after a move onto its screen is that move's."""
    doubled: int = SECOND
    """A view of the visible screen this soon is a doubled row; later it is a repeat."""
    bounce: int = SECOND
    """A step left sooner than this is a bounce."""


def replay(
    log: Log,
    app_map: AppMap,
    transitions: TransitionModel | None = None,
    settings: Settings | None = None,
    places: Places | None = None,
) -> Steps:
    """Replay one part.

    Parameters
    ----------
    log : rows sorted by user and time, as `log.split` leaves them.
    app_map : the app's screens, tabs, links and history rules.
    usual : how usual each move is, as learned from parts of the same log; where some is needed
        and none is given, it is learned from this part alone.
    settings : time limits; the defaults suit a mobile app.
    places : what the log's names mean by the map, where that is known.

    Returns
    -------
    Steps, in the order of the rows. Linear in rows.
    """
    settings = settings or Settings()
    rows = _Rows.of(log, app_map, settings, places)
    walked = rows.walked() if rows.tells_moves else None
    unexplained = rows.unexplained(walked)
    if unexplained.any():
        transitions = transitions or learn([log], app_map, settings)[0]
        walked = rows.walked(rows.weighed(transitions, unexplained)[0])
    return rows.steps(walked or rows.walked())


def first_reading(log: Log, app_map: AppMap, settings: Settings | None = None) -> Steps:
    """Replay one part without weighing: each view whose move no row tells by what fits first."""
    rows = _Rows.of(log, app_map, settings or Settings())
    return rows.steps(rows.walked())


def compile_walk() -> None:
    """Compile what takes row by row, which is the most of it."""
    _no_rows().walked()


def compile_around() -> None:
    """Compile what is done before a walk and after it."""
    rows = _no_rows()
    rows.steps(nothing_walked(rows.source, rows.places))


def _no_rows() -> _Rows:
    return _Rows.of(ordered(empty_log()), AppMap.from_dict({}), Settings())


def learn(
    logs: Sequence[Log], app_map: AppMap, settings: Settings | None = None
) -> tuple[TransitionModel, float]:
    """How usual each move is in an app whose rows do not tell all of them.

    By expectation maximisation (A. Dempster et al., J. R. Stat. Soc. B 39, 1977): what is usual
    weighs the readings, and how often each move is in them, by their weights, tells what is usual.
    Moves that rows tell are counted as they are. Since views tell little of some moves, this comes
    near only slowly, and is made faster by squared extrapolation (R. Varadhan and C. Roland,
    Scand. J. Stat. 35, 2008, scheme S3).

    Parameters
    ----------
    logs : parts with the same dictionaries, at least one; some 100,000 rows are enough.

    Returns
    -------
    What is usual, and how likely it makes the views (as a logarithm): settings of the app map
    under which the same views are likelier are nearer to the truth.
    """
    settings = settings or Settings()
    parts = [_Rows.of(log, app_map, settings) for log in logs]
    runs, first = [rows.run(0) for rows in parts], [rows.walked() for rows in parts]
    pairs = pairs_of(runs)
    told, ahead = counted(pairs, first, len(runs[0].screens))
    open_rows = [rows.unexplained(walked) for rows, walked in zip(parts, first, strict=True)]
    transitions, likelihood = transition_model(pairs, told, ahead, runs), 0.0

    def again(transitions: TransitionModel, before: Tally) -> tuple[TransitionModel, Tally, float]:
        found = [
            rows.weighed(transitions, own, True) for rows, own in zip(parts, open_rows, strict=True)
        ]
        slots, tallies = slots_of(transitions, pairs.keys), [tally for _, tally, _ in found]
        moves = told.moves + sum(tally.moves[slots] for tally in tallies)
        replacing = sum(tally.replacing[slots] for tally in tallies)
        # where nothing is told, one of the ways had become too faint to be thought of
        heard = np.any(replacing, axis=1, keepdims=True)
        tally = Tally(moves, np.where(heard, told.replacing + replacing, before.replacing))
        return (
            transition_model(pairs, tally, ahead, runs),
            tally,
            sum(likely for *_, likely in found),
        )

    if any(map(np.any, open_rows)):
        transitions, tally, _ = again(transitions, told)
        for _ in range(LEAPS):
            transitions, once, _ = again(transitions, tally)
            _, twice, _ = again(transitions, once)
            leapt = Tally(_leap(tally.moves, once.moves, twice.moves), twice.replacing)
            transitions, tally, likelihood = again(
                transition_model(pairs, leapt, ahead, runs), leapt
            )
    return transitions, likelihood


def _leap(start: Column, first: Column, second: Column) -> Column:
    """Where counts lead to that went from `start` to `first` and `second`, as far as can be told.

    Sums of squares are rounded once, whatever the order of pairs.
    """
    way, bend = first - start, second - 2 * first + start
    length, bent = (math.fsum((x.astype("f8") ** 2).ravel()) for x in (way, bend))
    if bent == 0:
        return second
    far = max(1.0, math.sqrt(length / bent))
    leapt = np.rint(start + 2 * far * way + far * far * bend).astype("int64")
    return np.maximum(leapt, np.minimum(second, ONE // 10))


@kernel
def _tells_moves(event: Column, telling: Column) -> bool:
    for word in event:  # noqa: SIM110 - to the compiler, a loop is the fast one
        if telling[word]:
            return True
    return False


@kernel
def _lasting(unsure: Column, journey: Column) -> NDArray[np.bool_]:
    """Unsure from a journey's first such step on: nothing empties a shared history, so that every
    later depth hangs on how that step was read."""
    found = unsure.copy()
    for i in range(1, len(found)):
        found[i] |= found[i - 1] and journey[i] == journey[i - 1]
    return found


@dataclass(frozen=True, eq=False)
class _Rows:
    """What every walk through the same rows begins with."""

    log: Log
    app_map: AppMap
    settings: Settings
    places: Places
    source: Source

    @classmethod
    def of(
        cls, log: Log, app_map: AppMap, settings: Settings, places: Places | None = None
    ) -> _Rows:
        places = places or resolve(app_map, log.terms)
        again = resent(log)
        log = without(led_first(log, places, again), again)
        source = Source.of(log, places, cut_sessions(log, settings.idle), again)
        return cls(log, app_map, settings, places, source)

    @property
    def tells_moves(self) -> bool:
        return _tells_moves(read_only(self.log.columns["event"]), _TELLING)

    def unexplained(self, walked: Walked | None) -> NDArray[np.bool_]:
        """Which rows are of users with a step whose move no row tells; all, if none tells any."""
        if walked is None:
            return np.ones(len(self.log), bool)
        if not walked.guessed.any():
            return np.zeros(len(self.log), bool)
        return walked.guessed[self.log.columns["user"]]

    def run(self, room: int) -> Run:
        """All rows as records, with nothing done yet."""
        run = new_run(len(self.log), self.places, self.app_map.history, room)
        fill(run.rows, self.source, 0)
        return run

    def walked(self, choices: Choices = FIRST_WAYS) -> Walked:
        """The rows taken one by one, and views without moves as they were chosen to be read."""
        limits = self.settings.settle, self.settings.doubled
        return walk_through(self.source, self.places, self.app_map.history, choices, *limits)

    def steps(self, walked: Walked) -> Steps:
        entries, steps, fate, _ = walked
        if self.app_map.history["tabs"] == "shared":
            steps = steps._replace(unsure=_lasting(steps.unsure, steps.journey))
        journeys = journeys_of(self.log, self.source.journey, steps, entries, self.source.again)
        result = Steps(self.log, self.places, entries, steps, journeys, fate)
        mark(result, self.settings.bounce)
        return result

    def weighed(
        self, transitions: TransitionModel, rows: NDArray[np.bool_], learning: bool = False
    ) -> tuple[Choices, Tally, float]:
        """The readings chosen of these rows, what they tell of pairs, and how likely they are.

        Of what takes the place of what they tell only if one is `learning`.
        """
        longest = int(np.bincount(self.log.columns["user"][rows]).max(initial=0))
        run, pairs = self.run(3 * BEAM_WIDTH * longest), len(transitions.weights)
        replacing = np.zeros((pairs if learning else 0, len(REPLACING)), "int64")
        tally = Tally(np.zeros((pairs, len(MOVES)), "int64"), replacing)
        limits = self.settings.settle, self.settings.doubled
        likelihood = weigh(run, new_lattice(run), transitions, rows, tally, *limits)
        choices = Choices(run.rows["choice"].copy(), run.rows["unsure"].copy())
        return choices, tally, likelihood
