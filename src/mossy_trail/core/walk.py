"""Walking through a log row by row: what each row does to the run."""

from __future__ import annotations

from mossy_trail.core.app_map import ROLE
from mossy_trail.core.kernel import inner_kernel, rare_kernel
from mossy_trail.core.landing import (
    VIA_PUSH,
    VIA_REPLACE,
    alone,
    below,
    chosen_again,
    empty,
    land,
    link,
    on_splash,
    redirect,
    same,
    sheets_gone,
    stand_on,
)
from mossy_trail.core.log import EVENT, NONE, OUTCOME
from mossy_trail.core.reading import first_way, go
from mossy_trail.core.run import (
    AWAY_SINCE,
    FIRST,
    LINK,
    LOOKS,
    LOOKS_PER_ROW,
    MARKED,
    PENDING,
    RESENT,
    RESTART,
    RESTART_FRESH,
    RESTORED,
    SELECTED,
    SHOWN,
    SIGNED_OUT,
    STARTED,
    STEP,
    STEPS,
    VIS,
    WANTED,
    Run,
    wide,
)
from mossy_trail.core.steps import (
    FATE,
    MARK,
    MOVE,
    TAB,
)

_TAB_MISMATCH = MARK["tab_mismatch"]
_SPLASH = ROLE["splash"]
_APP_START, _VIEW, _LINK_ROW = EVENT["app_start"], EVENT["screen_view"], EVENT["open_link"]
_BACKGROUND, _FOREGROUND = EVENT["app_background"], EVENT["app_foreground"]
_RECREATE, _SIGN_OUT, _REDIRECT_ROW = EVENT["app_recreate"], EVENT["sign_out"], EVENT["redirect"]
_BLOCKED, _LEAVE_PROMPT, _STAYED = EVENT["blocked"], EVENT["leave_prompt"], OUTCOME["stayed"]
_FIRST_MOVE, _LAST_MOVE = EVENT["push"], EVENT["redirect"]
_POP_ROW, _POP_TO_ROW = EVENT["pop"], EVENT["pop_to"]
_MOVE_OF_EVENT = MOVE["push"] - EVENT["push"]
_START, _POP, _REPLACE, _SWITCH = (MOVE[m] for m in ("start", "pop", "replace", "switch_tab"))
_REDIRECT, _LINKED = MOVE["redirect"], MOVE["link"]
_KEPT, _MADE, _MERGED = FATE["kept"], FATE["made"], FATE["merged"]
_DOUBLED, _REPEATED = FATE["doubled"], FATE["repeated"]


@inner_kernel
def walk(run: Run, settle: int, doubled: int) -> None:
    """Take all rows; a view without a move is read as its `choice` says, or as the first way."""
    rows = run.rows
    for i in range(len(rows)):
        if take_row(run, i, settle, doubled):
            choice = rows[i].choice
            if choice == _START:
                choice = first_way(run, wide(rows[i].screen), wide(rows[i].params))
            choose(run, i, choice)
    flush(run)


@inner_kernel
def take_row(run: Run, i: int, settle: int, doubled: int) -> bool:
    """Let row `i` act on the run; whether it is a view that waits for its move to be chosen."""
    rows, at = run.rows, run.at
    if i == 0 or rows[i].journey != rows[i - 1].journey:
        _begin_journey(run, i)
    at[LOOKS] += LOOKS_PER_ROW
    event = rows[i].event
    if event == _VIEW:
        return rows[i].screen != NONE and _on_view(run, i, settle, doubled)
    if event == _REDIRECT_ROW:
        _on_redirect(run, i, settle)
    elif _FIRST_MOVE <= event < _LAST_MOVE:
        _on_move(run, i)
    elif event == _LINK_ROW:
        flush(run)
        at[LINK] = i
        _belongs_to_next(run, i)
    else:
        _on_lifecycle(run, i, event)
    return False


@inner_kernel
def choose(run: Run, i: int, move: int) -> None:
    """Carry out the move that led to the view in row `i`, which came without one."""
    screen, params = wide(run.rows[i].screen), wide(run.rows[i].params)
    _show(run, go(run, move, screen, params), move, True, i, i)


@inner_kernel
def _begin_journey(run: Run, i: int) -> None:
    at, rows = run.at, run.rows
    flush(run)
    if i > 0 and rows[i].user != rows[i - 1].user:
        empty(run)
        at[LOOKS] = 0
    at[STEP] = at[LINK] = at[STARTED] = at[AWAY_SINCE] = at[WANTED] = NONE
    at[SIGNED_OUT] = at[RESENT] = 0
    at[FIRST] = i


@inner_kernel
def _belongs_to_next(run: Run, i: int) -> None:
    if run.at[FIRST] == NONE:
        run.at[FIRST] = i


@inner_kernel
def _on_lifecycle(run: Run, i: int, event: int) -> None:
    rows, at = run.rows, run.at
    if event == _APP_START:
        flush(run)
        _restart(run)
        at[LINK] = NONE
        at[STARTED] = i
        _belongs_to_next(run, i)
    elif event == _BACKGROUND:
        at[AWAY_SINCE] = i
    elif event == _FOREGROUND:
        at[RESENT] = 1
        if at[AWAY_SINCE] != NONE and at[STEP] != NONE:
            run.steps[at[STEP]].away += rows[i].time - rows[at[AWAY_SINCE]].time
        at[AWAY_SINCE] = NONE
    elif event == _RECREATE:
        at[RESENT] = 1
    elif event == _SIGN_OUT:
        at[SIGNED_OUT] = 1
    elif event == _BLOCKED or (event == _LEAVE_PROMPT and rows[i].outcome == _STAYED):
        _refuse(run, i)


@inner_kernel
def _restart(run: Run) -> None:
    """The stacks are gone, or wait for the first screen to show that they stand again."""
    at = run.at
    if at[RESTART] == RESTART_FRESH or (at[VIS] == NONE and at[RESTORED] == NONE):
        empty(run)
    elif at[VIS] != NONE:
        at[RESTORED] = sheets_gone(run, at[VIS])
        at[VIS] = NONE


@rare_kernel
def _refuse(run: Run, i: int) -> None:
    """A move that did not take place, told by itself or as the answer to the move's own row."""
    at, rows, pending = run.at, run.rows, run.at[PENDING]
    if pending != NONE:
        refused = rows[i].screen == rows[pending].screen or rows[i].screen == NONE
        if rows[i].event == _LEAVE_PROMPT:
            refused = rows[pending].event == _POP_ROW
        if refused:
            at[PENDING] = NONE
    flush(run)
    if at[STEP] != NONE:
        run.steps[at[STEP]].refused += 1


@inner_kernel
def _on_move(run: Run, i: int) -> None:
    rows, at = run.rows, run.at
    flush(run)
    if rows[i].event + _MOVE_OF_EVENT == _SWITCH and _is_reselection(run, i):
        return
    if at[LINK] != NONE:
        target = rows[at[LINK]].target
        if target != NONE and target != rows[i].screen:
            at[LINK] = NONE  # the user went on; the link never landed
    at[PENDING] = i
    _belongs_to_next(run, i)


@inner_kernel
def _is_reselection(run: Run, i: int) -> bool:
    """The selected tab chosen again where that changes nothing: no step."""
    vis, tab, screen = run.at[VIS], run.rows[i].tab, run.rows[i].screen
    if vis == NONE or run.entries[vis].region != TAB:
        return False
    if tab == NONE and screen != NONE:
        tab = run.screens[screen].home
    if tab != run.at[SELECTED] or chosen_again(run, vis) != vis:
        return False
    return screen == NONE or run.entries[vis].screen == screen


@rare_kernel
def _on_redirect(run: Run, i: int, settle: int) -> None:
    """A redirect answers the move before it, if that had no view and wanted the same screen."""
    rows, at, pending = run.rows, run.at, run.at[PENDING]
    wanted = rows[i].origin
    if pending != NONE and rows[i].time - rows[pending].time <= settle:
        screen = rows[pending].screen
        answers = rows[pending].event == _REDIRECT_ROW or screen == NONE or wanted == NONE
        if answers or screen == wanted:
            if rows[pending].event == _POP_ROW or rows[pending].event == _POP_TO_ROW:
                _go_back_unseen(run, pending)
            if rows[pending].event == _REDIRECT_ROW:
                wanted = at[WANTED]
            elif wanted == NONE:
                wanted = screen
            at[PENDING] = NONE
    flush(run)
    if wanted == NONE and at[LINK] != NONE:
        wanted = rows[at[LINK]].target
    at[WANTED] = wanted
    at[PENDING] = i
    _belongs_to_next(run, i)


@rare_kernel
def _go_back_unseen(run: Run, i: int) -> None:
    move, screen = run.rows[i].event + _MOVE_OF_EVENT, wide(run.rows[i].screen)
    entry = land(run, move, i, screen, wide(run.rows[i].params))
    if entry != NONE:
        stand_on(run, entry)


@inner_kernel
def _on_view(run: Run, i: int, settle: int, doubled: int) -> bool:
    """Whether it waits for its move to be chosen."""
    rows, at = run.rows, run.at
    screen, params = wide(rows[i].screen), wide(rows[i].params)
    pending = at[PENDING]
    if pending != NONE:
        awaited = rows[pending].screen
        on_time = rows[i].time - rows[pending].time <= settle
        if on_time and (awaited == NONE or awaited == screen):
            _complete(run, i, screen, params)
            return False
        flush(run)
    if _answers_link(run, screen, params):
        _answer_link(run, i, screen, params)
        return False
    restored = _meet_restored(run, screen, params)
    if restored != NONE:
        _resume(run, i, restored)
    elif same(run, at[VIS], screen, params):
        if at[STEP] == NONE:
            _show(run, at[VIS], wide(_START), True, i, i)
        else:
            _repeat(run, i, doubled)
    elif at[VIS] == NONE or at[STEP] == NONE:
        _start(run, i, screen, params)
    else:
        return True
    return False


@inner_kernel
def _answers_link(run: Run, screen: int, params: int) -> bool:
    """A view answers the open link unless it is the splash, or what stood there before."""
    opened = run.at[LINK]
    if opened == NONE or run.screens[screen].role == _SPLASH:
        return False
    return run.rows[opened].target == screen or not same(run, run.at[VIS], screen, params)


@rare_kernel
def _answer_link(run: Run, i: int, screen: int, params: int) -> None:
    """The view that a link led to: its screen, or a gate's on the way there."""
    at, rows, asked = run.at, run.rows, run.at[LINK]
    target = wide(rows[asked].target)
    if target != NONE and target != screen and run.screens[screen].outside:
        at[WANTED] = target
        if at[VIS] == NONE:
            gate = alone(run, screen, params)
        else:
            gate = redirect(run, VIA_REPLACE if on_splash(run) else VIA_PUSH, screen, params)
        _show(run, gate, wide(_REDIRECT), True, i, i)
        return
    if params == NONE:
        params = wide(rows[asked].params)
    _show(run, link(run, screen, params), wide(_LINKED), False, asked, i)


@inner_kernel
def _start(run: Run, i: int, screen: int, params: int) -> None:
    if run.at[STARTED] == NONE and run.screens[screen].role == _SPLASH:
        _restart(run)  # it started, though no row says so
    if run.at[RESTORED] == NONE:
        empty(run)
    _show_first(run, alone(run, screen, params), i)


@rare_kernel
def _show_first(run: Run, entry: int, i: int) -> None:
    """The first step, asked for by the `app_start` where there is one."""
    started = run.at[STARTED]
    _show(run, entry, wide(_START), started == NONE, i if started == NONE else started, i)


@inner_kernel
def _meet_restored(run: Run, screen: int, params: int) -> int:
    """The entry that stands again after a restart, if this first screen fits it, or −1.

    Stacks that another screen shows to be gone are forgotten.
    """
    at = run.at
    restored, vis = at[RESTORED], at[VIS]
    if at[LINK] != NONE:
        return NONE  # the link decides where the app stands
    if restored == NONE or screen == NONE or run.screens[screen].role == _SPLASH:
        return NONE
    at[RESTORED] = NONE
    if same(run, restored, screen, params):
        return restored
    empty(run)
    at[VIS] = vis
    return NONE


@rare_kernel
def _resume(run: Run, i: int, entry: int) -> None:
    """The view of a screen that stands again, at once or in the place of the splash."""
    if run.at[VIS] != NONE:
        _show(run, entry, wide(_REPLACE), True, i, i)
    else:
        _show_first(run, entry, i)


@inner_kernel
def _repeat(run: Run, i: int, doubled: int) -> None:
    at, rows = run.at, run.rows
    rows[i].fate = _DOUBLED
    if at[RESENT] == 0 and rows[i].time - rows[at[SHOWN]].time > doubled:
        rows[i].fate = _REPEATED
        run.steps[at[STEP]].repeats += 1
    at[RESENT] = 0
    at[SHOWN] = i


@inner_kernel
def flush(run: Run) -> None:
    """Carry out the pending move by itself: its view never came."""
    if run.at[PENDING] != NONE:
        _complete_unseen(run)


@rare_kernel
def _complete_unseen(run: Run) -> None:
    _complete(run, wide(NONE), wide(run.rows[run.at[PENDING]].screen), NONE)


@inner_kernel
def _complete(run: Run, view: int, screen: int, params: int) -> None:
    """Carry out the pending move onto `screen`; `view` is the row that shows it, or −1."""
    rows, at = run.rows, run.at
    pending = at[PENDING]
    at[PENDING] = NONE
    if params == NONE:
        params = wide(rows[pending].params)
    move = rows[pending].event + _MOVE_OF_EVENT
    first = at[VIS] == NONE and at[STARTED] != NONE and at[LINK] == NONE
    if move == _POP and _goes_nowhere(run, screen, params):
        run.steps[at[STEP]].refused += 1
        if view != NONE:
            rows[view].fate = _DOUBLED
            at[SHOWN] = view
        return
    entry = _meet_restored(run, screen, params)
    if entry == NONE:
        entry = land(run, move, pending, screen, params)
    if entry == NONE:
        return
    if move != _REDIRECT:
        at[WANTED] = NONE
        if at[LINK] != NONE:
            move = _LINKED
        elif first:
            move = _START
    _show(run, entry, move, False, pending, view)


@inner_kernel
def _goes_nowhere(run: Run, screen: int, params: int) -> bool:
    """A "back" after which the same screen shows, with nothing like it below."""
    vis = run.at[VIS]
    if run.at[STEP] == NONE or screen == NONE or not same(run, vis, screen, params):
        return False
    return not same(run, below(run, vis), screen, params)


@inner_kernel
def _show(run: Run, entry: int, move: int, inferred: bool, asked: int, view: int) -> None:
    """Write the step by which `entry` becomes visible."""
    rows, at, steps = run.rows, run.at, run.steps
    step = at[STEPS]
    row = asked if view == NONE else view
    opened = at[LINK] if move == _LINKED or move == _REDIRECT else NONE
    steps[step].entry = entry
    steps[step].move = move
    steps[step].inferred = inferred
    steps[step].unsure = rows[row].unsure
    steps[step].asked = rows[asked].time
    steps[step].visible = rows[row].time
    steps[step].loaded = view != NONE and asked != view
    steps[step].away = steps[step].repeats = steps[step].refused = 0
    steps[step].wanted = at[WANTED]
    steps[step].tab_reported = rows[row].tab
    steps[step].uri = NONE if opened == NONE else rows[opened].uri
    steps[step].source = NONE if opened == NONE else rows[opened].source
    steps[step].first_row = row if at[FIRST] == NONE else at[FIRST]
    steps[step].journey = rows[row].journey
    rows[asked].fate = _MADE if rows[asked].event != _APP_START else _KEPT
    if view != NONE:
        rows[view].fate = _MADE if asked == view or rows[asked].fate == _KEPT else _MERGED
    if opened != NONE and opened != asked:
        rows[opened].fate = _MERGED
    stand_on(run, entry)
    steps[step].below = below(run, entry)
    steps[step].marks = at[MARKED] | _tab_marks(run, entry, wide(rows[row].tab))
    at[STEPS] = step + 1
    at[STEP] = step
    at[SHOWN] = row
    at[FIRST] = at[WANTED] = NONE
    if run.screens[run.entries[entry].screen].role != _SPLASH:
        at[LINK] = NONE
    at[MARKED] = at[RESENT] = at[SIGNED_OUT] = 0


@inner_kernel
def _tab_marks(run: Run, entry: int, tab_reported: int) -> int:
    inside = run.entries[entry].region == TAB
    mismatch = inside and tab_reported != NONE and tab_reported != run.entries[entry].tab
    return _TAB_MISMATCH if mismatch else 0
