"""Patterns with holes: screens inside words and addresses."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import unquote, urlsplit

from mossy_trail.intake.words import looks_like_view, meaning

HOLE = "{screen}"
_HOLE = re.compile(r"\{(\w+)\}")
_ID = re.compile(
    r"-?\d+|[0-9a-f]{8}-[0-9a-f-]{27,}|(?=\w*\d)[0-9a-f]{8,}|(?=[\w-]*\d)[\w-]{10,}|(?=\w*\d)[A-Z\d]{4,}",
    re.I,
)
_LONGEST = 500
_MOST = 400
"""Routes that are proposed; others are taken by themselves."""
_LIKE = 3
"""So many values of one form make a pattern."""


class Found(NamedTuple):
    """What a pattern finds in a value: the screen, and the values of its other holes."""

    screen: str
    params: dict[str, str]


def find(patterns: Sequence[str], value: str) -> Found | None:
    """What the first pattern that fits finds. Of an address, query and fragment are no part.

    Where there are patterns of addresses, one that none was made of yet is taken by itself.
    """
    found = _first(patterns, value)
    if found is None and _is_address(value) and "://" in value:
        addresses = any("://" in pattern for pattern in patterns)
        return _first([_route(value)], value) if addresses else None
    return found


def _first(patterns: Sequence[str], value: str) -> Found | None:
    for pattern in patterns:
        given = value
        if "://" in pattern or pattern.startswith("/"):
            given = re.split(r"[?#]", value, maxsplit=1)[0].rstrip("/") or "/"
            pattern = pattern if pattern == "/" else pattern.rstrip("/")
        if fits := _matcher(pattern).fullmatch(given):
            holes = {name: unquote(text) for name, text in fits.groupdict().items()}
            screen = holes.pop("screen", None) or route_of(pattern)
            return Found(screen.strip(), holes)
    return None


def is_pattern(pattern: str) -> bool:
    """Whether this can be a pattern: not endless, and no hole twice."""
    holes = _HOLE.findall(pattern)
    names = len(set(holes)) == len(holes) and all(name.isidentifier() for name in holes)
    return 0 < len(pattern) <= _LONGEST and names


def route_of(pattern: str) -> str:
    """The path of an address with holes; of another pattern, itself."""
    if "://" not in pattern:
        return pattern
    return "/" + pattern.partition("://")[2].partition("/")[2]


@lru_cache(4096)
def _matcher(pattern: str) -> re.Pattern[str]:
    parts = _HOLE.split(pattern)
    inner = r"[^/?#]+" if "://" in pattern or pattern.startswith("/") else r".+?"
    texts = [
        re.escape(part) if place % 2 == 0 else f"(?P<{part}>{inner})"
        for place, part in enumerate(parts)
    ]
    return re.compile("".join(texts), re.I | re.S)


def propose_patterns(values: Mapping[str, int]) -> list[str]:
    """Patterns that these values share, each with how often it occurs; none if they are names."""
    if not values:
        return []
    addresses = {v: n for v, n in values.items() if _is_address(v)}
    if sum(addresses.values()) > 0.7 * sum(values.values()):
        return _of_addresses(addresses)
    return _of_words(values)


def _is_address(value: str) -> bool:
    return bool(re.match(r"[a-z][\w+.-]*://\S+$|/\S*$", value, re.I))


def _of_addresses(values: Mapping[str, int]) -> list[str]:
    """Routes with a variable for each segment that looks like an id, those without any first.

    None where the addresses are plain paths, which are names already.
    """
    routes: Counter[str] = Counter()
    for value, count in values.items():
        routes[_route(value)] += count
    if set(routes) == set(values) and not any("://" in route for route in routes):
        return []
    common = [route for route, _ in routes.most_common(_MOST) if is_pattern(route)]
    return sorted(common, key=lambda route: route.count("{"))


def _route(value: str) -> str:
    """The address without query and fragment, with a variable in the place of each id."""
    try:
        split = urlsplit(value)
    except ValueError:  # brackets that do not close, and the like
        return value
    before, segments = "", split.path.rstrip("/").split("/")
    parts, used = [], set[str]()
    for segment in segments:
        if segment and ("{" in segment or _ID.fullmatch(unquote(segment))):
            name = _singular(before)
            name = name if name.isidentifier() else "id"
            while name in used or name == "screen":
                name += "_id"
            used.add(name)
            parts.append("{" + name + "}")
        else:
            parts.append(segment)
        before = segment
    path = "/".join(parts) or "/"
    host = f"{split.scheme}://{split.netloc}" if split.scheme else ""
    return host + path


def _singular(word: str) -> str:
    word = re.sub(r"\W+", "_", word.casefold()).strip("_")
    return word[:-1] if word.endswith("s") and not word.endswith("ss") and len(word) > 3 else word


def _of_words(values: Mapping[str, int]) -> list[str]:
    """Of words like “Viewed Home Screen”: what many of them begin and end with, if it says so."""
    frames: defaultdict[tuple[str, str], set[str]] = defaultdict(set)
    for value in values:
        if framed := _frame(value):
            frames[framed[0]].add(framed[1])
    good = [
        (len(inner), len(before) + len(after), before, after)
        for (before, after), inner in frames.items()
        if len(inner) >= _LIKE
    ]
    if not good:
        return []
    _, _, before, after = max(good)
    return [before + HOLE + after]


_BEGIN = re.compile(
    r"((?:screen|page|view|viewed|visited|visit|opened|open|shown|show|saw|seen|displayed|on|did|route)"
    r"(?:[ _:./-]+(?:screen|page|view|viewed|shown))?)([ _:./-]+)",
    re.I,
)
_END = re.compile(
    r"[ _:./-]+(?:(?:screen|page|view)[ _:./-]*)?(?:screen|page|view|viewed|shown|opened"
    r"|appeared|displayed|seen|visible|loaded|impression)",
    re.I,
)


def _frame(value: str) -> tuple[tuple[str, str], str] | None:
    """What is around a screen's name in a value that tells of its view, and the name."""
    begin = _BEGIN.match(value)
    before = begin.group() if begin else ""
    rest = value[len(before) :]
    after = next((e.group() for e in _END.finditer(rest) if e.end() == len(rest) and e.start()), "")
    inner = rest.removesuffix(after)
    says = looks_like_view(f"{before}_{after}") or re.match("screen|page|route", before, re.I)
    return ((before, after), inner) if says and inner and not meaning(value) else None
