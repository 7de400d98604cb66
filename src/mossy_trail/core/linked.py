"""Rows that look like the landing of a link but show other values than it asked for."""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.app_map import Places
from mossy_trail.core.kernel import kernel, read_only
from mossy_trail.core.log import EVENT, NONE, Column, Log

_OPEN_LINK, _APP_START = EVENT["open_link"], EVENT["app_start"]


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


def _contradicts(values: dict[str, str], params: str) -> bool:
    """Whether a value of the link's variables stands otherwise in the params."""
    try:
        given = json.loads(params)
    except (ValueError, RecursionError):
        return False
    if not isinstance(given, dict):
        return False
    return any(
        name in given and _plain(given[name]) != _plain(value) for name, value in values.items()
    )


def _plain(value: Any) -> str:
    return unquote(str(value)).casefold().lstrip("0")
