"""What the tool notes of itself: lines for a person in a terminal, JSON for whatever collects."""

from __future__ import annotations

import sys
from typing import Any

import structlog


def keep_notes() -> None:
    shown: list[Any] = [structlog.dev.ConsoleRenderer()]
    if not sys.stderr.isatty():
        shown = [structlog.processors.format_exc_info, structlog.processors.JSONRenderer()]
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            *shown,
        ],
        logger_factory=structlog.WriteLoggerFactory(sys.stderr),
    )
