"""Which column is which field, and which word is which event: proposed from names and values."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

from mossy_trail.core.log import EVENT
from mossy_trail.intake.rows import FIELDS
from mossy_trail.intake.times import BAD, Times, recognise

JOINT = "/"
"""Stands between the parts of a value that is made of several columns."""
_SEEN = 2000
"""Rows that a proposal looks at."""
_ENOUGH, _SURE = 4, 7
"""A column with less to speak for it is not proposed, or not as an account."""
_INSTALL = re.compile(
    r"(install|installation|device|client|visitor|browser|anonymous)_(id|key|uuid)"
)

_NAMES = {
    "time": "time timestamp ts date datetime when at occurred moment",
    "user": "user uid visitor install client device person account member customer who",
    "account": "",
    "session": "session visit sitting",
    "order": "order seq sequence ordinal",
    "event": "event action kind type happening verb",
    "screen": "screen page view scene place",
    "from": "from previous prev origin before",
    "tab": "tab section",
    "uri": "uri url link href deeplink",
    "source": "source channel medium",
    "outcome": "outcome result",
    "params": "params parameters args arguments",
    "count": "count",
    "via": "via",
}
_WORDS = {
    "screen_view": (
        "view viewed page_view page_viewed page_shown screen_viewed screen_shown shown show seen "
        "appear appeared displayed impression did_appear view_did_appear view_appeared on_appear "
        "did_focus screen_focus screen_focused page_enter page_show pageshow route_shown screen "
        "page"
    ),
    "navigate": (
        "navigate navigated navigation navigate_to go go_to goto open_screen hashchange "
        "hash_change location_change route_change route_changed"
    ),
    "traverse": (
        "back go_back went_back back_nav return popstate pop_state pop_back_stack navigate_back "
        "navigate_up maybe_pop back_pressed back_press back_button system_back hardware_back"
    ),
    "push": (
        "forward_nav enter went_in next push_state pushed push_route push_screen push_named "
        "push_view_controller start_activity"
    ),
    "pop": "popped pop_route pop_screen pop_view_controller",
    "pop_to": (
        "pop_to_top pop_to_root pop_until pop_to_screen pop_to_view_controller "
        "pop_to_root_view_controller back_to_top"
    ),
    "replace": (
        "swap replaced replace_state replace_route replace_screen replace_with redirect_to "
        "push_replacement push_replacement_named"
    ),
    "reset": (
        "reset_root reset_to re_launch relaunch clear_stack set_root set_root_view_controller "
        "push_and_remove_until push_named_and_remove_until"
    ),
    "switch_tab": (
        "tab tab_select tab_tapped tab_selected change_tab select_tab tab_change tab_press "
        "tab_pressed tab_switched jump_to"
    ),
    "open_modal": (
        "modal sheet dialog popup open_sheet open_dialog sheet_open dialog_open modal_open "
        "modal_opened sheet_opened present presented present_modal present_view_controller "
        "show_modal show_dialog show_sheet show_bottom_sheet open_drawer drawer_open drawer_opened"
    ),
    "close_modal": (
        "dismiss dismissed close_sheet close_dialog sheet_close dialog_close modal_close "
        "modal_closed sheet_closed dismiss_modal dismiss_view_controller hide_modal hide_dialog "
        "close_drawer drawer_close drawer_closed"
    ),
    "update": "set_params update_params params_changed",
    "forward": "go_forward forward_pressed",
    "redirect": "redirected",
    "open_link": (
        "deeplink deep_link link link_open link_opened deep_link_opened open_url opened_url "
        "url_opened universal_link"
    ),
    "app_start": "start launch launched boot app_open app_launch cold_start did_finish_launching",
    "app_background": (
        "background pause paused suspend hidden backgrounded app_backgrounded app_paused "
        "enter_background entered_background"
    ),
    "app_foreground": (
        "foreground resume resumed visible foregrounded app_foregrounded app_resumed "
        "become_active enter_foreground will_enter_foreground entered_foreground"
    ),
    "app_recreate": "reload reloaded page_reload",
    "app_exit": "exit quit terminated app_close will_terminate",
    "sign_in": "login log_in signin",
    "sign_out": "logout log_out signout",
    "sign_up": "register registration signup",
}
_PREFIX = re.compile(r"(navigation|nav|router|route|history|stack|did|on)_")
"""What libraries put before the words of their events."""
_EVENT_OF = {word: event for event, words in _WORDS.items() for word in words.split()}


@dataclass(frozen=True)
class Mapping:
    """How a file is read.

    `fields`: per field the columns that make it up; of a nested value, a dotted path.
    `constants`: fields that are the same in every row. `events`: what the file's words mean.
    Columns that make up no field are properties.
    """

    fields: dict[str, list[str]] = field(default_factory=dict)
    constants: dict[str, str] = field(default_factory=dict)
    events: dict[str, str] = field(default_factory=dict)
    """A word that is not in here, as the first rows did not have it, is taken as proposed."""
    times: Times = field(default_factory=Times)

    @classmethod
    def of(cls, document: dict[str, Any]) -> Mapping:
        """The mapping that `dataclasses.asdict` made this of."""
        return cls(**{**document, "times": Times(**document.get("times", {}))})

    @property
    def missing(self) -> list[str]:
        """Fields without which no row can be used; `screen` stands for event or screen."""
        given = {name for name, columns in self.fields.items() if columns} | {
            name for name, value in self.constants.items() if value
        }
        missing = [name for name in ("time", "user") if name not in given]
        return missing if given & {"event", "screen"} else [*missing, "screen"]


@dataclass(frozen=True)
class Proposal:
    mapping: Mapping
    reasons: dict[str, str]
    """Per field, why its column was chosen."""
    exact: bool
    """The columns are named as the fields are: there is nothing to ask."""


def shape_of(columns: Sequence[str]) -> str:
    """A fingerprint of a file's columns: files of one shape are read alike."""
    return hashlib.sha256("\n".join(sorted(columns)).encode()).hexdigest()[:32]


def columns_of(table: pa.Table) -> list[str]:
    """The columns, and dotted paths to what lies nested in them."""
    found: list[str] = []
    for name in table.column_names:
        found.append(name)
        if name != "params":
            found += _paths(name, table[name])
    return found


def _paths(name: str, column: pa.ChunkedArray) -> list[str]:
    paths: dict[str, None] = {}
    for text in column.slice(0, 50).to_pylist():
        if isinstance(text, str) and text.startswith("{"):
            try:
                _collect(name, json.loads(text), paths)
            except (ValueError, RecursionError):
                continue
    return list(paths)[:200]


def _collect(prefix: str, value: object, paths: dict[str, None]) -> None:
    if isinstance(value, dict) and prefix.count(".") < 8:
        for key, inner in value.items():
            if key and not set(key) & set(".'\\"):
                _collect(f"{prefix}.{key}", inner, paths)
    elif "." in prefix:
        paths[prefix] = None


def column(table: pa.Table, name: str) -> pa.ChunkedArray:
    """A column, or what lies at a dotted path in one, as text."""
    if name in table.column_names:
        return table[name].cast(pa.string())
    parts = name.split(".")
    for cut in range(len(parts) - 1, 0, -1):
        outer = ".".join(parts[:cut])
        if outer in table.column_names:
            path = "$" + "".join(f"['{part}']" for part in parts[cut:])
            texts = pl.Series(table[outer].cast(pa.string())).str.json_path_match(path)
            return pa.chunked_array([texts.to_arrow().cast(pa.string())])
    return pa.chunked_array([pa.nulls(table.num_rows, pa.string())])


def apply(mapping: Mapping, table: pa.Table) -> pa.Table:
    """The table with its fields under our names, and all else as properties."""
    used = {name for columns in mapping.fields.values() for name in columns}
    result: dict[str, pa.ChunkedArray] = {}
    for name in table.column_names:
        if any(path.startswith(f"{name}.") for path in used):
            # Taken apart: what no field is made of stands by itself.
            for path in _paths(name, table[name]):
                if path not in used:
                    result[path] = column(table, path)
        elif name not in used:
            result[f"{name} (column)" if name in FIELDS else name] = table[name]
    for name, constant in mapping.constants.items():
        result[name] = pa.chunked_array([pa.repeat(constant, table.num_rows)])
    for name, columns in mapping.fields.items():
        if name == "time" and len(columns) == 1 and columns[0] in table.column_names:
            result[name] = table[columns[0]]  # as it is typed: moments need not go through text
        elif columns:
            result[name] = _joined([column(table, part) for part in columns])
    if "event" in result:
        result["event"] = _translated(result["event"], mapping.events)
    return pa.table(result)


def _joined(columns: list[pa.ChunkedArray]) -> pa.ChunkedArray:
    if len(columns) == 1:
        return columns[0]
    return pc.binary_join_element_wise(*columns, JOINT, null_handling="skip")


def _translated(words: pa.ChunkedArray, events: dict[str, str]) -> pa.ChunkedArray:
    encoded = words.combine_chunks().dictionary_encode()
    words = encoded.dictionary.to_pylist()
    meant = [events.get(word) or _meaning(word) or word for word in words]
    return pa.chunked_array([pa.array(meant, pa.string()).take(encoded.indices)])


def propose(table: pa.Table) -> Proposal:
    """A mapping for a file of which these are the first rows."""
    sample = table.slice(0, _SEEN)
    own = [name for name in FIELDS if name in table.column_names]
    if not Mapping({name: [name] for name in own}).missing:
        # All fields, since later rows may have some that the first have not.
        events = _meanings(column(sample, "event")) if "event" in own else {}
        itself = Mapping({name: [name] for name in FIELDS}, {}, events)
        return _with_times(
            Proposal(itself, dict.fromkeys(own, "named as the field is"), True), sample
        )
    judged = [
        (points, -FIELDS.index(name), name, source, reason)
        for source in columns_of(sample)
        for values in [_Values(column(sample, source))]
        for name in FIELDS
        for points, reason in [_judge(name, source, values)]
        if points >= _ENOUGH
    ]
    fields: dict[str, list[str]] = {}
    reasons: dict[str, str] = {}
    taken: set[str] = set()
    users = [(source, points) for points, _, name, source, _ in judged if name == "user"]
    install = next((s for s, _ in users if _INSTALL.fullmatch(_plain(s))), None)
    account = next((s for s, points in users if s != install and points >= _SURE), None)
    if install and account:
        fields, taken = {"user": [install], "account": [account]}, {install, account}
        reasons = {"user": "an install's id", "account": "who was signed in there"}
    for _, _, name, source, reason in sorted(judged, key=lambda j: (-j[0], -j[1])):
        if name not in fields and source not in taken:
            fields[name], reasons[name] = [source], reason
            taken.add(source)
    events = _meanings(column(sample, fields["event"][0])) if "event" in fields else {}
    return _with_times(Proposal(Mapping(fields, {}, events), reasons, False), sample)


def _with_times(proposal: Proposal, sample: pa.Table) -> Proposal:
    """The proposal, with how its times are to be read."""
    columns = proposal.mapping.fields.get("time")
    if not columns:
        return proposal
    texts = [text for text in column(sample, columns[0]).to_pylist() if text]
    times, why = recognise(texts)
    reasons = {**proposal.reasons, "time": _why(proposal.reasons["time"], why)}
    return replace(proposal, mapping=replace(proposal.mapping, times=times), reasons=reasons)


def _plain(word: str) -> str:
    """`pageView`, `Page View` and `page-view` are all `page_view`."""
    word = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", word)
    return re.sub(r"[^a-z0-9]+", "_", word.casefold()).strip("_")


def _meanings(words: pa.ChunkedArray) -> dict[str, str]:
    meant = {}
    for word in pc.unique(words).to_pylist():
        event = word and _meaning(word)
        if event and event != word:
            meant[word] = event
    return meant


def _meaning(word: str) -> str | None:
    plain = _plain(word)
    bare = _PREFIX.sub("", plain, count=1) if _PREFIX.match(plain) else plain
    for form in (plain, bare):
        if form in EVENT and form != "custom":
            return form
        if form in _EVENT_OF:
            return _EVENT_OF[form]
    return None


class _Values:
    """What can be told of a column from its values; shares are of those that are there."""

    def __init__(self, values: pa.ChunkedArray) -> None:
        self.texts = [text for text in values.to_pylist() if text]
        self.distinct = len(set(self.texts))

    def share(self, pattern: str) -> float:
        matching = sum(1 for text in self.texts if re.search(pattern, text))
        return matching / max(len(self.texts), 1)

    @property
    def times(self) -> float:
        """Share that can be read as a moment between 1990 and 2100."""
        if not self.texts:
            return 0.0
        read = recognise(self.texts)[0].read(pa.chunked_array([pa.array(self.texts)]))
        return float(((read != BAD) & (read > 631e12) & (read < 4.1e15)).mean())

    @property
    def events(self) -> float:
        return sum(1 for t in self.texts if _meaning(t)) / max(len(self.texts), 1)


def _judge(name: str, source: str, values: _Values) -> tuple[int, str]:
    """How much speaks for this column as that field, and what."""
    if not values.texts:
        return 0, ""
    points = _name_points(name, source)
    named = f"named like the field “{name}”" if points else ""
    if name == "time":
        share = values.times
        enough = share > (0.5 if points else 0.9)
        return (points + 4, _why(named, f"{share:.0%} are times")) if enough else (0, "")
    if name == "event":
        share = values.events
        if values.distinct > 500 or (share < 0.3 and not points):
            return 0, ""
        return points + round(6 * share), _why(named, f"{share:.0%} are words for events")
    if not points:
        return 0, ""
    fits = {
        "order": r"^\d{1,18}$",
        "count": r"^\d{1,9}$",
        "params": r"^\{",
        "uri": r"://|^/",
        "screen": r"\D",
        "tab": r"\D",
        "from": r"\D",
    }
    if name in fits and values.share(fits[name]) < 0.8:
        return 0, ""
    if name in ("user", "session", "screen", "from", "tab") and values.times > 0.9:
        return 0, ""
    return points, named


def _why(*parts: str) -> str:
    return ", and ".join(part for part in parts if part)


def _name_points(name: str, source: str) -> int:
    plain, words = _plain(source), _NAMES[name].split()
    tokens = plain.split("_")
    if plain == name:
        return 10
    if plain in words:
        return 8
    if tokens[0] in words and tokens[-1] in ("id", "name", "key", "at", "utc", "ms", "word"):
        return 7
    if tokens[-1] in words:
        return 5
    return 4 if set(tokens) & set(words) else 0
