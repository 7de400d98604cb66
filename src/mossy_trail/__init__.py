"""Rebuilds what people went through in an app from its log.

`import mossy_trail as mt; trail = mt.read("log.csv", map="map.yaml")`; see `library`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mossy_trail.library import Picture, Trail, read

__all__ = ["Picture", "Trail", "read"]


def __getattr__(name: str) -> Any:
    """The public face, read when it is first asked for: the server needs none of it."""
    if name in __all__:
        from mossy_trail import library

        return getattr(library, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
