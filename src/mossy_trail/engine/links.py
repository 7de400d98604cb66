"""Deep links: each pattern from opened to landed to stayed, and links that fit none."""

from __future__ import annotations

import re
from dataclasses import asdict, dataclass
from difflib import SequenceMatcher
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.measures.links import AFTERS, OUTCOMES, UNMATCHED, label
from mossy_trail.core.scope import Scope
from mossy_trail.core.stats import Share, share
from mossy_trail.core.steps import Steps
from mossy_trail.engine.celled import Count, counted, journeys_of
from mossy_trail.engine.evidence import evidence_of
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.study import Study


@dataclass(frozen=True)
class Pattern:
    """A pattern's links: how often opened, what they led to, and what came after landing."""

    pattern: str
    screen: str
    opened: Count
    landed: dict[str, Count]
    arrived: Share
    """Reached the screen, at once or after signing in, of those opened."""
    after: dict[str, Count]
    placeholder: Count


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
    patterns: list[Pattern]
    unmatched: list[Unmatched]
    sources: dict[str, Count]
    starts: dict[str, Count]
    opened: int
    arrived: Share
    bounced: Share
    """Journeys that ended on the screen the link led to, of all that landed."""
    without: Share
    """Journeys without a link that had two steps at the most, of all without one."""

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def measure(study: Study, scope: Scope) -> LinkFigures:
    counts = counted(study, scope, _labelled(study))
    screens = {link.pattern: link.screen for link in study.app_map.links}
    patterns = [_pattern(counts, name, screens.get(name, "")) for name in [*screens, UNMATCHED]]
    patterns = [one for one in patterns if one.opened.times or one.pattern != UNMATCHED]
    unmatched = [
        Unmatched(link, count, *closest(link, list(screens)))
        for (link,), count in counts.under("uri").items()
    ]
    opened = sum(one.opened.times for one in patterns)
    after = {what: sum(one.after[what].times for one in patterns) for what in AFTERS}
    arrived = sum(one.arrived.count for one in patterns)
    inside = scope_mask(study, scope)
    return LinkFigures(
        int(inside.sum()),
        patterns,
        unmatched,
        {word: count for (word,), count in counts.under("source").items()},
        {word: count for (word,), count in counts.under("start").items()},
        opened,
        share(arrived, opened),
        share(after["bounced"], sum(after.values())),
        _without(study, inside),
    )


def _pattern(counts: Any, name: str, screen: str) -> Pattern:
    opened = counts.of("open", name)
    landed = {end: counts.of("landed", name, end) for end in OUTCOMES}
    arrived = landed["target"].times + landed["recovered"].times
    after = {what: counts.of("after", name, what) for what in AFTERS}
    own = share(arrived, opened.times), after, counts.of("placeholder", name)
    return Pattern(name, screen, opened, landed, *own)


def _without(study: Study, inside: NDArray[np.bool_]) -> Share:
    """Journeys without a link that had two steps at the most, of all without one."""
    linked = study.joined(_linked)
    plain = inside & ~linked
    return share(int((plain & (study.index.steps <= 2)).sum()), int(plain.sum()))


def _linked(steps: Steps) -> NDArray[np.bool_]:
    found = np.zeros(len(steps.journeys.start), bool)
    found[steps.steps.journey[steps.steps.uri >= 0]] = True
    return found


def closest(link: str, patterns: list[str]) -> tuple[str | None, str]:
    """The pattern that a link is most like, and what differs: case, a slash, host, or path."""
    if not patterns:
        return None, "the map has no link"
    best = max(patterns, key=lambda p: SequenceMatcher(None, p.lower(), link.lower()).ratio())
    if _plain(best) == _plain(link):
        slash = best.rstrip("/").lower() != best.lower() or link.endswith("/")
        return best, "a slash at the end" if slash else "upper and lower case"
    own, other = urlsplit(best), urlsplit(link)
    if own.scheme.lower() != other.scheme.lower():
        return best, f"the scheme {other.scheme or 'is missing'}"
    if own.netloc.lower() != other.netloc.lower():
        return best, f"the host {other.netloc}"
    return best, "the path"


def _plain(text: str) -> str:
    """The same for links that differ in case, a last slash and their variables alone."""
    return re.sub(r"\{\w+\}", "{}", text.lower().rstrip("/"))


def _labelled(study: Study) -> Any:
    links = study.app_map.links
    return lambda steps, inside: label(steps, links, inside)


@evidence_of("links")
def evidence(study: Study, scope: Scope, figure: str) -> NDArray[np.bool_]:
    return journeys_of(study, scope, _labelled(study), figure)
