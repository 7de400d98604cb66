"""Walking through a log row by row: what each row does to the run."""

from __future__ import annotations

from mossy_trail.core.kernel import inner_kernel, rare_kernel
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import EVENT, NONE, OUTCOME
from mossy_trail.core.model.steps import (
    FATE,
    MARK,
    MOVE,
    TAB,
)
from mossy_trail.core.replay.landing import (
    VIA_INITIAL,
    VIA_LINK,
    VIA_PUSH,
    VIA_REPLACE,
    alone,
    at_home,
    below,
    chosen_again,
    empty,
    land,
    link,
    on_splash,
    redirect,
    same,
    stand_on,
)
from mossy_trail.core.replay.reading import (
    back_or_forward,
    go,
    may_be_a_link,
    navigated,
    traversed,
)
from mossy_trail.core.replay.run import (
    ALREADY,
    AWAY_SINCE,
    COLD,
    EXPECTED,
    FIRST_ROW,
    LINK_OVER,
    LINK_WARM,
    MARKED,
    OPEN_LINK,
    OPENED_COLD,
    PENDING_ROW,
    REPORTED,
    RESENT,
    RESTART,
    RESTART_FRESH,
    RESTORED,
    RESUMED,
    SEARCH_BUDGET,
    SEARCH_BUDGET_PER_ROW,
    SELECTED,
    SETTLE_TIME,
    SHOWN_ROW,
    SIGNED_OUT,
    SPARE_ENTRIES,
    START_ROW,
    STARTED_COLD,
    STEP,
    STEPS,
    TELLS_LINKS,
    VISIBLE,
    WANTED,
    Run,
)

_TAB_MISMATCH = MARK["tab_mismatch"]
_SPLASH = ROLE["splash"]
_APP_START, _VIEW, _LINK_ROW = EVENT["app_start"], EVENT["screen_view"], EVENT["open_link"]
_BACKGROUND, _FOREGROUND = EVENT["app_background"], EVENT["app_foreground"]
_RECREATE, _SIGN_OUT, _REDIRECT_ROW = EVENT["app_recreate"], EVENT["sign_out"], EVENT["redirect"]
_BLOCKED, _LEAVE_PROMPT, _STAYED = EVENT["blocked"], EVENT["leave_prompt"], OUTCOME["stayed"]
_EXIT = EVENT["app_exit"]
_FIRST_MOVE, _LAST_MOVE = EVENT["push"], EVENT["redirect"]
_NAVIGATE, _TRAVERSE = EVENT["navigate"], EVENT["traverse"]
_POP_ROW, _POP_TO_ROW, _FORWARD_ROW = (EVENT[w] for w in ("pop", "pop_to", "forward"))
_REPLACE_ROW, _RESET_ROW = EVENT["replace"], EVENT["reset"]
_MOVE_OF_EVENT = MOVE["push"] - EVENT["push"]
_START, _POP, _POP_TO = (MOVE[m] for m in ("start", "pop", "pop_to"))
_REPLACE, _SWITCH = MOVE["replace"], MOVE["switch_tab"]
_REDIRECT, _LINKED = MOVE["redirect"], MOVE["link"]
_NOT_FOUND = ROLE["not_found"]
_LATE = 15
"""A link whose pattern is unknown, or that lands elsewhere, does so within so many settle times."""
_KEPT, _MADE, _MERGED = FATE["kept"], FATE["made"], FATE["merged"]
_DOUBLED, _REPEATED = FATE["doubled"], FATE["repeated"]


@inner_kernel
def take_row(run: Run, i: int, settle: int, doubled: int) -> bool:
    """Let row `i` act on the run; whether it is a view that waits for its move to be chosen."""
    rows, state = run.rows, run.state
    if i == 0 or rows[i].journey != rows[i - 1].journey:
        _begin_journey(run, i)
    state[SEARCH_BUDGET] += SEARCH_BUDGET_PER_ROW
    state[SPARE_ENTRIES] += 1
    event = rows[i].event
    if event != _VIEW:
        if event == _REDIRECT_ROW:
            _on_redirect(run, i, settle)
        elif _FIRST_MOVE <= event < _LAST_MOVE or event == _NAVIGATE or event == _TRAVERSE:
            _on_move(run, i)
        elif event == _LINK_ROW:
            _on_link(run, i)
        else:
            _on_lifecycle(run, i, event)
        if not _shows(run, event):
            return False
    return rows[i].screen != NONE and _on_view(run, i, settle, doubled)


@inner_kernel
def _shows(run: Run, event: int) -> bool:
    """Whether a row of this kind shows the screen that it names.

    One that says goodbye names what was shown before, and tells something new only as the first.
    """
    if event == _APP_START or event == _FOREGROUND or event == _RECREATE:
        return True
    return (event == _BACKGROUND or event == _EXIT) and run.state[VISIBLE] == NONE


@inner_kernel
def choose(run: Run, i: int, move: int) -> None:
    """Carry out the move that led to the view in row `i`, which came without one."""
    screen, params = run.rows[i].screen, run.rows[i].params
    run.state[REPORTED] = run.rows[i].tab
    doubtful = not run.state[TELLS_LINKS] and may_be_a_link(run, move, screen)
    _show(run, go(run, move, screen, params), move, True, i, i)
    if doubtful:
        run.steps[run.state[STEP]].unsure = True


@inner_kernel
def _begin_journey(run: Run, i: int) -> None:
    state, rows = run.state, run.rows
    flush(run)
    if i > 0 and rows[i].user != rows[i - 1].user:
        empty(run)
        state[SEARCH_BUDGET] = state[SPARE_ENTRIES] = 0
    state[STEP] = state[OPEN_LINK] = state[START_ROW] = state[AWAY_SINCE] = state[WANTED] = NONE
    state[RESENT] = state[RESUMED] = state[COLD] = 0
    state[FIRST_ROW] = i


@inner_kernel
def _belongs_to_next(run: Run, i: int) -> None:
    if run.state[FIRST_ROW] == NONE:
        run.state[FIRST_ROW] = i


@inner_kernel
def _on_lifecycle(run: Run, i: int, event: int) -> None:
    rows, state = run.rows, run.state
    if event == _APP_START:
        flush(run)
        _restart(run)
        state[OPEN_LINK] = NONE
        state[START_ROW] = i
        state[RESUMED] = 0
        state[COLD] = STARTED_COLD if rows[i].screen != NONE else 0
        _belongs_to_next(run, i)
    elif event == _BACKGROUND:
        state[AWAY_SINCE] = i
    elif event == _FOREGROUND:
        flush(run)  # its view is not the one that comes now
        state[RESENT] = 1
        if state[AWAY_SINCE] != NONE and state[STEP] != NONE:
            run.steps[state[STEP]].away += rows[i].time - rows[state[AWAY_SINCE]].time
        state[AWAY_SINCE] = NONE
    elif event == _RECREATE:
        state[RESENT] = 1
    elif event == _SIGN_OUT:
        state[SIGNED_OUT] = 1
    elif event == _BLOCKED or (event == _LEAVE_PROMPT and rows[i].outcome == _STAYED):
        _refuse(run, i)


@inner_kernel
def _restart(run: Run) -> None:
    """The stacks are gone, or wait for the first screen to show that they stand again."""
    state = run.state
    if state[RESTART] == RESTART_FRESH or (state[VISIBLE] == NONE and state[RESTORED] == NONE):
        empty(run)
    elif state[VISIBLE] != NONE:
        state[RESTORED] = state[VISIBLE]
        state[VISIBLE] = NONE


@rare_kernel
def _refuse(run: Run, i: int) -> None:
    """A move that did not take place, told by itself or as the answer to the move's own row."""
    state, rows, pending = run.state, run.rows, run.state[PENDING_ROW]
    if pending != NONE:
        refused = rows[i].screen == rows[pending].screen or rows[i].screen == NONE
        if rows[i].event == _LEAVE_PROMPT:
            refused = rows[pending].event == _POP_ROW
        if refused:
            state[PENDING_ROW] = NONE
    flush(run)
    if state[STEP] != NONE:
        run.steps[state[STEP]].refused += 1


@rare_kernel
def _on_link(run: Run, i: int) -> None:
    rows, state = run.rows, run.state
    flush(run)
    visible, target = state[VISIBLE], rows[i].target
    state[COLD] = OPENED_COLD if state[COLD] == STARTED_COLD else 0
    state[ALREADY] = 0
    if state[COLD] and state[STEP] != NONE and _landed_by_start(run, target):
        _amend_start(run, i)
        return
    state[REPORTED] = rows[i].tab
    if (
        target != NONE
        and visible != NONE
        and run.entries[visible].screen == target
        and at_home(run, visible)
    ):
        known, given = run.entries[visible].params, rows[i].values
        state[ALREADY] = given == NONE or known == NONE or known == given
    state[OPEN_LINK] = i
    _belongs_to_next(run, i)


@inner_kernel
def _landed_by_start(run: Run, target: int) -> bool:
    """Whether what the start shows is what the link was to open, or that it was not found."""
    screen = run.entries[run.state[VISIBLE]].screen
    return screen == target or run.screens[screen].role == _NOT_FOUND


@rare_kernel
def _amend_start(run: Run, i: int) -> None:
    """The start that has just been shown was the landing of the link in row `i`."""
    state, rows, steps, step = run.state, run.rows, run.steps, run.state[STEP]
    screen, params = run.entries[state[VISIBLE]].screen, run.entries[state[VISIBLE]].params
    state[VISIBLE] = NONE
    entry = link(run, i, _LINKED, screen, params)
    stand_on(run, entry)
    steps[step].entry, steps[step].below = entry, below(run, entry)
    steps[step].move, steps[step].inferred = _LINKED, False
    steps[step].uri, steps[step].source = rows[i].uri, rows[i].source
    rows[i].fate = _MERGED
    state[COLD] = 0


@inner_kernel
def _on_move(run: Run, i: int) -> None:
    rows, state = run.rows, run.state
    flush(run)
    state[REPORTED] = rows[i].tab
    if rows[i].event + _MOVE_OF_EVENT == _SWITCH and _is_reselection(run, i):
        return
    if state[OPEN_LINK] == NONE:
        state[COLD] = 0
    elif not (_answers(run, i) or _leads_to_answer(run, i)):
        state[OPEN_LINK] = NONE  # the user went on; the link never landed
        state[COLD] = 0
    state[PENDING_ROW] = i
    _belongs_to_next(run, i)


@rare_kernel
def _answers(run: Run, i: int) -> bool:
    """Whether the move in row `i` is what the app's code answered the open link with."""
    rows, screen, opened = run.rows, run.rows[i].screen, run.state[OPEN_LINK]
    if rows[i].via == VIA_LINK:
        return True
    if screen == NONE or run.screens[screen].role == _SPLASH:
        return False
    if run.screens[screen].role == _NOT_FOUND:
        return True
    late = rows[i].time - rows[opened].time > run.state[SETTLE_TIME]
    if rows[opened].target == NONE:
        return not late or run.state[VISIBLE] == NONE or on_splash(run)
    if run.state[ALREADY] and late:
        return False
    return rows[opened].target == screen and not rows[i].not_linked


@rare_kernel
def _leads_to_answer(run: Run, i: int) -> bool:
    """Whether the answer may still come: this move is to a splash, or to the root below it."""
    rows, screen, opened = run.rows, run.rows[i].screen, run.state[OPEN_LINK]
    if screen == NONE:
        return False
    if run.screens[screen].role == _SPLASH:
        return True
    target = rows[opened].target
    home = NONE if target == NONE else run.screens[target].home
    at_once = rows[i].time - rows[opened].time <= run.state[SETTLE_TIME]
    return at_once and home >= 0 and run.tabs[home].root == screen


@inner_kernel
def _is_reselection(run: Run, i: int) -> bool:
    """The selected tab chosen again where that changes nothing: no step."""
    visible, tab, screen = run.state[VISIBLE], run.rows[i].tab, run.rows[i].screen
    if visible == NONE or run.entries[visible].region != TAB:
        return False
    if tab == NONE and screen != NONE:
        tab = run.screens[screen].home
    if tab != run.state[SELECTED] or chosen_again(run, visible) != visible:
        return False
    return screen == NONE or run.entries[visible].screen == screen


@rare_kernel
def _on_redirect(run: Run, i: int, settle: int) -> None:
    """A redirect answers the move before it, if that had no view and wanted the same screen."""
    rows, state, pending = run.rows, run.state, run.state[PENDING_ROW]
    wanted = rows[i].origin
    if pending != NONE and rows[i].time - rows[pending].time <= settle:
        screen = rows[pending].screen
        answers = rows[pending].event == _REDIRECT_ROW or screen == NONE or wanted == NONE
        if answers or screen == wanted:
            _answer_as(run, pending, i)
            if rows[pending].event == _REDIRECT_ROW:
                wanted = state[WANTED]
            elif wanted == NONE:
                wanted = screen
            state[PENDING_ROW] = NONE
    flush(run)
    if wanted == NONE and state[OPEN_LINK] != NONE:
        wanted = rows[state[OPEN_LINK]].target
    state[WANTED] = wanted
    state[PENDING_ROW] = i
    _belongs_to_next(run, i)


@rare_kernel
def _answer_as(run: Run, asked: int, i: int) -> None:
    """Let the redirect in row `i` land as the move would have that it answers.

    What went through the history has done so; what would have stood in a place of its own kind
    leaves it to the gate, unless the redirect says how it landed.
    """
    event, rows = run.rows[asked].event, run.rows
    if _goes_through_history(event):
        _go_unseen(run, asked)
    elif rows[i].via == NONE:
        if event == _REPLACE_ROW:
            rows[i].via = VIA_REPLACE
        elif event == _RESET_ROW:
            rows[i].via = VIA_INITIAL
        elif event == _REDIRECT_ROW:
            rows[i].via = rows[asked].via


@inner_kernel
def _goes_through_history(event: int) -> bool:
    return event == _POP_ROW or event == _POP_TO_ROW or event == _FORWARD_ROW or event == _TRAVERSE


@rare_kernel
def _go_unseen(run: Run, i: int) -> None:
    screen, params = run.rows[i].screen, run.rows[i].params
    entry = land(run, _move_of(run, i, screen, params), i, screen, params)
    if entry != NONE:
        stand_on(run, entry)


@inner_kernel
def _move_of(run: Run, i: int, screen: int, params: int) -> int:
    """The move that a row tells; what "navigate" or "traverse" is, the stacks tell."""
    event = run.rows[i].event
    if event == _NAVIGATE:
        return navigated(run, run.rows[i].tab, screen, params)
    if event == _TRAVERSE:
        return traversed(run, run.rows[i].count, screen, params)
    if event == _POP_ROW and run.rows[i].count > 1:
        return _POP_TO
    return event + _MOVE_OF_EVENT


@inner_kernel
def _on_view(run: Run, i: int, settle: int, doubled: int) -> bool:
    """Whether it waits for its move to be chosen."""
    rows, state = run.rows, run.state
    screen, params = rows[i].screen, rows[i].params
    pending = state[PENDING_ROW]
    state[REPORTED] = rows[i].tab
    if pending != NONE:
        awaited = rows[pending].screen
        on_time = rows[i].time - rows[pending].time <= settle
        if on_time and (awaited == NONE or awaited == screen):
            _complete(run, i, screen, params)
            return False
        flush(run)
        state[REPORTED] = rows[i].tab
    if rows[i].uri != NONE and rows[i].event == _VIEW and _came_by_link(run, i):
        state[OPEN_LINK] = i
    if state[OPEN_LINK] != NONE and _view_answers(run, i, screen, params):
        _answer_link(run, i, screen, params)
        return False
    restored = _meet_restored(run, screen, params)
    if restored != NONE:
        _resume(run, i, restored)
    elif same(run, state[VISIBLE], screen, params):
        if state[STEP] != NONE:
            _repeat(run, i, doubled)
        elif state[RESUMED]:
            rows[i].fate = _DOUBLED
        else:
            _show(run, state[VISIBLE], _START, True, i, i)
    elif state[VISIBLE] == NONE or (state[STEP] == NONE and not state[RESUMED]):
        _start(run, i, screen, params)
    else:
        return True
    return False


@rare_kernel
def _came_by_link(run: Run, i: int) -> bool:
    """Whether a view's own row says that a link led to it."""
    row = run.rows[i]
    return row.via == VIA_LINK or (row.source != NONE and row.target == row.screen)


@rare_kernel
def _view_answers(run: Run, i: int, screen: int, params: int) -> bool:
    """Whether the view in row `i`, with no move, is where the open link led.

    It is not if it is a splash, or what stood there before. A link to what is visible already
    leads nowhere: any other screen is the user's own way.
    """
    state, rows, opened = run.state, run.rows, run.state[OPEN_LINK]
    if run.screens[screen].role == _SPLASH or opened == i:
        return opened == i
    if rows[opened].target == screen:
        shown_before = state[ALREADY] and state[LINK_WARM] == LINK_OVER
        if not rows[i].not_linked and not (
            shown_before and same(run, state[VISIBLE], screen, params)
        ):
            return True
        state[OPEN_LINK] = NONE
        return False
    if same(run, state[VISIBLE], screen, params):
        return False
    starting = state[VISIBLE] == NONE or on_splash(run) or state[COLD] == OPENED_COLD
    if starting or run.screens[screen].role == _NOT_FOUND:
        return True
    if state[ALREADY] or rows[i].time - rows[opened].time > _LATE * state[SETTLE_TIME]:
        state[OPEN_LINK] = NONE
        return False
    return True


@rare_kernel
def _answer_link(run: Run, i: int, screen: int, params: int) -> None:
    """The view that a link led to: its screen, or a gate's on the way there."""
    state, rows, asked = run.state, run.rows, run.state[OPEN_LINK]
    target = rows[asked].target
    if target != NONE and target != screen and run.screens[screen].outside:
        state[WANTED] = target
        if state[VISIBLE] == NONE:
            gate = alone(run, screen, params)
        else:
            gate = redirect(run, VIA_REPLACE if on_splash(run) else VIA_PUSH, screen, params)
        _show(run, gate, _REDIRECT, True, i, i)
        return
    if params == NONE:
        params = rows[asked].params
    _show(run, link(run, asked, _LINKED, screen, params), _LINKED, False, asked, i)


@inner_kernel
def _start(run: Run, i: int, screen: int, params: int) -> None:
    if run.state[START_ROW] == NONE and run.screens[screen].role == _SPLASH:
        _restart(run)  # it started, though no row says so
    if run.state[RESTORED] == NONE:
        empty(run)
    cold, started = run.state[COLD], run.state[START_ROW]
    asked = i if started == NONE else started
    _show(run, alone(run, screen, params), _START, started == NONE, asked, i)
    run.state[COLD] = cold
    run.state[RESENT] = cold == STARTED_COLD  # the view that follows shows it once more


@inner_kernel
def _meet_restored(run: Run, screen: int, params: int) -> int:
    """The entry that stands again after a restart, if this first screen fits it, or −1.

    Stacks that another screen shows to be gone are forgotten.
    """
    state = run.state
    restored, visible = state[RESTORED], state[VISIBLE]
    if state[OPEN_LINK] != NONE:
        return NONE  # the link decides where the app stands
    if restored == NONE or screen == NONE or run.screens[screen].role == _SPLASH:
        return NONE
    state[RESTORED] = NONE
    if same(run, restored, screen, params):
        return restored
    empty(run)
    state[VISIBLE] = visible
    return NONE


@rare_kernel
def _resume(run: Run, i: int, entry: int) -> None:
    """The view of what stands again: after a splash a step, else where the journey begins."""
    if run.state[VISIBLE] != NONE:
        _show(run, entry, _REPLACE, True, i, i)
        return
    stand_on(run, entry)
    run.state[RESUMED] = 1
    run.rows[i].fate = _MERGED


@inner_kernel
def _repeat(run: Run, i: int, doubled: int) -> None:
    state, rows = run.state, run.rows
    rows[i].fate = _DOUBLED
    if state[RESENT] == 0 and rows[i].time - rows[state[SHOWN_ROW]].time > doubled:
        rows[i].fate = _REPEATED
        run.steps[state[STEP]].repeats += 1
    state[RESENT] = 0
    state[SHOWN_ROW] = i


@inner_kernel
def flush(run: Run) -> None:
    """Carry out the pending move by itself: its view never came."""
    if run.state[PENDING_ROW] != NONE:
        _complete_unseen(run)


@rare_kernel
def _complete_unseen(run: Run) -> None:
    _complete(run, NONE, run.rows[run.state[PENDING_ROW]].screen, NONE)


@inner_kernel
def _complete(run: Run, view: int, screen: int, params: int) -> None:
    """Carry out the pending move onto `screen`; `view` is the row that shows it, or −1."""
    rows, state = run.rows, run.state
    pending, opened = state[PENDING_ROW], state[OPEN_LINK]
    state[PENDING_ROW] = NONE
    if params == NONE:
        params = rows[pending].params
    state[REPORTED] = rows[pending].tab
    if view != NONE and rows[view].tab != NONE:
        state[REPORTED] = rows[view].tab
    first = state[VISIBLE] == NONE and state[START_ROW] != NONE
    if state[VISIBLE] == NONE:
        _stand_where_it_began(run, pending, screen, params)
    event = rows[pending].event
    linked = opened != NONE and event != _REDIRECT_ROW and _answers(run, pending)
    says_no_more = linked and event == _NAVIGATE  # of the stacks than the link itself
    move = _LINKED if says_no_more else _move_of(run, pending, screen, params)
    if move == NONE:
        return
    if not linked and _goes_nowhere(run, move, screen, params):
        if move == _POP:
            run.steps[state[STEP]].refused += 1
        if view != NONE:
            rows[view].fate = _DOUBLED
            state[SHOWN_ROW] = view
        return
    entry = _meet_restored(run, screen, params)
    if entry == NONE and linked:
        entry = link(run, opened, move, screen, params)
    elif entry == NONE:
        entry = land(run, move, pending, screen, params)
    if entry == NONE:
        return
    if move != _REDIRECT:
        state[WANTED] = NONE
        if linked:
            move = _LINKED
        elif first and not state[RESUMED]:
            move = _START
    either = event == _TRAVERSE and back_or_forward(run, screen, params)
    _show(run, entry, move, False, pending, view)
    if either:
        run.steps[state[STEP]].unsure = True
    if opened != NONE and not linked and move != _REDIRECT:
        state[OPEN_LINK] = opened


@rare_kernel
def _stand_where_it_began(run: Run, i: int, screen: int, params: int) -> None:
    """The first move of a journey with no view before it tells by itself where it was made."""
    state, rows = run.state, run.rows
    origin, restored, event = rows[i].origin, state[RESTORED], rows[i].event
    if event == _REDIRECT_ROW or (origin != NONE and run.screens[origin].role == _SPLASH):
        return
    if restored != NONE and not same(run, restored, screen, params):
        if event != _RESET_ROW and (origin == NONE or origin == run.entries[restored].screen):
            state[RESTORED] = NONE
            stand_on(run, restored)
            state[RESUMED] = 1
    elif origin != NONE and restored == NONE and event != _RESET_ROW:
        stand_on(run, alone(run, origin, NONE))


@inner_kernel
def _goes_nowhere(run: Run, move: int, screen: int, params: int) -> bool:
    """A "back" or a move to nowhere in particular after which the same screen shows."""
    visible = run.state[VISIBLE]
    if (move != _POP and move != _START) or run.state[STEP] == NONE or screen == NONE:
        return False
    if not same(run, visible, screen, params):
        return False
    return move == _START or not same(run, below(run, visible), screen, params)


@inner_kernel
def _show(run: Run, entry: int, move: int, inferred: bool, asked: int, view: int) -> None:
    """Write the step by which `entry` becomes visible."""
    rows, state, steps = run.rows, run.state, run.steps
    step = state[STEPS]
    row = asked if view == NONE else view
    opened = state[OPEN_LINK] if move == _LINKED or move == _REDIRECT else NONE
    steps[step].entry = entry
    steps[step].move = move
    steps[step].inferred = inferred
    steps[step].unsure = rows[row].unsure
    steps[step].asked = rows[asked].time
    steps[step].visible = rows[row].time
    steps[step].loaded = view != NONE and asked != view
    steps[step].away = steps[step].repeats = steps[step].refused = 0
    steps[step].wanted = state[WANTED]
    steps[step].tab_reported = rows[row].tab
    steps[step].uri = NONE if opened == NONE else rows[opened].uri
    steps[step].source = NONE if opened == NONE else rows[opened].source
    steps[step].first_row = row if state[FIRST_ROW] == NONE else state[FIRST_ROW]
    steps[step].journey = rows[row].journey
    rows[asked].fate = _MADE if rows[asked].event != _APP_START else _KEPT
    if view != NONE:
        rows[view].fate = _MADE if asked == view or rows[asked].fate == _KEPT else _MERGED
    if opened != NONE and opened != asked:
        rows[opened].fate = _MERGED
    stand_on(run, entry)
    steps[step].below = below(run, entry)
    steps[step].expected = state[EXPECTED]
    steps[step].marks = state[MARKED] | _tab_marks(run, entry, rows[row].tab)
    state[STEPS] = step + 1
    state[STEP] = step
    state[SHOWN_ROW] = row
    state[FIRST_ROW] = state[WANTED] = state[EXPECTED] = NONE
    if run.screens[run.entries[entry].screen].role != _SPLASH:
        state[OPEN_LINK] = NONE
    state[MARKED] = state[RESENT] = state[COLD] = 0


@inner_kernel
def _tab_marks(run: Run, entry: int, tab_reported: int) -> int:
    inside = run.entries[entry].region == TAB
    mismatch = inside and tab_reported != NONE and tab_reported != run.entries[entry].tab
    return _TAB_MISMATCH if mismatch else 0
