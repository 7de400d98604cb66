"""The document of a funnel, as pages, files and the API write it."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from mossy_trail.core.measures.funnel import MOST_STAGES
from mossy_trail.core.model.app_map import ROLES
from mossy_trail.core.model.pattern import automaton
from mossy_trail.core.model.steps import MOVES
from mossy_trail.intake.pattern_text import LONGEST, read_pattern


class ClauseSpec(BaseModel):
    """What must hold of a step; with an `event`, of a row instead. What is empty is open."""

    model_config = ConfigDict(extra="forbid")

    screens: list[str] = []
    roles: list[Literal[ROLES]] = []  # type: ignore[valid-type]
    moves: list[Literal[MOVES]] = []  # type: ignore[valid-type]
    tabs: list[str] = []
    event: str = ""
    outcome: str = ""
    params: dict[str, list[str]] = {}
    properties: dict[str, list[str]] = {}
    pattern: str = Field("", max_length=LONGEST)
    """Instead of all else: the step on which a match of it ends."""

    @model_validator(mode="after")
    def _pattern_alone(self) -> ClauseSpec:
        if self.pattern:
            if any(self.model_dump(exclude={"pattern"}).values()):
                raise ValueError("a pattern says all by itself: leave the other conditions out")
            automaton(read_pattern(self.pattern))
        return self


class StageSpec(BaseModel):
    """Met by what fits one of the clauses."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field("", max_length=200)
    any: list[ClauseSpec] = Field(min_length=1, max_length=8)


class FunnelSpec(BaseModel):
    """A funnel: its stages, and how they are matched and counted. `window` is in seconds."""

    model_config = ConfigDict(extra="forbid")

    stages: list[StageSpec] = Field(min_length=1, max_length=MOST_STAGES)
    order: Literal["in_order", "next", "any"] = "in_order"
    window: float | None = Field(None, gt=0, le=366 * 86_400)
    void: list[str] = []
    held: str = ""
    count: Literal["unit", "attempts"] = "unit"
    first_ever: bool = False
    """One match of each user, from the first stage 1 that they ever have, across sessions."""

    @model_validator(mode="after")
    def _one_beginning(self) -> FunnelSpec:
        if self.first_ever and self.order == "any":
            raise ValueError("in any order there is no first stage to begin with")
        if self.first_ever and self.count == "attempts":
            raise ValueError("from the first ever, a user has one attempt")
        return self
