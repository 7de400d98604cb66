"""A route for each measure of the registry; and any figure by a property."""

from typing import Annotated, Any

from fastapi import APIRouter, Depends, Query
from pydantic import ValidationError

from mossy_trail.engine import measures
from mossy_trail.engine.registry import MEASURES, Measure, NoParams
from mossy_trail.engine.trend import Trend, trend
from mossy_trail.web.context import By, Over, TheScope, TheStudy, TheTwo
from mossy_trail.web.problems import ProblemError
from mossy_trail.web.schemas import MeasuredView


def new_router() -> APIRouter:
    """Routes for all measures that are registered by now."""
    router = APIRouter(prefix="/api/apps/{app}", tags=["measures"])
    for measure in MEASURES.values():
        router.add_api_route(
            f"/measures/{measure.name}",
            _reader(measure),
            response_model=MeasuredView[measure.figures],  # type: ignore[name-defined]
            summary=measure.says,
            operation_id=f"measure-{measure.name}",
        )
    router.add_api_route("/trend", read_trend)
    return router


def _reader(measure: Measure) -> Any:
    def get_params(params: Annotated[measure.params, Query()]) -> NoParams:  # type: ignore[name-defined]
        return params

    def read(
        study: TheStudy,
        scope: TheScope,
        two: TheTwo,
        params: Annotated[NoParams, Depends(get_params)],
        by: By = "",
        over: Over = "",
    ) -> Any:
        try:
            return measures.measured(study, scope, measure.name, params, by, over, two)
        except KeyError as error:
            raise ProblemError(
                404,
                f"There is no “{error.args[0]}” among the groups or screens.",
                "Choose one that the log has.",
            ) from None
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(map(str, first["loc"])) or f"the {measure.name}"
            raise ProblemError(422, f"{where}: {first['msg']}", "See docs/funnels.md.") from None

    read.__doc__ = measure.says
    return read


def read_trend(
    study: TheStudy,
    scope: TheScope,
    two: TheTwo,
    measure: str,
    figure: str,
    by: By = "",
    over: Over = "",
    timed: Annotated[bool, Query(description="How long it took, not how often it was")] = False,
) -> Trend:
    """Any figure for each value of a property, or over time with what changed."""
    try:
        return trend(study, scope, measure, figure, by, over, timed, two)
    except KeyError:
        raise ProblemError(404, "There is no such figure or group.") from None
