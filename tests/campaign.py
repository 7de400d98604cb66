"""How many examples a property is held to: the same few at every run, or many fresh ones."""

from __future__ import annotations

import os
from typing import Any

from hypothesis import HealthCheck, settings

LONG = bool(os.environ.get("MOSSY_LONG"))
_LONGER = 20

# Machines are noisy, so no example is too slow.
_NO_HURRY: dict[str, Any] = {"deadline": None, "suppress_health_check": [HealthCheck.too_slow]}
settings.register_profile("same at every run", derandomize=True, database=None, **_NO_HURRY)
settings.register_profile("fresh", **_NO_HURRY)
settings.load_profile("fresh" if LONG else "same at every run")


def examples(count: int, **more: Any) -> settings:
    """Settings with so many examples, and twenty times as many in a long campaign."""
    return settings(max_examples=count * (_LONGER if LONG else 1), **more)
