"""Reading a view that comes without a move: the moves that could have led to it."""

from __future__ import annotations

from mossy_trail.core.app_map import ROLE
from mossy_trail.core.kernel import inner_kernel
from mossy_trail.core.landing import (
    VIA_PUSH,
    alone,
    below,
    chosen_again,
    close,
    further_down,
    instead,
    link,
    on_splash,
    open_sheet,
    pop,
    push,
    put_instead,
    redirect,
    same,
    sheets_gone,
    switch,
)
from mossy_trail.core.log import NONE
from mossy_trail.core.run import KEEP_OUTSIDE, OUTSIDE_KEPT, SELECTED, UNDER, VIS, Run
from mossy_trail.core.steps import MOVE, OUTSIDE, SHEET, TAB

_PUSH, _POP, _POP_TO = MOVE["push"], MOVE["pop"], MOVE["pop_to"]
_REPLACE, _RESET, _SWITCH = MOVE["replace"], MOVE["reset"], MOVE["switch_tab"]
_OPEN, _CLOSE, _UPDATE = MOVE["open_modal"], MOVE["close_modal"], MOVE["update"]
_REDIRECT, _LINK = MOVE["redirect"], MOVE["link"]
_SHEET_ROLE, _MENU = ROLE["sheet"], ROLE["menu"]
_MOST_LIKELY_FIRST = (
    *(_UPDATE, _CLOSE, _OPEN, _POP, _SWITCH, _POP_TO),
    *(_REDIRECT, _PUSH, _RESET, _LINK, _REPLACE),
)


@inner_kernel
def ways(run: Run, screen: int, params: int) -> int:
    """The moves that could have led from here to this view, as the sum of 1 << move."""
    vis, entries = run.at[VIS], run.entries
    if on_splash(run):
        return 1 << _after_splash(run, screen)
    home, role, region = run.screens[screen].home, run.screens[screen].role, entries[vis].region
    found = 0
    if region == SHEET and same(run, entries[vis].under, screen, params):
        found |= 1 << _CLOSE
    under = below(run, vis)
    if found == 0 and same(run, under, screen, params):
        found |= 1 << _POP
    if role == _SHEET_ROLE or role == _MENU:
        return found | 1 << _OPEN
    if entries[vis].screen == screen:
        found |= 1 << _UPDATE
    if region != OUTSIDE and tab_showing(run, screen, params) != NONE:
        found |= 1 << _SWITCH
    down = further_down(run, screen, params)
    if down != NONE and down != under:
        found |= 1 << _POP_TO
    if home >= 0:
        found |= 1 << _LINK
        if run.tabs[home].root == screen:
            found |= 1 << _RESET
            own_root = region == TAB and home == entries[vis].tab
            if own_root and down == NONE and under != NONE:
                found |= 1 << _POP_TO
    if run.screens[screen].outside:
        found |= 1 << _RESET
        if region != OUTSIDE:
            return found | 1 << _REDIRECT
    if region != OUTSIDE and _is_root_elsewhere(run, screen):
        return found
    found |= 1 << _REPLACE
    if region != OUTSIDE or home < 0 or run.at[KEEP_OUTSIDE] == OUTSIDE_KEPT:
        found |= 1 << _PUSH
    return found


@inner_kernel
def _after_splash(run: Run, screen: int) -> int:
    """Nobody goes back to a splash: what follows stands in its place, or the app afresh.

    A screen inside a tab that is not its root was put there by something, most likely a link.
    """
    home = run.screens[screen].home
    if home < 0:
        return _REPLACE
    return _RESET if run.tabs[home].root == screen else _LINK


@inner_kernel
def _is_root_elsewhere(run: Run, screen: int) -> bool:
    home = run.screens[screen].home
    base = sheets_gone(run, run.at[VIS])
    return home >= 0 and run.tabs[home].root == screen and home != run.entries[base].tab


@inner_kernel
def tab_showing(run: Run, screen: int, params: int) -> int:
    """The tab that would show this view if it were chosen now, or −1."""
    home = run.screens[screen].home
    base = sheets_gone(run, run.at[VIS])
    if home >= 0 and home == run.entries[base].tab:
        again = chosen_again(run, base)
        return home if again != base and same(run, again, screen, params) else NONE
    if home >= 0 and (
        run.tabs[home].root == screen or same(run, run.tabs[home].top, screen, params)
    ):
        return home
    for tab in range(len(run.tabs)):
        if tab != run.at[SELECTED] and same(run, run.tabs[tab].top, screen, params):
            return tab
    return NONE


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
    if move == _PUSH:
        return push(run, screen, params)
    if move == _SWITCH:
        return switch(run, tab_showing(run, screen, params), screen, params)
    if move == _POP_TO:
        down = further_down(run, screen, params)
        return alone(run, screen, params) if down == NONE else down
    if move == _CLOSE:
        return close(run, screen, params)
    if move == _OPEN:
        return open_sheet(run, screen, params)
    if move == _UPDATE:
        return instead(run, run.at[VIS], screen, params)
    if move == _LINK:
        return link(run, screen, params)
    if move == _REDIRECT:
        return redirect(run, VIA_PUSH, screen, params)
    if move == _RESET:
        run.at[UNDER] = NONE
        return alone(run, screen, params)
    return put_instead(run, screen, params)
