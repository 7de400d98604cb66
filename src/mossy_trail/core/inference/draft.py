"""Drafting an app map from a log alone: each guess with its reason, and whether it is sure."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from mossy_trail.core.inference.history import find_history
from mossy_trail.core.model.app_map import AppMap, plain_name
from mossy_trail.core.model.log import EVENT, NONE, SECOND, Column, Log, merge, recode
from mossy_trail.core.model.properties import members
from mossy_trail.core.replay.sessions import cut_sessions

_IDLE = 30 * 60 * SECOND
_MOST, _NEARLY_ALL, _SOME = 0.5, 0.9, 0.15
_SHORT = 5 * SECOND
"""A splash is left sooner than this, mostly."""
_FEW = 20
"""Fewer visits than this tell little."""
_SIGN_IN_SHARE = 0.1

_NAMES = {
    "splash": r"splash|launch|loading",
    "recovery": r"forgot|recover|reset.?(pin|pass)",
    "sign_up": r"sign.?up|register|create.?account",
    "sign_in": r"sign.?in|log.?in|otp|code.?entry|enter.?code",
    "not_found": r"not.?found|404",
    "error": r"error|failure|offline",
    "menu": r"side.?menu|drawer",
    "sheet": r"sheet|modal|dialog|popup",
    "onboarding": r"welcome|onboard|intro|tutorial|walkthrough|permission",
}
_ID = re.compile(r"^(-?\d+|[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}|(?=\w*\d)[\w-]{6,})$", re.I)


@dataclass(frozen=True)
class Guess:
    """A value of the drafted map: where it stands, why it was chosen, and whether that is sure."""

    where: str
    value: str
    why: str
    sure: bool


@dataclass
class Draft:
    """A map's document, as its file has it, and the guesses that it is made of."""

    document: dict[str, Any]
    guesses: list[Guess] = field(default_factory=list)


def draft(logs: Sequence[Log]) -> Draft:
    """Draft the app map of a log: aliases, roles, tabs and their screens, links, params.

    `logs` are parts with the same dictionaries, each sorted by user and time. Times and shares are
    counted over all their rows. What the log does not tell is left out, or said to be unsure.
    """
    made = Draft({"mossy_map": 1, "screens": []})
    if not logs:
        return made
    seen = _Seen(merge(logs))
    names = _name_screens(seen, made)
    tabs = _find_tabs(seen, names, made)
    roles = _find_roles(seen, names, tabs, made)
    for name in names:
        made.document["screens"].append(_screen(seen, name, roles, tabs, made))
    listed = [{"name": tab, "root": root} for tab, root in tabs.roots.items()]
    listed += [{"name": f, "kind": "filter", "on": on} for f, (on, _) in seen.filters.items()]
    if listed:
        made.document["tabs"] = listed
    for name, (on, share) in seen.filters.items():
        why = f"chosen while {on} is shown already, {_of(share)} times"
        made.guesses.append(Guess(f"tabs.{name}.on", on, why, share >= _NEARLY_ALL))
    if links := _find_links(seen, made):
        made.document["links"] = links
    chain = [name for name in seen.in_order(names) if roles.get(name) == "onboarding"]
    if chain:
        made.document["funnels"] = {"onboarding": chain}
    _find_history(logs, made)
    return made


def _find_history(logs: Sequence[Log], made: Draft) -> None:
    """The history rules, as far as the log tells them under what is drafted so far."""
    found = find_history(logs, AppMap.from_dict(made.document))
    told = {rule: setting for rule, setting in found.history.items() if found.told[rule]}
    if told:
        made.document["history"] = told
    for rule, setting in told.items():
        other = min(f.misfits for f in found.fits if f.rule == rule and f.setting != setting)
        why = f"under any other setting at least {other:,} moves would not fit"
        if not found.moves:
            why = "it makes the views by far the likeliest"
        elif (rule, setting) in _BY_NO_WAY_BACK:
            why = "nobody goes back from where links land"
        made.guesses.append(Guess(f"history.{rule}", setting, why, True))
    for link in made.document.get("links", ()):
        if under := found.links.get(link["pattern"]):
            link["under"] = under
            why = "it lets the fewest later moves land elsewhere, or nobody goes back from there"
            made.guesses.append(Guess(f"links.{link['pattern']}.under", under, why, True))


_BY_NO_WAY_BACK = (("link_cold", "alone"), ("link_warm", "alone"))


class _Seen:
    """The rows of a log as a draft needs them: its views, and what came before and after each."""

    def __init__(self, log: Log) -> None:
        columns = log.columns
        self.log = log
        self.event, self.time = columns["event"], columns["time"]
        self.journey = cut_sessions(log, _IDLE)
        self.canonical = _canonical(log, columns["screen"])
        self.screen = self._named(columns["screen"])
        self.codes = {name: code for code, name in enumerate(log.terms["screen"])}
        self.views = np.flatnonzero((self.event == EVENT["screen_view"]) & (self.screen != NONE))
        if not len(self.views):
            self.views = np.flatnonzero(self.screen != NONE)
        self.shown = self.screen[self.views]
        own = self.journey[self.views]
        on = np.append(own[1:] == own[:-1], False)[: len(own)]
        stays = np.append(np.diff(self.time[self.views]), 0)[: len(own)]
        self.stay = np.where(on, stays, -1)
        self.filters, self.switches = self._filters_and_switches()
        user_first = np.unique(columns["user"], return_index=True)[1]
        self.first_journeys = self.journey[user_first]

    def _filters_and_switches(self) -> tuple[dict[str, tuple[str, float]], Column]:
        """Words that are chosen where their screen is shown already, nearly always, with that
        screen and how often it is that one; and the rows that switch tabs."""
        rows = self.rows_of("switch_tab")
        words, found = self.log.columns["tab"][rows], {}
        stays = (self.screen[rows] != NONE) & (self.screen[rows] == self.last_view(rows))
        for word in np.unique(words[words != NONE]).tolist():
            own = words == word
            if own.sum() >= _FEW and stays[own].mean() >= _NEARLY_ALL:
                (screen, times), *_ = Counter(self.screen[rows[own]].tolist()).most_common(1)
                found[self.log.terms["word"][word]] = self.name(screen), times / own.sum()
        codes = [self.log.terms["word"].index(word) for word in found]
        return found, rows[~np.isin(words, codes)]

    def _named(self, codes: Column) -> Column:
        return recode(codes, self.canonical)

    def name(self, code: int) -> str:
        return self.log.terms["screen"][code]

    def code(self, name: str) -> int:
        return self.codes[name]

    def views_of(self, name: str) -> Column:
        """Positions in `views` of this screen."""
        return np.flatnonzero(self.shown == self.code(name))

    def next_view(self, rows: Column) -> Column:
        """The screen of the next view after each row in its session, or −1."""
        if not len(self.views):
            return np.full(len(rows), NONE)
        at = np.searchsorted(self.views, rows, side="right")
        inside = at < len(self.views)
        at = np.minimum(at, len(self.views) - 1)
        same = inside & (self.journey[self.views[at]] == self.journey[rows])
        return np.where(same, self.shown[at], NONE)

    def last_view(self, rows: Column) -> Column:
        """The screen of the last view before each row in its session, or −1."""
        if not len(self.views):
            return np.full(len(rows), NONE)
        at = np.searchsorted(self.views, rows) - 1
        same = (at >= 0) & (self.journey[self.views[at]] == self.journey[rows])
        return np.where(same, self.shown[at], NONE)

    def rows_of(self, event: str) -> Column:
        return np.flatnonzero(self.event == EVENT[event])

    def in_order(self, names: Iterable[str]) -> list[str]:
        """These screens by how early in a session they come, in the middle."""
        begun = np.searchsorted(self.journey[self.views], self.journey[self.views])
        place = np.arange(len(self.views)) - begun
        middle = {name: float(np.median(place[self.views_of(name)])) for name in names}
        return sorted(middle, key=lambda name: middle[name])


def _canonical(log: Log, screen: Column) -> Column:
    """Per logged name, the most common one that differs in case and spaces alone."""
    names = log.terms["screen"]
    uses = np.bincount(screen[screen != NONE], minlength=len(names))
    best: dict[str, int] = {}
    for code, name in enumerate(names):
        key = plain_name(name)
        if key not in best or (uses[code], name) > (uses[best[key]], names[best[key]]):
            best[key] = code
    return np.array([best[plain_name(name)] for name in names], "int32")


def _name_screens(seen: _Seen, made: Draft) -> list[str]:
    """The screens that were shown, by their most common names, most visited first."""
    counts = Counter(seen.shown.tolist())
    return [seen.name(code) for code, _ in counts.most_common()]


@dataclass(frozen=True)
class _Tabs:
    roots: dict[str, str]
    of_screen: dict[str, dict[str, float]]
    """Per screen the share of its views in each tab; "" for none."""
    told: bool


def _find_tabs(seen: _Seen, names: Sequence[str], made: Draft) -> _Tabs:
    """Tabs from the tab column and from rows that switch between them."""
    tab = _tab_of_views(seen)
    words = seen.log.terms["word"]
    of_screen: dict[str, dict[str, float]] = {}
    for name in names:
        counts = Counter(tab[seen.views_of(name)].tolist())
        total = sum(counts.values())
        of_screen[name] = {words[t] if t != NONE else "": n / total for t, n in counts.items()}
    switched = seen.switches
    rows = np.concatenate([switched, seen.views[tab != NONE]])
    landed = np.concatenate([seen.next_view(switched), seen.shown[tab != NONE]])
    word = np.concatenate([seen.log.columns["tab"][switched], tab[tab != NONE]])
    roots: dict[str, str] = {}
    for code, _ in Counter(word[word != NONE].tolist()).most_common():
        at_home = [n for n in names if of_screen[n].get(words[code], 0.0) > _MOST]
        own = (word == code) & np.isin(landed, [seen.code(name) for name in at_home])
        first = np.unique(seen.journey[rows[own]], return_index=True)[1]
        landings = Counter(landed[own][first].tolist()).most_common(1)
        if landings:
            screen, times = landings[0]
            share = times / len(first)
            why = f"where {words[code]} shows first in {_of(share)} sessions"
            roots[words[code]] = seen.name(screen)
            sure = share >= _MOST and len(first) >= _FEW
            made.guesses.append(Guess(f"tabs.{words[code]}.root", seen.name(screen), why, sure))
    return _Tabs(roots, of_screen, bool(roots))


def _tab_of_views(seen: _Seen) -> Column:
    """The tab reported with each view; else the one that was switched to last in the session."""
    reported = seen.log.columns["tab"][seen.views]
    if (reported != NONE).any():
        return np.asarray(reported)
    switched = seen.switches
    at = np.searchsorted(switched, seen.views) - 1
    if not len(switched):
        return np.asarray(reported)
    same = (at >= 0) & (seen.journey[switched[at]] == seen.journey[seen.views])
    return np.where(same, seen.log.columns["tab"][switched[at]], NONE)


def _find_roles(seen: _Seen, names: Sequence[str], tabs: _Tabs, made: Draft) -> dict[str, str]:
    """Roles other than content, by position, dwell, what rows say, and names."""
    roles: dict[str, str] = {}
    behaviour = {
        **_first_session_screens(seen, names, tabs),
        **_sheets(seen, names),
        **_where_accounts_happen(seen),
        **_splash(seen),
    }
    for name in names:
        called = next((role for role, words in _NAMES.items() if re.search(words, name, re.I)), "")
        role, why, sure = behaviour.get(name, ("", "", False))
        in_tabs = 1 - tabs.of_screen[name].get("", 0.0)
        if called and called != role and not (role and sure):
            if called not in ("sheet", "menu", "not_found") and in_tabs > _MOST and tabs.told:
                continue
            role, why, sure = called, "its name", called == "not_found"
        elif called == role and role:
            why, sure = f"{why}, and its name", True
        if role:
            roles[name] = role
            made.guesses.append(Guess(f"screens.{name}.role", role, why, sure))
    return roles


def _splash(seen: _Seen) -> dict[str, tuple[str, str, bool]]:
    starts = seen.rows_of("app_start")
    if not len(starts):
        return {}
    first = seen.next_view(starts)
    found = Counter(first[first != NONE].tolist()).most_common(1)
    if not found:
        return {}
    code, times = found[0]
    stays = seen.stay[(seen.shown == code) & (seen.stay >= 0)]
    short = len(stays) > 0 and float(np.median(stays)) < _SHORT
    if times / len(starts) < _MOST or not short:
        return {}
    why = f"first after {_of(times / len(starts))} app starts, and left soon"
    return {seen.name(code): ("splash", why, len(starts) >= _FEW)}


def _where_accounts_happen(seen: _Seen) -> dict[str, tuple[str, str, bool]]:
    found: dict[str, tuple[str, str, bool]] = {}
    for event in ("sign_up", "sign_in"):
        before = seen.last_view(seen.rows_of(event))
        counts = Counter(before[before != NONE].tolist())
        total = sum(counts.values())
        for code, times in counts.items():
            name = seen.name(code)
            of_views = times / max(1, int((seen.shown == code).sum()))
            if times / total >= _SIGN_IN_SHARE and of_views >= _SIGN_IN_SHARE:
                why = f"{_of(times / total)} {event} rows come from there"
                found.setdefault(name, (event, why, times >= _FEW))
    return found


def _sheets(seen: _Seen, names: Sequence[str]) -> dict[str, tuple[str, str, bool]]:
    opened = seen.rows_of("open_modal")
    target = seen.screen[opened]
    target = np.where(target == NONE, seen.next_view(opened), target)
    found = {}
    for code, times in Counter(target[target != NONE].tolist()).items():
        share = times / max(1, int((seen.shown == code).sum()))
        if share >= _MOST / 2:
            why = f"opened by open_modal, {times:,} times"
            found[seen.name(code)] = ("sheet", why, times >= _FEW)
    return found


def _first_session_screens(
    seen: _Seen, names: Sequence[str], tabs: _Tabs
) -> dict[str, tuple[str, str, bool]]:
    """Screens outside the tabs that people see in their first sessions alone."""
    found = {}
    in_first = np.isin(seen.journey[seen.views], seen.first_journeys)
    if not len(in_first) or in_first.all() or not tabs.told:
        return {}
    for name in names:
        own = seen.views_of(name)
        share = float(in_first[own].mean())
        if tabs.of_screen[name].get("", 0.0) >= _NEARLY_ALL and share >= 0.8:
            why = f"{_of(share)} views are in a first session, outside the tabs"
            found[name] = ("onboarding", why, len(own) >= _FEW)
    return found


def _screen(
    seen: _Seen, name: str, roles: dict[str, str], tabs: _Tabs, made: Draft
) -> dict[str, Any]:
    entry: dict[str, Any] = {"name": name}
    terms = seen.log.terms
    if role := roles.get(name):
        entry["role"] = role
    elif name not in tabs.roots.values() and tabs.told:
        entry |= _home(seen, name, tabs, made)
    code = seen.code(name)
    aliases = [terms["screen"][c] for c in np.flatnonzero(seen.canonical == code) if c != code]
    if aliases:
        entry["aliases"] = sorted(aliases)
        why = "the same but for case, spaces and dashes"
        made.guesses.append(Guess(f"screens.{name}.aliases", ", ".join(sorted(aliases)), why, True))
    if params := _params(seen, name):
        entry["params"] = params
    return entry


def _home(seen: _Seen, name: str, tabs: _Tabs, made: Draft) -> dict[str, Any]:
    shares = {tab: s for tab, s in tabs.of_screen[name].items() if tab in tabs.roots}
    inside = sum(shares.values())
    if inside < _MOST:
        return {}
    best = max(shares, key=lambda tab: shares[tab])
    share, visits = shares[best] / inside, len(seen.views_of(name))
    several = sorted(tab for tab, s in shares.items() if s / inside >= _SOME)
    alone = len(several) == 1
    sure = visits >= _FEW and (share >= _NEARLY_ALL or not alone)
    value = best if alone else ", ".join(several)
    why = f"{_of(share)} views in tabs are in {best}"
    made.guesses.append(Guess(f"screens.{name}.tab", value, why, sure))
    return {"tab": best} if alone else {"tabs": several}


def _params(seen: _Seen, name: str) -> list[str]:
    codes = np.unique(seen.log.columns["params"][seen.views[seen.views_of(name)]])
    keys: Counter[str] = Counter()
    for code in codes[codes != NONE][:200]:
        keys.update(members(seen.log.terms["params"][code]))
    return sorted(keys)


def _find_links(seen: _Seen, made: Draft) -> list[dict[str, str]]:
    """Links with the ids in them as variables, and the screens that mostly follow them."""
    opened = seen.rows_of("open_link")
    uris, landed = seen.log.columns["uri"][opened], seen.next_view(opened)
    roles = {entry["name"]: entry.get("role", "") for entry in made.document["screens"]}
    skip = {name for name, role in roles.items() if role in ("splash", "sign_in")}
    by_pattern: defaultdict[str, Counter[str]] = defaultdict(Counter)
    rows = zip(opened.tolist(), uris.tolist(), landed.tolist(), strict=True)
    for row, uri, screen in rows:
        if uri == NONE or screen == NONE:
            continue
        name = seen.name(screen)
        if name in skip:
            name = _after(seen, row, skip)
        if name:
            by_pattern[_pattern(seen.log.terms["uri"][uri])][name] += 1
    links = []
    for pattern, screens in by_pattern.items():
        screen_name, times = screens.most_common(1)[0]
        total = screens.total()
        if times / total < _MOST or roles[screen_name] == "not_found":
            continue
        links.append({"pattern": pattern, "screen": screen_name})
        why = f"{_of(times / total)} of its {total:,} openings lead there"
        made.guesses.append(Guess(f"links.{pattern}", screen_name, why, total >= _FEW))
    return sorted(links, key=lambda link: link["pattern"])


def _after(seen: _Seen, row: int, skip: set[str]) -> str:
    """The first screen shown after a row in its session that is none of these, or ""."""
    at = int(np.searchsorted(seen.views, row, side="right"))
    for position in range(at, min(at + 3, len(seen.views))):
        if seen.journey[seen.views[position]] != seen.journey[row]:
            break
        if (name := seen.name(seen.shown[position])) not in skip:
            return name
    return ""


def _pattern(uri: str) -> str:
    """The link with the ids in its path as variables, named by the word before them."""
    head, scheme, rest = uri.partition("://")
    parts = rest.split("?")[0].split("/")
    for i, part in enumerate(parts):
        if i and _ID.match(part):
            before = re.sub(r"\W", "", parts[i - 1])
            parts[i] = "{" + (before if before and not before[0].isdigit() else f"id{i}") + "}"
    return head + scheme + "/".join(parts)


def _of(share: float) -> str:
    return f"{min(round(share * 100), 100)} of 100"
