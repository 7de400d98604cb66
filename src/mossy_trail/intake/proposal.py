"""Which column is which field, and what words mean: proposed from names and values."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import pyarrow as pa

from mossy_trail.intake.mapping import Mapping, column, columns_of
from mossy_trail.intake.patterns import find, propose_patterns
from mossy_trail.intake.rows import FIELDS
from mossy_trail.intake.times import BAD, recognise
from mossy_trail.intake.words import looks_like_view, meaning, outcome_of, plain

_KNOWN = 0.05
"""So few words of a column may be known events by chance."""
_SEEN = 4000
"""Rows that a proposal looks at, from all over the table."""
_ENOUGH, _SURE = 4, 7
"""A column with less to speak for it is not proposed, or not as an account."""
_INSTALL = re.compile(
    r"(install|installation|device|client|visitor|browser|anonymous)_(id|key|uuid)"
)
_NAMES = {
    "time": "time timestamp ts date datetime when at occurred moment clock created",
    "user": (
        "user uid visitor install client device person account member customer who subject "
        "subscriber anonymous anon pseudonym"
    ),
    "account": "",
    "session": "session visit sitting sid trace case",
    "order": "order seq sequence ordinal",
    "event": "event action kind type happening verb activity what",
    "screen": "screen page view scene place",
    "from": "from previous prev origin before referrer referer",
    "tab": "tab section",
    "uri": "uri url link href deeplink",
    "source": "source channel medium",
    "outcome": "outcome result status success",
    "params": "params parameters args arguments properties payload",
    "count": "count",
    "via": "via",
}
_LEFT = set("from previous prev origin before last referrer referer source left".split())
_PLACES = set("screen page view scene route place path url location fragment".split())
_NO_NAME = set(
    "agent email mail model type os platform version lang language locale country city ip phone "
    "mobile width height size resolution count number duration index role plan age gender tz "
    "timezone orientation density brand category label value".split()
)
"""Words that make a name one of a property, whatever else it says: user_agent, device_model."""
_LATER = set(
    "received receive server ingested ingest loaded processed uploaded sent stored".split()
)
"""A time of these is when the row arrived, not when it happened."""
_PERSONAL = re.compile(
    r"(^|_)(e?_?mail|phone|mobile|msisdn|(first|last|full|family|given|user|customer)_?name|surname"
    r"|birth\w*|dob|address|street|card|iban|lat|lon|lng|latitude|longitude|gps)(_|$)"
)
_EMAIL = r"^[^@\s]+@[^@\s]+\.\w+$"
_CARD = r"^(\d{4}[ -]?){3,4}\d{1,4}$"
_CALLED = r"^\+\d[\d ()-]{7,}$"
_DAY_ONLY = (
    r"^\s*(\d{4}[-/.]\d\d?[-/.]\d\d?|\d\d?[-/.]\d\d?[-/.]\d{4}"
    r"|\d\d? \w+ \d{4}|\w+ \d\d?,? \d{4})\s*$"
)
_CLOCK_ONLY = (
    r"^\s*\d{1,2}:\d\d(:\d\d([.,]\d+)?)?(\s*[AaPp]\.?[Mm]\.?)?(\s*(Z|UTC|[+-]\d\d:?\d\d))?\s*$"
)


@dataclass(frozen=True)
class Doubt:
    """Something that a person should look at."""

    about: str
    """A field, “words” or “left_out”."""
    says: str


@dataclass(frozen=True)
class Proposal:
    mapping: Mapping
    reasons: dict[str, str]
    """Per field, why its column was chosen."""
    exact: bool
    """The columns are named as the fields are: there is nothing to ask."""
    doubts: list[Doubt] = field(default_factory=list)


def propose(table: pa.Table) -> Proposal:
    """A mapping for a file with these rows."""
    sample = _sample(table)
    if named_as_fields(table.column_names):
        own = [name for name in FIELDS if name in table.column_names]
        # All fields, since later rows may have some that the first have not.
        itself = Mapping({name: [name] for name in FIELDS})
        reasons = dict.fromkeys(own, "named as the field is")
        return _with_times(Proposal(itself, reasons, True), sample)
    columns = {name: _Values(column(sample, name)) for name in columns_of(sample)}
    fields, reasons = _fields(columns)
    for name in ("event", "screen", "uri"):
        if chosen := fields.get(name):  # of these, rare values matter too
            columns[chosen[0]] = _Values(column(table, chosen[0]))
    proposal = Proposal(Mapping(fields), reasons, False)
    for better in _STEPS:
        proposal = better(proposal, columns)
    return _with_times(proposal, sample)


def named_as_fields(columns: Sequence[str]) -> bool:
    """Whether the columns that each row needs bear our own names."""
    return not Mapping({name: [name] for name in FIELDS if name in columns}).missing


def _sample(table: pa.Table) -> pa.Table:
    """Some rows of the beginning, which are neighbours, and some of all the rest."""
    if table.num_rows <= _SEEN:
        return table
    first = _SEEN // 2
    rest = np.linspace(first, table.num_rows - 1, _SEEN - first).astype("int64")
    return table.take(pa.array(np.concatenate([np.arange(first), np.unique(rest)])))


class _Values:
    """What can be told of a column from its values; shares are of those that are there."""

    def __init__(self, values: pa.ChunkedArray) -> None:
        self.all: list[str | None] = values.to_pylist()
        self.texts = [text for text in self.all if text]
        self.counts = Counter(self.texts)

    @property
    def distinct(self) -> int:
        return len(self.counts)

    def share(self, fits: str | Callable[[str], object]) -> float:
        test = (lambda text: re.search(fits, text)) if isinstance(fits, str) else fits
        fitting = sum(count for text, count in self.counts.items() if test(text))
        return fitting / max(len(self.texts), 1)

    @cached_property
    def times(self) -> float:
        """Share that can be read as a moment between 1990 and 2100."""
        if not self.texts:
            return 0.0
        some = self.texts[:500]
        read = recognise(some)[0].read(pa.chunked_array([pa.array(some)]))
        return float(((read != BAD) & (read > 631e12) & (read < 4.1e15)).mean())

    @cached_property
    def events(self) -> float:
        """Share of words that are known, or in which a pattern finds a screen."""
        known = self.share(meaning)
        patterns = propose_patterns(self.counts) if known < 1 and not self.share(r"^/|://") else []
        return known + (
            self.share(lambda w: not meaning(w) and find(patterns, w)) if patterns else 0
        )

    @property
    def each(self) -> float:
        """Rows per value."""
        return len(self.texts) / max(self.distinct, 1)

    @cached_property
    def names_people(self) -> bool:
        """Whether values look like ids, several rows each."""
        return self.share(_EMAIL) < 0.5 and self.share(r"\s|/|\(") < 0.5


# Fields.


def _fields(columns: dict[str, _Values]) -> tuple[dict[str, list[str]], dict[str, str]]:
    judged = [
        (points, -FIELDS.index(name), name, source, reason)
        for source, values in columns.items()
        for name in FIELDS
        for points, reason in [_judge(name, source, values)]
        if points >= _ENOUGH
    ]
    fields: dict[str, list[str]] = {}
    reasons: dict[str, str] = {}
    taken: set[str] = set()
    users = [(source, points) for points, _, name, source, _ in judged if name == "user"]
    install = next((s for s, _ in users if _INSTALL.fullmatch(plain(s))), None)
    account = next((s for s, points in users if s != install and points >= _SURE), None)
    if install and account:
        fields, taken = {"user": [install], "account": [account]}, {install, account}
        reasons = {"user": "an install's id", "account": "who was signed in there"}
    for _, _, name, source, reason in sorted(judged, key=lambda j: (-j[0], -j[1])):
        if name not in fields and source not in taken:
            fields[name], reasons[name] = [source], reason
            taken.add(source)
    return _left_apart(fields, columns), reasons


def _left_apart(fields: dict[str, list[str]], columns: dict[str, _Values]) -> dict[str, list[str]]:
    """The screen and the one that was left, told apart by what the row before showed."""
    if not {"screen", "from"} <= set(fields):
        return fields
    screen, left = (columns[fields[name][0]].all for name in ("screen", "from"))
    if _follows(screen, left) < _follows(left, screen) - 0.2:
        return {**fields, "screen": fields["from"], "from": fields["screen"]}
    return fields


def _follows(shown: Sequence[str | None], left: Sequence[str | None]) -> float:
    """Share of rows that leave the screen that the row before them showed."""
    pairs = [(a, b) for a, b in zip(shown, left[1:], strict=False) if a and b]
    return sum(a == b for a, b in pairs) / max(len(pairs), 1)


def _judge(name: str, source: str, values: _Values) -> tuple[int, str]:
    """How much speaks for this column as that field, and what."""
    if not values.texts or (name != "params" and values.share(r"^\s*[{\[]") > 0.5):
        return 0, ""
    points = _name_points(name, source)
    named = f"named like the field “{name}”" if points else ""
    if name == "time":
        share = values.times
        enough = share > (0.5 if points else 0.9)
        late = 3 if _LATER & set(plain(source).split("_")) else 0
        return (points + 4 - late, _why(named, f"{share:.0%} are times")) if enough else (0, "")
    if name == "event":
        share = values.events
        if values.distinct > 500 or (share < 0.3 and not points):
            return 0, ""
        return points + round(6 * share), _why(named, f"{share:.0%} are words for events")
    if not points:
        return 0, ""
    fits: dict[str, str | Callable[[str], object]] = {
        "order": r"^\d{1,18}$",
        "count": r"^\d{1,9}$",
        "params": r"^\s*\{",
        "uri": r"://|^/",
        "screen": r"\D",
        "tab": r"\D",
        "from": r"\D",
        "outcome": outcome_of,
    }
    if name in fits and values.share(fits[name]) < 0.8:
        return 0, ""
    if name == "order" and len(values.texts) < 0.9 * len(values.all):
        return 0, ""
    if name in ("user", "session", "screen", "from", "tab") and values.times > 0.9:
        return 0, ""
    if name in ("user", "account") and not values.names_people:
        return 0, ""
    if name == "user" and values.each < 1.2 and len(values.texts) > 50:
        return 0, ""  # one row each: the rows' own ids
    return points, named


def _why(*parts: str) -> str:
    return ", and ".join(part for part in parts if part)


def _name_points(name: str, source: str) -> int:
    """How much a column's name speaks for a field; of a path, its last part more than the rest."""
    last = source.rpartition(".")[2]
    return max(_points(name, plain(last)), min(_points(name, plain(source)), _ENOUGH + 1))


def _points(name: str, given: str) -> int:
    words, tokens = _NAMES[name].split(), given.split("_")
    if given == name:
        return 10
    some = set(tokens)
    if name in ("user", "account", "session", "screen", "from", "tab", "event") and some & _NO_NAME:
        return 8 if given in words else 0
    if some & _LEFT and some & _PLACES:
        return 8 if name == "from" else 0
    if given in words:
        return 8
    if name == "screen" and some & {"to", "target", "current", "destination", "next"}:
        return 8 if some & _PLACES else 0
    if tokens[0] in words and tokens[-1] in (
        "id",
        "name",
        "key",
        "at",
        "utc",
        "ms",
        "word",
        "uuid",
    ):
        return 7
    if tokens[-1] in words:
        return 5
    return 4 if some & set(words) else 0


# What makes a proposal better than names and values of single columns do.


def _with_clock(proposal: Proposal, columns: dict[str, _Values]) -> Proposal:
    """A column of days needs the column of times of day beside it."""
    chosen = proposal.mapping.fields.get("time")
    days = [name for name, values in columns.items() if values.share(_DAY_ONLY) > 0.9]
    if chosen and chosen[0] not in days:
        return proposal
    clocks = [name for name, values in columns.items() if values.share(_CLOCK_ONLY) > 0.9]
    if not days or not clocks:
        return proposal
    day = chosen[0] if chosen else days[0]
    fields = {**proposal.mapping.fields, "time": [day, clocks[0]]}
    reasons = {**proposal.reasons, "time": "a column of days and one of times of day"}
    return replace(proposal, mapping=replace(proposal.mapping, fields=fields), reasons=reasons)


def _with_patterns(proposal: Proposal, columns: dict[str, _Values]) -> Proposal:
    """Screens inside words, or inside addresses where no column names them."""
    fields, reasons = dict(proposal.mapping.fields), dict(proposal.reasons)
    patterns: list[str] = []
    if words := fields.get("event"):
        told = {w: n for w, n in columns[words[0]].counts.items() if not meaning(w)}
        patterns = propose_patterns(told) if told and "://" not in next(iter(told)) else []
    if "screen" not in fields and not patterns and (address := _address(fields, columns)):
        fields["screen"] = [address]
        reasons["screen"] = "addresses of what was shown"
        if fields.get("uri") == [address]:
            del fields["uri"], reasons["uri"]
    if screen := fields.get("screen"):
        patterns += propose_patterns(columns[screen[0]].counts)
    mapping = replace(proposal.mapping, fields=fields, patterns=patterns)
    return replace(proposal, mapping=mapping, reasons=reasons)


def _address(fields: dict[str, list[str]], columns: dict[str, _Values]) -> str | None:
    """A column of addresses, other than of those that were left."""
    left = fields.get("from", [])
    found = [
        name
        for name, values in columns.items()
        if name not in left and values.texts and values.share(r"^https?://|^/\S*$") > 0.9
        if not _LEFT & set(plain(name).split("_"))
    ]
    named = [name for name in found if _PLACES & set(plain(name).split("_"))]
    return next(iter([*named, *found]), None)


def _with_screens(proposal: Proposal, columns: dict[str, _Values]) -> Proposal:
    """Words of which none is known, in a log that names no screen, are taken for its screens."""
    mapping = proposal.mapping
    words = mapping.fields.get("event")
    if not words or "screen" in mapping.fields or mapping.patterns:
        return proposal
    if columns[words[0]].events > _KNOWN:
        return proposal
    fields = {name: of for name, of in mapping.fields.items() if name != "event"}
    reasons = {name: why for name, why in proposal.reasons.items() if name != "event"}
    reasons["screen"] = "no column names screens, and none of its words is known"
    says = f"the words of “{words[0]}” are taken for screens, as none is a known event"
    doubts = [*proposal.doubts, Doubt("screen", says)]
    mapping = replace(mapping, fields={**fields, "screen": words})
    return replace(proposal, mapping=mapping, reasons=reasons, doubts=doubts)


def _with_words(proposal: Proposal, columns: dict[str, _Values]) -> Proposal:
    """What the words mean, where they do not mean it by themselves."""
    mapping, doubts = proposal.mapping, list(proposal.doubts)
    words = columns[mapping.fields["event"][0]].counts if "event" in mapping.fields else Counter()
    unread = {w: n for w, n in words.items() if not (meaning(w) or find(mapping.patterns, w))}
    events = {w: m for w in words if (m := meaning(w)) and m != w and not find(mapping.patterns, w)}
    shown = "screen" in mapping.fields
    if "event" in mapping.fields and not shown and not mapping.patterns:
        doubts.append(Doubt("screen", "no column is known to name screens"))
    for word, count in sorted(unread.items(), key=lambda item: -item[1]):
        if shown and looks_like_view(word):
            events[word] = "screen_view"
            doubts.append(Doubt("words", f"“{word}” ({count:,} rows) is taken for a view"))
    return replace(proposal, mapping=replace(mapping, events=events), doubts=doubts)


def _with_user(proposal: Proposal, columns: dict[str, _Values]) -> Proposal:
    """Where no name tells the user: ids that have whole sessions; or an e-mail, hashed."""
    mapping, reasons = proposal.mapping, dict(proposal.reasons)
    if "user" in mapping.fields:
        return proposal
    taken = {name for names in mapping.fields.values() for name in names}
    free = {name: values for name, values in columns.items() if name not in taken}
    mails = [name for name, values in free.items() if values.share(_EMAIL) > 0.8]
    if mails:
        fields, hashed = {**mapping.fields, "user": [mails[0]]}, [*mapping.hashed, mails[0]]
        reasons["user"] = "e-mail addresses, to be kept only as hashes"
        doubt = Doubt("user", "only e-mail addresses tell people apart; they are hashed")
        mapping = replace(mapping, fields=fields, hashed=hashed)
        return replace(proposal, mapping=mapping, reasons=reasons, doubts=[*proposal.doubts, doubt])
    ids = [name for name, values in free.items() if _may_be_people(values)]
    source = next(iter(ids), None) or next(iter(mapping.fields.get("session", [])), None)
    if source is None:
        return proposal
    reasons["user"] = "ids with several rows each"
    doubt = Doubt("user", f"nothing names the user; “{source}” is taken, as it has ids")
    mapping = replace(mapping, fields={**mapping.fields, "user": [source]})
    return replace(proposal, mapping=mapping, reasons=reasons, doubts=[*proposal.doubts, doubt])


def _may_be_people(values: _Values) -> bool:
    enough = len(values.texts) > 0.95 * len(values.all) and values.distinct >= 2
    ids = values.share(r"^(?=.*\d)[\w:.-]{4,}$") > 0.9 and values.times < 0.5
    return enough and ids and values.each >= 2 and values.distinct > 0.005 * len(values.texts)


def _with_privacy(proposal: Proposal, columns: dict[str, _Values]) -> Proposal:
    """Columns that look like names, addresses and the like are left out, if they are no field."""
    taken = {name for names in proposal.mapping.fields.values() for name in names}
    personal = [
        name
        for name, values in columns.items()
        if name not in taken and not any(used.startswith(f"{name}.") for used in taken)
        if _PERSONAL.search(plain(name.rpartition(".")[2]))
        or any(values.texts and values.share(form) > 0.5 for form in (_EMAIL, _CARD, _CALLED))
    ]
    if not personal:
        return proposal
    names = ", ".join(f"“{name}”" for name in personal)
    doubt = Doubt("left_out", f"{names}: looks personal, and is left out")
    mapping = replace(proposal.mapping, left_out=personal)
    return replace(proposal, mapping=mapping, doubts=[*proposal.doubts, doubt])


def _with_times(proposal: Proposal, sample: pa.Table) -> Proposal:
    """The proposal, with how its times are to be read."""
    columns = proposal.mapping.fields.get("time")
    if not columns:
        return proposal
    parts = [column(sample, name).to_pylist() for name in columns]
    texts = [" ".join(filter(None, cells)) for cells in zip(*parts, strict=True)]
    times, why = recognise([text for text in texts if text])
    reasons = {**proposal.reasons, "time": _why(proposal.reasons["time"], why)}
    doubts = list(proposal.doubts)
    if "check it" in why or "without a zone" in why:
        doubts.append(Doubt("time", f"times are {why}" if why.startswith("without") else why))
    if texts and all(re.match(_DAY_ONLY, text) for text in texts if text):
        doubts.append(Doubt("time", "these are days without a time of day: every row at midnight"))
    mapping = replace(proposal.mapping, times=times)
    return replace(proposal, mapping=mapping, reasons=reasons, doubts=doubts)


_STEPS = (_with_clock, _with_patterns, _with_screens, _with_words, _with_user, _with_privacy)
