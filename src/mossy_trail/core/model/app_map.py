"""The app map: what is known of the app under study, and the resolving of logged names by it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields
from functools import cached_property
from json.encoder import encode_basestring
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import NONE

ROLES = (
    "content",
    "splash",
    "onboarding",
    "sign_in",
    "sign_up",
    "recovery",
    "sheet",
    "menu",
    "error",
    "not_found",
)
ROLE = {word: code for code, word in enumerate(ROLES)}
OUTSIDE_ROLES = ("splash", "onboarding", "sign_in", "sign_up", "recovery")

SEVERAL = -2
"""The home tab of a screen that lives in several tabs: whichever it was opened from."""

HISTORY = {
    "tabs": ("keep", "reset", "shared"),
    "root_back": ("exit", "first_tab", "previous_tab", "bar_order"),
    "reselect": ("stay", "to_root"),
    "link_cold": ("parents", "alone"),
    "link_warm": ("over", "parents", "alone"),
    "restart": ("fresh", "restore"),
    "outside": ("cleared", "kept"),
    "across": ("there", "here"),
}
"""The history rules, each with its settings; the first is the default."""
UNDER = ("parents", "alone")
"""What may lie under the screen of one link, whatever the rules say of links."""
_MOST_TABS = 63
"""So many tabs can be told apart as homes of a screen that lives in several."""


class MapError(ValueError):
    """An app map that cannot be used. `where` is the key at fault, dotted."""

    def __init__(self, where: str, message: str) -> None:
        super().__init__(f"{where}: {message}" if where else message)
        self.where = where


@dataclass(frozen=True)
class Screen:
    name: str
    role: str = "content"
    tabs: tuple[str, ...] = ()
    aliases: tuple[str, ...] = ()
    routes: tuple[str, ...] = ()
    """RFC 6570 level 1 templates of names under which it is logged."""


def matcher(template: str) -> re.Pattern[str]:
    """What fits an RFC 6570 level 1 template, each of its variables a group."""
    literal_or_variable = re.split(r"(\{\w+\})", template)
    return re.compile(
        "".join("([^/?#]+)" if p.startswith("{") else re.escape(p) for p in literal_or_variable)
    )


def variables(template: str) -> list[str]:
    return re.findall(r"\{(\w+)\}", template)


def plain_name(name: str) -> str:
    """The same for names that differ in case, spaces and dashes alone."""
    return re.sub(r"[\s_\-]+", "", name).casefold()


@dataclass(frozen=True)
class Tab:
    name: str
    root: str
    shown_to: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Per property, the values of those who see it; all do where there is none."""


@dataclass(frozen=True)
class Filter:
    """What switches content inside a screen as a tab would, and is no place."""

    name: str
    on: str


@dataclass(frozen=True)
class Link:
    """A deep link: an RFC 6570 level 1 template, and the screen it is meant to open."""

    pattern: str
    screen: str
    placeholders: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Per variable, values that stand for one that was never filled in."""
    under: str = ""
    """A word of `UNDER`; empty where the history rules say it."""

    def has_placeholder(self, values: Mapping[str, str]) -> bool:
        """Whether one of the variables' values is a placeholder."""
        return any(value in self.placeholders.get(name, ()) for name, value in values.items())

    def values(self, uri: str) -> dict[str, str] | None:
        """The variables of a link that fits, or None."""
        found = self._matcher.fullmatch(uri)
        return dict(zip(self._variables, found.groups(), strict=True)) if found else None

    @cached_property
    def _matcher(self) -> re.Pattern[str]:
        return matcher(self.pattern)

    @cached_property
    def _variables(self) -> list[str]:
        return variables(self.pattern)


@dataclass(frozen=True)
class AppMap:
    app: str = ""
    screens: tuple[Screen, ...] = ()
    tabs: tuple[Tab, ...] = ()
    filters: tuple[Filter, ...] = ()
    links: tuple[Link, ...] = ()
    history: Mapping[str, str] = field(default_factory=dict)
    funnels: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Chains of screens, by name."""
    folds: bool = True
    """Names that differ only in case, spaces, dashes and underscores are one."""

    @classmethod
    def from_dict(cls, document: Any) -> AppMap:
        """Build a map from its parsed file.

        The file's form is the schema's business; this raises `MapError` for what a schema cannot
        see: names declared twice, and tabs and links that lead to undeclared screens.
        """
        screens = tuple(_screen(entry) for entry in document.get("screens", ()))
        tabs = tuple(
            Tab(
                entry["name"],
                entry["root"],
                {key: tuple(map(str, values)) for key, values in entry.get("shown_to", {}).items()},
            )
            for entry in document.get("tabs", ())
            if entry.get("kind") != "filter"
        )
        filters = tuple(
            Filter(entry["name"], entry["on"])
            for entry in document.get("tabs", ())
            if entry.get("kind") == "filter"
        )
        links = tuple(
            Link(
                entry["pattern"],
                entry["screen"],
                {name: tuple(values) for name, values in entry.get("placeholders", {}).items()},
                entry.get("under", ""),
            )
            for entry in document.get("links", ())
        )
        history = {rule: settings[0] for rule, settings in HISTORY.items()}
        history.update(document.get("history", {}))
        chains = document.get("funnels", {}).items()
        funnels = {name: tuple(chain) for name, chain in chains}
        folds = document.get("names", "fold") == "fold"
        app = document.get("app", "")
        app_map = cls(app, screens, tabs, filters, links, history, funnels, folds)
        app_map._check([entry["name"] for entry in document.get("tabs", ())])
        return app_map

    def _check(self, tabs_and_filters: Sequence[str]) -> None:
        seen: dict[str, str] = {}
        for i, screen in enumerate(self.screens):
            for name in (screen.name, *screen.aliases):
                if name in seen:
                    raise MapError(
                        f"screens.{i}", f"the name {name!r} also stands for {seen[name]!r}"
                    )
                seen[name] = screen.name
        names, tabs = {s.name for s in self.screens}, {t.name for t in self.tabs}
        for i, screen in enumerate(self.screens):
            for tab in screen.tabs:
                if tab not in tabs:
                    raise MapError(f"screens.{i}.tab", f"there is no tab {tab!r}")
        meant = [(tab.name, "root", tab.root) for tab in self.tabs]
        meant += [(one.name, "on", one.on) for one in self.filters]
        for name, key, wanted in meant:
            if wanted not in names:
                i = tabs_and_filters.index(name)
                raise MapError(f"tabs.{i}.{key}", f"there is no screen {wanted!r}")
        for i, link in enumerate(self.links):
            if link.screen not in names:
                raise MapError(f"links.{i}.screen", f"there is no screen {link.screen!r}")


def _screen(entry: Mapping[str, Any]) -> Screen:
    tabs = tuple(entry.get("tabs", ())) or ((entry["tab"],) if entry.get("tab") else ())
    aliases, routes = (tuple(entry.get(key, ())) for key in ("aliases", "routes"))
    return Screen(entry["name"], entry.get("role", "content"), tabs, aliases, routes)


@dataclass(frozen=True, eq=False)
class Places:
    """Logged names resolved by a map: what the replay needs to know, as arrays.

    `names` lists the screens: those of the map first, then unknown ones under their logged name.
    `of_name` has, per logged screen name, its screen. Per screen: `role` (a code of `ROLES`),
    `home` (its tab, −1 for none, `SEVERAL`), `homes` (all its tabs, as the sum of 1 << tab),
    `unknown` and `outside` (bool). Per tab: `tab_names` and `roots` (a screen). `tab_of_word` has
    the tab that a logged word names, or −1, and `filter_of_word` the filter, of those in
    `filter_names`, on the screens `filter_on`. Per logged link: `link_target` is the screen that it
    is meant to open, or −1, `link_under` what lies under it then, as a code of `UNDER` or −1,
    `link_values` the link's variables, `link_params` the code of params that are just these, or −1;
    `placeholder` tells links with a value that was never filled in. `params` are the texts of
    params: those of the log, then those that names are made of; `params_of_name` has the code of a
    logged name's, or −1. `folded_name` tells names that are the map's only when folded.
    """

    names: list[str]
    of_name: NDArray[np.int32]
    role: NDArray[np.uint8]
    home: NDArray[np.int32]
    homes: NDArray[np.int64]
    unknown: NDArray[np.bool_]
    outside: NDArray[np.bool_]
    tab_names: list[str]
    roots: NDArray[np.int32]
    tab_of_word: NDArray[np.int32]
    filter_names: list[str]
    filter_on: NDArray[np.int32]
    filter_of_word: NDArray[np.int32]
    link_target: NDArray[np.int32]
    link_under: NDArray[np.int8]
    link_values: list[dict[str, str]]
    link_params: NDArray[np.int32]
    placeholder: NDArray[np.bool_]
    params: list[str]
    params_of_name: NDArray[np.int32]
    folded_name: NDArray[np.bool_]

    def links_told_since(self, before: Places) -> NDArray[np.intp] | None:
        """Links known before of which only now some row has just the params, by their codes; None
        where these places say anything else of what was known before than those did."""

        def begins(own: Any, other: Any) -> bool:
            if isinstance(own, list):
                return bool(own[: len(other)] == other)
            return np.array_equal(own[: len(other)], other)

        told = self.link_params[: len(before.link_params)]
        since = np.flatnonzero((before.link_params == NONE) & (told != NONE))
        known = {field.name: getattr(before, field.name) for field in fields(before)}
        known["link_params"] = before.link_params.copy()
        known["link_params"][since] = told[since]
        goes_on = all(begins(getattr(self, name), other) for name, other in known.items())
        return since if goes_on else None


def resolve(app_map: AppMap, terms: Mapping[str, list[str]]) -> Places:
    """Resolve the names, tab words and links of a log with these dictionaries.

    Names are resolved exactly first, then by alias, then folded, then by route, those with fewer
    variables first.
    """
    index = {screen.name: i for i, screen in enumerate(app_map.screens)}
    index |= {a: index[s.name] for s in app_map.screens for a in s.aliases}
    index = {r: index[s.name] for s in app_map.screens for r in s.routes} | index
    like = {plain_name(name): i for name, i in reversed(index.items())} if app_map.folds else {}
    known, routes = len(app_map.screens), _Routes(app_map.screens, terms["params"])
    names = [screen.name for screen in app_map.screens]
    of_name = np.empty(len(terms["screen"]), "int32")
    params_of_name = np.full(len(of_name), NONE, "int32")
    by_fold = np.zeros(len(of_name), bool)
    for code, name in enumerate(terms["screen"]):
        if name not in index and plain_name(name) in like:
            index[name], by_fold[code] = like[plain_name(name)], True
        if name not in index and (found := routes.find(name)):
            index[name], params_of_name[code] = found
        if name not in index:
            index[name] = len(names)
            names.append(name)
        of_name[code] = index[name]
    tab_names = [tab.name for tab in app_map.tabs]
    tab_index = _indexed(tab_names, terms["word"], app_map.folds)
    filters = [one.name for one in app_map.filters]
    filter_index = _indexed(filters, terms["word"], app_map.folds)
    role, home = np.zeros(len(names), "uint8"), np.full(len(names), NONE, "int32")
    homes = np.zeros(len(names), "int64")
    for i, screen in enumerate(app_map.screens):
        role[i] = ROLE[screen.role]
        own = [tab_index[tab] for tab in screen.tabs]
        if own:
            home[i] = own[0] if len(own) == 1 else SEVERAL
        homes[i] = sum(1 << tab for tab in own if tab < _MOST_TABS)
    roots = np.array([index[tab.root] for tab in app_map.tabs], "int32")
    home[roots] = np.arange(len(roots))
    return Places(
        names,
        of_name,
        role,
        home,
        homes,
        np.arange(len(names)) >= known,
        np.isin(role, [ROLE[word] for word in OUTSIDE_ROLES]),
        tab_names,
        roots,
        np.array([tab_index.get(word, NONE) for word in terms["word"]], "int32"),
        filters,
        np.array([index[one.on] for one in app_map.filters], "int32"),
        np.array([filter_index.get(word, NONE) for word in terms["word"]], "int32"),
        *_link_targets(app_map, index, terms["uri"], routes.params),
        routes.params,
        params_of_name,
        by_fold,
    )


def _indexed(names: Sequence[str], words: Sequence[str], folds: bool) -> dict[str, int]:
    """Where in `names` each of them stands, and each of the words that is one when folded."""
    index = {name: i for i, name in enumerate(names)}
    if folds and names:
        like = {plain_name(name): i for name, i in reversed(index.items())}
        index = {word: like[plain_name(word)] for word in words if plain_name(word) in like} | index
    return index


class _Routes:
    """The routes of screens, and the params that names have by them."""

    def __init__(self, screens: Sequence[Screen], params: Sequence[str]) -> None:
        pairs = [(route, i) for i, screen in enumerate(screens) for route in screen.routes]
        pairs.sort(key=lambda pair: pair[0].count("{"))
        self._routes = [(matcher(route), variables(route), screen) for route, screen in pairs]
        self.params = list(params)
        self._codes = {text: code for code, text in enumerate(params)} if pairs else {}

    def find(self, name: str) -> tuple[int, int] | None:
        """The screen of a name, and the code of the params in it."""
        for fits, keys, screen in self._routes:
            if found := fits.fullmatch(name):
                return screen, self._code(dict(zip(keys, found.groups(), strict=True)))
        return None

    def _code(self, params: dict[str, str]) -> int:
        if not params:
            return NONE
        text = _text(params)
        if text not in self._codes:
            self._codes[text] = len(self.params)
            self.params.append(text)
        return self._codes[text]


def _link_targets(
    app_map: AppMap, index: Mapping[str, int], uris: Sequence[str], params: Sequence[str]
) -> tuple[
    NDArray[np.int32],
    NDArray[np.int8],
    list[dict[str, str]],
    NDArray[np.int32],
    NDArray[np.bool_],
]:
    """Per link its screen, what lies under it, its variables, the code of params that are these,
    and whether it has a placeholder.

    The first pattern that fits wins, those with fewer variables first.
    """
    links = sorted(app_map.links, key=lambda link: link.pattern.count("{"))
    target = np.full(len(uris), NONE, "int32")
    under = np.full(len(uris), NONE, "int8")
    values: list[dict[str, str]] = [{} for _ in uris]
    placeholder = np.zeros(len(uris), bool)
    for code, uri in enumerate(uris):
        for link in links:
            if (found := link.values(uri)) is not None:
                target[code], values[code] = index[link.screen], found
                under[code] = UNDER.index(link.under) if link.under else NONE
                placeholder[code] = link.has_placeholder(found)
                break
    texts = [_text(one) if one else "" for one in values]
    asked = set(texts)
    codes = {text: code for code, text in enumerate(params) if text in asked and text}
    given = np.array([codes.get(text, NONE) for text in texts], "int32")
    return target, under, values, given, placeholder


def _text(params: Mapping[str, str]) -> str:
    """These as the intake writes params: JSON with its keys in order."""
    pairs = (f"{encode_basestring(k)}: {encode_basestring(v)}" for k, v in sorted(params.items()))
    return "{" + ", ".join(pairs) + "}"
