"""How well the replay fits an app's logs, what misfits most often, and what would mend it."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.fit import ELSEWHERE, LANDED, UNTOLD, label, trial
from mossy_trail.core.model.app_map import HISTORY, UNDER, AppMap, Screen
from mossy_trail.core.model.log import NONE, sample
from mossy_trail.core.model.properties import Property
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import MARK, MOVES, Steps
from mossy_trail.engine.history import SAMPLE
from mossy_trail.engine.practice import propose_all
from mossy_trail.engine.registry import evidence_of, words_of
from mossy_trail.engine.scoped import each_inside, joined_inside
from mossy_trail.engine.study import Study

MOST_MISFITS, MOST_SCREENS, MOST_MENDS = 12, 12, 3
_FEWEST, _SHARE = 3, 0.25
"""A change mends something if so many moves, and so large a share of the misfits, come to fit."""
_ALL = "*"
_OFTEN = 0.8
"""The share of a screen's steps that report a tab for it to be proposed as the screen's."""
_LANDED_ELSEWHERE = MARK["landed_elsewhere"]
Misfit = tuple[str, str, str, str]
"""The move, from which screen, which one was expected, and which one or which tab came."""


def measure(study: Study, scope: Scope, by: str = "version") -> dict[str, Any]:
    """The fit of the journeys in scope: as a whole, by kind of move, screen, and a property.

    `told` counts the moves that rows tell and the replay predicts, `landed` those that landed so;
    `steps` all steps and `sure` those that are not marked unsure. Misfits open by `evidence`:
    JSON of [kind, name], or of ["misfit", move, from, expected, came].
    """
    wanted = study.property(by)
    parts = each_inside(study, scope, lambda steps, inside: _counted(steps, inside, wanted))
    groups: dict[str, Counter[tuple[str, bool]]] = {}
    misfits: Counter[Misfit] = Counter()
    journeys: Counter[Misfit] = Counter()
    steps = sure = 0
    for part in parts:
        steps, sure = steps + part.steps, sure + part.sure
        misfits.update(part.misfits)
        journeys.update(part.journeys)
        for kind, counts in part.groups.items():
            groups.setdefault(kind, Counter()).update(counts)
    lists = {kind: _listed(counts) for kind, counts in groups.items()}
    moves = lists.get("move", [])
    often = sorted(misfits, key=lambda one: (-misfits[one], one))[:MOST_MISFITS]
    return {
        "told": sum(one["told"] for one in moves),
        "landed": sum(one["landed"] for one in moves),
        "steps": steps,
        "sure": sure,
        "by_move": moves,
        "by_screen": sorted(lists.get("screen", []), key=_most_misfits)[:MOST_SCREENS],
        "by": by,
        "by_value": lists.get("value", []),
        "misfits": [
            {
                "move": one[0],
                "from": one[1],
                "expected": one[2],
                "came": one[3],
                "steps": misfits[one],
                "journeys": journeys[one],
            }
            for one in often
        ],
    }


def _most_misfits(group: Mapping[str, Any]) -> tuple[int, str]:
    return group["landed"] - group["told"], group["name"]


def _listed(counts: Counter[tuple[str, bool]]) -> list[dict[str, Any]]:
    names = sorted({name for name, _ in counts})
    return [
        {
            "name": name,
            "told": counts[name, True] + counts[name, False],
            "landed": counts[name, True],
        }
        for name in names
    ]


@dataclass(frozen=True)
class _Part:
    steps: int
    sure: int
    groups: dict[str, Counter[tuple[str, bool]]]
    """By kind of group: how many moves of each, landed or not."""
    misfits: Counter[Misfit]
    journeys: Counter[Misfit]


def _counted(steps: Steps, inside: NDArray[np.bool_], wanted: Property) -> _Part:
    journey = steps.steps.journey
    chosen = inside[journey]
    found = np.where(chosen, label(steps), UNTOLD)
    told = np.flatnonzero(found != UNTOLD)
    landed = found[told] == LANDED
    values = np.array([*wanted.values, ""])[wanted.of_journeys(steps)]
    groups = {
        "move": _tally(np.array(MOVES)[steps.steps.move[told]], landed),
        "screen": _tally(np.array(steps.places.names, object)[steps.screen[told]], landed),
        "value": _tally(values[journey[told]], landed) if wanted.values else Counter(),
    }
    at = np.flatnonzero(found == ELSEWHERE)
    kinds, which = _misfits(steps, at)
    pairs = np.unique(which * len(inside) + journey[at]) // max(len(inside), 1)
    return _Part(
        int(np.count_nonzero(chosen)),
        int(np.count_nonzero(chosen & ~steps.steps.unsure)),
        groups,
        *(
            Counter(dict(zip(kinds, np.bincount(own, minlength=len(kinds)).tolist(), strict=True)))
            for own in (which, pairs)
        ),
    )


def _tally(names: NDArray[Any], landed: NDArray[np.bool_]) -> Counter[tuple[str, bool]]:
    if not len(names):
        return Counter()
    each, which = np.unique(names.astype(str), return_inverse=True)
    fits = np.bincount(which, landed, len(each)).astype(int).tolist()
    all_of = np.bincount(which, minlength=len(each)).tolist()
    counts: Counter[tuple[str, bool]] = Counter()
    for name, good, total in zip(each.tolist(), fits, all_of, strict=True):
        counts[name, True], counts[name, False] = good, total - good
    return counts


def _misfits(steps: Steps, at: NDArray[np.int64]) -> tuple[list[Misfit], NDArray[np.int64]]:
    """The kinds of misfit of these steps, and which of them each one is."""
    own, places = steps.steps, steps.places
    texts = [*places.names, "", *(f"tab {tab}" for tab in places.tab_names)]
    nothing, tabs, size = len(places.names), len(places.names) + 1, len(texts)
    first = (at == 0) | (own.journey[at - 1] != own.journey[at])
    elsewhere = (own.marks[at] & _LANDED_ELSEWHERE) != 0
    expected = own.expected[at]
    meant = np.where(expected == NONE, nothing, steps.entries.screen[expected])
    columns = (
        np.where(first, nothing, steps.screen[at - 1]),
        np.where(elsewhere, meant, tabs + steps.tab[at]),
        np.where(elsewhere, steps.screen[at], tabs + own.tab_reported[at]),
    )
    key = own.move[at].astype("int64")
    for column in columns:
        key = key * size + column
    kinds, which = np.unique(key, return_inverse=True)
    rest, came = np.divmod(kinds, size)
    rest, there = np.divmod(rest, size)
    move, start = np.divmod(rest, size)
    named = zip(move, start, there, came, strict=True)
    return [(MOVES[m], texts[a], texts[b], texts[c]) for m, a, b, c in named], which


@evidence_of("fit")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    """The journeys with a misfit of this kind; raises `KeyError` when there is no such figure."""
    asked = words_of(figure)
    kind, rest = (asked[0], asked[1:]) if asked else ("", [])
    if (kind, len(rest)) not in {("", 0), ("move", 1), ("screen", 1), ("value", 2), ("misfit", 4)}:
        raise KeyError(figure)
    wanted = study.property(rest[0]) if kind == "value" else None

    def ask(steps: Steps, inside: NDArray[np.bool_]) -> NDArray[np.bool_]:
        at = np.flatnonzero(label(steps) == ELSEWHERE)
        journey = steps.steps.journey
        if kind == "move":
            at = at[np.array(MOVES)[steps.steps.move[at]] == rest[0]]
        elif kind == "screen":
            at = at[np.array(steps.places.names, object)[steps.screen[at]] == rest[0]]
        elif wanted:
            values = np.array([*wanted.values, ""])[wanted.of_journeys(steps)]
            at = at[values[journey[at]] == rest[1]]
        elif kind == "misfit":
            kinds, which = _misfits(steps, at)
            at = at[np.array([one == tuple(rest) for one in kinds], bool)[which]]
        found = np.zeros(len(inside), bool)
        found[journey[at]] = True
        return found & inside

    return joined_inside(study, scope, ask)


# What would mend it.


@dataclass(frozen=True)
class Mend:
    """A change of the map, and how many moves land as predicted with it.

    `kind` is `history` (a rule, and its setting), `link` (a pattern, or `*` for all of them, and
    what lies under it), `tab` (a screen, and where it lives) or `alias` (a name, and the screen
    that it means).
    """

    kind: str
    subject: str
    value: str
    landed: int = 0
    told: int = 0
    mended: float = 0.0
    """The share of the misfits that come to fit."""


def mends(study: Study) -> list[Mend]:
    """The changes of the map by which most moves would come to fit, each tried on a sample; those
    that mend less than a third of what the best one does are left out.

    Of a larger log whole users up to `engine.history.SAMPLE` rows are taken.
    """
    parts = sample((steps.log for steps in study.parts), SAMPLE)
    landed, told = trial(parts, study.app_map)
    if landed == told:
        return []
    least = max(_FEWEST, _SHARE * (told - landed))
    tried = []
    for mend in _candidates(study):
        fits, of_all = trial(parts, with_mend(study.app_map, mend))
        fewer = (told - landed) - (of_all - fits)
        if fewer >= least:
            share = fewer / (told - landed)
            tried.append(replace(mend, landed=fits, told=of_all, mended=share))
    tried.sort(key=lambda one: (one.told - one.landed, one.subject == _ALL, one.kind, one.subject))
    return [one for one in tried if one.mended >= tried[0].mended / 3][:MOST_MENDS]


def _candidates(study: Study) -> Iterator[Mend]:
    app_map = study.app_map
    for rule, settings in HISTORY.items():
        for setting in settings:
            if setting != app_map.history[rule]:
                yield Mend("history", rule, setting)
    if len(app_map.links) > 1:
        for under in UNDER:
            yield Mend("link", _ALL, under)
    for link in app_map.links[:20]:
        for under in UNDER:
            if under != link.under:
                yield Mend("link", link.pattern, under)
    yield from _other_tabs(study)
    yield from _other_names(study)


def _other_tabs(study: Study) -> Iterator[Mend]:
    """Screens that report another tab than the map's, mostly the same one."""

    def ask(steps: Steps) -> Counter[tuple[int, int]]:
        told = (label(steps) == ELSEWHERE) & (steps.steps.tab_reported != NONE)
        pairs = (steps.screen[told].tolist(), steps.steps.tab_reported[told].tolist())
        return Counter(zip(*pairs, strict=True))

    counts = sum(study.each(ask), Counter[tuple[int, int]]())
    if not counts:
        return
    places, known = study.parts[0].places, {one.name for one in study.app_map.screens}
    of_screen: dict[int, Counter[int]] = {}
    for (screen, tab), n in counts.items():
        of_screen.setdefault(screen, Counter())[tab] = n
    for screen, tabs in sorted(of_screen.items(), key=lambda one: -one[1].total())[:10]:
        tab, n = tabs.most_common(1)[0]
        if n >= _OFTEN * tabs.total() and places.names[screen] in known:
            yield Mend("tab", places.names[screen], places.tab_names[tab])


def _other_names(study: Study) -> Iterator[Mend]:
    """Unknown names on which moves misfit, that are much like one the map knows."""

    def ask(steps: Steps) -> Counter[str]:
        on = steps.screen[label(steps) == ELSEWHERE]
        return Counter(steps.places.names[screen] for screen in on[steps.places.unknown[on]])

    counts = sum(study.each(ask), Counter[str]())
    names = [name for name, _ in counts.most_common(10)]
    for name, found in propose_all(names, study.app_map).items():
        yield Mend("alias", name, found)


def with_mend(app_map: AppMap, mend: Mend) -> AppMap:
    """The map with this change."""
    if mend.kind == "history":
        return replace(app_map, history={**app_map.history, mend.subject: mend.value})
    if mend.kind == "link":
        links = (
            replace(one, under=mend.value) if mend.subject in (one.pattern, _ALL) else one
            for one in app_map.links
        )
        return replace(app_map, links=tuple(links))

    def changed(screen: Screen) -> Screen:
        if mend.kind == "tab" and screen.name == mend.subject:
            return replace(screen, tabs=(mend.value,))
        if mend.kind == "alias" and screen.name == mend.value:
            return replace(screen, aliases=(*screen.aliases, mend.subject))
        return screen

    return replace(app_map, screens=tuple(map(changed, app_map.screens)))


def mended(document: Mapping[str, Any], mend: Mend) -> dict[str, Any]:
    """A map's document with this change; raises `KeyError` where what it is about is not there."""
    made: dict[str, Any] = json.loads(json.dumps(document))
    if mend.kind == "history":
        if mend.value not in HISTORY[mend.subject]:
            raise KeyError(mend.value)
        return {**made, "history": {**made.get("history", {}), mend.subject: mend.value}}
    if mend.kind == "link":
        links = made.get("links", [])
        one = [] if mend.subject == _ALL else [_entry(links, "pattern", mend.subject)]
        for entry in one or links:
            entry["under"] = mend.value
    elif mend.kind == "tab":
        entry = _entry(made.get("screens", []), "name", mend.subject)
        entry.pop("tabs", None)
        entry["tab"] = mend.value
    elif mend.kind == "alias":
        entry = _entry(made.get("screens", []), "name", mend.value)
        entry["aliases"] = [*entry.get("aliases", []), mend.subject]
    else:
        raise KeyError(mend.kind)
    return made


def _entry(entries: list[dict[str, Any]], key: str, value: str) -> dict[str, Any]:
    for entry in entries:
        if entry[key] == value:
            return entry
    raise KeyError(value)


def told(study: Study) -> dict[str, Any]:
    """The fit of a whole study with what would mend it, as the command line tells it."""
    return {**measure(study, Scope()), "mends": [asdict(mend) for mend in mends(study)]}
