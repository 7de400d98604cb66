"""Where a move leads: the stack entry on which it lands, by the app's history rules.

Each function takes the run as it stands and returns the number of an entry: one that stands on a
stack already, or a new one. None of them makes it the visible one; `stand_on` does.
"""

from __future__ import annotations

from mossy_trail.core.app_map import ROLE, SEVERAL
from mossy_trail.core.kernel import inner_kernel, rare_kernel
from mossy_trail.core.log import NONE, VIAS
from mossy_trail.core.run import (
    AHEAD,
    BACK_FIRST,
    BACK_PREVIOUS,
    CLOCK,
    COLD_ALONE,
    ENTRIES,
    KEEP_OUTSIDE,
    LINK_ALONE,
    LINK_COLD,
    LINK_OVER,
    LINK_PARENTS,
    LINK_WARM,
    LOOKS,
    MARKED,
    OUTSIDE_KEPT,
    RESELECT,
    RESELECT_STAY,
    RESTORED,
    ROOT_BACK,
    SELECTED,
    TABS,
    TABS_RESET,
    TABS_SHARED,
    UNDER,
    VIS,
    Run,
    imprint,
    wide,
)
from mossy_trail.core.steps import MARK, MOVE, OUTSIDE, SHEET, TAB

_LANDED_ELSEWHERE, _PILED_UP = MARK["landed_elsewhere"], MARK["piled_up"]
_SPLASH, _SHEET_ROLE, _MENU = ROLE["splash"], ROLE["sheet"], ROLE["menu"]
_PUSH, _POP, _POP_TO = MOVE["push"], MOVE["pop"], MOVE["pop_to"]
_REPLACE, _RESET, _SWITCH = MOVE["replace"], MOVE["reset"], MOVE["switch_tab"]
_OPEN, _CLOSE, _UPDATE = MOVE["open_modal"], MOVE["close_modal"], MOVE["update"]
_FORWARD = MOVE["forward"]
VIA_PUSH, VIA_REPLACE, _VIA_INITIAL = (VIAS.index(via) for via in ("push", "replace", "initial"))


@inner_kernel
def land(run: Run, move: int, row: int, screen: int, params: int) -> int:
    """The entry that a reported move leads to; −1 where it shows no screen."""
    if move == _POP:
        return pop(run, screen, params)
    if move == _POP_TO:
        return _pop_to(run, wide(run.rows[row].count), screen, params)
    if move == _CLOSE:
        return close(run, screen, params)
    if move == _SWITCH:
        return switch(run, wide(run.rows[row].tab), screen, params)
    if move == _FORWARD:
        return _go_forward(run, screen, params)
    if screen == NONE:
        return NONE
    if move == _RESET:
        run.at[UNDER] = NONE
        return alone(run, screen, params)
    if run.at[VIS] == NONE:
        return alone(run, screen, params)
    if move == _PUSH:
        return push(run, screen, params)
    if move == _REPLACE:
        return put_instead(run, screen, params)
    if move == _OPEN:
        return open_sheet(run, screen, params)
    if move == _UPDATE:
        return _update(run, screen, params)
    return redirect(run, wide(run.rows[row].via), screen, params)


@inner_kernel
def stand_on(run: Run, entry: int) -> None:
    """Make the entry the visible one."""
    at, entries = run.at, run.entries
    at[VIS] = entry
    if entries[entry].region == OUTSIDE and entry == at[UNDER]:
        at[UNDER] = NONE
    if entries[entry].region != TAB:
        return
    tab, before = entries[entry].tab, at[SELECTED]
    at[SELECTED] = tab
    if at[TABS] == TABS_SHARED:
        return
    if before != tab and before != NONE and at[TABS] == TABS_RESET:
        run.tabs[before].top = NONE
    run.tabs[tab].top = entry
    at[CLOCK] += 1
    run.tabs[tab].used = at[CLOCK]


@inner_kernel
def empty(run: Run) -> None:
    """All stacks are gone: the app starts afresh."""
    for tab in range(len(run.tabs)):
        run.tabs[tab].top = run.tabs[tab].used = NONE
    at = run.at
    at[VIS] = at[SELECTED] = at[UNDER] = at[RESTORED] = at[AHEAD] = NONE


# What stands where.


@inner_kernel
def same(run: Run, entry: int, screen: int, params: int) -> bool:
    """Whether the entry shows this screen; params decide where both sides know them."""
    if entry == NONE or run.entries[entry].screen != screen:
        return False
    other = run.entries[entry].params
    return params == NONE or other == NONE or params == other


@inner_kernel
def on_splash(run: Run) -> bool:
    vis = run.at[VIS]
    return vis != NONE and run.screens[run.entries[vis].screen].role == _SPLASH


@inner_kernel
def below(run: Run, entry: int) -> int:
    """The entry that "back" reveals from this one; −1 where it leaves the app."""
    entries = run.entries
    under = entries[entry].below
    if under != NONE or entries[entry].region != TAB or run.at[TABS] == TABS_SHARED:
        return under
    tab = _tab_behind(run, entries[entry].tab)
    return run.at[UNDER] if tab == NONE else _resting(run, tab)


@rare_kernel
def _tab_behind(run: Run, tab: int) -> int:
    """The tab that "back" at this tab's root leads to, or −1."""
    rule = run.at[ROOT_BACK]
    if rule == BACK_FIRST:
        return NONE if tab == 0 else 0
    found = NONE
    if rule == BACK_PREVIOUS:
        for other in range(len(run.tabs)):
            later = found == NONE or run.tabs[other].used > run.tabs[found].used
            if other != tab and run.tabs[other].used != NONE and later:
                found = other
    return found


@inner_kernel
def _resting(run: Run, tab: int) -> int:
    """The entry that a tab at rest shows when it is chosen: at first its root."""
    return tab if run.tabs[tab].top == NONE else run.tabs[tab].top


@inner_kernel
def further_down(run: Run, screen: int, params: int) -> int:
    """The nearest entry of this screen below the visible one, or −1."""
    vis = run.at[VIS]
    return NONE if vis == NONE else _down_to(run, run.entries[vis].below, screen, params, False)


@inner_kernel
def _down_to(run: Run, entry: int, screen: int, params: int, inside: bool) -> int:
    """The nearest entry of this screen from `entry` down, or −1; `inside`: only within tabs."""
    looks = run.at[LOOKS]
    while entry != NONE and looks > 0 and not same(run, entry, screen, params):
        looks -= 1
        entry = run.entries[entry].below
        if inside and entry != NONE and run.entries[entry].region != TAB:
            entry = NONE
    run.at[LOOKS] = looks
    return entry if same(run, entry, screen, params) else NONE


@inner_kernel
def sheets_gone(run: Run, entry: int) -> int:
    """What lies under all sheets."""
    while run.entries[entry].region == SHEET and run.entries[entry].under != NONE:
        entry = run.entries[entry].under
    return entry


@inner_kernel
def _outside_gone(run: Run, entry: int) -> int:
    """What lies under the outside screens on top of a shared stack, or −1."""
    while entry != NONE and run.entries[entry].region == OUTSIDE:
        entry = run.entries[entry].below
    return entry


# New entries.


@inner_kernel
def _entry(
    run: Run, screen: int, params: int, under: int, depth: int, region: int, tab: int, base: int
) -> int:
    entries, entry = run.entries, run.at[ENTRIES]
    entries[entry].screen = screen
    entries[entry].params = params
    entries[entry].below = under
    entries[entry].depth = depth
    entries[entry].region = region
    entries[entry].tab = tab
    entries[entry].under = base
    entries[entry].forward = NONE
    below_it = NONE if under == NONE else entries[under].print
    base_of_it = NONE if base == NONE else entries[base].print
    entries[entry].print = imprint(screen, params, below_it, region, tab, base_of_it)
    run.at[ENTRIES] = entry + 1
    run.at[AHEAD] = NONE
    return entry


@inner_kernel
def _bottom(run: Run, tab: int, screen: int, params: int) -> int:
    """A new entry at the bottom of a tab's stack."""
    return _entry(run, screen, params, NONE, 1, TAB, tab, NONE)


@inner_kernel
def over(run: Run, base: int, screen: int, params: int) -> int:
    """A new entry on top of `base`, in its region; on a shared stack, in the screen's own."""
    under = run.entries[base]
    depth = under.depth + 1
    if run.at[TABS] == TABS_SHARED and under.region != SHEET:
        tab = _tab_on_shared(run, screen, base)
        region = OUTSIDE if tab == NONE else TAB
        return _entry(run, screen, params, base, depth, region, tab, NONE)
    return _entry(run, screen, params, base, depth, under.region, under.tab, under.under)


@inner_kernel
def _tab_on_shared(run: Run, screen: int, base: int) -> int:
    """The tab that a screen counts to on a shared stack: its own, or that of what it lies on."""
    if run.screens[screen].outside:
        return NONE
    home = run.screens[screen].home
    if home >= 0 or base == NONE:
        return home if home >= 0 else NONE
    return run.entries[base].tab


@inner_kernel
def instead(run: Run, old: int, screen: int, params: int) -> int:
    """A new entry in the place of `old`. What lies ahead stays there."""
    gone, ahead = run.entries[old], run.at[AHEAD]
    region, tab = gone.region, gone.tab
    if run.at[TABS] == TABS_SHARED and region != SHEET and screen != gone.screen:
        tab = _tab_on_shared(run, screen, gone.below)
        if tab == NONE and not run.screens[screen].outside:
            tab = gone.tab
        region = OUTSIDE if tab == NONE else TAB
    entry = _entry(run, screen, params, gone.below, gone.depth, region, tab, gone.under)
    run.at[AHEAD] = ahead
    return entry


@inner_kernel
def alone(run: Run, screen: int, params: int) -> int:
    """The screen by itself: its region's stack becomes this one entry."""
    tab, role = run.screens[screen].home, run.screens[screen].role
    if tab == SEVERAL:
        tab = run.at[SELECTED]
    if tab >= 0:
        return _bottom(run, tab, screen, params)
    region = SHEET if role == _SHEET_ROLE or role == _MENU else OUTSIDE
    return _entry(run, screen, params, NONE, 1, region, NONE, NONE)


# Moves.


@inner_kernel
def push(run: Run, screen: int, params: int) -> int:
    vis = run.at[VIS]
    if _goes_inside(run, screen):
        return enter(run, screen, params, False)
    if _on_stack(run, vis, screen, params):
        run.at[MARKED] |= _PILED_UP
    return over(run, vis, screen, params)


@inner_kernel
def _goes_inside(run: Run, screen: int) -> bool:
    return run.entries[run.at[VIS]].region == OUTSIDE and run.screens[screen].home >= 0


@inner_kernel
def _on_stack(run: Run, entry: int, screen: int, params: int) -> bool:
    entries, looks = run.entries, run.at[LOOKS]
    region, tab = entries[entry].region, entries[entry].tab
    found = False
    while not found and looks > 0 and entry != NONE and entries[entry].region == region:
        if entries[entry].tab != tab:
            break
        looks -= 1
        found = entries[entry].screen == screen and entries[entry].params == params
        entry = entries[entry].below
    run.at[LOOKS] = looks
    return found


@rare_kernel
def enter(run: Run, screen: int, params: int, replaces: bool) -> int:
    """From outside into a tab, whose root starts its stack anew.

    The outside is cleared, or kept under the tabs. Gates that stood over the inside go either way.
    """
    vis, tab = run.at[VIS], run.screens[screen].home
    kept = run.at[KEEP_OUTSIDE] == OUTSIDE_KEPT
    if run.at[TABS] == TABS_SHARED:
        if kept:
            return instead(run, vis, screen, params) if replaces else over(run, vis, screen, params)
        base = _outside_gone(run, vis)
        return alone(run, screen, params) if base == NONE else over(run, base, screen, params)
    if kept and _outside_gone(run, vis) == NONE:
        run.at[UNDER] = run.entries[vis].below if replaces else vis
    if screen == run.tabs[tab].root or run.tabs[tab].top == NONE:
        return _bottom(run, tab, screen, params)
    return over(run, run.tabs[tab].top, screen, params)


@inner_kernel
def pop(run: Run, screen: int, params: int) -> int:
    vis = run.at[VIS]
    under = NONE if vis == NONE else below(run, vis)
    if under == NONE or not (screen == NONE or same(run, under, screen, params)):
        return _elsewhere(run, screen, params)
    entries = run.entries
    between_tabs = entries[under].region == TAB and entries[vis].region == TAB
    if between_tabs and entries[under].tab != entries[vis].tab:
        run.tabs[entries[vis].tab].used = NONE  # "back" leads there no more
    entries[vis].forward = run.at[AHEAD]
    run.at[AHEAD] = vis
    return under


@rare_kernel
def _pop_to(run: Run, count: int, screen: int, params: int) -> int:
    entry = run.at[VIS]
    if count > 0:
        for _ in range(count):
            if entry != NONE:
                entry = below(run, entry)
        if entry != NONE and (screen == NONE or same(run, entry, screen, params)):
            return entry
        return _elsewhere(run, screen, params)
    entry = further_down(run, screen, params)
    return _elsewhere(run, screen, params) if entry == NONE else entry


@rare_kernel
def _elsewhere(run: Run, screen: int, params: int) -> int:
    """The log is right about the screen: look for it, else put it in the visible one's place."""
    if screen == NONE:
        return NONE
    run.at[MARKED] |= _LANDED_ELSEWHERE
    entry = further_down(run, screen, params)
    if entry != NONE:
        return entry
    for tab in range(len(run.tabs)):
        if same(run, run.tabs[tab].top, screen, params):
            return run.tabs[tab].top
    if run.at[VIS] == NONE:
        return alone(run, screen, params)
    return put_instead(run, screen, params)


@inner_kernel
def put_instead(run: Run, screen: int, params: int) -> int:
    if _goes_inside(run, screen):
        return enter(run, screen, params, True)
    return instead(run, run.at[VIS], screen, params)


@inner_kernel
def chosen_again(run: Run, entry: int) -> int:
    """What the selected tab shows when it is chosen once more: the same, or its root."""
    if run.at[RESELECT] == RESELECT_STAY:
        return entry
    tab = run.entries[entry].tab
    under = run.entries[entry].below
    while under != NONE and run.entries[under].region == TAB and run.entries[under].tab == tab:
        entry = under
        under = run.entries[entry].below
    return entry


@inner_kernel
def switch(run: Run, tab: int, screen: int, params: int) -> int:
    if tab == NONE and screen != NONE:
        tab = run.screens[screen].home
    if tab < 0:
        return _elsewhere(run, screen, params)
    vis = run.at[VIS]
    base = NONE if vis == NONE else sheets_gone(run, vis)
    again = base != NONE and run.entries[base].region == TAB and run.entries[base].tab == tab
    if again:
        entry = chosen_again(run, base)
    elif run.at[TABS] == TABS_SHARED:
        root = run.tabs[tab].root if screen == NONE else screen
        return _bottom(run, tab, root, params) if base == NONE else over(run, base, root, params)
    elif run.tabs[tab].top == NONE and screen != NONE:
        return _bottom(run, tab, screen, params)
    else:
        entry = _resting(run, tab)
    if screen == NONE or same(run, entry, screen, params):
        return entry
    run.at[MARKED] |= _LANDED_ELSEWHERE
    entry = _down_to(run, entry, screen, params, True)
    return _bottom(run, tab, screen, params) if entry == NONE else entry


@inner_kernel
def open_sheet(run: Run, screen: int, params: int) -> int:
    vis, entries = run.at[VIS], run.entries
    depth = entries[vis].depth + 1 if entries[vis].region == SHEET else 1
    return _entry(run, screen, params, vis, depth, SHEET, NONE, vis)


@inner_kernel
def close(run: Run, screen: int, params: int) -> int:
    vis = run.at[VIS]
    under = NONE if vis == NONE else run.entries[vis].under
    if under != NONE and (screen == NONE or same(run, under, screen, params)):
        return under
    return _elsewhere(run, screen, params)


@rare_kernel
def _update(run: Run, screen: int, params: int) -> int:
    vis = run.at[VIS]
    if run.entries[vis].screen == screen:
        return instead(run, vis, screen, params)
    return _elsewhere(run, screen, params)


@rare_kernel
def _go_forward(run: Run, screen: int, params: int) -> int:
    ahead = run.at[AHEAD]
    if ahead != NONE and (screen == NONE or same(run, ahead, screen, params)):
        run.at[AHEAD] = run.entries[ahead].forward
        return ahead
    return _elsewhere(run, screen, params)


@rare_kernel
def redirect(run: Run, via: int, screen: int, params: int) -> int:
    """A gate's screen lies outside, over what was visible or in its place."""
    vis, entries = run.at[VIS], run.entries
    if via == _VIA_INITIAL:
        run.at[UNDER] = NONE
        return alone(run, screen, params)
    shared = run.at[TABS] == TABS_SHARED and entries[vis].region != SHEET
    if not run.screens[screen].outside:
        return put_instead(run, screen, params) if via == VIA_REPLACE else push(run, screen, params)
    if entries[vis].region == OUTSIDE or shared:
        if via == VIA_REPLACE:
            return instead(run, vis, screen, params)
        return over(run, vis, screen, params)
    under = vis
    if via == VIA_REPLACE:
        under = entries[vis].below
        if entries[vis].region == TAB:
            tab = entries[vis].tab
            stays = under != NONE and entries[under].region == TAB and entries[under].tab == tab
            run.tabs[tab].top = under if stays else NONE
    return _entry(run, screen, params, under, 1, OUTSIDE, NONE, NONE)


@rare_kernel
def link(run: Run, screen: int, params: int) -> int:
    """Where a link lands: by `link_cold` if it started the app, else by `link_warm`."""
    vis, tab = run.at[VIS], run.screens[screen].home
    cold = vis == NONE or on_splash(run)
    if cold:
        empty(run)
        run.at[VIS] = vis
    rule = run.at[LINK_WARM]
    if cold:
        rule = LINK_ALONE if run.at[LINK_COLD] == COLD_ALONE else LINK_PARENTS
    if tab == SEVERAL:
        tab = run.at[SELECTED]
    if tab < 0:
        if cold:
            return alone(run, screen, params)
        return over(run, sheets_gone(run, vis), screen, params)
    if rule == LINK_OVER:
        return _link_over(run, tab, screen, params)
    if rule == LINK_ALONE or screen == run.tabs[tab].root:
        return _bottom(run, tab, screen, params)
    return over(run, tab, screen, params)


@inner_kernel
def _link_over(run: Run, tab: int, screen: int, params: int) -> int:
    """Over the tab's kept stack, where an entry of the screen is reused."""
    shared = run.at[TABS] == TABS_SHARED
    top = sheets_gone(run, run.at[VIS]) if shared else run.tabs[tab].top
    if shared and run.at[KEEP_OUTSIDE] != OUTSIDE_KEPT:
        top = _outside_gone(run, top)
    if top == NONE:
        if screen == run.tabs[tab].root:
            return _bottom(run, tab, screen, params)
        top = tab
    entry = _down_to(run, top, screen, NONE, not shared)
    if entry == NONE:
        return over(run, top, screen, params)
    return entry if same(run, entry, screen, params) else instead(run, entry, screen, params)
