"""Reading a view that comes without a move: which move led to it."""

from __future__ import annotations

from mossy_trail.core.app_map import ROLE
from mossy_trail.core.kernel import inner_kernel
from mossy_trail.core.landing import (
    VIA_PUSH,
    alone,
    below,
    close,
    enter,
    further_down,
    instead,
    link,
    on_splash,
    open_sheet,
    pop,
    push,
    redirect,
    same,
    switch,
)
from mossy_trail.core.log import NONE
from mossy_trail.core.run import SELECTED, SIGNED_OUT, VIS, Run
from mossy_trail.core.steps import MOVE, OUTSIDE, SHEET

_PUSH, _POP, _POP_TO = MOVE["push"], MOVE["pop"], MOVE["pop_to"]
_REPLACE, _RESET, _SWITCH = MOVE["replace"], MOVE["reset"], MOVE["switch_tab"]
_OPEN, _CLOSE, _UPDATE = MOVE["open_modal"], MOVE["close_modal"], MOVE["update"]
_REDIRECT, _LINK = MOVE["redirect"], MOVE["link"]
_SIGN_IN, _SHEET_ROLE, _MENU = ROLE["sign_in"], ROLE["sheet"], ROLE["menu"]


@inner_kernel
def infer(run: Run, screen: int, params: int) -> tuple[int, int]:
    """The first reading that fits: its move, and the entry that it leads to."""
    vis, entries, role = run.at[VIS], run.entries, run.screens[screen].role
    region, home = entries[vis].region, run.screens[screen].home
    if entries[vis].screen == screen:
        return _UPDATE, instead(run, vis, screen, params)
    if on_splash(run):
        return _after_splash(run, screen, params)
    if region == SHEET and same(run, entries[vis].under, screen, params):
        return _CLOSE, close(run, screen, params)
    if role == _SHEET_ROLE or role == _MENU:
        return _OPEN, open_sheet(run, screen, params)
    if same(run, below(run, vis), screen, params):
        return _POP, pop(run, screen, params)
    if home >= 0 and region == OUTSIDE:
        return _REPLACE, enter(run, screen, params, True)
    if home >= 0 and home != run.at[SELECTED]:
        is_root = run.tabs[home].root == screen
        if same(run, run.tabs[home].top, screen, params) or is_root:
            return _SWITCH, switch(run, home, screen, params)
    down = further_down(run, screen, params)
    if down != NONE:
        return _POP_TO, down
    for tab in range(len(run.tabs)):
        if same(run, run.tabs[tab].top, screen, params):
            return _SWITCH, run.tabs[tab].top
    if home >= 0 and run.tabs[home].root == screen:
        return _POP_TO, alone(run, screen, params)
    if role == _SIGN_IN and region != OUTSIDE:
        if run.at[SIGNED_OUT]:
            return _RESET, alone(run, screen, params)
        return _REDIRECT, redirect(run, VIA_PUSH, screen, params)
    return _PUSH, push(run, screen, params)


@inner_kernel
def _after_splash(run: Run, screen: int, params: int) -> tuple[int, int]:
    """Nobody goes back to a splash: what follows stands in its place, or the app afresh.

    A screen inside a tab that is not its root was put there by something, most likely a link.
    """
    home = run.screens[screen].home
    if home < 0:
        return _REPLACE, instead(run, run.at[VIS], screen, params)
    if run.tabs[home].root == screen:
        return _RESET, alone(run, screen, params)
    return _LINK, link(run, screen, params)
