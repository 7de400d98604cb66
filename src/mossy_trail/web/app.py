"""The web application: the API under /api, and the built pages for everything else."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fastapi import FastAPI, Response
from fastapi.responses import FileResponse
from fastapi.routing import APIRoute
from starlette.datastructures import Headers, MutableHeaders
from starlette.middleware.gzip import GZipMiddleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.staticfiles import StaticFiles
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mossy_trail.web import faults, problems
from mossy_trail.web.context import Context
from mossy_trail.web.doors import DESCRIPTION, Doors
from mossy_trail.web.routers import (
    app_map,
    apps,
    compare,
    findings,
    funnels,
    health,
    imports,
    journeys,
    kept,
    live,
    logs,
    measures,
    otlp,
    patterns,
    team,
)
from mossy_trail.web.signing import Signing

_ROUTED = (
    apps,
    app_map,
    logs,
    imports,
    live,
    otlp,
    health,
    funnels,
    kept,
    journeys,
    patterns,
    compare,
    findings,
    faults,
    team,
)
AT_ONCE = 8
"""Questions that are worked on at a time, less than the connections that there are to the database;
others wait for their turn."""
TIME_AT_PROVIDER = 600
PAGES = Path(__file__).parents[3] / "frontend" / "dist"
LOOPBACK = ("127.0.0.1", "localhost", "::1")
HEADERS = {
    "Content-Security-Policy": (
        "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; "
        "frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
}


def create_app(context: Context | None = None, signing: Signing | None = None) -> FastAPI:
    """The application; without a context it can only describe itself, and without signing it is
    one person's own."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        if context:
            context.importer.start()
            context.live.start()
        yield
        if context:
            context.importer.stop()
            context.live.stop()

    app = FastAPI(
        title="Mossy Trail",
        version="2",
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url=DESCRIPTION,
        responses={"4XX": {"model": problems.Problem}},
        generate_unique_id_function=_operation_name,
    )
    app.state.context, app.state.signing = context, signing
    problems.install(app)
    app.add_exception_handler(Exception, faults.answer)
    app.add_middleware(GZipMiddleware, minimum_size=2000)
    app.add_middleware(Turns)
    routers = [module.router for module in _ROUTED] + [measures.new_router()]
    for router in routers:
        app.include_router(router)
    if signing:
        routes = [route for router in routers for route in router.routes]
        app.add_middleware(Doors, signing.team, routes, signing.cookie)
        if signing.provider:
            app.add_middleware(
                SessionMiddleware,
                signing.way_key,
                session_cookie="mossy-way",
                max_age=TIME_AT_PROVIDER,
                path="/api/sign-in",
                https_only=signing.secure,
            )
    app.add_middleware(Guard, signing.host if signing else "")
    _serve_pages(app)
    return app


def _operation_name(route: APIRoute) -> str:
    return route.name


class Turns:
    """Lets so many questions in at a time.

    More would hold all connections to the database, those that wait for one among them, and take
    the interpreter from each other. What is sent, or streamed, at its own pace takes no turn.
    """

    def __init__(self, app: ASGIApp) -> None:
        self._app, self._turns = app, asyncio.Semaphore(AT_ONCE)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        path = scope.get("path", "")
        asks = path.startswith("/api/") and scope.get("method") == "GET"
        if not asks or path.endswith("/events") or "." in path.rpartition("/")[2]:
            await self._app(scope, receive, send)
            return
        async with self._turns:
            await self._app(scope, receive, send)


class Guard:
    """Lets through only requests that were meant for this server, from pages that it served."""

    def __init__(self, app: ASGIApp, host: str) -> None:
        self.app, self.host = app, host

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return await self.app(scope, receive, send)
        headers = Headers(scope=scope)
        host, origin = headers.get("host", ""), headers.get("origin")
        known = host == self.host or urlsplit(f"//{host}").hostname in LOOPBACK
        if not known or (origin and urlsplit(origin).netloc != host):
            refusal = "This server answers only its own pages."
            response = problems.respond(problems.Problem(title=refusal, status=403, detail=""))
            return await response(scope, receive, send)

        async def send_guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                MutableHeaders(scope=message).update(HEADERS)
            await send(message)

        return await self.app(scope, receive, send_guarded)


class Assets(StaticFiles):
    """Files whose names tell what is in them, so that a browser never asks for one again."""

    def file_response(self, *args: Any, **more: Any) -> Response:
        found = super().file_response(*args, **more)
        found.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return found


def _serve_pages(app: FastAPI) -> None:
    """Assets by name; every other address gets the page, which finds its view by itself."""
    app.mount("/assets", Assets(directory=PAGES / "assets", check_dir=False))

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> Response:
        if path.startswith("api/"):
            missing = problems.Problem(title="There is no such address.", status=404, detail="")
            return problems.respond(missing)
        icon = path == "icon.svg"
        file = PAGES / ("icon.svg" if icon else "index.html")
        return FileResponse(file, headers={} if icon else {"Cache-Control": "no-cache"})
