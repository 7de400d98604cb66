"""The sign-in view."""

from __future__ import annotations

from fastapi import APIRouter

from mossy_trail.engine import gates, sign_in
from mossy_trail.web.context import TheScope, TheStudy
from mossy_trail.web.schemas import SignInView

router = APIRouter(prefix="/api/apps/{app}/sign-in", tags=["sign-in"])


@router.get("")
def read_sign_in(study: TheStudy, scope: TheScope) -> SignInView:
    """Met sign-in → tried → in, and where the others went."""
    return SignInView(**sign_in.measure(study, scope).as_dict())


@router.get("/gates")
def read_gates(study: TheStudy, scope: TheScope) -> gates.GateFigures:
    """What sent people to sign in, how often they tried, and what they reached."""
    return gates.measure(study, scope)
