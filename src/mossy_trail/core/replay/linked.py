"""Rows that look like the landing of a link but show other values than it asked for."""

from __future__ import annotations

from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.model.app_map import Places
from mossy_trail.core.model.log import EVENT, NONE, Column, Log
from mossy_trail.core.model.properties import members

_OPEN_LINK, _APP_START, _VIEW = EVENT["open_link"], EVENT["app_start"], EVENT["screen_view"]
_PUSH, _REDIRECT = EVENT["push"], EVENT["redirect"]


def not_linked(log: Log, places: Places, journey: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Rows on the screen of the link that was opened last, with other params; shape (rows,).

    Whoever opens a link to what is visible already sees nothing change; the update to other
    params that follows is a move of their own. `journey` numbers each row's session.
    """
    columns = log.columns
    names = ("event", "screen", "params", "uri")
    event, screen, params, uri = (read_only(columns[name]) for name in names)
    found = np.zeros(len(event), bool)
    opens = np.flatnonzero(event == _OPEN_LINK)
    codings = places.of_name, places.params_of_name, places.link_target
    rows, links, given = _landings(opens, event, screen, params, uri, journey, *codings)
    unlike = places.link_params[links] != given
    pairs, which = np.unique(
        links[unlike] * len(places.params) + given[unlike], return_inverse=True
    )
    other = [
        _contradicts(places.link_values[uri], places.params[code])
        for uri, code in zip(*np.divmod(pairs, max(len(places.params), 1)), strict=True)
    ]
    found[rows[unlike]] = np.array(other, bool)[which]
    return found


@kernel
def _landings(
    opens: Column,
    event: Column,
    screen: Column,
    params: Column,
    uri: Column,
    journey: Column,
    of_name: Column,
    params_of_name: Column,
    target: Column,
) -> tuple[Column, Column, Column]:
    """The first row after each link that shows its screen with params: the row, the link, and the
    params."""
    rows, links, given = [0 for _ in range(0)], [0 for _ in range(0)], [0 for _ in range(0)]
    for k in range(len(opens)):
        first, end = opens[k], opens[k + 1] if k + 1 < len(opens) else len(event)
        wanted = target[uri[first]]
        for i in range(first + 1, end):
            if event[i] == _APP_START or journey[i] != journey[first]:
                break
            if wanted != NONE and screen[i] != NONE and of_name[screen[i]] == wanted:
                own = params[i] if params[i] != NONE else params_of_name[screen[i]]
                if own != NONE:
                    rows.append(i)
                    links.append(uri[first])
                    given.append(own)
                    break
    return np.array(rows, np.int64), np.array(links, np.int64), np.array(given, np.int64)


def led_first(log: Log, places: Places, again: NDArray[np.bool_]) -> Log:
    """The log in which, of one moment, a move or link stands before the view it led to.

    Clocks of whole seconds give both one time, and files may have them in either order. Rows that
    came `again` stay where they are.
    """
    names = ("user", "time", "event", "screen", "uri")
    own = np.flatnonzero(~again) if again.any() else None
    user, time, event, screen, uri = (
        read_only(log.columns[name] if own is None else log.columns[name][own]) for name in names
    )
    late = _views_first(user, time, event, screen, uri, places.of_name, places.link_target)
    if not len(late):
        return log
    order = np.arange(len(log))
    views, moves = (late, late + 1) if own is None else (own[late], own[late + 1])
    order[views], order[moves] = moves, views
    return log.take(order)


@kernel
def _views_first(
    user: Column,
    time: Column,
    event: Column,
    screen: Column,
    uri: Column,
    of_name: Column,
    target: Column,
) -> Column:
    """Views right after which, in the same moment, what led to them is told; apart by two rows."""
    found = [0 for _ in range(0)]
    for i in range(len(time) - 1):
        if time[i] != time[i + 1] or event[i] != _VIEW or user[i] != user[i + 1]:
            continue
        shown = of_name[screen[i]] if screen[i] != NONE else NONE
        link = event[i + 1] == _OPEN_LINK and uri[i + 1] != NONE
        if link:
            led = target[uri[i + 1]]
        elif _PUSH <= event[i + 1] <= _REDIRECT and screen[i + 1] != NONE:
            led = of_name[screen[i + 1]]
        else:
            continue
        again = i + 2 < len(time) and user[i + 2] == user[i] and event[i + 2] == _VIEW
        again = again and screen[i + 2] != NONE and of_name[screen[i + 2]] == shown
        if shown != NONE and led == shown and not again and not (found and found[-1] == i - 1):
            found.append(i)
    return np.array(found, np.int64)


def _contradicts(values: dict[str, str], params: str) -> bool:
    """Whether a value of the link's variables stands otherwise in the params."""
    given = members(params)
    return any(
        name in given and _plain(given[name]) != _plain(value) for name, value in values.items()
    )


def _plain(value: str) -> str:
    return unquote(value).casefold().lstrip("0")
