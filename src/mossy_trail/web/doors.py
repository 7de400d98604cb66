"""Where people sign in: who asks is found out, held against the route's rule, and written down."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Sequence
from typing import Any

from fastapi.routing import APIRoute
from sqlalchemy import select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session
from starlette.datastructures import Headers
from starlette.requests import HTTPConnection
from starlette.routing import Match
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mossy_trail.store.models import App, Job, StoredLog
from mossy_trail.store.team import ROLES
from mossy_trail.team.team import Team, Visitor, note
from mossy_trail.web.problems import DATABASE_DOWN, ProblemError, respond
from mossy_trail.web.rules import Rule, rule_of

LARGEST_OF_STRANGERS = 1 << 16
SAFE = ("GET", "HEAD")
DESCRIPTION = "/api/openapi.json"


class Doors:
    """Lets in who may, and says of all others why not; what is not known is open to nobody."""

    def __init__(self, app: ASGIApp, team: Team, routes: Sequence[APIRoute], cookie: str) -> None:
        self._app, self._team, self._routes, self._cookie = app, team, routes, cookie

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        path = scope.get("path", "")
        if scope["type"] != "http" or not path.startswith(("/api/", "/v1/")):
            return await self._app(scope, receive, send)
        state = scope.setdefault("state", {})
        try:
            visitor = state["visitor"] = await asyncio.to_thread(self._visitor, scope)
            rule, app_id = await asyncio.to_thread(self._admit, scope, visitor)
        except ProblemError as error:
            return await respond(error.problem)(scope, receive, send)
        except OperationalError:
            return await respond(DATABASE_DOWN)(scope, receive, send)
        went_well = False

        async def send_noting(message: Message) -> None:
            nonlocal went_well
            if message["type"] == "http.response.start":
                went_well = message["status"] < 400
            await send(message)

        await self._app(scope, receive, send_noting)
        if rule.did and visitor and went_well:
            await asyncio.to_thread(self._write_down, scope, rule, app_id, visitor)

    def _rule(self, scope: Scope) -> tuple[Rule, dict[str, Any]]:
        if scope["path"] == DESCRIPTION:
            return Rule("open"), {}
        for route in self._routes:
            match, child = route.matches(scope)
            if match is Match.FULL:
                rule = rule_of(scope["method"], route.path)
                if rule is None:
                    break
                return rule, child["path_params"]
        return Rule("signed in"), {}  # the answer will be that there is no such address

    def _visitor(self, scope: Scope) -> Visitor | None:
        connection = HTTPConnection(scope)
        given = connection.headers.get("authorization", "")
        token = given.removeprefix("Bearer ") if given.startswith("Bearer mossy_token_") else ""
        visit = connection.cookies.get(self._cookie, "")
        return self._team.visitor(visit, token) if visit or token else None

    def _admit(self, scope: Scope, visitor: Visitor | None) -> tuple[Rule, int | None]:
        """The rule, and the app that is asked about. Raises `ProblemError` where they may not."""
        rule, params = self._rule(scope)
        headers = Headers(scope=scope)
        if visitor and not visitor.token and scope["method"] not in SAFE:
            _from_own_page(headers)
        if rule.needs == "open" and scope["method"] not in SAFE:
            _from_own_page(headers)
            _little(headers)
        if rule.needs in ("open", "key"):
            return rule, None
        if visitor is None:
            raise ProblemError(401, "You are not signed in.", "Sign in, then go on.")
        if rule.needs == "by hand" and visitor.token:
            raise ProblemError(403, "A token cannot do this.", "Sign in at the page.")
        if rule.needs == "all" and not visitor.manages_all:
            raise ProblemError(403, "Only who manages all apps can do this.", "Ask one of them.")
        if rule.needs not in ROLES:
            return rule, None
        return rule, self._app_open_to(visitor, rule.needs, params)

    def _app_open_to(self, visitor: Visitor, role: str, params: dict[str, Any]) -> int:
        app_id = self._app_of(params)
        if app_id is None or not visitor.may("read", app_id):
            raise ProblemError(404, "There is no such app.", "Choose one at the top of the page.")
        if not visitor.may(role, app_id):
            raise ProblemError(
                403,
                f"This takes the role “{role}”; yours is “{visitor.roles[app_id]}”.",
                "Ask someone who manages the app.",
            )
        return app_id

    def _app_of(self, params: dict[str, Any]) -> int | None:
        if "app" in params:
            query = select(App.id).where(App.key == params["app"])
        elif "job_id" in params:
            query = select(Job.app_id).where(Job.id == _number(params["job_id"]))
        else:
            query = select(StoredLog.app_id).where(StoredLog.id == _number(params["log_id"]))
        with Session(self._team.engine) as session:
            return session.scalar(query)

    def _write_down(self, scope: Scope, rule: Rule, app_id: int | None, visitor: Visitor) -> None:
        what = scope["state"].get("what") or _OF_AN_APP.sub("", scope["path"])
        with Session(self._team.engine) as session, session.begin():
            note(session, app_id, visitor.told, rule.did, what, address_of(scope))


_OF_AN_APP = re.compile("^/api/(apps/[^/]+/)?")


def address_of(scope: Scope) -> str:
    """Where the request came from; a proxy that is trusted tells of whom."""
    client = scope.get("client")
    return client[0] if client else ""


def _from_own_page(headers: Headers) -> None:
    """A browser says of which page a change is; that this is one of ours, `Guard` has held."""
    if "origin" not in headers and headers.get("sec-fetch-site") != "same-origin":
        raise ProblemError(403, "This did not come from a page of this server.", "Use a token.")


def _little(headers: Headers) -> None:
    """Whom nobody knows may send a little, and says how much."""
    length = headers.get("content-length", "")
    if not length.isdigit() or int(length) > LARGEST_OF_STRANGERS:
        raise ProblemError(413, "That is more than signing in takes.", "Send less.")


def _number(text: Any) -> int:
    digits = str(text)
    return int(digits) if digits.isdigit() and len(digits) < 10 else -1
