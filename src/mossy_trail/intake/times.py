"""Reading times: RFC 3339 text, other dates, or Unix time in any unit."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

BAD = np.iinfo("int64").min
"""Stands for a time that could not be read."""

NANOSECONDS_IN = {"seconds": 10**9, "milliseconds": 10**6, "microseconds": 1000, "nanoseconds": 1}
DAY_FIRST, MONTH_FIRST = "day first", "month first"
FORMS = ("recognised", *NANOSECONDS_IN, DAY_FIRST, MONTH_FIRST)
_BETWEEN_FORMATS = " | "
_MOST_FORMATS = 6

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_SIZES = ((10**11, "seconds"), (10**14, "milliseconds"), (10**17, "microseconds"))
"""Below which size a number counts which unit; above, nanoseconds."""
_ZONELESS = (
    r"^\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])[T ]"
    r"([01]\d|2[0-3]):[0-5]\d(:[0-5]\d(\.\d{1,6})?)?$"
)
_RFC_3339 = _ZONELESS.removesuffix("$") + r"(Z|[+-]\d\d:?\d\d)$"
_ZONED, _PLAIN = pa.timestamp("us", "UTC"), pa.timestamp("us")
_NUMBER = r"^\s*-?\d{1,19}(\.\d+)?\s*$"
_DATE = re.compile(r"\s*(\d{1,2})([./-])(\d{1,2})[./-](\d{4})\b[,T ]*(.*)", re.S)


@dataclass(frozen=True)
class Times:
    """How a column of times is read.

    `form` is one of `FORMS` (whether days, months or which unit a number counts), or says how
    moments are written: formats as of strftime, with `%.f` for a fraction, parted by ` | `. `zone`
    is the IANA name of the zone that times without one are in.
    """

    form: str = FORMS[0]
    zone: str = "UTC"

    def read(self, column: pa.ChunkedArray) -> NDArray[np.int64]:
        """Microseconds since 1970 in UTC per value; `BAD` where there is no time to read.

        Where the form is to be recognised, the unit of a number is told by its size: it is the
        one that puts the moment between 1973 and 2286.
        """
        if pa.types.is_timestamp(column.type):
            moments = pa.timestamp("us", column.type.tz)
            return _plain(self._in_zone(column.cast(moments, safe=False)))
        column = column.cast(pa.string())
        if "%" in self.form:
            return self._written(column)
        if self.form in (DAY_FIRST, MONTH_FIRST):
            texts = [self._iso(text) if text else text for text in column.to_pylist()]
            column = pa.chunked_array([pa.array(texts, pa.string())])
        elif _all_whole(column):
            return self._scaled(_plain(column.cast(pa.int64())))
        for zone in (_ZONED, _PLAIN):
            try:
                return _plain(self._in_zone(column.cast(zone)))
            except pa.ArrowInvalid:
                continue
        return self._mixed(column)

    def _written(self, column: pa.ChunkedArray) -> NDArray[np.int64]:
        """Moments as the formats say, each value by the first that fits."""
        texts = pl.Series(column).str.strip_chars()
        found = np.full(len(column), BAD)
        for form in self.form.split(_BETWEEN_FORMATS):
            left = found == BAD
            zoned = form.endswith("z")
            kind = pl.Datetime("us", "UTC" if zoned else None)
            rest = texts.filter(pl.Series(left))
            moments = rest.str.strptime(kind, form, strict=False).to_arrow()
            told_as_utc = zoned or re.search(r"(UTC|GMT|Z)$", form)
            column = pa.chunked_array([moments])
            found[left] = _plain(column if told_as_utc else self._in_zone(column))
        return found

    def _mixed(self, column: pa.ChunkedArray) -> NDArray[np.int64]:
        """Texts of the usual forms are cast together, the others read one by one."""
        found = np.full(len(column), BAD)
        left = np.ones(len(column), bool)
        for zone, form in ((_ZONED, _RFC_3339), (_PLAIN, _ZONELESS)):
            fits = np.asarray(pc.fill_null(pc.match_substring_regex(column, form), False))
            try:
                found[fits] = _plain(self._in_zone(column.filter(pa.array(fits)).cast(zone)))
            except pa.ArrowInvalid:  # a day like 31 February
                continue
            left &= ~fits
        rest = column.filter(pa.array(left)).to_pylist()
        found[left] = [self._one(text) for text in rest]
        return found

    def _in_zone(self, moments: pa.ChunkedArray) -> pa.ChunkedArray:
        """Moments in UTC. An hour that the clocks skip in spring counts as the one after it."""
        if moments.type.tz or self.zone == "UTC":
            return moments.cast(_ZONED) if moments.type.tz else moments

        def local(times: pl.Series) -> pl.Series:
            return times.dt.replace_time_zone(self.zone, ambiguous="earliest", non_existent="null")

        times = pl.Series(moments)
        zoned = local(times)
        if zoned.null_count() > times.null_count():
            zoned = zoned.zip_with(zoned.is_not_null(), local(times + timedelta(hours=1)))
        return pa.chunked_array([zoned.dt.convert_time_zone("UTC").to_arrow()])

    def _scaled(self, numbers: NDArray[np.int64]) -> NDArray[np.int64]:
        """Numbers of the form's unit, or of that which their size tells, in microseconds."""
        size = np.abs(numbers)
        if self.form in NANOSECONDS_IN:
            unit = np.full(len(numbers), NANOSECONDS_IN[self.form])
        else:
            unit = np.select(
                [size < top for top, _ in _SIZES], [NANOSECONDS_IN[name] for _, name in _SIZES], 1
            )
        factor = np.maximum(unit // 1000, 1)
        fits = size <= np.iinfo("int64").max // factor
        scaled = np.where(unit == 1, numbers // 1000, np.where(fits, numbers, 0) * factor)
        return np.where((numbers == BAD) | ~fits, BAD, scaled)

    def _iso(self, text: str) -> str:
        """A date of the form 4.5.2026 or 5/4/2026 with its year first."""
        found = _DATE.fullmatch(text)
        if not found:
            return text
        first, _, second, year, rest = found.groups()
        day, month = (first, second) if self.form == DAY_FIRST else (second, first)
        return f"{year}-{month:>02}-{day:>02}" + (f" {rest}" if rest else "")

    def _one(self, text: str | None) -> int:
        if text is None:
            return int(BAD)
        text = text.strip()
        if re.match(_NUMBER, text):
            whole, _, fraction = text.partition(".")
            if not fraction:
                return (
                    int(self._scaled(np.array([int(whole)], "int64"))[0]) if _fits(whole) else BAD
                )
            unit = self.form if self.form in NANOSECONDS_IN else _unit_of(abs(float(text)))
            return _held(round(float(text) * NANOSECONDS_IN[unit] / 1000))
        try:
            moment = datetime.fromisoformat(text)
            if moment.tzinfo is None:
                moment = moment.replace(tzinfo=ZoneInfo(self.zone))
            delta = moment - _EPOCH
        except (ValueError, OverflowError):
            return int(BAD)
        return (delta.days * 86_400 + delta.seconds) * 1_000_000 + delta.microseconds


def _all_whole(column: pa.ChunkedArray) -> bool:
    """Whether every value is a whole number; told by the first where that is none."""
    if not (len(column) and re.fullmatch(r"-?\d{1,18}", column[0].as_py() or "")):
        return False
    whole = pc.match_substring_regex(column, r"^-?\d{1,18}$")
    return bool(pc.all(whole, skip_nulls=False).as_py())


def _unit_of(size: float) -> str:
    return next((unit for top, unit in _SIZES if size < top), "nanoseconds")


def _fits(whole: str) -> bool:
    return abs(int(whole)) < 2**63


def _held(microseconds: int) -> int:
    return microseconds if abs(microseconds) < 2**63 else int(BAD)


def _plain(column: pa.ChunkedArray) -> NDArray[np.int64]:
    return np.asarray(pc.fill_null(column.cast(pa.int64()), int(BAD)).to_numpy(), "int64")


def is_written_form(form: str) -> bool:
    """Whether these are formats that moments can be read by."""
    parts = form.split(_BETWEEN_FORMATS)
    if len(parts) > _MOST_FORMATS or not all("%" in part and len(part) < 100 for part in parts):
        return False
    try:
        Times(form).read(pa.chunked_array([pa.array(["2026-05-04"])]))
    except pl.exceptions.PolarsError:
        return False
    return True


def recognise(texts: Sequence[str]) -> tuple[Times, str]:
    """How times that look like these are to be read, and why; zone-less ones as UTC."""
    times, why = _usual(texts)
    bad = _unread(times, texts)
    if (
        bad > 0.5 * len(texts)
        and (written := _by_format(texts))
        and _unread(written[0], texts) < bad
    ):
        return written
    return times, why


def _unread(times: Times, texts: Sequence[str]) -> int:
    return int((times.read(pa.chunked_array([pa.array(texts, pa.string())])) == BAD).sum())


def _usual(texts: Sequence[str]) -> tuple[Times, str]:
    dates = [found.groups() for text in texts if (found := _DATE.fullmatch(text))]
    if len(dates) > len(texts) / 2:
        first, why = _day_or_month([(int(a), int(b)) for a, _, b, *_ in dates])
        return Times(first), why
    numbers = [float(text) for text in texts if re.match(_NUMBER, text)]
    if numbers and len(numbers) == len(texts):
        return Times(), f"Unix time in {_unit_of(abs(numbers[0]))}"
    full = [text.strip() for text in texts if re.match(r"\s*\d{4}-\d\d-\d\d.", text)]
    zoned = all(re.search(r"(Z|[+-]\d\d:?\d\d)$", text) for text in full)
    return Times(), "" if zoned else "without a zone, so taken as UTC"


def _day_or_month(pairs: Sequence[tuple[int, int]]) -> tuple[str, str]:
    """Which of two numbers of each date is the day, and why."""
    if any(first > 12 for first, _ in pairs):
        return DAY_FIRST, "days come before months, as some are above 12"
    if any(second > 12 for _, second in pairs):
        return MONTH_FIRST, "months come before days, as some days are above 12"
    return DAY_FIRST, "days are taken to come before months; check it"


_WRITTEN = re.compile(
    r"\s*(?P<week>[A-Za-z]{3,9},?\s+)?"
    r"(?:(?P<iso>\d{4}([-/.])\d{1,2}\3\d{1,2})"
    r"|(?P<numbers>\d{1,2}([-/.])\d{1,2}\5\d{4})"
    r"|(?P<month>[A-Za-z]{3,9}\.?\s+\d{1,2}(?:st|nd|rd|th)?,?\s+\d{4})"
    r"|(?P<day>\d{1,2}([ /-])[A-Za-z]{3,9}\.?\8\d{4})"
    r"|(?P<packed>\d{8}))"
    r"(?P<joint>\s*[T,:]?\s*(?:at\s+)?)"
    r"(?P<clock>(?P<hour>\d{1,2}):\d\d(?P<seconds>:\d\d)?(?P<fraction>[.,]\d+)?"
    r"(?P<half>\s*[AaPp]\.?[Mm]\.?)?)?"
    r"(?P<gap>\s*)(?P<zone>UTC|GMT|Z|[+-]\d\d:?\d\d)?\s*"
)


def _by_format(texts: Sequence[str]) -> tuple[Times, str] | None:
    """The formats that these texts are written in, if most of them are in a few."""
    found = [fits for text in texts[:2000] if (fits := _WRITTEN.fullmatch(text))]
    if len(found) < 0.5 * len(texts[:2000]):
        return None
    pairs = [
        (int(a), int(b))
        for one in found
        if one["numbers"]
        for a, b, _ in [re.split(r"[-/.]", one["numbers"])]
    ]
    first, why = _day_or_month(pairs) if pairs else (DAY_FIRST, "")
    counts = Counter(_format(one, first == DAY_FIRST) for one in found)
    forms = [form for form, _ in counts.most_common(_MOST_FORMATS)]
    zoned = all(one["zone"] for one in found)
    reasons = [why, "" if zoned else "without a zone, so taken as UTC"]
    return Times(_BETWEEN_FORMATS.join(forms)), ", and ".join(filter(None, reasons))


def _format(found: re.Match[str], day_first: bool) -> str:
    date = ""
    if found["iso"]:
        date = f"%Y{found[3]}%m{found[3]}%d"
    elif found["numbers"]:
        date = f"%d{found[5]}%m{found[5]}%Y" if day_first else f"%m{found[5]}%d{found[5]}%Y"
    elif found["month"]:
        date = re.sub(r"^[A-Za-z]+", "%B", found["month"])
        date = re.sub(r"\d{4}$", "%Y", re.sub(r"(?<=\s)\d{1,2}", "%d", date, count=1))
    elif found["day"]:
        date = f"%d{found[8]}%B{found[8]}%Y"
    else:
        date = "%Y%m%d"
    week = re.sub("[A-Za-z]+", "%A", found["week"] or "")
    clock = ""
    if found["clock"]:
        clock = "%I:%M" if found["half"] else "%H:%M"
        clock += (":%S" if found["seconds"] else "") + ("%.f" if found["fraction"] else "")
        clock += re.sub(r"\S+", "%p", found["half"] or "")
    zone = found["zone"] or ""
    if zone[:1] in ("+", "-"):
        zone = "%:z" if ":" in zone else "%z"
    joint = found["joint"] if found["clock"] else found["joint"].rstrip()
    return week + date + joint + clock + (found["gap"] if zone else "") + zone
