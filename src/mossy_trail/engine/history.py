"""Finding an app's history rules from its log, as a whole and per value of a property."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import numpy as np

from mossy_trail.core.inference.history import find_history
from mossy_trail.core.model.log import NONE, Log, sample
from mossy_trail.core.model.properties import property_of
from mossy_trail.engine.study import Study

SAMPLE = 100_000
"""Rows that are enough to tell; of a larger log, whole users up to so many are taken."""


def rules(study: Study, by: str = "") -> dict[str, Any]:
    """The history rules that fit a study's log best, with the fits of all settings.

    `by` names a property, such as the app's version: then they are found for each of its values
    too, since a release can change them.
    """
    logs = sample((part.log for part in study.parts), SAMPLE)
    found = {"": logs, **(_by_value(logs, by) if by else {})}
    return {value: asdict(find_history(logs, study.app_map)) for value, logs in found.items()}


def _by_value(logs: Sequence[Log], name: str) -> dict[str, list[Log]]:
    found: dict[str, list[Log]] = {}
    wanted = property_of(logs[0].terms["props"] if logs else (), name)
    for log in logs:
        codes = wanted.in_rows(log)
        for code in np.unique(codes[codes != NONE]):
            own = log.take(np.flatnonzero(codes == code))
            found.setdefault(wanted.values[code], []).append(own)
    return dict(sorted(found.items()))
