"""Weighing several readings of a log whose rows do not tell every move.

A view may have come about by several moves, each of which leaves another stack behind, and only
later rows tell which it was. So a few readings are kept side by side, each with its own stack in
the one tree of entries; those whose stacks become alike are one from there on. What results is a
hidden Markov model whose states are stacks: its lattice is weighed by the forward-backward
algorithm, and the most likely path through it is found as by Viterbi (L. Rabiner, A tutorial on
hidden Markov models, Proc. IEEE 77, 1989). Few readings are kept (a beam); those let go keep a part
of their weight, since it is not known what later rows would have said of them.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mossy_trail.core.inference.transitions import ONE, REPLACING, Tally, TransitionModel, pair_row
from mossy_trail.core.kernel import inner_kernel, kernel
from mossy_trail.core.model.log import NONE, Column
from mossy_trail.core.model.steps import MARK, MOVE, MOVES
from mossy_trail.core.replay.reading import shows_anew, ways
from mossy_trail.core.replay.run import (
    BACK_PREVIOUS,
    ENTRIES,
    RESTART,
    RESTART_FRESH,
    RESTORED,
    ROOT_BACK,
    SELECTED,
    SETTLE_TIME,
    STATE_SIZE,
    STEP,
    STEPS,
    TABS,
    TABS_SHARED,
    UNDER,
    VISIBLE,
    Run,
    fingerprint,
    mix,
)
from mossy_trail.core.replay.walk import choose, take_row

BEAM_WIDTH = 4
"""Readings that are kept side by side."""
BRANCHES = 6
"""Ways on from them that are tried for one view."""
LONGEST = 2048
"""Views without moves after which the best reading is settled on, if the journey goes on."""
BEAM_CUTOFF = 5e-3
"""A reading by so much less likely than the best one is let go."""
MISFIT = 1e-3
"""What a reading weighs less for a reported move that does not fit its stack."""
SURE = 0.97
"""A step is unsure when all readings that agree on it weigh less than this share."""
SURE_OF_SHARED = 0.999
"""The same where all tabs share one history, of which views tell less than learning makes of it."""
LET_GO = 0.3
"""How likely later rows are by a reading that was let go, beside those that were kept: what
brought it so low is mostly not what comes later."""
LET_GO_FOR_LONG = 0.6
"""The same where nothing empties the stacks (a shared history, or restored ones), so that a
misreading lasts."""
_OPTION_CUTOFF = 1e-3
"""A way on that weighs so much less than the best one is not even thought of."""
_LIGHTEST = 1e-200

_LANDED_ELSEWHERE = MARK["landed_elsewhere"]
_NEW_ENTRY = sum(
    1 << MOVE[m] for m in ("push", "replace", "reset", "link", "redirect", "open_modal", "update")
)
_MOST_MOVES, _SWITCH = len(MOVES), MOVE["switch_tab"]
_PUSH, _REPLACE = MOVE["push"], MOVE["replace"]
_OPTIONS = BEAM_WIDTH * _MOST_MOVES
_NOWHERE = 255
"""Where an edge leads whose reading was let go."""
_CLEAR = 100.0
"""So much, and no more, one view may tell of whether a screen takes the place of another."""

_EDGE = np.dtype(
    [
        ("standing", "i8"),
        ("weight", "f8"),
        ("slot", "i4"),
        ("before", "u1"),
        ("after", "u1"),
        ("move", "u1"),
    ],
    align=True,
)


class Lattice(NamedTuple):
    """The readings side by side, and how they came from each other since they last were one.

    There are two banks of readings, the present ones and the next. A column is a view without a
    move; its edges lead from readings before it to those after.
    """

    state: Column
    """Where each reading stands; shape (2 × beam and one to try, STATE_SIZE)."""
    tabs: Column
    fingerprints: Column
    """What tells a reading's stacks from others."""
    forward: Column
    """How likely the views so far are, with all paths to a reading."""
    viterbi: Column
    """The same with the best single path alone."""
    back_edge: Column
    """The last edge of that path."""
    options: Column
    """Ways on from the present readings."""
    rows: Column
    first_edge: Column
    edges: Column
    forward_at: Column
    """`forward` of the readings after each column, scaled to a sum of one."""
    emission: Column
    """How likely the moves reported since a column are, per reading."""
    back_edges: Column
    """`back_edge` of each column's readings."""
    backward: Column


def new_lattice(run: Run) -> Lattice:
    slots = 2 * BEAM_WIDTH + 1  # and one to try
    return Lattice(
        np.empty((slots, STATE_SIZE), "i8"),
        np.empty((slots, len(run.tabs)), run.tabs.dtype),
        np.empty(slots, "i8"),
        np.ones(slots),
        np.ones(slots),
        np.empty(slots, "i8"),
        np.empty(_OPTIONS, _OPTION),
        np.empty(LONGEST + 1, "i8"),
        np.empty(LONGEST + 2, "i8"),
        np.empty((LONGEST + 1) * _OPTIONS, _EDGE),
        np.empty((LONGEST + 1, BEAM_WIDTH)),
        np.empty((LONGEST + 1, BEAM_WIDTH)),
        np.empty((LONGEST + 1, BEAM_WIDTH), "i8"),
        np.empty((2, BEAM_WIDTH)),
    )


_OPTION = np.dtype([("weight", "f8"), ("of", "i8"), ("move", "i8"), ("slot", "i8")])


@kernel
def weigh(
    run: Run,
    lattice: Lattice,
    model: TransitionModel,
    open_rows: Column,
    tally: Tally,
    settle: int,
    doubled: int,
) -> float:
    """Weigh the readings of all users that `open_rows` marks; write each row's `choice`, `unsure`.

    `tally`, with a row for each of `model.weights`, is added to by what the readings tell. Returns
    the logarithm of how likely the views are, all readings together.
    """
    return _weigh(run, lattice, model, open_rows, tally, settle, doubled)


@inner_kernel
def _weigh(
    run: Run,
    lattice: Lattice,
    model: TransitionModel,
    open_rows: Column,
    tally: Tally,
    settle: int,
    doubled: int,
) -> float:
    rows = run.rows
    run.state[SETTLE_TIME] = settle
    at_start = run.state[ENTRIES]
    made, bank, count, columns, found = at_start, 0, 1, 0, 0.0
    _copy(lattice, run.state, run.tabs, 0)
    lattice.emission[0, :] = 1.0
    lattice.forward_at[0, 0] = 1.0
    for i in range(len(rows)):
        if not open_rows[i]:
            continue
        first = i == 0 or rows[i].user != rows[i - 1].user
        if first or columns == LONGEST:
            found += _settle_on_best(run, lattice, model, tally, columns, count, bank)
            count, columns, bank = 1, 0, 0
            if first:
                made = at_start
        waiting = 0
        for r in range(count):
            slot = bank * BEAM_WIDTH + r
            reading = _reading(run, lattice, slot)
            reading.state[ENTRIES] = made
            before = reading.state[STEPS]
            if take_row(reading, i, settle, doubled):
                waiting |= 1 << r
            made = reading.state[ENTRIES]
            if count > 1 and reading.state[STEPS] != before:
                _weigh_fit(reading, lattice, slot, columns, r)
        if waiting:
            if count == 1 and columns:  # whatever came before, all readings have become this one
                found += _settle_on_best(run, lattice, model, tally, columns, count, bank)
                columns, bank = 0, 0
            options = _weigh_options(run, lattice, model, i, waiting, count, bank)
            only = _only_way(lattice, options) if count == 1 else NONE
            if only != NONE:
                made = _take_only_way(run, lattice, tally, i, only, made)
                found += np.log(lattice.options[only].weight)
                continue
            columns += 1
            made, count, logged = _branch(run, lattice, i, options, bank, columns, made)
            found += logged
            bank = 1 - bank
    found += _settle_on_best(run, lattice, model, tally, columns, count, bank)
    return found


@inner_kernel
def _reading(run: Run, lattice: Lattice, slot: int) -> Run:
    return Run(
        run.rows, run.screens, run.entries, run.steps, lattice.tabs[slot], lattice.state[slot]
    )


@inner_kernel
def _copy(lattice: Lattice, state: Column, tabs: Column, slot: int) -> None:
    for k in range(len(state)):
        lattice.state[slot, k] = state[k]
    for k in range(len(tabs)):
        lattice.tabs[slot, k].root = tabs[k].root
        lattice.tabs[slot, k].top = tabs[k].top
        lattice.tabs[slot, k].used = tabs[k].used


@inner_kernel
def _weigh_fit(reading: Run, lattice: Lattice, slot: int, column: int, r: int) -> None:
    """Make a reading lighter if the step that it has made by a reported move landed elsewhere."""
    elsewhere = reading.steps[reading.state[STEP]].marks & _LANDED_ELSEWHERE != 0
    if elsewhere and lattice.forward[slot] > _LIGHTEST:
        lattice.emission[column, r] *= MISFIT
        lattice.forward[slot] *= MISFIT
        lattice.viterbi[slot] *= MISFIT


@inner_kernel
def _weigh_options(
    run: Run, lattice: Lattice, model: TransitionModel, i: int, waiting: int, count: int, bank: int
) -> int:
    """All ways on from the present readings, with their weights; how many there are."""
    screen, params = run.rows[i].screen, run.rows[i].params
    share, total = _share_of_params(model, screen, params), 0
    for r in range(count):
        slot = bank * BEAM_WIDTH + r
        if not waiting >> r & 1:
            total = _add_option(lattice, total, lattice.forward[slot], r, 0, NONE)
            continue
        reading = _reading(run, lattice, slot)
        pair = pair_row(
            model, run.entries[reading.state[VISIBLE]].screen * len(run.screens) + screen
        )
        open_ways = ways(reading, screen, params)
        for move in range(1, _MOST_MOVES):
            if open_ways >> move & 1:
                weight = lattice.forward[slot] * model.weights[pair, move]
                new = _NEW_ENTRY >> move & 1
                if move == _SWITCH:
                    new = shows_anew(reading, screen, params)
                if new:
                    weight *= share
                total = _add_option(lattice, total, weight, r, move, pair)
    return total


@inner_kernel
def _add_option(lattice: Lattice, total: int, weight: float, of: int, move: int, slot: int) -> int:
    option = lattice.options[total]
    option.weight, option.of, option.move, option.slot = weight, of, move, slot
    return total + 1


@inner_kernel
def _share_of_params(model: TransitionModel, screen: int, params: int) -> float:
    """How likely it is that a new entry of this screen has these params."""
    views = model.of_screen[screen]
    if params == NONE or views == 0:
        return 1.0
    own = model.of_params[params] if params < len(model.of_params) else 0.0
    return min(1.0, max(own, 1.0) / views)


@inner_kernel
def _branch(
    run: Run,
    lattice: Lattice,
    i: int,
    options: int,
    bank: int,
    column: int,
    made: int,
) -> tuple[int, int, float]:
    """Carry out the likeliest options; the readings they lead to are the present ones then.

    Returns the entries made so far, the number of readings, and the logarithm of their weight
    relative to that before.
    """
    count, tried, heaviest = 0, 0, 0.0
    edge = 0 if column == 1 else lattice.first_edge[column]
    lattice.first_edge[column] = edge
    lattice.rows[column] = i
    while tried < min(options, BRANCHES):
        option = _heaviest(lattice, options)
        weight = lattice.options[option].weight
        if tried == 0:
            heaviest = weight
        elif weight < heaviest * BEAM_CUTOFF:
            break
        tried += 1
        lattice.options[option].weight = -weight  # done
        of, move = lattice.options[option].of, lattice.options[option].move
        old, new = bank * BEAM_WIDTH + of, (1 - bank) * BEAM_WIDTH + min(count, BEAM_WIDTH - 1)
        spare = count == BEAM_WIDTH
        if spare:
            new = 2 * BEAM_WIDTH
        _copy(lattice, lattice.state[old], lattice.tabs[old], new)
        reading = _reading(run, lattice, new)
        reading.state[ENTRIES] = made
        if move:
            choose(reading, i, move)
            made = reading.state[ENTRIES]
        mark = _fingerprint_of(reading)
        after = _same_reading(lattice, mark, count, 1 - bank)
        if after == NONE:
            if spare:
                edge = _let_go(lattice, edge, option, weight / lattice.forward[old])
                continue
            after = count
            count += 1
            lattice.fingerprints[new] = mark
            lattice.forward[new] = lattice.viterbi[new] = 0.0
        slot = (1 - bank) * BEAM_WIDTH + after
        step_weight = weight / lattice.forward[old]
        lattice.forward[slot] += weight
        path = lattice.viterbi[old] * step_weight
        if path > lattice.viterbi[slot]:
            lattice.viterbi[slot] = path
            lattice.back_edge[slot] = edge
        _write_edge(run, lattice, edge, of, after, option, step_weight, reading)
        edge += 1
    for option in range(options):
        weight = lattice.options[option].weight
        if weight > heaviest * _OPTION_CUTOFF:
            old = bank * BEAM_WIDTH + lattice.options[option].of
            edge = _let_go(lattice, edge, option, weight / lattice.forward[old])
    lattice.first_edge[column + 1] = edge
    return made, count, _scale(lattice, column, count, 1 - bank)


@inner_kernel
def _only_way(lattice: Lattice, options: int) -> int:
    """The option beside which all others are faint, or −1."""
    heaviest = _heaviest(lattice, options)
    enough = lattice.options[heaviest].weight * BEAM_CUTOFF
    for k in range(options):
        if k != heaviest and lattice.options[k].weight >= enough:
            return NONE
    return heaviest


@inner_kernel
def _take_only_way(run: Run, lattice: Lattice, tally: Tally, i: int, option: int, made: int) -> int:
    """Let the one reading that there is go on; returns the entries made so far."""
    reading, taken = _reading(run, lattice, 0), lattice.options[option]
    reading.state[ENTRIES] = made
    run.rows[i].unsure = False
    choose(reading, i, taken.move)
    tally.moves[taken.slot, taken.move] += ONE
    run.rows[i].choice = taken.move
    return reading.state[ENTRIES]


@inner_kernel
def _heaviest(lattice: Lattice, options: int) -> int:
    found = 0
    for k in range(1, options):
        if lattice.options[k].weight > lattice.options[found].weight:
            found = k
    return found


@inner_kernel
def _same_reading(lattice: Lattice, mark: int, count: int, bank: int) -> int:
    for r in range(count):
        if lattice.fingerprints[bank * BEAM_WIDTH + r] == mark:
            return r
    return NONE


@inner_kernel
def _write_edge(
    run: Run,
    lattice: Lattice,
    edge: int,
    of: int,
    after: int,
    option: int,
    weight: float,
    reading: Run,
) -> None:
    record, below = lattice.edges[edge], run.steps[reading.state[STEP]].below
    record.before, record.after = of, after
    record.move, record.slot = lattice.options[option].move, lattice.options[option].slot
    record.weight = weight
    record.standing = _standing(run, reading, below)


@inner_kernel
def _let_go(lattice: Lattice, edge: int, option: int, weight: float) -> int:
    """Write an edge that leads nowhere; returns the next edge's place."""
    record = lattice.edges[edge]
    record.before, record.after = lattice.options[option].of, _NOWHERE
    record.move, record.slot = lattice.options[option].move, lattice.options[option].slot
    record.weight = weight
    return edge + 1


@inner_kernel
def _standing(run: Run, reading: Run, below: int) -> int:
    """A number that is the same where a step stands alike: its tab, depth, and what is below."""
    entry = run.entries[reading.state[VISIBLE]]
    place = mix(mix(entry.tab, entry.depth), entry.region)
    if below == NONE:
        return place
    return mix(mix(place, run.entries[below].screen), run.entries[below].params)


@inner_kernel
def _scale(lattice: Lattice, column: int, count: int, bank: int) -> float:
    """Scale the readings' weights to a sum of one, so that they never vanish."""
    total = best = 0.0
    for r in range(count):
        total += lattice.forward[bank * BEAM_WIDTH + r]
        best = max(best, lattice.viterbi[bank * BEAM_WIDTH + r])
    for r in range(count):
        slot = bank * BEAM_WIDTH + r
        lattice.forward[slot] /= total
        lattice.viterbi[slot] /= best
        lattice.forward_at[column, r] = lattice.forward[slot]
        lattice.back_edges[column, r] = lattice.back_edge[slot]
        lattice.emission[column, r] = 1.0
    return np.log(total)


@inner_kernel
def _fingerprint_of(reading: Run) -> int:
    """A number that is the same for readings with the same stacks everywhere."""
    entries, state = reading.entries, reading.state
    visible = state[VISIBLE]
    under = NONE if state[UNDER] == NONE else entries[state[UNDER]].fingerprint
    restored = NONE if state[RESTORED] == NONE else entries[state[RESTORED]].fingerprint
    mark = fingerprint(entries[visible].fingerprint, under, restored, state[SELECTED], 0, NONE)
    for tab in range(len(reading.tabs)):
        top = reading.tabs[tab].top
        resting = entries[tab if top == NONE else top].fingerprint
        later = 0
        if state[ROOT_BACK] == BACK_PREVIOUS:
            for other in range(len(reading.tabs)):
                later += reading.tabs[other].used > reading.tabs[tab].used
        mark += mix(mix(resting, tab), later)
    return mark


@inner_kernel
def _settle_on_best(
    run: Run,
    lattice: Lattice,
    model: TransitionModel,
    tally: Tally,
    columns: int,
    count: int,
    bank: int,
) -> float:
    """Choose the likeliest path through the lattice; its last reading goes on alone."""
    best, total = 0, 0.0
    for r in range(count):
        slot = bank * BEAM_WIDTH + r
        total += lattice.forward[slot]
        if lattice.viterbi[slot] > lattice.viterbi[bank * BEAM_WIDTH + best]:
            best = r
    last = bank * BEAM_WIDTH + best
    if columns:
        _weigh_backward(run, lattice, model, tally, columns, count, best)
    if last != 0:
        _copy(lattice, lattice.state[last], lattice.tabs[last], 0)
    lattice.forward[0] = lattice.viterbi[0] = 1.0
    lattice.forward_at[0, 0] = lattice.emission[0, 0] = 1.0
    return np.log(total)


@inner_kernel
def _weigh_backward(
    run: Run,
    lattice: Lattice,
    model: TransitionModel,
    tally: Tally,
    columns: int,
    count: int,
    best: int,
) -> None:
    now, then = 0, 1
    for r in range(BEAM_WIDTH):
        lattice.backward[now, r] = 1.0 if r < count else 0.0
    on_path = best
    lasting = run.state[TABS] == TABS_SHARED or run.state[RESTART] != RESTART_FRESH
    let_go = LET_GO_FOR_LONG if lasting else LET_GO
    sure = SURE_OF_SHARED if run.state[TABS] == TABS_SHARED else SURE
    for column in range(columns, 0, -1):
        first, end = lattice.first_edge[column], lattice.first_edge[column + 1]
        total = _weigh_edges(lattice, column, first, end, now, then, let_go)
        taken = lattice.edges[lattice.back_edges[column, on_path]]
        agreeing = pushed = replaced = 0.0
        slot = NONE
        for e in range(first, end):
            edge = lattice.edges[e]
            if edge.move == _PUSH:
                pushed += edge.weight
            elif edge.move == _REPLACE:
                replaced += edge.weight
                slot = edge.slot
            if edge.after == _NOWHERE:
                continue
            if edge.move == taken.move and edge.standing == taken.standing:
                agreeing += edge.weight
            if edge.move:
                tally.moves[edge.slot, edge.move] += int(ONE * edge.weight / total + 0.5)
        if len(tally.replacing) and slot != NONE and pushed > 0:
            _tell_of_replacing(model, tally, slot, replaced / pushed)
        row = lattice.rows[column]
        run.rows[row].choice = taken.move
        run.rows[row].unsure = agreeing < sure * total
        on_path = taken.before
        now, then = then, now


@inner_kernel
def _weigh_edges(
    lattice: Lattice, column: int, first: int, end: int, now: int, then: int, let_go: float
) -> float:
    """Make each edge's weight its share of all paths, but for a factor that is returned."""
    onward_of_kept = 0.0
    for r in range(BEAM_WIDTH):
        lattice.backward[then, r] = 0.0
        if lattice.backward[now, r] > 0:
            fit = lattice.emission[column, r] * lattice.backward[now, r]
            onward_of_kept += lattice.forward_at[column, r] * fit
    total = 0.0
    for e in range(first, end):
        edge = lattice.edges[e]
        onward = edge.weight
        if edge.after == _NOWHERE:
            onward *= let_go * onward_of_kept
        else:
            onward *= lattice.emission[column, edge.after] * lattice.backward[now, edge.after]
        lattice.backward[then, edge.before] += onward
        share = onward * lattice.forward_at[column - 1, edge.before]
        share *= lattice.emission[column - 1, edge.before]
        edge.weight = share
        total += share
    for r in range(BEAM_WIDTH):
        lattice.backward[then, r] /= total
    return total


@inner_kernel
def _tell_of_replacing(model: TransitionModel, tally: Tally, slot: int, ratio: float) -> None:
    """Add what a view tells of how often this screen takes the place of the one before."""
    ratio *= model.weights[slot, _PUSH] / model.weights[slot, _REPLACE]
    ratio = min(max(ratio, 1 / _CLEAR), _CLEAR)
    for k in range(len(REPLACING)):
        likely = np.log(REPLACING[k] * ratio + 1 - REPLACING[k])
        tally.replacing[slot, k] += int(np.round(ONE * likely))
