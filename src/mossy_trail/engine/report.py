"""The report: what was kept, for people who have not the tool; without scripts, as one file."""

from __future__ import annotations

import base64
import json
from dataclasses import dataclass, field
from html import escape
from typing import Any

import numpy as np

from mossy_trail.core.model.log import DAY
from mossy_trail.core.model.scope import Scope
from mossy_trail.core.model.steps import count_users
from mossy_trail.core.stats.clustered import FEWEST_USERS
from mossy_trail.engine import fit as fits
from mossy_trail.engine.compare import Side
from mossy_trail.engine.pictures import bars, line, value_words
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.standouts import Finding, percent
from mossy_trail.engine.study import Study
from mossy_trail.engine.trend import Trend


@dataclass(frozen=True)
class Item:
    """A finding or figure: `was` is its value when it was kept, `now` today's, None where there is
    nothing to count any more."""

    sentence: str
    note: str
    scope: str
    timed: bool
    was: Side
    now: Side | None
    where: str
    beside: Side | None
    beside_name: str
    also: list[str] = field(default_factory=list)
    trend: Trend | None = None
    kept: str = ""
    """The day that it was kept on."""

    @property
    def changed(self) -> bool:
        """It counts other things than when it was kept."""
        return self.now is None or (self.now.count, self.now.of) != (self.was.count, self.was.of)


@dataclass(frozen=True)
class Report:
    app: str
    day: str
    facts: list[tuple[str, str]]
    """Scope, dates, versions: what the figures are of."""
    items: list[Item]


METHODS = (
    "Figures are exact counts over journeys replayed from the log; nothing is sampled.",
    "Intervals hold at 95 %. Users are what chance works on: several journeys of one user count as "
    "one throw (delta method, Cochran 1977; intervals of Wilson 1927 on the size that has as much "
    "variance, of medians by Woodruff 1952).",
    "What stands out is beyond chance among all that was looked at: of what is called so, at most "
    "5 in 100 are to be false (Benjamini and Hochberg 1995).",
    f"Of fewer than {FEWEST_USERS} users a figure is too small to tell.",
)

_STYLE = """
body { font: 16px/1.5 sans-serif; color: #20261c; background: #fff; max-width: 46rem;
  margin: 2rem auto; padding: 0 1rem; }
h1 { font-size: 1.6rem; margin-bottom: 0.2rem; } h2 { font-size: 1.15rem; margin: 0 0 0.4rem; }
section { border-top: 1px solid #d9d5c6; padding: 1.1rem 0; break-inside: avoid; }
.soft { color: #63665a; } .note { border-left: 3px solid #48663a; padding-left: 0.8rem;
  white-space: pre-wrap; } .warn { color: #ad4e27; }
table { border-collapse: collapse; margin-bottom: 1.2rem; font-variant-numeric: tabular-nums; }
td, th { text-align: left; padding: 0.15rem 1rem 0.15rem 0; vertical-align: top; font-weight: 400; }
svg { max-width: 100%; height: auto; } ul { padding-left: 1.2rem; }
@page { margin: 18mm; } @media print { body { margin: 0; max-width: none; } }
"""


def html(report: Report) -> str:
    """One file without scripts, with its pictures in it."""
    facts = "".join(
        f"<tr><th class='soft'>{escape(name)}</th><td>{escape(value)}</td></tr>"
        for name, value in report.facts
    )
    title = escape(f"{report.app}: findings")
    methods = "".join(f"<li>{escape(one)}</li>" for one in METHODS)
    body = "".join(_section(i, one) for i, one in enumerate(report.items, 1))
    body = body or "<p>Nothing was kept.</p>"
    return (
        f"<!doctype html><html lang='en'><head><meta charset='utf-8'><title>{title}</title>"
        "<meta name='viewport' content='width=device-width'>"
        f"<style>{_STYLE}</style></head><body><h1>{title}</h1>"
        f"<p class='soft'>{escape(report.day)}</p><table>{facts}</table>{body}"
        f"<section><h2>How it was counted</h2><ul class='soft'>{methods}</ul></section>"
        "</body></html>\n"
    )


def _section(number: int, item: Item) -> str:
    parts = [f"<h2>{number}. {escape(item.sentence)}</h2>"]
    if item.note:
        parts.append(f"<p class='note'>{escape(item.note)}</p>")
    parts += [_picture(item), f"<p class='soft'>{escape(_counted(item))}</p>"]
    parts += [f"<p class='warn'>{escape(one)}</p>" for one in _warnings(item)]
    if item.also:
        also = "".join(f"<li>{escape(one)}</li>" for one in item.also)
        parts.append(f"<p class='soft'>Of the same journeys:</p><ul class='soft'>{also}</ul>")
    return f"<section>{''.join(parts)}</section>"


def _picture(item: Item) -> str:
    if item.beside is not None:
        rows = [(item.where or "here", item.now or item.was), (item.beside_name, item.beside)]
        return bars(rows, item.timed)
    return line(item.trend) if item.trend else ""


def _counted(item: Item) -> str:
    own = item.now or item.was
    ends = (value_words(_at(own, end), item.timed) for end in (own.low, own.high))
    low, high = ends
    of = f"{own.of:,} times" if item.timed else f"{own.count:,} of {own.of:,}"
    return (
        f"{value_words(own, item.timed)} (95 %: {low} to {high}), {of}, "
        f"{own.users:,} users; {item.scope}"
    )


def _at(side: Side, value: float) -> Side:
    return Side(value, value, value, side.count, side.of, side.users)


def _warnings(item: Item) -> list[str]:
    found = []
    if item.now is None:
        found.append(
            f"When it was kept, {item.kept}, it was {value_words(item.was, item.timed)}; "
            "there is nothing to count any more."
        )
    elif item.changed:
        found.append(
            f"Data or map have changed: when it was kept, {item.kept}, it was "
            f"{value_words(item.was, item.timed)}, now it is {value_words(item.now, item.timed)}."
        )
    if (item.now or item.was).users < FEWEST_USERS:
        found.append("Few users: too small to tell.")
    return found


def markdown(report: Report) -> str:
    """The same as Markdown, its pictures in it as data."""
    lines = [f"# {_plain(report.app)}: findings", "", report.day, ""]
    lines += [f"- {name}: {_plain(value)}" for name, value in report.facts]
    for number, item in enumerate(report.items, 1):
        lines += ["", f"## {number}. {_plain(item.sentence)}", ""]
        lines += [*(f"> {_plain(one)}" for one in item.note.splitlines()), ""] if item.note else []
        picture = _picture(item)
        if picture:
            data = base64.b64encode(picture.encode()).decode()
            lines += [f"![its values](data:image/svg+xml;base64,{data})", ""]
        lines += [_plain(_counted(item)), *(f"\n**{_plain(one)}**" for one in _warnings(item))]
        lines += ["", *(f"- {_plain(one)}" for one in item.also)] if item.also else []
    lines += ["", "## How it was counted", "", *(f"- {one}" for one in METHODS)]
    return "\n".join(lines) + "\n"


_MARKED = str.maketrans({mark: f"\\{mark}" for mark in "\\`*_{}[]<>#|"})


def _plain(text: str) -> str:
    """Names from logs are text, whatever is in them."""
    return " ".join(text.split()).translate(_MARKED)


def facts(study: Study, scope: Scope) -> list[tuple[str, str]]:
    """What a report is of: dates, counts, and the versions of data and map."""
    inside = scope_mask(study, scope)
    days = study.index.start[inside]
    span = f"{_day(int(days.min()))} to {_day(int(days.max()))}" if len(days) else "no journeys"
    users = count_users(study.index.user[inside])
    fit = fits.measure(study, scope)
    share = percent(fit["landed"] / fit["told"]) if fit["told"] else "no moves are reported"
    app_map, _, data = study.version.partition(":")
    return [
        ("Days", span),
        ("Journeys", f"{int(inside.sum()):,} of {users:,} users"),
        ("Moves that landed as predicted", share),
        ("App map", f"version {app_map}" if app_map else study.app_map.app),
        *([("Data", f"version {data}")] if data else []),
    ]


def scope_words(scope: Scope) -> str:
    """Dates and unit, as far as they are chosen, and that there is a segment."""
    days = [_day(scope.since), _day(scope.before and scope.before - DAY)]
    told = [f"from {days[0]}" if days[0] else "", f"to {days[1]}" if days[1] else ""]
    dates = " ".join(one for one in told if one) or "all days"
    segment = f", only journeys of {segment_words(scope.segment)}" if scope.segment else ""
    return f"{dates}, counted in {scope.unit}{segment}"


def _day(moment: int | None) -> str:
    return str(np.datetime64(moment, "us").astype("datetime64[D]")) if moment is not None else ""


def segment_words(segment: str) -> str:
    """A segment in words, as far as it is of properties and dates; else as it is written."""
    return _segment_words(json.loads(segment))


def _segment_words(found: Any) -> str:
    for key, joint in (("all", " and "), ("any", " or ")):
        if key in found:
            return joint.join(map(_segment_words, found[key]))
    if "not" in found:
        return f"not {_segment_words(found['not'])}"
    if "property" in found:
        return f"{found['property']} {' or '.join(map(str, found['values']))}"
    if "since" in found or "until" in found:
        return f"{found.get('since', '…')} to {found.get('until', '…')}"
    return json.dumps(found, ensure_ascii=False)


BESIDE = {"group": "elsewhere", "change": "before", "norm": "let pass", "like": "the others"}
"""What the second value of a finding is called, by its kind; else it is what is expected."""


def item_of(scope: Scope, one: Finding) -> Item:
    """A finding as it is told today."""
    return Item(
        one.sentence,
        "",
        scope_words(scope),
        one.timed,
        one.own,
        one.own,
        one.where,
        one.beside,
        BESIDE.get(one.kind, "expected"),
        one.also,
    )
