"""Deep links: each pattern from opened to landed to stayed, and links that fit none."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from functools import partial
from urllib.parse import urlsplit

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures import links as core
from mossy_trail.core.measures.cells import Cells, Words
from mossy_trail.core.measures.links import AFTERS, OUTCOMES, STARTS, UNMATCHED, Known, label
from mossy_trail.core.model.app_map import variables
from mossy_trail.core.model.log import NONE
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import Steps
from mossy_trail.core.stats.intervals import Quartiles, Share, quartiles, share
from mossy_trail.engine.celled import (
    Count,
    Counts,
    Label,
    Labels,
    Mask,
    Tallies,
    journeys_of,
    name_of,
    tallied,
)
from mossy_trail.engine.rates import Asking, Rate, Told, Worse, rates_of
from mossy_trail.engine.registry import GoalParams, evidence_of, measure_of
from mossy_trail.engine.scoped import each_labelled, scope_mask
from mossy_trail.engine.study import Study


@dataclass(frozen=True)
class Landed:
    """Where links landed, or sessions without one began: what came after, how long that screen
    was looked at (ms), how many steps more there were, and whether the goal was reached by then."""

    after: dict[str, Count]
    stayed: Quartiles | None
    more: Quartiles | None
    goal: Count | None


@dataclass(frozen=True)
class Links:
    """Links of a pattern, from a source, or of one kind of start: how often opened, what they led
    to, how many of them to their screen (at once or after signing in), and what came then."""

    name: str
    screen: str
    opened: Count
    landed: dict[str, Count]
    arrived: Share
    placeholder: Count
    then: Landed


@dataclass(frozen=True)
class Unmatched:
    """Links without a pattern, the closest one, and what differs from it."""

    link: str
    count: Count
    closest: str | None
    differs: str


@dataclass(frozen=True)
class LinkFigures:
    in_scope: int
    every: Links
    patterns: list[Links]
    sources: list[Links]
    starts: list[Links]
    unmatched: list[Unmatched]
    without: Count
    """Sessions without a link, and what came after their first screen past the splash."""
    without_then: Landed
    goal: str


@measure_of("links", GoalParams)
def measure(study: Study, scope: Scope, goal: str = "") -> LinkFigures:
    """Links from opened to landed to stayed, by pattern, source and start.

    Raises `KeyError` for a goal that is no screen.
    """
    asked = each_labelled(study, scope, ("links", goal), _labelling(study, goal), _ask)
    told = _Told(Counts([told for told, _ in asked]), [lengths for _, lengths in asked], goal)
    screens = {link.pattern: link.screen for link in study.app_map.links}
    opened = [name for (name,) in told.counts.all("pattern.open")]
    names = [*screens, *(name for name in opened if name not in screens)]
    return LinkFigures(
        int(scope_mask(study, scope).sum()),
        told.links("every", "", ""),
        [told.links("pattern", name, screens.get(name, "")) for name in names],
        [told.links("source", name, "") for (name,) in told.counts.all("source.open")],
        [told.links("start", name, "") for name in STARTS],
        [
            Unmatched(link, count, *closest(link, list(screens)))
            for (link,), count in told.counts.all("uri").items()
        ],
        told.counts.of("without.open", ""),
        told.landed("without", ""),
        goal,
    )


Lengths = dict[str, tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]]
"""Per way to group landings each one's word, dwell and steps more."""


def _labelling(study: Study, goal: str) -> Label:
    known = _known(study, goal)

    def ask(steps: Steps, inside: Mask) -> tuple[Labels, core.Labels]:
        own = label(steps, known, goal, inside)
        return own.cells, own

    return ask


def _ask(
    steps: Steps, inside: Mask, labelled: tuple[Labels, core.Labels]
) -> tuple[Tallies, Lengths]:
    labels, own = labelled
    lengths = {
        by: (which[own.landed], steps.dwell[own.links.step], own.links.more)
        for by, which in own.groups.items()
    }
    plain = own.without
    lengths["without"] = np.zeros(len(plain.step), "i8"), steps.dwell[plain.step], plain.more
    return tallied(steps, labels), lengths


class _Told:
    """What all parts told."""

    def __init__(self, counts: Counts, lengths: Sequence[Lengths], goal: str) -> None:
        self.counts, self._goal = counts, goal
        self._lengths = {
            by: [np.concatenate([one[by][i] for one in lengths]) for i in range(3)]
            for by in (lengths[0] if lengths else ())
        }

    def links(self, by: str, name: str, screen: str) -> Links:
        opened = self.counts.of(f"{by}.open", name)
        landed = {end: self.counts.of(f"{by}.landed", name, end) for end in OUTCOMES}
        arrived = share(landed["target"].times + landed["recovered"].times, opened.times)
        odd = self.counts.of(f"{by}.placeholder", name)
        return Links(name, screen, opened, landed, arrived, odd, self.landed(by, name))

    def landed(self, by: str, name: str) -> Landed:
        code = self.counts.number(f"{by}.open", name)
        which, dwell, more = self._lengths.get(by, (np.empty(0), np.empty(0), np.empty(0)))
        own = np.flatnonzero(which == code)
        stay = dwell[own]
        return Landed(
            {what: self.counts.of(f"{by}.after", name, what) for what in AFTERS},
            quartiles(stay[stay >= 0] / 1000),
            quartiles(more[own]),
            self.counts.of(f"{by}.goal", name, self._goal) if self._goal else None,
        )


def _known(study: Study, goal: str) -> Known:
    if goal and not (study.parts and goal in study.parts[0].places.names):
        raise KeyError(goal)
    if "links" not in study.known:
        study.known["links"] = Known.of(study.app_map.links, study.terms["uri"])
    return study.known["links"]


def closest(link: str, patterns: list[str]) -> tuple[str | None, str]:
    """The pattern that a link is most like, and what differs: case, a slash, a value, the host, or
    the path."""
    if not patterns:
        return None, "the map has no link"
    best = max(patterns, key=lambda p: SequenceMatcher(None, p.lower(), link.lower()).ratio())
    if _plain(best) == _plain(link):
        slash = best.rstrip("/").lower() != best.lower() or link.endswith("/")
        return best, "a slash at the end" if slash else "upper and lower case"
    if _plain(re.sub(r"\{\w+\}", "", best)) == _plain(link):
        return best, f"no value for {', '.join(variables(best))}"
    own, other = urlsplit(best), urlsplit(link)
    if own.scheme.lower() != other.scheme.lower():
        return best, f"the scheme {other.scheme or 'is missing'}"
    if own.netloc.lower() != other.netloc.lower():
        return best, f"the host {other.netloc}"
    return best, "the path"


def _plain(text: str) -> str:
    """The same for links that differ in case, a last slash and their variables alone."""
    return re.sub(r"\{\w+\}", "{}", text.lower().rstrip("/"))


@evidence_of("links")
def evidence(study: Study, scope: Scope, figure: str) -> Mask:
    kind, *words = name_of(figure)
    goal = words[-1] if kind.endswith(".goal") and words else ""
    return journeys_of(study, scope, ("links", goal), _labelling(study, goal), figure)


End = tuple[str, Worse, float]
"""What is said of it, whether more of it is worse, and the share beyond which it stands out."""
LANDED_WORDS: dict[str, End] = {
    "target": ("landed on their screen", -1, 1),
    "fallback": ("landed on another screen", 1, 0.05),
    "not_found": ("landed on “not found”", 1, 0.02),
    "recovered": ("reached their screen after sign-in", 0, 1),
    "lost": ("were lost at sign-in", 1, 0.5),
    "nothing": ("led to nothing", 1, 0.3),
}
AFTER_WORDS: dict[str, End] = {
    "bounced": ("were left where they landed", 1, 0.6),
    "returned": ("were left by going back to before", 0, 1),
    "parent": ("were left by going back to a parent", 0, 1),
    "back_out": ("were left by going back out of the app", 0, 1),
    "stayed": ("were followed by more", 0, 1),
}


@rates_of("links")
def rates(study: Study, scope: Scope, goal: str = "") -> Asking:
    """Shares of links opened, and of links that landed."""
    known = _known(study, goal)

    def ask(steps: Steps, inside: Mask) -> Told:
        labels = label(steps, known, goal, inside)
        found: list[Rate] = []
        for by, of in GROUP_WORDS.items():
            of_cells = {kind: _of_patterns(labels.cells[f"{by}.{kind}"], by) for kind in _KINDS}
            opened, naming = of_cells["open"], labels.cells[f"{by}.open"].naming
            journey = labels.links.journey.astype("i4")
            landed = _of_patterns(Cells(naming, labels.groups[by][labels.landed], journey), by)
            kinds = ((f"{by}.landed", opened, LANDED_WORDS), (f"{by}.after", landed, AFTER_WORDS))
            for kind, base, ends in kinds:
                found += _ends(kind, of_cells[kind.split(".")[1]], base, of, ends)
            odd = of_cells["placeholder"]
            said = partial(_opened_words, of=of)
            found.append(
                Rate(f"{by}.placeholder", odd, opened, "bore a placeholder", "{0}", worse=1,
                     said=said, norm={"": 0.002})
            )  # fmt: skip
        return Told(found, [])

    return ask


GROUP_WORDS = {
    "every": "all links",
    "pattern": "links of {0}",
    "source": "links from {0}",
    "start": "{0} links",
}


_KINDS = ("open", "landed", "after", "placeholder")


def _of_patterns(told: Cells, by: str) -> Cells:
    """Cells by pattern without the links that have none, which is the last of them."""
    if by != "pattern":
        return told
    none = max(told.naming.number((UNMATCHED, *more)) for more in ((), OUTCOMES[:1], AFTERS[:1]))
    return told._replace(number=np.where(told.number >= none, NONE, told.number))


def _opened_words(name: Words, of: str) -> list[str]:
    return [of.format(*name)]


def _ends(kind: str, told: Cells, base: Cells, of: str, ends: dict[str, End]) -> list[Rate]:
    """One kind of cells for each end, as they differ in whether more is worse."""
    width, found = len(ends), []
    for code, (says, worse, norm) in enumerate(ends.values()):
        number = np.where(told.number % width == code, told.number, NONE)
        own = told._replace(number=np.where(told.number == NONE, NONE, number))
        found.append(
            Rate(kind, own, base, says, "{0}", width, worse=worse,
                 said=partial(_opened_words, of=of), norm={"": norm})
        )  # fmt: skip
    return found
