"""Small pictures of figures, as SVG: for reports, which have no scripts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape
from typing import Any

from mossy_trail.engine.compare import Side
from mossy_trail.engine.standouts import percent, seconds
from mossy_trail.engine.trend import Trend

INK, SOFT, LINE = "#20261c", "#63665a", "#d9d5c6"
RUST, MOSS, STONE = "#ad4e27", "#48663a", "#a9a899"
_WIDE, _ROW, _LABEL = 640, 30, 190
_STYLE = 'font-family="sans-serif" font-size="13"'


def value_words(side: Side, timed: bool) -> str:
    return seconds(side.value) if timed else percent(side.value)


def bars(rows: Sequence[tuple[str, Side]], timed: bool) -> str:
    """A bar for each value on one scale from 0, with its interval; the first one is what it is
    about."""
    top = max(max(side.high, side.value) for _, side in rows) or 1
    scale = (_WIDE - _LABEL - 90) / top
    drawn = []
    for i, (name, side) in enumerate(rows):
        y, wide = i * _ROW, side.value * scale
        colour, said = (STONE if i else RUST), value_words(side, timed)
        drawn.append(
            f'<text x="0" y="{y + 19}" fill="{INK}">{escape(_short(name))}</text>'
            f'<rect x="{_LABEL}" y="{y + 6}" width="{max(wide, 1):.1f}" height="16" '
            f'fill="{colour}"/>'
        )
        if side.of:
            low, high = (_LABEL + end * scale for end in (side.low, side.high))
            drawn.append(
                f'<line x1="{low:.1f}" x2="{high:.1f}" y1="{y + 14}" y2="{y + 14}" '
                f'stroke="{INK}" stroke-width="1.5"/>'
            )
        end = _LABEL + max(wide, side.high * scale if side.of else 0) + 8
        drawn.append(f'<text x="{end:.1f}" y="{y + 19}" fill="{INK}">{said}</text>')
    return _picture(len(rows) * _ROW + 4, drawn, "Values with their 95 % intervals")


def line(trend: Trend) -> str:
    """A figure over time in the band of its intervals, and what changed."""
    points = [(i, one.figure) for i, one in enumerate(trend.points) if one.figure]
    if len(points) < 2:
        return ""
    tall, last = 110, len(trend.points) - 1
    top = max(side.value for _, side in points) * 1.3 or 1

    def at(i: float, value: float) -> str:
        return f"{50 + i / last * (_WIDE - 70):.1f},{10 + tall - min(value / top, 1) * tall:.1f}"

    band = [at(i, side.high) for i, side in points]
    band += [at(i, side.low) for i, side in reversed(points)]
    path = " ".join(at(i, side.value) for i, side in points)
    levels = "".join(
        f'<text x="44" y="{14 + tall - share * tall:.0f}" text-anchor="end" fill="{SOFT}">'
        f"{seconds(top * share) if trend.timed else percent(top * share)}</text>"
        for share in (0, 0.5, 1)
    )
    days = (trend.points[0].value, trend.points[-1].value)
    drawn = [
        f'<polygon points="{" ".join(band)}" fill="{MOSS}" opacity="0.2"/>',
        f'<polyline points="{path}" fill="none" stroke="{MOSS}" stroke-width="2"/>',
        levels,
        f'<text x="50" y="{tall + 30}" fill="{SOFT}">{escape(days[0])}</text>',
        f'<text x="{_WIDE - 20}" y="{tall + 30}" text-anchor="end" fill="{SOFT}">'
        f"{escape(days[1])}</text>",
    ]
    return _picture(tall + 40, drawn, "The figure over time, in the band of its 95 % intervals")


def _picture(tall: int, drawn: Sequence[str], title: str, wide: int = _WIDE) -> str:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide} {tall}" width="{wide}" '
        f'height="{tall}" role="img" {_STYLE}><title>{title}</title>{"".join(drawn)}</svg>'
    )


def _short(name: str) -> str:
    return name if len(name) <= 26 else f"{name[:25]}…"


GROUNDS = ("#dbe6cf", "#f0e0bb", "#cfe1ea", "#e5d9ea", "#f0d6c8", "#d3e5de", "#e9e2c4")
_OUTSIDE, _SHEET, _STEP = "#e7e4da", "#83639a", 18


def profile(trail: Sequence[Mapping[str, Any]]) -> str:
    """One journey like the elevation of a walk: across its steps, up the depth of the stack, the
    ground coloured by tab; steps that were worked out are hollow."""
    tall = 16 * max([int(step["depth"]) for step in trail], default=1) + 20
    tabs = list(dict.fromkeys(step["tab"] for step in trail if step["tab"]))
    drawn: list[str] = []
    path: list[str] = []
    for i, step in enumerate(trail):
        x, y = i * _STEP + 4, tall - 8 - 16 * int(step["depth"])
        ground = GROUNDS[tabs.index(step["tab"]) % len(GROUNDS)] if step["tab"] else _OUTSIDE
        sheet = f' stroke="{_SHEET}"' if step["region"] == "sheet" else ""
        drawn.append(
            f'<rect x="{x}" y="{y}" width="{_STEP}" height="{tall - 8 - y}" fill="{ground}"{sheet}>'
            f"<title>{escape(str(step['screen']))}: {step['move']}</title></rect>"
        )
        fill = "#fff" if step["inferred"] else MOSS
        path.append(f"{x},{y} {x + _STEP},{y}")
        drawn.append(
            f'<circle cx="{x + _STEP / 2}" cy="{y}" r="3.5" fill="{fill}" stroke="{MOSS}"/>'
        )
    line_ = f'<polyline points="{" ".join(path)}" fill="none" stroke="{MOSS}" stroke-width="1.5"/>'
    wide = max(len(trail) * _STEP + 8, 40)
    return _picture(tall, [line_, *drawn], "A journey, step by step", wide)


def track(stages: Sequence[tuple[str, int]]) -> str:
    """A funnel as a track that narrows from stage to stage."""
    most, wide, tall = max([count for _, count in stages], default=1) or 1, 130, 90
    drawn = []
    for i, (name, count) in enumerate(stages):
        half = max(count / most * tall / 2, 0.5)
        after = stages[i + 1][1] if i + 1 < len(stages) else count
        end, x = max(after / most * tall / 2, 0.5), i * wide
        middle = tall / 2 + 24
        corners = (
            (x, middle - half), (x + 40, middle - half), (x + wide, middle - end),
            (x + wide, middle + end), (x + 40, middle + half), (x, middle + half),
        )  # fmt: skip
        points = " ".join(f"{a:.1f},{b:.1f}" for a, b in corners)
        drawn.append(f'<polygon points="{points}" fill="{MOSS}" opacity="0.75"/>')
        label = name if len(name) <= 17 else f"{name[:16]}…"
        drawn.append(f'<text x="{x + 2}" y="15" fill="{INK}">{escape(label)}</text>')
        said = f"{count:,} · {percent(count / most)}"
        drawn.append(f'<text x="{x + 2}" y="{tall + 42}" fill="{SOFT}">{said}</text>')
    return _picture(tall + 50, drawn, "A funnel, stage by stage", len(stages) * wide + 4)
