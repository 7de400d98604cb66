"""Properties of rows: columns of the log that are no field of ours."""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import NONE, Log, recode
from mossy_trail.core.model.steps import Steps


class Property(NamedTuple):
    """A property's values, in order, and which of them each set of properties has; −1 for none."""

    values: list[str]
    of_props: NDArray[np.int32]

    def of_journeys(self, steps: Steps) -> NDArray[np.int32]:
        """The value in each journey's first row; one more stands for none; shape (journeys,)."""
        if not len(self.of_props):
            return np.full(len(steps.journeys.start), len(self.values), "int32")
        first = steps.log.columns["props"][steps.journeys.first_row]
        codes = recode(first, self.of_props)
        return np.where(codes == NONE, len(self.values), codes)

    @property
    def names(self) -> list[str]:
        """Its values by their codes of journeys; empty for none."""
        return [*self.values, ""]

    def having(self, steps: Steps, values: Collection[str]) -> NDArray[np.bool_]:
        """Which journeys have one of these values; shape (journeys,)."""
        fits = np.array([name in values for name in self.names], bool)
        return np.asarray(fits[self.of_journeys(steps)])

    def by_size(self, codes: NDArray[np.int32]) -> list[int]:
        """The codes of journeys that there are, the most common first."""
        counts = np.bincount(codes, minlength=len(self.names))
        return sorted(np.flatnonzero(counts).tolist(), key=lambda code: (-counts[code], code))

    def in_rows(self, log: Log, rows: NDArray[np.int32] | slice = slice(None)) -> NDArray[np.int32]:
        """The value in each row, or in some, as a code into the values; shape (rows,)."""
        props = log.columns["props"][rows]
        return recode(props, self.of_props) if len(self.of_props) else np.full_like(props, NONE)


def property_of(props: Sequence[str], name: str) -> Property:
    """Look for a property in the `props` dictionary of a log, which all its parts share."""
    given = [json.loads(text).get(name) for text in props]
    values = sorted({str(value) for value in given if value is not None})
    code = {value: i for i, value in enumerate(values)}
    return Property(values, np.array([code.get(str(value), NONE) for value in given], "int32"))


def value_of(text: str, name: str) -> str | None:
    """A member of a JSON object as text; None where there is none."""
    return members(text).get(name)


def members(text: str) -> dict[str, str]:
    """The members of a JSON object, each as text; none of what is no object."""
    try:
        found = json.loads(text)
        if not isinstance(found, dict):
            return {}
        return {k: v if isinstance(v, str) else json.dumps(v) for k, v in found.items()}
    except (ValueError, RecursionError):
        return {}
