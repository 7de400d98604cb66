"""Where a move leads: the stack entry on which it lands, by the app's history rules.

Each function takes the run as it stands and returns the number of an entry: one that stands on a
stack already, or a new one. None of them makes it the visible one; `stand_on` does.
"""

from __future__ import annotations

from mossy_trail.core.kernel import inner_kernel, rare_kernel
from mossy_trail.core.model.app_map import ROLE, SEVERAL
from mossy_trail.core.model.app_map import UNDER as BELOW_LINKS
from mossy_trail.core.model.log import NONE, VIAS
from mossy_trail.core.model.steps import MARK, MOVE, OUTSIDE, SHEET, TAB
from mossy_trail.core.replay.run import (
    ACROSS,
    ACROSS_HERE,
    BACK_EXIT,
    BACK_FIRST,
    BACK_IN_BAR,
    BACK_PREVIOUS,
    CLOCK,
    COLD,
    COLD_ALONE,
    ENTRIES,
    EXPECTED,
    KEEP_OUTSIDE,
    LINK_ALONE,
    LINK_COLD,
    LINK_OVER,
    LINK_WARM,
    MARKED,
    OPENED_COLD,
    OUTSIDE_KEPT,
    REPORTED,
    RESELECT,
    RESELECT_STAY,
    RESTORED,
    ROOT_BACK,
    SEARCH_BUDGET,
    SELECTED,
    SIGNED_OUT,
    SPARE_ENTRIES,
    TABS,
    TABS_RESET,
    TABS_SHARED,
    TAKEN_OFF,
    UNDER,
    VISIBLE,
    Run,
    fingerprint,
)

_LANDED_ELSEWHERE, _PILED_UP = MARK["landed_elsewhere"], MARK["piled_up"]
_SPLASH, _SHEET_ROLE, _MENU = ROLE["splash"], ROLE["sheet"], ROLE["menu"]
_PUSH, _POP, _POP_TO = MOVE["push"], MOVE["pop"], MOVE["pop_to"]
_REPLACE, _RESET, _SWITCH = MOVE["replace"], MOVE["reset"], MOVE["switch_tab"]
_OPEN, _CLOSE, _UPDATE = MOVE["open_modal"], MOVE["close_modal"], MOVE["update"]
_FORWARD = MOVE["forward"]
VIA_PUSH, VIA_REPLACE, VIA_INITIAL, VIA_LINK = range(len(VIAS))
_LINK = MOVE["link"]
_ALONE = BELOW_LINKS.index("alone")


@inner_kernel
def land(run: Run, move: int, row: int, screen: int, params: int) -> int:
    """The entry that a reported move leads to; −1 where it shows no screen."""
    visible = run.state[VISIBLE]
    if move != _POP and move != _CLOSE and move != _FORWARD:
        leave_menu(run, screen)
    entry = _land(run, move, row, screen, params)
    if entry == NONE:
        run.state[VISIBLE] = visible
    return entry


@inner_kernel
def _land(run: Run, move: int, row: int, screen: int, params: int) -> int:
    if move == _POP:
        return pop(run, screen, params)
    if move == _POP_TO:
        return _pop_to(run, run.rows[row].count, screen, params)
    if move == _CLOSE:
        return close(run, screen, params)
    if move == _SWITCH:
        return switch(run, run.rows[row].tab, screen, params)
    if move == _FORWARD:
        return go_forward(run, run.rows[row].count, screen, params)
    if screen == NONE:
        return NONE
    if move == _RESET:
        return reset(run, screen, params)
    if run.state[VISIBLE] == NONE:
        return alone(run, screen, params)
    if move == _PUSH:
        return push(run, screen, params)
    if move == _REPLACE:
        return put_instead(run, screen, params)
    if move == _OPEN:
        return open_sheet(run, screen, params)
    if move == _UPDATE:
        return _update(run, screen, params)
    return redirect(run, run.rows[row].via, screen, params)


@inner_kernel
def stand_on(run: Run, entry: int) -> None:
    """Make the entry the visible one."""
    state, entries = run.state, run.entries
    state[VISIBLE] = entry
    if entries[entry].region == OUTSIDE and entry == state[UNDER]:
        state[UNDER] = NONE
    if entries[entry].region != TAB:
        return
    tab, before = entries[entry].tab, state[SELECTED]
    state[SELECTED] = tab
    if state[TABS] == TABS_SHARED:
        return
    if before != tab and before != NONE and state[TABS] == TABS_RESET:
        run.tabs[before].top = NONE
    run.tabs[tab].top = entry
    state[CLOCK] += 1
    run.tabs[tab].used = state[CLOCK]


@inner_kernel
def empty(run: Run) -> None:
    """All stacks are gone: the app starts afresh."""
    state = run.state
    _empty_tabs(run)
    state[VISIBLE] = state[UNDER] = state[RESTORED] = state[TAKEN_OFF] = NONE
    state[SIGNED_OUT] = 0


@inner_kernel
def _empty_tabs(run: Run) -> None:
    for tab in range(len(run.tabs)):
        run.tabs[tab].top = run.tabs[tab].used = NONE
    run.state[SELECTED] = NONE


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
    visible = run.state[VISIBLE]
    return visible != NONE and run.screens[run.entries[visible].screen].role == _SPLASH


@inner_kernel
def is_menu(run: Run, entry: int) -> bool:
    """Whether the entry is a menu that lies over something."""
    if entry == NONE or run.entries[entry].region != SHEET or run.entries[entry].under == NONE:
        return False
    return run.screens[run.entries[entry].screen].role == _MENU


@inner_kernel
def leave_menu(run: Run, screen: int) -> None:
    """A menu is no ground to stand on: what is done from it is done to what it lies over."""
    visible = run.state[VISIBLE]
    if is_menu(run, visible) and run.entries[visible].screen != screen:
        run.state[VISIBLE] = run.entries[visible].under


@inner_kernel
def home_of(run: Run, screen: int) -> int:
    """The tab that a screen goes to; −1 where it has none, or stays where the user is."""
    home, state = run.screens[screen].home, run.state
    if home != SEVERAL:
        return home
    if state[REPORTED] != NONE and run.screens[screen].homes >> state[REPORTED] & 1:
        return state[REPORTED]
    if state[SELECTED] != NONE and run.screens[screen].homes >> state[SELECTED] & 1:
        return state[SELECTED]
    return NONE


@inner_kernel
def at_home(run: Run, entry: int) -> bool:
    """Whether the entry stands in the tab that its screen goes to, if it goes to one."""
    home = home_of(run, run.entries[entry].screen)
    return home == NONE or home == run.entries[entry].tab


@inner_kernel
def _home_afresh(run: Run, screen: int) -> int:
    """The tab of a screen that lies on nothing; of several tabs, the first where none is told."""
    home, state = home_of(run, screen), run.state
    if home != NONE or run.screens[screen].home != SEVERAL:
        return home
    if state[SELECTED] != NONE:
        return state[SELECTED]
    first = 0
    while run.screens[screen].homes >> first & 1 == 0 and first < len(run.tabs) - 1:
        first += 1
    return first


@inner_kernel
def _across(run: Run, screen: int) -> int:
    """The other tab that a forward move to this screen leads to, or −1."""
    state, entries = run.state, run.entries
    if state[TABS] == TABS_SHARED or state[ACROSS] == ACROSS_HERE or state[VISIBLE] == NONE:
        return NONE
    base = sheets_gone(run, state[VISIBLE])
    home = home_of(run, screen)
    if entries[base].region == TAB and entries[base].tab == home:
        return NONE
    return home


@inner_kernel
def below(run: Run, entry: int) -> int:
    """The entry that "back" reveals from this one; −1 where it leaves the app."""
    entries = run.entries
    under = entries[entry].below
    if under != NONE or entries[entry].region != TAB or run.state[TABS] == TABS_SHARED:
        return under
    tab = _tab_behind(run, entries[entry].tab)
    return run.state[UNDER] if tab == NONE else _resting(run, tab)


@inner_kernel
def _tab_behind(run: Run, tab: int) -> int:
    """The tab that "back" at this tab's root leads to, or −1."""
    return NONE if run.state[ROOT_BACK] == BACK_EXIT else _tab_before(run, tab)


@rare_kernel
def _tab_before(run: Run, tab: int) -> int:
    rule = run.state[ROOT_BACK]
    if rule == BACK_FIRST:
        return NONE if tab == 0 else 0
    if rule == BACK_IN_BAR:
        return tab - 1
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
    visible = run.state[VISIBLE]
    return (
        NONE
        if visible == NONE
        else _down_to(run, run.entries[visible].below, screen, params, False)
    )


@inner_kernel
def _down_to(run: Run, entry: int, screen: int, params: int, inside: bool) -> int:
    """The nearest entry of this screen from `entry` down, or −1; `inside`: only within tabs."""
    looks = run.state[SEARCH_BUDGET]
    while entry != NONE and looks > 0 and not same(run, entry, screen, params):
        looks -= 1
        entry = run.entries[entry].below
        if inside and entry != NONE and run.entries[entry].region != TAB:
            entry = NONE
    run.state[SEARCH_BUDGET] = looks
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
    entries, entry = run.entries, run.state[ENTRIES]
    entries[entry].screen = screen
    entries[entry].params = params
    entries[entry].below = under
    entries[entry].depth = depth
    entries[entry].region = region
    entries[entry].tab = tab
    entries[entry].under = base
    entries[entry].forward = NONE
    below_it = NONE if under == NONE else entries[under].fingerprint
    base_of_it = NONE if base == NONE else entries[base].fingerprint
    entries[entry].fingerprint = fingerprint(screen, params, below_it, region, tab, base_of_it)
    run.state[ENTRIES] = entry + 1
    run.state[TAKEN_OFF] = NONE
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
    if run.state[TABS] == TABS_SHARED and under.region != SHEET:
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
    if home == SEVERAL:
        home = home_of(run, screen)
    if home != NONE or base == NONE:
        return home
    return run.entries[base].tab


@inner_kernel
def instead(run: Run, old: int, screen: int, params: int) -> int:
    """A new entry in the place of `old`. What lies ahead stays there."""
    gone, ahead = run.entries[old], run.state[TAKEN_OFF]
    region, tab = gone.region, gone.tab
    if run.state[TABS] == TABS_SHARED and region != SHEET and screen != gone.screen:
        tab = _tab_on_shared(run, screen, gone.below)
        if tab == NONE and not run.screens[screen].outside:
            tab = gone.tab
        region = OUTSIDE if tab == NONE else TAB
    entry = _entry(run, screen, params, gone.below, gone.depth, region, tab, gone.under)
    run.state[TAKEN_OFF] = ahead
    return entry


@inner_kernel
def alone(run: Run, screen: int, params: int) -> int:
    """The screen by itself: its region's stack becomes this one entry."""
    tab, role = _home_afresh(run, screen), run.screens[screen].role
    if tab != NONE:
        return _bottom(run, tab, screen, params)
    region = SHEET if role == _SHEET_ROLE or role == _MENU else OUTSIDE
    return _entry(run, screen, params, NONE, 1, region, NONE, NONE)


# Moves.


@inner_kernel
def _stays(run: Run, screen: int) -> bool:
    """Whether this screen has no tab, or what is visible stands in its only one."""
    home, visible = run.screens[screen].home, run.state[VISIBLE]
    return home == NONE or (run.entries[visible].region == TAB and home == run.entries[visible].tab)


@inner_kernel
def push(run: Run, screen: int, params: int) -> int:
    if _stays(run, screen) and not on_splash(run):
        return _put_on_top(run, screen, params)
    return _push_out(run, screen, params)


@rare_kernel
def _push_out(run: Run, screen: int, params: int) -> int:
    if on_splash(run):
        return put_instead(run, screen, params)  # nobody comes back to a splash
    if _goes_inside(run, screen):
        return enter(run, screen, params, False)
    tab = _across(run, screen)
    if tab != NONE:
        return _onto_tab(run, tab, screen, params)
    return _put_on_top(run, screen, params)


@inner_kernel
def _put_on_top(run: Run, screen: int, params: int) -> int:
    visible = run.state[VISIBLE]
    if _on_stack(run, visible, screen, params):
        run.state[MARKED] |= _PILED_UP
    return over(run, visible, screen, params)


@inner_kernel
def reset(run: Run, screen: int, params: int) -> int:
    """The app put afresh on this screen; after signing out, all tabs too."""
    if run.state[SIGNED_OUT]:
        _empty_tabs(run)
    run.state[UNDER] = NONE
    run.state[SIGNED_OUT] = 0
    return alone(run, screen, params)


@inner_kernel
def _goes_inside(run: Run, screen: int) -> bool:
    state, home = run.state, run.screens[screen].home
    if run.entries[state[VISIBLE]].region != OUTSIDE or home == NONE:
        return False
    return home != SEVERAL or (state[REPORTED] != NONE and home_of(run, screen) == state[REPORTED])


@rare_kernel
def _onto_tab(run: Run, tab: int, screen: int, params: int) -> int:
    """On top of the kept stack of another tab, or of its root."""
    base = sheets_gone(run, run.state[VISIBLE])
    if run.entries[base].region == OUTSIDE:
        run.state[VISIBLE] = base
        return enter(run, screen, params, False)
    return _put_on_tab(run, tab, screen, params)


@inner_kernel
def _put_on_tab(run: Run, tab: int, screen: int, params: int) -> int:
    top = run.tabs[tab].top
    if top == NONE and screen == run.tabs[tab].root:
        return _bottom(run, tab, screen, params)
    if top != NONE and _on_stack(run, top, screen, params):
        run.state[MARKED] |= _PILED_UP
    return over(run, _resting(run, tab), screen, params)


@inner_kernel
def _on_stack(run: Run, entry: int, screen: int, params: int) -> bool:
    entries, looks = run.entries, run.state[SEARCH_BUDGET]
    region, tab = entries[entry].region, entries[entry].tab
    found = False
    while not found and looks > 0 and entry != NONE and entries[entry].region == region:
        if entries[entry].tab != tab:
            break
        looks -= 1
        found = entries[entry].screen == screen and entries[entry].params == params
        entry = entries[entry].below
    run.state[SEARCH_BUDGET] = looks
    return found


@inner_kernel
def enter(run: Run, screen: int, params: int, replaces: bool) -> int:
    """From outside into a tab, whose root starts its stack anew.

    The outside is cleared, or kept under the tabs. Gates that stood over the inside go either way.
    """
    visible, tab = run.state[VISIBLE], home_of(run, screen)
    kept = run.state[KEEP_OUTSIDE] == OUTSIDE_KEPT
    if run.state[TABS] == TABS_SHARED:
        if kept:
            return (
                instead(run, visible, screen, params)
                if replaces
                else over(run, visible, screen, params)
            )
        base = _outside_gone(run, visible)
        return alone(run, screen, params) if base == NONE else over(run, base, screen, params)
    if kept and _outside_gone(run, visible) == NONE:
        run.state[UNDER] = run.entries[visible].below if replaces else visible
    if screen == run.tabs[tab].root:
        return _bottom(run, tab, screen, params)
    return over(run, _resting(run, tab), screen, params)


@inner_kernel
def pop(run: Run, screen: int, params: int) -> int:
    visible = run.state[VISIBLE]
    if is_menu(run, visible):
        under = run.entries[visible].under
        if screen == NONE or same(run, under, screen, params):
            return under
        run.state[VISIBLE] = visible = under
    under = NONE if visible == NONE else below(run, visible)
    if under == NONE or not (screen == NONE or same(run, under, screen, params)):
        root = _root_behind(run, under, screen, params)
        return _elsewhere(run, under, screen, params) if root == NONE else root
    entries = run.entries
    between_tabs = entries[under].region == TAB and entries[visible].region == TAB
    if between_tabs and entries[under].tab != entries[visible].tab:
        run.tabs[entries[visible].tab].used = NONE  # "back" leads there no more
    entries[visible].forward = run.state[TAKEN_OFF]
    run.state[TAKEN_OFF] = visible
    return under


@rare_kernel
def _root_behind(run: Run, expected: int, screen: int, params: int) -> int:
    """The root of another tab that going back from this one's may show, though none said so."""
    visible, state = run.state[VISIBLE], run.state
    if (
        screen == NONE
        or visible == NONE
        or state[ROOT_BACK] == BACK_EXIT
        or state[TABS] == TABS_SHARED
    ):
        return NONE
    if run.entries[visible].region != TAB or run.entries[visible].below != NONE:
        return NONE
    tab = run.screens[screen].home
    if tab < 0 or tab == run.entries[visible].tab or run.tabs[tab].root != screen:
        return NONE
    _misfit(run, expected)
    entry = _down_to(run, _resting(run, tab), screen, params, True)
    return _bottom(run, tab, screen, params) if entry == NONE else entry


@rare_kernel
def _pop_to(run: Run, count: int, screen: int, params: int) -> int:
    entry = run.state[VISIBLE]
    if count > 0:
        for _ in range(count):
            if entry != NONE:
                entry = below(run, entry)
        if entry == NONE or not (screen == NONE or same(run, entry, screen, params)):
            return _elsewhere(run, entry, screen, params)
    else:
        entry = _to_bottom(run, screen, params)
        if entry == NONE:
            entry = further_down(run, screen, params)
        if entry == NONE:
            return _elsewhere(run, NONE, screen, params)
    _take_off(run, entry)
    return entry


@inner_kernel
def _to_bottom(run: Run, screen: int, params: int) -> int:
    """The bottom of the visible stack, if this is its root's screen or none is named; else −1."""
    entry, looks = run.state[VISIBLE], run.state[SEARCH_BUDGET]
    if entry == NONE:
        return NONE
    region, tab = run.entries[entry].region, run.entries[entry].tab
    if screen != NONE and not (region == TAB and run.tabs[tab].root == screen):
        return NONE
    shared, under = run.state[TABS] == TABS_SHARED, run.entries[entry].below
    while under != NONE and looks > 0 and (shared or run.entries[under].region == region):
        looks -= 1
        entry = under
        under = run.entries[entry].below
    run.state[SEARCH_BUDGET] = looks
    if entry == run.state[VISIBLE] or not (screen == NONE or same(run, entry, screen, params)):
        return NONE
    return entry


@inner_kernel
def _take_off(run: Run, entry: int) -> None:
    """All that lies over the entry lies ahead now."""
    state, top, looks = run.state, run.state[VISIBLE], run.state[SEARCH_BUDGET]
    while top != entry and top != NONE and looks > 0:
        looks -= 1
        run.entries[top].forward = state[TAKEN_OFF]
        state[TAKEN_OFF] = top
        top = run.entries[top].below
    state[SEARCH_BUDGET] = looks


@inner_kernel
def _misfit(run: Run, expected: int) -> None:
    """The move has landed elsewhere than on this entry; −1: it was to leave the app."""
    run.state[MARKED] |= _LANDED_ELSEWHERE
    run.state[EXPECTED] = expected


@rare_kernel
def _elsewhere(run: Run, expected: int, screen: int, params: int) -> int:
    """The log is right about the screen: look for it, else put it in the visible one's place."""
    if screen == NONE:
        return NONE
    _misfit(run, expected)
    entry = further_down(run, screen, params)
    if entry != NONE:
        return entry
    for tab in range(len(run.tabs)):
        if same(run, run.tabs[tab].top, screen, params):
            return run.tabs[tab].top
    if run.state[VISIBLE] == NONE:
        return alone(run, screen, params)
    return put_instead(run, screen, params)


@inner_kernel
def put_instead(run: Run, screen: int, params: int) -> int:
    if _stays(run, screen):
        return instead(run, run.state[VISIBLE], screen, params)
    return _put_elsewhere(run, screen, params)


@rare_kernel
def _put_elsewhere(run: Run, screen: int, params: int) -> int:
    if _goes_inside(run, screen):
        return enter(run, screen, params, True)
    tab = _across(run, screen)
    if tab == NONE:
        return instead(run, run.state[VISIBLE], screen, params)
    return _leave_for_tab(run, tab, screen, params)


@rare_kernel
def _leave_for_tab(run: Run, tab: int, screen: int, params: int) -> int:
    """Away from the visible entry, onto another tab's stack."""
    visible, entries = run.state[VISIBLE], run.entries
    if entries[visible].region == TAB:
        under = entries[visible].below
        stays = under != NONE and entries[under].region == TAB
        run.tabs[entries[visible].tab].top = under if stays else NONE
    return _onto_tab(run, tab, screen, params)


@inner_kernel
def chosen_again(run: Run, entry: int) -> int:
    """What the selected tab shows when it is chosen once more: the same, or its root."""
    if run.state[RESELECT] == RESELECT_STAY:
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
        tab = home_of(run, screen)
    if tab == NONE:
        return _elsewhere(run, NONE, screen, params)
    visible = run.state[VISIBLE]
    base = NONE if visible == NONE else sheets_gone(run, visible)
    again = base != NONE and run.entries[base].region == TAB and run.entries[base].tab == tab
    shared = run.state[TABS] == TABS_SHARED
    if again and shared and screen != NONE:
        entry = chosen_again(run, base)
        return entry if same(run, entry, screen, params) else over(run, base, screen, params)
    if again:
        entry = chosen_again(run, base)
    elif shared:
        root = run.tabs[tab].root if screen == NONE else screen
        return _bottom(run, tab, root, params) if base == NONE else over(run, base, root, params)
    elif run.tabs[tab].top == NONE and screen != NONE:
        return _bottom(run, tab, screen, params)
    else:
        entry = _resting(run, tab)
    if screen == NONE or same(run, entry, screen, params):
        return entry
    if run.entries[entry].screen == screen:
        return instead(run, entry, screen, params)
    _misfit(run, entry)
    entry = _down_to(run, entry, screen, params, True)
    return _bottom(run, tab, screen, params) if entry == NONE else entry


@inner_kernel
def open_sheet(run: Run, screen: int, params: int) -> int:
    visible, entries = run.state[VISIBLE], run.entries
    depth = entries[visible].depth + 1 if entries[visible].region == SHEET else 1
    return _entry(run, screen, params, visible, depth, SHEET, NONE, visible)


@inner_kernel
def close(run: Run, screen: int, params: int) -> int:
    visible = run.state[VISIBLE]
    under = NONE if visible == NONE else run.entries[visible].under
    if under == NONE:
        return _elsewhere(run, under, screen, params)
    if screen == NONE or same(run, under, screen, params):
        return under
    ground = sheets_gone(run, under)
    return ground if same(run, ground, screen, params) else _elsewhere(run, under, screen, params)


@rare_kernel
def _update(run: Run, screen: int, params: int) -> int:
    visible = run.state[VISIBLE]
    if run.entries[visible].screen == screen:
        return instead(run, visible, screen, params)
    return _elsewhere(run, visible, screen, params)


@rare_kernel
def go_forward(run: Run, count: int, screen: int, params: int) -> int:
    """Over so many entries that lie ahead; without a count, to the next one of this screen."""
    visible, steps = run.state[VISIBLE], steps_ahead(run, count, screen, params)
    entry = visible if steps else NONE
    for _ in range(steps):
        if entry != NONE:
            entry = _next_ahead(run)
            run.state[VISIBLE] = entry
    run.state[VISIBLE] = visible
    return _elsewhere(run, run.state[TAKEN_OFF], screen, params) if entry == NONE else entry


@inner_kernel
def steps_ahead(run: Run, count: int, screen: int, params: int) -> int:
    """How many entries further ahead the screen is that a move forward shows; 0 where none is."""
    ahead, looks, steps = run.state[TAKEN_OFF], run.state[SEARCH_BUDGET], 1
    while ahead != NONE and looks > 0:
        fits = screen == NONE or same(run, ahead, screen, params)
        if fits and steps >= count:
            break
        if steps == count:
            ahead = NONE
            break
        looks -= 1
        steps += 1
        ahead = run.entries[ahead].forward
    run.state[SEARCH_BUDGET] = looks
    return 0 if ahead == NONE or looks == 0 else steps


@inner_kernel
def _next_ahead(run: Run) -> int:
    """The entry that lies next ahead; anew if what was under it has been replaced. −1: no room."""
    state, entries = run.state, run.entries
    visible, ahead = state[VISIBLE], state[TAKEN_OFF]
    onward = entries[ahead].forward
    if entries[ahead].below != NONE and entries[ahead].below != visible:
        if state[SPARE_ENTRIES] == 0:
            return NONE
        state[SPARE_ENTRIES] -= 1
        old = entries[ahead]
        depth, base = entries[visible].depth + 1, old.under
        ahead = _entry(run, old.screen, old.params, visible, depth, old.region, old.tab, base)
    state[TAKEN_OFF] = onward
    return ahead


@rare_kernel
def redirect(run: Run, via: int, screen: int, params: int) -> int:
    """A gate's screen lies outside, over what was visible or in its place."""
    visible, entries = run.state[VISIBLE], run.entries
    if via == VIA_INITIAL:
        return reset(run, screen, params)
    if on_splash(run):
        via = VIA_REPLACE
    shared = run.state[TABS] == TABS_SHARED and entries[visible].region != SHEET
    if not run.screens[screen].outside:
        return put_instead(run, screen, params) if via == VIA_REPLACE else push(run, screen, params)
    if entries[visible].region == OUTSIDE or shared:
        if via == VIA_REPLACE:
            return instead(run, visible, screen, params)
        return over(run, visible, screen, params)
    under = visible
    if via == VIA_REPLACE:
        under = entries[visible].below
        if entries[visible].region == TAB:
            tab = entries[visible].tab
            stays = under != NONE and entries[under].region == TAB and entries[under].tab == tab
            run.tabs[tab].top = under if stays else NONE
    return _entry(run, screen, params, under, 1, OUTSIDE, NONE, NONE)


@rare_kernel
def link(run: Run, opened: int, move: int, screen: int, params: int) -> int:
    """Where the link of row `opened` lands, and on what.

    `move` is what the app's code did to land there, where a row tells it, else `link`. What it
    says of the stacks holds; what lies under the screen where they are new, the rules say.
    """
    state, visible = run.state, run.state[VISIBLE]
    nothing = visible == NONE or on_splash(run)
    cold = nothing or state[COLD] == OPENED_COLD
    rule = state[LINK_WARM] == LINK_ALONE
    if cold or state[LINK_WARM] == LINK_OVER:  # where no stack is kept, it is as in a start
        rule = state[LINK_COLD] == COLD_ALONE
    under = run.rows[opened].under
    bare = rule if under == NONE else under == _ALONE
    afresh = nothing or move == _RESET or (cold and move == _LINK)
    if afresh:
        empty(run)
        state[VISIBLE] = visible
    leave_menu(run, screen)
    tab = _home_afresh(run, screen)
    if tab == NONE:
        return alone(run, screen, params) if afresh else _link_apart(run, move, screen, params)
    if afresh or (move == _LINK and state[LINK_WARM] != LINK_OVER):
        return _with_root(run, tab, screen, params, bare)
    if move == _PUSH:
        return _push_link(run, tab, screen, params, bare)
    if move == _REPLACE:
        return _replace_by_link(run, tab, screen, params, bare)
    visible = sheets_gone(run, state[VISIBLE])
    if move == _UPDATE and run.entries[visible].screen == screen:
        return instead(run, visible, screen, params)
    return _link_over(run, tab, screen, params, bare)


@inner_kernel
def _link_apart(run: Run, move: int, screen: int, params: int) -> int:
    """In a running app, on a screen that lives in no tab."""
    if run.screens[screen].role == _SHEET_ROLE:
        return open_sheet(run, screen, params)
    if move == _REPLACE:
        return put_instead(run, screen, params)
    return over(run, sheets_gone(run, run.state[VISIBLE]), screen, params)


@inner_kernel
def _with_root(run: Run, tab: int, screen: int, params: int, bare: bool) -> int:
    """At the bottom of a tab's stack, or over its root."""
    if bare or screen == run.tabs[tab].root:
        return _bottom(run, tab, screen, params)
    return over(run, tab, screen, params)


@inner_kernel
def _push_link(run: Run, tab: int, screen: int, params: int, bare: bool) -> int:
    state, entries, visible = run.state, run.entries, run.state[VISIBLE]
    base = sheets_gone(run, visible)
    if state[TABS] == TABS_SHARED:
        state[VISIBLE] = base
        return push(run, screen, params)
    inside = entries[base].region == TAB
    if inside and (entries[base].tab == tab or _answered_here(run, tab)):
        return over(run, base if state[LINK_WARM] == LINK_OVER else visible, screen, params)
    if run.tabs[tab].top == NONE:
        return _with_root(run, tab, screen, params, bare)
    return over(run, run.tabs[tab].top, screen, params)


@inner_kernel
def _answered_here(run: Run, tab: int) -> bool:
    """Whether a link was answered on the visible stack: so moves go, and no row says otherwise."""
    return run.state[ACROSS] == ACROSS_HERE and run.state[REPORTED] != tab


@inner_kernel
def _replace_by_link(run: Run, tab: int, screen: int, params: int, bare: bool) -> int:
    visible = run.state[VISIBLE]
    here = run.entries[visible].tab == tab or _answered_here(run, tab)
    if run.state[TABS] == TABS_SHARED or run.entries[visible].region != TAB or here:
        return put_instead(run, screen, params)
    if run.tabs[tab].top == NONE:
        return _with_root(run, tab, screen, params, bare)
    return _leave_for_tab(run, tab, screen, params)


@inner_kernel
def _link_over(run: Run, tab: int, screen: int, params: int, bare: bool) -> int:
    """Over the tab's kept stack, where an entry of the screen is reused."""
    shared = run.state[TABS] == TABS_SHARED
    top = sheets_gone(run, run.state[VISIBLE]) if shared else run.tabs[tab].top
    if shared and run.state[KEEP_OUTSIDE] != OUTSIDE_KEPT:
        top = _outside_gone(run, top)
    if top == NONE:
        return _with_root(run, tab, screen, params, bare)
    entry = _down_to(run, top, screen, NONE, not shared)
    if entry == NONE:
        return over(run, top, screen, params)
    return entry if same(run, entry, screen, params) else instead(run, entry, screen, params)
