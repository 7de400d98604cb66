"""The app as it really is: a phone that keeps Skerry Crossings' stacks as plain lists.

Written apart from the replay, and the other way round: it holds the stacks and writes the log,
where the replay reads the log and rebuilds the stacks.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

TABS = {
    "Sailings": "SailingsBoard",
    "Passes": "PassWallet",
    "Harbour": "HarbourMap",
    "Me": "MeHome",
    "Crew": "RosterBoard",
}
ROOTS = {root: tab for tab, root in TABS.items()}
TAB_OF = {
    "SailingDetail": "Sailings",
    "SeatPick": "Sailings",
    "DelayInfo": "Sailings",
    "PassDetail": "Passes",
    "BuyPass": "Passes",
    "Receipt": "Passes",
    "PierDetail": "Harbour",
    "ParkingInfo": "Harbour",
    "TripHistory": "Me",
    "Refund": "Me",
    "Settings": "Me",
    "NotifySettings": "Me",
    "ShiftDetail": "Crew",
} | ROOTS

OUTSIDE = {
    *("Splash", "Welcome", "HomePier", "Alerts", "StepFree"),
    *("SignIn", "CodeEntry", "SignUp", "ForgotPin"),
}

SEVERAL = {"HelpTopic": ("Me", "Passes")}
MENU = "SideMenu"

Params = Mapping[str, str] | None


@dataclass(frozen=True)
class Place:
    screen: str
    params: Params = None


@dataclass(frozen=True)
class Rules:
    """How the app's history behaves, in the words of a map's `history`."""

    tabs: str = "keep"
    root_back: str = "exit"
    reselect: str = "stay"
    link_cold: str = "parents"
    link_warm: str = "over"
    restart: str = "fresh"
    outside: str = "cleared"
    across: str = "there"


def new_phone(rules: Rules, place: Place) -> Phone:
    """The app as it shows its first screen, which is none of a tab's."""
    if rules.tabs == "shared":
        return SharedPhone(rules, one=[(place, None)])
    return Phone(rules, outside=[place])


@dataclass
class Phone:
    """One running app. Each method changes the stacks as the real app does."""

    rules: Rules
    outside: list[Place] = field(default_factory=list)
    """Screens before or over the tabs; visible while there are any."""
    under: list[Place] = field(default_factory=list)
    """Screens from before the tabs that were kept under them."""
    tabs: dict[str, list[Place]] = field(default_factory=dict)
    sheets: list[Place] = field(default_factory=list)
    selected: str | None = None
    order: list[str] = field(default_factory=list)
    """The tabs that "back" at a root leads through, the selected one last."""
    gate_over_inside: bool = False
    signed_out: bool = False
    """Nothing has been put afresh since."""

    @property
    def visible(self) -> Place:
        return self.stack[-1]

    @property
    def region(self) -> str:
        if self.sheets:
            return "sheet"
        return "outside" if self.outside else "tab"

    @property
    def tab(self) -> str | None:
        return self.selected if self.region == "tab" else None

    @property
    def stack(self) -> list[Place]:
        return self.sheets or self.page

    @property
    def page(self) -> list[Place]:
        """The stack that the sheets lie on."""
        return self.outside or self.tabs[self.selected or ""]

    def below(self) -> Place | None:
        """What the back button would show; None: it would close the app."""
        if len(self.stack) > 1:
            return self.stack[-2]
        if self.sheets:
            return self.page[-1]
        if self.outside:
            return self.tabs[self.selected or ""][-1] if self.gate_over_inside else None
        behind = self._tab_behind()
        if behind:
            return self.tabs.get(behind, [Place(TABS[behind])])[-1]
        return self.under[-1] if self.under else None

    def _tab_behind(self) -> str | None:
        first = next(iter(TABS))
        if self.rules.root_back == "first_tab" and self.selected != first:
            return first
        if self.rules.root_back == "previous_tab" and len(self.order) > 1:
            return self.order[-2]
        if self.rules.root_back == "bar_order" and self.selected != first:
            return list(TABS)[list(TABS).index(self.selected or "") - 1]
        return None

    def _leave_menu(self) -> None:
        """Whatever is done while the menu is open is done to what it lies over."""
        if self.sheets and self.sheets[-1].screen == MENU:
            self.sheets.pop()

    def _other_tab(self, place: Place) -> str | None:
        """The tab that going on to this place leads to, if that is another one."""
        tab = TAB_OF.get(place.screen)
        if self.rules.across == "here" or self.outside or tab == self.selected:
            return None
        return tab

    def truth(self) -> dict[str, Any]:
        below = self.below()
        return {
            "screen": self.visible.screen,
            "params": self.visible.params,
            "tab": self.tab,
            "region": self.region,
            "depth": len(self.stack),
            "below": below and below.screen,
            "below_params": below and below.params,
        }

    def push(self, place: Place) -> None:
        self._leave_menu()
        tab = TAB_OF.get(place.screen)
        if self.visible.screen == "Splash":
            self.replace(place)
        elif self.region == "outside" and tab:
            self._enter(tab, place, [*self.outside])
        elif other := self._other_tab(place):
            self._cross(other, place)
        else:
            self.stack.append(place)

    def _cross(self, tab: str, place: Place) -> None:
        """Onto the kept stack of another tab."""
        self.sheets = []
        new = tab not in self.tabs and place.screen == TABS[tab]
        self._select(tab)
        self.tabs[tab] = [place] if new else [*self.tabs[tab], place]

    def pop(self) -> None:
        if len(self.stack) > 1 or self.sheets:
            self.stack.pop()
        elif self.outside:
            self.outside, self.gate_over_inside = [], False
        elif behind := self._tab_behind():
            self.order = self.order[:-1]
            self._select(behind)
        else:
            self.outside, self.under = self.under, []

    def pop_to_root(self) -> int:
        self._leave_menu()
        taken = len(self.stack) - 1
        del self.stack[1:]
        return taken

    def replace(self, place: Place) -> None:
        self._leave_menu()
        tab = TAB_OF.get(place.screen)
        if self.region == "outside" and tab:
            self._enter(tab, place, self.outside[:-1])
        elif other := self._other_tab(place):
            if not self.sheets:
                self._take_off_top()
            self._cross(other, place)
        else:
            self.stack[-1] = place

    def _take_off_top(self) -> None:
        """Off the selected tab's stack; of a root, nothing is left to come back to."""
        tab = self.selected or ""
        self.tabs[tab].pop()
        if not self.tabs[tab]:
            del self.tabs[tab]

    def reset(self, place: Place) -> None:
        self.sheets, self.under, self.gate_over_inside = [], [], False
        if self.signed_out:
            self.tabs, self.order, self.selected, self.signed_out = {}, [], None, False
        tab = TAB_OF.get(place.screen)
        if tab:
            self.outside = []
            self._select(tab)
            self.tabs[tab] = [place]
        else:
            self.outside = [place]

    def update(self, place: Place) -> None:
        self.stack[-1] = place

    def switch_tab(self, tab: str) -> bool:
        """Choose a tab; whether another place shows now."""
        before, again = self.truth(), tab == self.selected
        self.sheets = []
        self._select(tab)
        if again and self.rules.reselect == "to_root":
            del self.tabs[tab][1:]
        return self.truth() != before

    def _select(self, tab: str) -> None:
        if self.rules.tabs == "reset" and self.selected not in (tab, None):
            self.tabs.pop(self.selected or "", None)
        self.selected = tab
        self.order = [*(other for other in self.order if other != tab), tab]
        self.tabs.setdefault(tab, [Place(TABS[tab])])

    def open_modal(self, place: Place) -> None:
        self._leave_menu()
        self.sheets.append(place)

    def close_modal(self) -> None:
        self.sheets.clear()

    def send_to_gate(self, gate: Place, via: str) -> None:
        self._leave_menu()
        if via == "replace" or self.visible.screen == "Splash":
            self.outside[-1] = gate
        else:
            self.gate_over_inside = self.gate_over_inside or not self.outside
            self.outside.append(gate)

    def land(self, place: Place, cold: bool) -> str:
        """A link lands, by the rules for links that start the app and for others.

        Returns the move by which the app's code did it; `link` where no other word tells it.
        """
        self.sheets = []
        tab = TAB_OF.get(place.screen)
        if tab is None:
            if cold:
                self.outside = [place]
            else:
                self.stack.append(place)
            return "push"
        self.outside, self.gate_over_inside = [], False
        rule = self.rules.link_cold if cold else self.rules.link_warm
        kept = self.tabs.get(tab, []) if rule == "over" else []
        if self.rules.tabs == "reset" and tab != self.selected:
            kept = []
        if not kept and rule == "over":
            rule = self.rules.link_cold
        self._select(tab)
        self.tabs[tab] = landed(kept, tab, place, rule)
        if cold:
            return "reset"
        if self.rules.link_warm != "over":
            return "link"
        return "pop_to" if any(entry.screen == place.screen for entry in kept) else "push"

    def _enter(self, tab: str, place: Place, left: list[Place]) -> None:
        if self.rules.outside == "kept" and not self.gate_over_inside:
            self.under = left
        self.outside, self.gate_over_inside = [], False
        self._select(tab)
        root = place.screen == TABS[tab]
        self.tabs[tab] = [place] if root else [*self.tabs[tab], place]


def landed(kept: list[Place], tab: str, place: Place, rule: str) -> list[Place]:
    """The tab's stack after a link has landed on a place in it."""
    if rule == "alone" or (rule == "parents" and place.screen == TABS[tab]):
        return [place]
    if rule == "parents":
        return [Place(TABS[tab]), place]
    screens = [entry.screen for entry in kept]
    if place.screen in screens:
        kept = kept[: len(screens) - screens[::-1].index(place.screen) - 1]
    return [*kept, place]


@dataclass
class SharedPhone(Phone):
    """An app with one stack for all, as a browser has. Each place bears the tab it counts to."""

    one: list[tuple[Place, str | None]] = field(default_factory=list)

    @property
    def region(self) -> str:
        if self.sheets:
            return "sheet"
        return "tab" if self.one[-1][1] else "outside"

    @property
    def tab(self) -> str | None:
        return None if self.sheets else self.one[-1][1]

    @property
    def page(self) -> list[Place]:
        return [place for place, _ in self.one]

    def below(self) -> Place | None:
        if len(self.stack) > 1:
            return self.stack[-2]
        return self.page[-1] if self.sheets else None

    def _tab_for(self, place: Place, onto: str | None) -> str | None:
        outside = place.screen in OUTSIDE
        return None if outside else TAB_OF.get(place.screen, onto)

    def _put(self, place: Place) -> None:
        onto = self.one[-1][1] if self.one else None
        self.one.append((place, self._tab_for(place, onto)))
        self.selected = self.one[-1][1] or self.selected

    def _clear_outside(self, place: Place) -> bool:
        """Going inside clears the screens outside; whether it did."""
        cleared = self.region == "outside" and place.screen in TAB_OF
        if not cleared or self.rules.outside == "kept":
            return False
        while self.one and self.one[-1][1] is None:
            self.one.pop()
        return True

    def push(self, place: Place) -> None:
        self._leave_menu()
        if self.sheets:
            self.sheets.append(place)
        elif self.visible.screen == "Splash":
            self.replace(place)
        else:
            self._clear_outside(place)
            self._put(place)

    def pop(self) -> None:
        (self.sheets or self.one).pop()
        self.selected = self.one[-1][1] or self.selected

    def pop_to_root(self) -> int:
        self._leave_menu()
        stack: list[Any] = self.sheets or self.one
        taken = len(stack) - 1
        del stack[1:]
        self.selected = self.one[-1][1] or self.selected
        return taken

    def replace(self, place: Place) -> None:
        self._leave_menu()
        if self.sheets:
            self.sheets[-1] = place
        else:
            if not self._clear_outside(place):
                _, tab = self.one.pop()
                if tab in SEVERAL.get(place.screen, ()):
                    self.one.append((place, tab))
                    return
                if place.screen not in TAB_OF and place.screen not in OUTSIDE and tab:
                    self.one.append((place, self.one[-1][1] or tab if self.one else tab))
                    return
            self._put(place)

    def update(self, place: Place) -> None:
        if self.sheets:
            self.sheets[-1] = place
        else:
            self.one[-1] = (place, self.one[-1][1])

    def reset(self, place: Place) -> None:
        self.sheets, self.one = [], []
        self._put(place)

    def switch_tab(self, tab: str) -> bool:
        before, again = self.truth(), tab == self.one[-1][1]
        self.sheets = []
        if not again:
            self._put(Place(TABS[tab]))
        elif self.rules.reselect == "to_root":
            while len(self.one) > 1 and self.one[-2][1] == tab:
                self.one.pop()
        return self.truth() != before

    def send_to_gate(self, gate: Place, via: str) -> None:
        self._leave_menu()
        if via == "replace" or self.visible.screen == "Splash":
            self.one.pop()
        self._put(gate)

    def land(self, place: Place, cold: bool) -> str:
        self.sheets = []
        tab = TAB_OF.get(place.screen)
        if tab is None:
            self.one = [] if cold else self.one
            self._put(place)
            return "push"
        rule = self.rules.link_cold if cold else self.rules.link_warm
        if rule == "over":
            self._clear_outside(place)
            screens = [entry.screen for entry, _ in self.one]
            if place.screen in screens:
                at = len(screens) - screens[::-1].index(place.screen) - 1
                self.one = [*self.one[:at], (place, self.one[at][1])]
            elif self.one:
                self._put(place)
            else:
                self.one = [(entry, tab) for entry in landed([], tab, place, "parents")]
        else:
            self.one = [(entry, tab) for entry in landed([], tab, place, rule)]
        self.selected = tab
        return "link"
