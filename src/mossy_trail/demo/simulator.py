"""A seeded simulator of Skerry Crossings: people walk real stacks, and the log is what they leave.

Nothing is drawn from final percentages. Beside the log it writes the truth: what was on the
screen at every step, and what the sign-in figures must be.
"""

from __future__ import annotations

import csv
import heapq
import json
import random
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import quantiles
from typing import Any

from mossy_trail.demo.phone import MENU, TABS, Params, Phone, Place, Rules, new_phone

FIELDS = (
    *"time user session event screen from tab uri source outcome params count via".split(),
    *"version platform crew".split(),
)
ROWS = 300_000
"""Of the log that the server begins with."""
TRUTH = "user session step time screen params move tab region depth below below_params".split()

FIRST_DAY = datetime(2026, 5, 4, tzinfo=UTC)
DAYS = 28
VERSIONS = ("3.0", "3.1", "3.2")
GATED = {"PassWallet", "PassDetail", "BuyPass", "MeHome"}
SIGN_IN_SCREENS = {"SignIn", "CodeEntry"}
ONBOARDING = ("Welcome", "HomePier", "Alerts", "StepFree")
CODE_FAILS = 0.18
README = """\
# Skerry Crossings, simulated

People walked real stacks of a made-up island ferry app. `skerry.csv` and `skerry.jsonl` are the
same log; `skerry-noisy` beside it is the same with the noise of real ones. `truth.csv` has every
step as it truly was, `figures.json` the true figures, these also by version and platform:
"""
PLANTED = {
    "starts": "cold starts",
    "splash_left": "left on the splash, most in 3.2 on android, where it is slow",
    "onboarding_begun": "onboarding begun",
    **{f"onboarding_left_at_{name}": f"onboarding left at {name}" for name in ONBOARDING[:-1]},
    "onboarding_back": "steps back in onboarding",
    "onboarding_skipped": "onboarding skipped",
    "onboarding_finished": "onboarding finished",
    "onboarding_finished_later": "of these, not in the first session",
    "codes_tried": "codes tried at sign-in",
    "codes_failed": "of these, failed",
    "links_gated": "links that a gate sent to sign-in",
    "links_landed": "links that landed",
    "placeholder_links": "of these, with a sailing that was never filled in (-1)",
    "not_found_links": "of these, not found, as the path is in the wrong case",
    "wrong_tabs": "links to BuyPass, after which the app reports a wrong tab",
    "gate_loops": "loops between SignIn and PassWallet, by an expired token in 3.1",
    "gate_loop_steps": "steps in these that come back to where they were sent from",
    "piled_receipts": "ways back from Receipt that piled up a new PassWallet",
    "filter_uses": "times that passes were filtered, which is no move",
    "rate_sheet_ends": "sessions that ended on RateSheet, which has no way out on ios",
}
"""What the demo was made to show, in words."""


@dataclass
class SignIn:
    """What became of sign-in in one session, noted while it happened. Times in ms."""

    met: int | None = None
    tried: int | None = None
    into: int | None = None
    restored: bool = False
    way: str = "ended"

    @property
    def stage(self) -> int:
        return 3 if self.into else 2 if self.tried else 1 if self.met else 0


@dataclass(frozen=True)
class Habits:
    """What else an app may do, and how it may log: as not all of them do."""

    answers: bool = False
    """A link is logged twice: as opened, and by the move with which the app's code answered it."""
    named_starts: bool = False
    """Rows of `app_start` name the screen that they show."""
    crossing: bool = False
    """Screens lead on to those of other tabs."""
    menu: bool = False
    """There is a drawer, which lies over any screen inside."""
    flawed: bool = True
    """It has the faults that the demo was made to show; else it is alike everywhere."""


@dataclass
class Person:
    name: str
    version: str
    platform: str
    crew: bool
    sessions: int = 0
    onboarded: bool = False
    signed_in: bool = False
    rules: Rules = field(default_factory=Rules)
    habits: Habits = field(default_factory=Habits)
    phone: Phone | None = None
    open: bool = False
    """The app is still in memory."""


class Left(Exception):
    """The person put the phone away."""


@dataclass
class Visit:
    """One session of one person: every act changes the phone and writes its rows."""

    person: Person
    session: str
    clock: int
    dice: random.Random
    rows: list[dict[str, Any]] = field(default_factory=list)
    truth: list[dict[str, Any]] = field(default_factory=list)
    sign_in: SignIn = field(default_factory=SignIn)
    planted: Counter[str] = field(default_factory=Counter)
    """What happened that the demo was made to show, by the names in `PLANTED`."""
    misreported: str | None = None
    """The tab that the app will wrongly report with the next view."""

    @property
    def phone(self) -> Phone:
        assert self.person.phone
        return self.person.phone

    def walk(self, gap_hours: float) -> None:
        try:
            self._open(gap_hours)
            for _ in range(1 + int(self.dice.expovariate(1 / 11))):
                self._act()
        except Left:
            pass
        self._put_away()

    # Rows and truth.

    def row(self, event: str, **values: Any) -> None:
        person = self.person
        self.rows.append(
            {
                "time": self.clock,
                "user": person.name,
                "session": self.session,
                "event": event,
                "version": person.version,
                "platform": person.platform,
                "crew": "yes" if person.crew else "no",
                **{key.rstrip("_"): value for key, value in values.items() if value is not None},
            }
        )

    def wait(self, milliseconds: float) -> None:
        self.clock += max(1, int(milliseconds))

    def dwell(self) -> None:
        self.wait(min(self.dice.lognormvariate(8.2, 1.0), 600_000))

    def load(self) -> None:
        self.wait(60 + self.dice.lognormvariate(5.2, 0.6) % 1500)

    def shown(self, move: str) -> None:
        """The visible screen's view row, and the truth of the step."""
        truth = self.phone.truth()
        self.row(
            "screen_view",
            screen=truth["screen"],
            params=truth["params"],
            tab=self.misreported or (self.phone.selected if truth["region"] != "outside" else None),
        )
        self.misreported = None
        self._note_sign_in(truth["screen"], move)
        self.truth.append(
            {
                "user": self.person.name,
                "session": self.session,
                "step": len(self.truth) + 1,
                "time": self.clock,
                "move": move,
                **truth,
            }
        )
        if truth["screen"] == "PassWallet" and self.clock % 4 == 0:
            self._filter_passes()

    def _filter_passes(self) -> None:
        """A choice within the screen: a row, but no step."""
        self.wait(700)
        self.row("switch_tab", screen="PassWallet", tab="PassFilter")
        self.planted["filter_uses"] += 1

    def _note_sign_in(self, screen: str, move: str) -> None:
        before = self.truth[-1]["screen"] if self.truth else None
        if screen in SIGN_IN_SCREENS:
            self.sign_in.met = self.sign_in.met or self.clock
            self.sign_in.way = "ended"
        elif before in SIGN_IN_SCREENS:
            detour = {"ForgotPin": "recovery", "SignUp": "sign_up"}.get(screen)
            self.sign_in.way = detour or ("back" if move == "pop" else "elsewhere")

    def moved(self, move: str, left: Place, **values: Any) -> None:
        """The move's row, then after loading the view's."""
        place = self.phone.visible
        self.row(move, screen=place.screen, from_=left.screen, params=place.params, **values)
        self.load()
        self.shown(move)

    # Acts.

    def push(self, screen: str, params: Params = None) -> None:
        left = self.phone.visible
        self.phone.push(Place(screen, params))
        self.moved("push", left)

    def replace(self, screen: str, params: Params = None) -> None:
        left = self.phone.visible
        self.phone.replace(Place(screen, params))
        self.moved("replace", left)

    def reset(self, screen: str) -> None:
        left = self.phone.visible
        self.phone.reset(Place(screen))
        self.moved("reset", left)

    def back(self) -> None:
        if self.phone.below() is None:
            raise Left
        left = self.phone.visible
        if self.phone.region == "sheet" and len(self.phone.sheets) == 1:
            self.phone.close_modal()
            self.moved("close_modal", left)
        else:
            self.phone.pop()
            self.moved("pop", left)

    def choose_tab(self, tab: str) -> None:
        left, phone = self.phone.visible, self.phone
        if tab == "Passes" and tab != phone.tab and self._token_expired():
            self._bounce_at_gate()
        elif tab != phone.tab and self.gate(TABS[tab]):
            self.row("switch_tab", screen=TABS[tab], from_=left.screen, tab=tab)
            self.wait(self.dice.uniform(10, 90))
            self.send_to_sign_in(TABS[tab], None)
        elif phone.switch_tab(tab):
            self.moved("switch_tab", left, tab=tab)
        else:
            self.row("switch_tab", screen=left.screen, tab=tab)

    def gate(self, screen: str) -> bool:
        return screen in GATED and not self.person.signed_in

    def _token_expired(self) -> bool:
        person = self.person
        if not person.habits.flawed:
            return False
        return person.signed_in and person.version == "3.1" and self.dice.random() < 0.08

    def _bounce_at_gate(self) -> None:
        """The wallet sends to sign-in, which sends back, since the person is signed in."""
        wallet, gate = Place("PassWallet"), Place("SignIn")
        self.row("switch_tab", screen=wallet.screen, from_=self.phone.visible.screen, tab="Passes")
        rounds = self.dice.randint(2, 5)
        for _ in range(rounds):
            self.wait(self.dice.uniform(10, 90))
            self.phone.send_to_gate(gate, "push")
            self._redirected(gate.screen, wallet.screen)
            self.wait(self.dice.uniform(10, 90))
            self.phone.push(wallet)
            self._redirected(wallet.screen, gate.screen)
        self.planted["gate_loops"] += 1
        self.planted["gate_loop_steps"] += 2 * rounds - 1
        if self.dice.random() < 0.4:
            raise Left

    def _redirected(self, screen: str, wanted: str, via: str | None = None) -> None:
        self.row("redirect", screen=screen, from_=wanted, via=via)
        self.load()
        self.shown("redirect")

    # Getting in.

    def _open(self, gap_hours: float) -> None:
        person = self.person
        if person.open and gap_hours < 6 and self.dice.random() < 0.5:
            self.row("app_foreground")
            self.wait(self.dice.uniform(20, 120))
            self.shown("start")
            return
        before, person.phone = person.phone, new_phone(person.rules, Place("Splash"))
        self.row("app_start", screen="Splash" if person.habits.named_starts else None)
        person.open = True
        link = self._link() if person.onboarded and self.dice.random() < 0.18 else None
        if link:
            self.wait(self.dice.uniform(5, 40))
            self.row("open_link", uri=link[0], source=link[1])
        self.wait(self.dice.lognormvariate(6.3, 0.4))
        self.shown("start")
        if person.signed_in:
            self.sign_in.restored = True
            self.row("session_restored")
        self._splash()
        if link:
            self._land(link[2], cold=True)
        elif before and person.rules.restart == "restore":
            self._restore(before)
        elif person.onboarded:
            self.replace("SailingsBoard")
        else:
            self._onboard()

    def _splash(self) -> None:
        """On one platform the splash of 3.2 is slow, and some do not wait for its end."""
        person = self.person
        slow = person.habits.flawed and (person.version, person.platform) == ("3.2", "android")
        self.planted["starts"] += 1
        self.wait(self.dice.lognormvariate(8.4 if slow else 6.6, 0.5))
        if self.dice.random() < (0.2 if slow else 0.01):
            self.planted["splash_left"] += 1
            raise Left

    def _restore(self, before: Phone) -> None:
        """The stacks stand again as they were."""
        left = self.phone.visible
        self.person.phone = before
        if before.visible.screen == "Splash":
            self._onboard()
        else:
            self.moved("replace", left)

    def _onboard(self) -> None:
        self.replace("Welcome")
        self.planted["onboarding_begun"] += 1
        position = 0
        while position < len(ONBOARDING) - 1:
            self.dwell()
            chance = self.dice.random()
            alerts = self.person.habits.flawed and ONBOARDING[position] == "Alerts"
            if chance < (0.14 if alerts else 0.04):
                self.planted[f"onboarding_left_at_{ONBOARDING[position]}"] += 1
                raise Left
            if chance > 0.93 and position:
                self.back()
                self.planted["onboarding_back"] += 1
                position -= 1
            elif chance > 0.88 and position:
                self.row("onboarding_skipped")
                self.planted["onboarding_skipped"] += 1
                break
            else:
                position += 1
                self.push(ONBOARDING[position])
        self.dwell()
        self.person.onboarded = True
        self.planted["onboarding_finished"] += 1
        self.planted["onboarding_finished_later"] += self.person.sessions > 1
        self.replace("SailingsBoard")

    def _link(self) -> tuple[str, str, Place]:
        source = self.dice.choice(["notification", "web", "app", "qr"])
        number = str(self.dice.randrange(1, 60))
        flawed = self.person.habits.flawed
        unfilled = flawed and source == "notification" and self.dice.random() < 0.2
        sailing = "-1" if unfilled else number
        if flawed and source == "web" and self.dice.random() < 0.15:
            return f"https://skerry.example/Pier/{number}", source, Place("NotFound")
        return self.dice.choice(
            [
                (
                    f"skerry://sailing/{sailing}",
                    source,
                    Place("SailingDetail", {"sailing": sailing}),
                ),
                (f"skerry://pass/{number}", source, Place("PassDetail", {"pass": number})),
                ("skerry://pass/buy", "shortcut", Place("BuyPass")),
                (
                    f"https://skerry.example/pier/{number}",
                    source,
                    Place("PierDetail", {"pier": number}),
                ),
            ]
        )

    def _land(self, place: Place, cold: bool) -> None:
        if self.gate(place.screen):
            self.planted["links_gated"] += 1
            self.send_to_sign_in(place.screen, place.params, "replace" if cold else "push")
        else:
            self.planted["links_landed"] += 1
            self.planted["placeholder_links"] += place.params == {"sailing": "-1"}
            self.planted["not_found_links"] += place.screen == "NotFound"
            left = self.phone.visible
            answer = self.phone.land(place, cold)
            if self.person.habits.answers and answer != "link":
                told = {"screen": place.screen, "params": place.params, "tab": self.phone.tab}
                self.row(answer, from_=left.screen, **told)
                self.load()
            if place.screen == "BuyPass" and self.person.habits.flawed:
                self.misreported = "Sailings"
                self.planted["wrong_tabs"] += 1
            self.shown("link")

    def send_to_sign_in(self, wanted: str, params: Params, via: str = "push") -> None:
        self.phone.send_to_gate(Place("SignIn"), via)
        self._redirected("SignIn", wanted, None if via == "push" else via)
        if self._sign_in():
            self.dwell()
            self.replace(wanted, params)

    def _sign_in(self) -> bool:
        """Whether the person got in; they are then still on a screen of the way in."""
        while True:
            self.dwell()
            chance = self.dice.random()
            if chance < 0.07:
                raise Left
            if chance < 0.13:
                self._give_up()
                return False
            if chance < 0.18:
                self.push("SignUp")
                return self._sign_up()
            self.push("CodeEntry")
            if self._enter_code():
                return True
            if self.phone.visible.screen not in SIGN_IN_SCREENS:
                return False

    def _give_up(self) -> None:
        if self.phone.below() is None:
            raise Left
        self.back()

    def _sign_up(self) -> bool:
        self.dwell()
        if self.dice.random() < 0.3:
            self.back()
            return self._sign_in()
        self.row("sign_up", outcome="attempt")
        self.wait(self.dice.uniform(300, 1500))
        self.row("sign_up", outcome="ok")
        self.person.signed_in = True
        return True

    def _enter_code(self) -> bool:
        for _ in range(4):
            self.dwell()
            if self.dice.random() < 0.04:
                raise Left
            self.row("sign_in", outcome="attempt")
            self.planted["codes_tried"] += 1
            self.sign_in.tried = self.sign_in.tried or self.clock
            self.wait(self.dice.uniform(200, 1800))
            if self.dice.random() >= (CODE_FAILS if self.person.habits.flawed else 0.04):
                self.row("sign_in", outcome="ok")
                self.sign_in.into = self.sign_in.into or self.clock
                self.person.signed_in = True
                return True
            self.row("sign_in", outcome="failed")
            self.planted["codes_failed"] += 1
            if self.dice.random() < 0.25:
                self._forgot_pin()
        self.dwell()
        self.back()
        return False

    def _forgot_pin(self) -> None:
        self.dwell()
        self.push("ForgotPin")
        self.dwell()
        if self.dice.random() < 0.3:
            raise Left
        self.back()

    # Inside.

    def _act(self) -> None:
        self.dwell()
        if self.phone.region == "outside":
            # Signed out, or back from a gate that stood alone.
            if self.phone.visible.screen in SIGN_IN_SCREENS and self._sign_in():
                self.dwell()
                self.reset("SailingsBoard")
            elif self.phone.visible.screen == "NotFound":
                self.reset("SailingsBoard")
            return
        screen, dice = self.phone.visible.screen, self.dice
        flawed = self.person.habits.flawed
        if screen == "RateSheet" and self.person.platform == "ios" and flawed:
            raise Left
        if self._elsewhere(screen):
            return
        to_and_fro = screen == "SailingDetail" and self.person.version == "3.1" and flawed
        if screen.endswith("Sheet") or (to_and_fro and dice.random() < 0.4):
            self.back()
        elif dice.random() < 0.24:
            self._change_tab()
        elif dice.random() < 0.3 and len(self.phone.stack) > 1:
            self._go_back()
        elif dice.random() < 0.06:
            self._leave_for_a_while()
        else:
            self._go_on(screen)

    def _elsewhere(self, screen: str) -> bool:
        """By the drawer, or straight into another tab, in an app that has such ways."""
        habits, dice, left = self.person.habits, self.dice, self.phone.visible
        if screen == MENU:
            if dice.random() < 0.3:
                self.back()
            elif dice.random() < 0.5:
                self._change_tab()
            else:
                self._cross()
        elif habits.menu and self.phone.region == "tab" and dice.random() < 0.05:
            self.phone.open_modal(Place(MENU))
            self.moved("open_modal", left)
        elif habits.crossing and self.phone.region == "tab" and dice.random() < 0.08:
            self._cross()
        else:
            return False
        return True

    def _cross(self) -> None:
        ways = {"SailingDetail": "sailing", "PassDetail": "pass", "PierDetail": "pier"}
        screen = self.dice.choice(list(ways))
        if not self.gate(screen):
            self.push(screen, {ways[screen]: str(self.dice.randrange(1, 60))})

    def _change_tab(self) -> None:
        tabs = ["Sailings", "Sailings", "Passes", "Harbour", "Me"]
        self.choose_tab(self.dice.choice([*tabs, "Crew", "Crew"] if self.person.crew else tabs))

    def _go_back(self) -> None:
        if len(self.phone.stack) > 2 and self.dice.random() < 0.2:
            left, root = self.phone.visible, self.phone.stack[0]
            # Without a count the log means the nearest such screen, so only a lone one can do.
            alone = [place.screen for place in self.phone.stack].count(root.screen) == 1
            taken = self.phone.pop_to_root()
            silent = alone and self.dice.random() < 0.5
            self.moved("pop_to", left, count=None if silent else taken)
        else:
            self.back()

    def _leave_for_a_while(self) -> None:
        if self.dice.random() < 0.3:
            self.row("app_recreate")
            self.wait(self.dice.uniform(50, 300))
            self._resend()
            return
        self.row("app_background")
        self.wait(self.dice.uniform(5_000, 1_200_000))
        self.row("app_foreground")
        self.wait(self.dice.uniform(10, 80))
        if self.dice.random() < 0.5:
            uri, source, place = self._link()
            self.row("open_link", uri=uri, source=source)
            self.load()
            if place != self.phone.visible:
                self._land(place, cold=False)
        else:
            self._resend()

    def _resend(self) -> None:
        """The app shows the same screen again: a row, but no step."""
        place = self.phone.visible
        tab = self.phone.selected if self.phone.region != "outside" else None
        self.row("screen_view", screen=place.screen, params=place.params, tab=tab)

    def _go_on(self, screen: str) -> None:
        dice, params = self.dice, self.phone.visible.params
        number = str(dice.randrange(1, 60))
        ways: dict[str, list[tuple[str, str, Params]]] = {
            "SailingsBoard": [("push", "SailingDetail", {"sailing": number})] * 24
            + [("modal", "RateSheet", None)],
            "SailingDetail": [
                ("push", "SeatPick", params),
                ("push", "DelayInfo", params),
                ("update", "SailingDetail", {"sailing": number}),
                ("back", "", None),
            ],
            "SeatPick": [("modal", "PaySheet", None), ("back", "", None)],
            "DelayInfo": [("back", "", None)],
            "PassWallet": [("push", "PassDetail", {"pass": number}), ("push", "BuyPass", None)],
            "PassDetail": [("push", "HelpTopic", {"topic": number}), ("back", "", None)],
            "BuyPass": [
                ("modal", "PaySheet", None),
                ("modal", "TermsSheet", None),
                ("replace", "Receipt", {"order": number}),
            ],
            "Receipt": [("push", "PassWallet", None)] if self.person.habits.flawed else [],
            "HarbourMap": [("push", "PierDetail", {"pier": number})],
            "PierDetail": [("push", "ParkingInfo", params), ("back", "", None)],
            "MeHome": [("push", "TripHistory", None), ("push", "Settings", None)],
            "TripHistory": [("push", "Refund", {"trip": number}), ("back", "", None)],
            "Settings": [
                ("push", "NotifySettings", None),
                ("push", "HelpTopic", {"topic": number}),
                ("sign_out", "", None),
            ],
            "RosterBoard": [("push", "ShiftDetail", {"shift": number})],
        }
        act, target, values = dice.choice(ways.get(screen) or [("back", "", None)])
        if act == "modal":
            left = self.phone.visible
            self.phone.open_modal(Place(target))
            self.moved("open_modal", left)
        elif act == "update":
            left = self.phone.visible
            self.phone.update(Place(target, values))
            self.moved("update", left)
        elif act == "sign_out":
            self.row("sign_out")
            self.person.signed_in = False
            self.phone.signed_out = True
            self.wait(self.dice.uniform(20, 200))
            self.reset("SignIn")
        elif act == "back":
            self.back()
        elif act == "replace":
            self.replace(target, values)
        else:
            self.planted["piled_receipts"] += (
                screen == "Receipt" and Place(target) in self.phone.stack
            )
            self.push(target, values)

    def _put_away(self) -> None:
        on_rate_sheet = self.phone.visible.screen == "RateSheet"
        self.planted["rate_sheet_ends"] += on_rate_sheet and self.person.platform == "ios"
        self.dwell()
        chance = self.dice.random()
        if chance < 0.6:
            self.row("app_background")
        elif chance < 0.85:
            self.row("app_exit")
            self.person.open = False


@dataclass
class Demo:
    """Simulated sessions with their rows, in order of time, and the truth of each."""

    visits: list[Visit]

    def only(self, kind: str) -> Demo:
        """The same with rows of `views` alone, or without any (`moves`)."""
        wanted = kind == "views"
        kept = [
            replace(visit, rows=[r for r in visit.rows if (r["event"] == "screen_view") == wanted])
            for visit in self.visits
        ]
        return Demo(kept)

    @property
    def rows(self) -> Iterator[dict[str, Any]]:
        return heapq.merge(*(visit.rows for visit in self.visits), key=lambda row: row["time"])

    def figures(self) -> dict[str, Any]:
        """The sign-in figures as they truly are, by sessions and by users."""
        by_user: dict[str, SignIn] = {}
        for visit in self.visits:
            best = by_user.get(visit.person.name)
            if best is None or visit.sign_in.stage >= best.stage:
                by_user[visit.person.name] = visit.sign_in
        return {
            "sessions": _figures([visit.sign_in for visit in self.visits]),
            "users": _figures(list(by_user.values())),
            "planted": self.planted(),
        }

    def planted(self) -> dict[str, dict[str, int]]:
        """How often each planted thing happened: in all, and by version and platform."""
        found: dict[str, Counter[str]] = {name: Counter(all=0) for name in PLANTED}
        for visit in self.visits:
            group = f"{visit.person.version} {visit.person.platform}"
            for name, count in visit.planted.items():
                found[name].update({"all": count, group: count})
        return {name: dict(sorted(counts.items())) for name, counts in found.items()}


def _figures(sign_ins: list[SignIn]) -> dict[str, Any]:
    ways: dict[str, dict[str, int]] = {"met": {}, "tried": {}}
    for sign_in in sign_ins:
        if sign_in.stage in (1, 2):
            lost = ways["met" if sign_in.stage == 1 else "tried"]
            lost[sign_in.way] = lost.get(sign_in.way, 0) + 1
    to_try = [s.tried - s.met for s in sign_ins if s.tried and s.met]
    to_in = [s.into - s.tried for s in sign_ins if s.into and s.tried]
    return {
        "all": len(sign_ins),
        "met": sum(s.stage >= 1 for s in sign_ins),
        "tried": sum(s.stage >= 2 for s in sign_ins),
        "in": sum(s.stage >= 3 for s in sign_ins),
        "restored": sum(s.restored and s.stage == 0 for s in sign_ins),
        "lost": ways,
        "met_to_tried_ms": _quartiles(to_try),
        "tried_to_in_ms": _quartiles(to_in),
    }


def _quartiles(values: list[int]) -> list[float]:
    if len(values) < 2:
        return [float(value) for value in values] * 3
    return quantiles(values, n=4, method="inclusive")


def simulate(
    rows: int, seed: int, rules: Rules | None = None, habits: Habits | None = None
) -> Demo:
    """Whole people until there are at least this many rows. The same seed gives the same log."""
    visits: list[Visit] = []
    written = number = 0
    while written < rows:
        dice = random.Random(f"{seed}/{number}")
        number += 1
        name = f"u-{seed}-{number:05}"
        for visit in _life(name, dice, rules or Rules(), habits or Habits()):
            visits.append(visit)
            written += len(visit.rows)
    visits.sort(key=lambda visit: (visit.rows[0]["time"], visit.session))
    return Demo(visits)


def _life(name: str, dice: random.Random, rules: Rules, habits: Habits) -> Iterator[Visit]:
    """A person's sessions over the four weeks."""
    person = Person(
        name, dice.choice(VERSIONS), dice.choice(["android", "ios"]), dice.random() < 0.05
    )
    person.rules, person.habits = rules, habits
    day = dice.uniform(0, DAYS - 1)
    gap = 1000.0
    while day < DAYS:
        start = FIRST_DAY + timedelta(days=day)
        person.sessions += 1
        visit = Visit(person, f"{name}.{person.sessions}", int(start.timestamp() * 1000), dice)
        visit.walk(gap)
        yield visit
        if dice.random() < 0.35:
            return  # did not come back
        gap = min(1.2 + dice.expovariate(1 / 60), 400)
        day = (visit.clock / 1000 - FIRST_DAY.timestamp()) / 86400 + gap / 24


def write(demo: Demo, folder: Path) -> list[Path]:
    """The log as CSV and as JSON Lines, and beside them the truth, told in a README."""
    folder.mkdir(parents=True, exist_ok=True)
    names = ("skerry.csv", "skerry.jsonl", "truth.csv", "figures.json", "README.md")
    paths = [folder / name for name in names]
    rows = list(demo.rows)
    write_csv(rows, paths[0])
    write_json_lines(rows, paths[1])
    with paths[2].open("w", newline="") as truth_file:
        writer = csv.DictWriter(truth_file, TRUTH, lineterminator="\n")
        writer.writeheader()
        for visit in demo.visits:
            writer.writerows(_flat(step) for step in visit.truth)
    figures = demo.figures()
    paths[3].write_text(json.dumps(figures, indent=2) + "\n")
    told = "\n".join(f"- {PLANTED[name]}: {n['all']:,}" for name, n in figures["planted"].items())
    paths[4].write_text(f"{README}\n{told}\n")
    return paths


def write_csv(rows: Iterable[dict[str, Any]], path: Path) -> None:
    with path.open("w", newline="") as file:
        writer = csv.DictWriter(file, FIELDS, lineterminator="\n")
        writer.writeheader()
        writer.writerows(_flat(_timed(row)) for row in rows)


def write_json_lines(rows: Iterable[dict[str, Any]], path: Path) -> None:
    with path.open("w") as file:
        file.writelines(json.dumps(_timed(row)) + "\n" for row in rows)


def _timed(row: dict[str, Any]) -> dict[str, Any]:
    time = row["time"]
    return {**row, "time": _rfc3339(time)} if isinstance(time, int) else row


def _flat(row: dict[str, Any]) -> dict[str, Any]:
    return {k: json.dumps(v) if isinstance(v, dict) else v for k, v in row.items()}


def _rfc3339(milliseconds: int) -> str:
    moment = datetime.fromtimestamp(milliseconds / 1000, UTC)
    return moment.isoformat(timespec="milliseconds").replace("+00:00", "Z")
