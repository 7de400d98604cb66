"""Small pictures of figures, as SVG: for reports, which have no scripts."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

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


def _picture(tall: int, drawn: Sequence[str], title: str) -> str:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_WIDE} {tall}" width="{_WIDE}" '
        f'height="{tall}" role="img" {_STYLE}><title>{title}</title>{"".join(drawn)}</svg>'
    )


def _short(name: str) -> str:
    return name if len(name) <= 26 else f"{name[:25]}…"
