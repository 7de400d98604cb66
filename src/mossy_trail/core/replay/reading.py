"""Reading a view that comes without a move: the moves that could have led to it."""

from __future__ import annotations

from mossy_trail.core.kernel import inner_kernel, rare_kernel
from mossy_trail.core.model.app_map import ROLE
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.steps import MOVE, OUTSIDE, SHEET, TAB
from mossy_trail.core.replay.landing import (
    VIA_PUSH,
    alone,
    below,
    chosen_again,
    close,
    further_down,
    go_forward,
    home_of,
    instead,
    is_menu,
    leave_menu,
    on_splash,
    open_sheet,
    pop,
    push,
    put_instead,
    redirect,
    reset,
    same,
    sheets_gone,
    steps_ahead,
    switch,
)
from mossy_trail.core.replay.run import (
    KEEP_OUTSIDE,
    OUTSIDE_KEPT,
    SELECTED,
    SIGNED_OUT,
    TABS,
    TABS_SHARED,
    VISIBLE,
    Run,
)

_PUSH, _POP, _POP_TO = MOVE["push"], MOVE["pop"], MOVE["pop_to"]
_REPLACE, _RESET, _SWITCH = MOVE["replace"], MOVE["reset"], MOVE["switch_tab"]
_OPEN, _CLOSE, _UPDATE = MOVE["open_modal"], MOVE["close_modal"], MOVE["update"]
_REDIRECT = MOVE["redirect"]
_SHEET_ROLE, _MENU = ROLE["sheet"], ROLE["menu"]
_FORWARD, _NOWHERE = MOVE["forward"], MOVE["start"]
_MOST_LIKELY_FIRST = (
    *(_UPDATE, _CLOSE, _OPEN, _POP, _FORWARD, _SWITCH, _POP_TO),
    *(_REDIRECT, _PUSH, _RESET, _REPLACE),
)


@inner_kernel
def ways(run: Run, screen: int, params: int) -> int:
    """The moves that could have led from here to this view, as the sum of 1 << move.

    No way is a link: that there was one, a row would tell.
    """
    visible = run.state[VISIBLE]
    if not is_menu(run, visible):
        return _ways(run, screen, params)
    if same(run, run.entries[visible].under, screen, params):
        return 1 << _CLOSE
    run.state[VISIBLE] = run.entries[visible].under
    found = _ways(run, screen, params)
    run.state[VISIBLE] = visible
    return found


@inner_kernel
def _ways(run: Run, screen: int, params: int) -> int:
    visible, entries = run.state[VISIBLE], run.entries
    if on_splash(run):
        return 1 << _REPLACE  # nobody goes back to a splash: what follows stands in its place
    home, role, region = run.screens[screen].home, run.screens[screen].role, entries[visible].region
    found = 0
    if region == SHEET and same(run, entries[visible].under, screen, params):
        found |= 1 << _CLOSE
    under = below(run, visible)
    if found == 0 and same(run, under, screen, params):
        found |= 1 << _POP
    if role == _SHEET_ROLE or role == _MENU:
        return found | 1 << _OPEN
    if entries[visible].screen == screen:
        found |= 1 << _UPDATE
    if region != OUTSIDE and tab_showing(run, screen, params) != NONE:
        found |= 1 << _SWITCH
    down = further_down(run, screen, params)
    if down != NONE and down != under:
        found |= 1 << _POP_TO
    if home >= 0 and run.tabs[home].root == screen:
        found |= 1 << _RESET
        own_root = region == TAB and home == entries[visible].tab
        if own_root and down == NONE and under != NONE:
            found |= 1 << _POP_TO
    if run.state[TABS] == TABS_SHARED and steps_ahead(run, 1, screen, params) == 1:
        found |= 1 << _FORWARD
    if run.screens[screen].outside:
        found |= 1 << _RESET
        if region != OUTSIDE and run.state[SIGNED_OUT]:
            return found if run.state[TABS] != TABS_SHARED else found | 1 << _REPLACE
        if region != OUTSIDE:
            return found | 1 << _REDIRECT
    if region != OUTSIDE and _is_root_elsewhere(run, screen):
        return found
    found |= 1 << _REPLACE
    if region != OUTSIDE or home < 0 or run.state[KEEP_OUTSIDE] == OUTSIDE_KEPT:
        found |= 1 << _PUSH
    return found


@rare_kernel
def navigated(run: Run, tab: int, screen: int, params: int) -> int:
    """The move that "go to this screen" makes of the stacks: −1 none, `start` one to nowhere.

    On the screen itself it changes the params; a tab that shows the screen is selected; a sheet
    is opened; anything else is put on top.
    """
    visible, entries = run.state[VISIBLE], run.entries
    if screen == NONE:
        return NONE if tab == NONE else _SWITCH
    role = run.screens[screen].role
    if visible == NONE:
        return _PUSH
    if entries[visible].screen == screen:
        return _NOWHERE if same(run, visible, screen, params) else _UPDATE
    base = entries[visible].under if is_menu(run, visible) else visible
    if role == _SHEET_ROLE or role == _MENU:
        return _OPEN
    if same(run, base, screen, params) or same(run, sheets_gone(run, base), screen, params):
        return _CLOSE
    home = home_of(run, screen)
    if home != NONE and entries[base].region != OUTSIDE and run.state[TABS] != TABS_SHARED:
        other = home != entries[sheets_gone(run, base)].tab
        resting = home if run.tabs[home].top == NONE else run.tabs[home].top
        if other and entries[resting].screen == screen:
            return _SWITCH
    return _PUSH


@rare_kernel
def traversed(run: Run, count: int, screen: int, params: int) -> int:
    """The move that "back or forward" makes of the stacks, by where this screen lies on them."""
    visible, entries = run.state[VISIBLE], run.entries
    if visible == NONE:
        return _POP
    under, role = below(run, visible), run.screens[entries[visible].screen].role
    if screen == NONE or same(run, under, screen, params):
        closes = role == _SHEET_ROLE or role == _MENU
        if count > 1:
            return _POP_TO
        return _CLOSE if closes and under == entries[visible].under else _POP
    if steps_ahead(run, 1, screen, params) == 1:
        return _FORWARD
    if further_down(run, screen, params) != NONE:
        return _POP_TO
    return _FORWARD if steps_ahead(run, count, screen, params) else _POP


@inner_kernel
def may_be_a_link(run: Run, move: int, screen: int) -> bool:
    """Whether a link may have led to this screen rather than such a move: deep into another tab,
    or past a splash, in a log in which no row tells of links."""
    if move != _PUSH and move != _REPLACE:
        return False
    home = home_of(run, screen)
    if home == NONE or run.tabs[home].root == screen:
        return False
    base = sheets_gone(run, run.state[VISIBLE])
    return on_splash(run) or (run.entries[base].region == TAB and run.entries[base].tab != home)


@rare_kernel
def back_or_forward(run: Run, screen: int, params: int) -> bool:
    """Whether this screen lies both right below and right ahead, so that either may be meant."""
    visible = run.state[VISIBLE]
    if visible == NONE or screen == NONE or not same(run, below(run, visible), screen, params):
        return False
    return steps_ahead(run, 1, screen, params) == 1


@inner_kernel
def _is_root_elsewhere(run: Run, screen: int) -> bool:
    home = run.screens[screen].home
    base = sheets_gone(run, run.state[VISIBLE])
    return home >= 0 and run.tabs[home].root == screen and home != run.entries[base].tab


@inner_kernel
def tab_showing(run: Run, screen: int, params: int) -> int:
    """The tab that would show this view if it were chosen now, or −1."""
    home = run.screens[screen].home
    base = sheets_gone(run, run.state[VISIBLE])
    if home >= 0 and home == run.entries[base].tab:
        again = chosen_again(run, base)
        return home if again != base and same(run, again, screen, params) else NONE
    if home >= 0 and (run.tabs[home].root == screen or _tops(run, home, screen)):
        return home
    for tab in range(len(run.tabs)):
        if tab != run.state[SELECTED] and same(run, run.tabs[tab].top, screen, params):
            return tab
    return NONE


@inner_kernel
def _tops(run: Run, tab: int, screen: int) -> bool:
    """Whether the tab would show this screen, with whatever params."""
    top = run.tabs[tab].top
    return top != NONE and run.entries[top].screen == screen


@inner_kernel
def shows_anew(run: Run, screen: int, params: int) -> bool:
    """Whether a tab chosen now would have to show the screen with other params than it has."""
    tab = tab_showing(run, screen, params)
    if tab == NONE or run.tabs[tab].top == NONE:
        return False
    return _tops(run, tab, screen) and not same(run, run.tabs[tab].top, screen, params)


@inner_kernel
def first_way(run: Run, screen: int, params: int) -> int:
    """The way that is the most likely where nothing is known of the app."""
    found = ways(run, screen, params)
    for move in _MOST_LIKELY_FIRST:
        if found >> move & 1:
            return move
    return _PUSH


@inner_kernel
def go(run: Run, move: int, screen: int, params: int) -> int:
    """The entry that one of these ways leads to."""
    if move == _POP:
        return pop(run, screen, params)
    if move == _CLOSE:
        return close(run, screen, params)
    leave_menu(run, screen)
    if move == _PUSH:
        return push(run, screen, params)
    if move == _SWITCH:
        return switch(run, tab_showing(run, screen, params), screen, params)
    if move == _POP_TO:
        down = further_down(run, screen, params)
        return alone(run, screen, params) if down == NONE else down
    if move == _OPEN:
        return open_sheet(run, screen, params)
    if move == _FORWARD:
        return go_forward(run, 1, screen, params)
    if move == _UPDATE:
        return instead(run, run.state[VISIBLE], screen, params)
    if move == _REDIRECT:
        return redirect(run, VIA_PUSH, screen, params)
    if move == _RESET:
        return reset(run, screen, params)
    return put_instead(run, screen, params)
