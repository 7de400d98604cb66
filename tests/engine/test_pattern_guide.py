"""The examples of the guide to patterns: each is read, means what it says, and finds journeys."""

from __future__ import annotations

from pathlib import Path

import pytest

from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import patterns
from mossy_trail.engine.study import Study

GUIDE = Path(__file__).parents[2] / "docs" / "patterns.md"
ROWS = [
    [part.strip().strip("`") for part in line.replace("\\|", "\0").split("|")]
    for line in GUIDE.read_text().partition("## Twenty examples")[2].splitlines()
    if line.startswith("| `")
]
EXAMPLES = {row[1].replace("\0", "|"): row[2] for row in ROWS}


def test_there_are_twenty() -> None:
    assert len(EXAMPLES) == 20


@pytest.mark.parametrize("pattern", EXAMPLES)
def test_each_means_what_the_guide_says(study: Study, pattern: str) -> None:
    found = patterns.measure(study, Scope(), pattern)
    assert found.words == EXAMPLES[pattern]
    assert found.met.count > 0
