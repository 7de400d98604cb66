"""Signing in by OpenID Connect, at a stand-in for a provider that can be told to misbehave."""

from __future__ import annotations

import json
import secrets
import time
from base64 import urlsafe_b64encode
from collections.abc import Iterator
from dataclasses import dataclass, field
from hashlib import sha256
from threading import Thread
from typing import Annotated, Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import pytest
import uvicorn
from fastapi import FastAPI, Form, Request, Response
from fastapi.responses import RedirectResponse
from fastapi.testclient import TestClient
from joserfc import jwt
from joserfc.jwk import RSAKey
from sqlalchemy import Engine

from mossy_trail.store.cluster import free_port
from mossy_trail.team.team import Team
from mossy_trail.web.app import create_app
from mossy_trail.web.context import new_context
from mossy_trail.web.signing import Provider, Signing
from tests.conftest import until

HOME = "http://localhost:8750"


@dataclass
class StandIn:
    """A provider at which one person is signed in, whose claims can be changed."""

    address: str = ""
    claims: dict[str, Any] = field(default_factory=dict)
    key: RSAKey = field(default_factory=lambda: RSAKey.generate_key(2048, {"kid": "1"}))
    signs_by: RSAKey | None = None
    asked: dict[str, dict[str, list[str]]] = field(default_factory=dict)
    """By its code, what it was asked for."""

    def app(self) -> FastAPI:
        app = FastAPI()

        @app.get("/.well-known/openid-configuration")
        def configuration() -> dict[str, Any]:
            return {
                "issuer": self.address,
                "authorization_endpoint": f"{self.address}/authorize",
                "token_endpoint": f"{self.address}/token",
                "jwks_uri": f"{self.address}/keys",
                "id_token_signing_alg_values_supported": ["RS256"],
            }

        @app.get("/keys")
        def keys() -> dict[str, Any]:
            return {"keys": [self.key.as_dict(private=False)]}

        @app.get("/authorize")
        def authorize(request: Request) -> Response:
            code = secrets.token_hex(8)
            self.asked[code] = parse_qs(request.url.query)
            back = self.asked[code]["redirect_uri"][0]
            told = {"code": code, "state": self.asked[code]["state"][0]}
            return RedirectResponse(f"{back}?{urlencode(told)}", 302)

        @app.post("/token")
        def token(code: Annotated[str, Form()], code_verifier: Annotated[str, Form()]) -> Response:
            asked = self.asked.pop(code)
            proof = urlsafe_b64encode(sha256(code_verifier.encode()).digest()).rstrip(b"=").decode()
            assert asked["code_challenge"] == [proof]
            now = int(time.time())
            claims = {"iss": self.address, "aud": "mossy", "iat": now, "exp": now + 60}
            claims |= {"nonce": asked["nonce"][0]} | self.claims
            signed = jwt.encode({"alg": "RS256", "kid": "1"}, claims, self.signs_by or self.key)
            answer = {"access_token": "x", "token_type": "Bearer", "id_token": signed}
            return Response(json.dumps(answer), media_type="application/json")

        return app


@pytest.fixture
def stand_in() -> Iterator[StandIn]:
    stand_in = StandIn()
    port = free_port()
    stand_in.address = f"http://127.0.0.1:{port}"
    server = uvicorn.Server(uvicorn.Config(stand_in.app(), port=port, log_level="warning"))
    thread = Thread(target=server.run)
    thread.start()
    until(lambda: server.started)
    yield stand_in
    server.should_exit = True
    thread.join()


@pytest.fixture
def signing(engine: Engine, stand_in: StandIn) -> Signing:
    return Signing(Team(engine), HOME, b"key", Provider(stand_in.address, "mossy", "its secret"))


@pytest.fixture
def api(engine: Engine, signing: Signing, tmp_path: Any) -> FastAPI:
    return create_app(new_context(engine, tmp_path), signing)


def go(api: FastAPI) -> tuple[TestClient, str]:
    """A browser that was led to the provider, and back to this address of ours."""
    browser = TestClient(api, HOME, follow_redirects=False)
    there = browser.get("/api/sign-in/provider").headers["Location"]
    back = httpx.get(there, follow_redirects=False).headers["Location"]
    assert back.startswith(f"{HOME}/api/sign-in/provider/back?")
    return browser, back.removeprefix(HOME)


def come_back(api: FastAPI) -> tuple[TestClient, str]:
    browser, back = go(api)
    return browser, browser.get(back).headers["Location"]


ADA = {"sub": "1", "email": "Ada@example.org", "email_verified": True, "name": "Ada"}


def test_whom_the_provider_vouches_for_comes_in(
    api: FastAPI, signing: Signing, stand_in: StandIn
) -> None:
    stand_in.claims = ADA
    assert come_back(api)[1] == "/?sign-in=no-account"
    invitation = signing.team.invite_to_all("ada@example.org")
    browser, where = come_back(api)
    assert where == "/"
    me = browser.get("/api/me").json()
    assert me["provider"]
    assert (me["person"]["email"], me["person"]["name"]) == ("ada@example.org", "Ada")
    assert not me["person"]["has_password"]
    stranger = TestClient(api, HOME, headers={"Origin": HOME})
    look = stranger.post("/api/invitations/look", json={"secret": invitation})
    assert look.status_code == 404, "the invitation is used up"
    stand_in.claims = {**ADA, "email": "moved@example.org"}
    assert come_back(api)[0].get("/api/me").json()["person"]["email"] == "ada@example.org"
    stand_in.claims = {**ADA, "sub": "2"}
    assert come_back(api)[1] == "/?sign-in=no-account", "another who is given her e-mail later"


@pytest.mark.parametrize(
    ("claims", "where"),
    [
        ({"email_verified": False}, "not-verified"),
        ({"email_verified": "true"}, "not-verified"),
        ({"email": ""}, "not-verified"),
        ({"nonce": "of another"}, "failed"),
        ({"aud": "another"}, "failed"),
        ({"iss": "https://elsewhere.example"}, "failed"),
        ({"exp": 1}, "failed"),
    ],
    ids=str,
)
def test_what_it_does_not_vouch_for_does_not(
    claims: dict[str, Any], where: str, api: FastAPI, signing: Signing, stand_in: StandIn
) -> None:
    signing.team.invite_to_all("ada@example.org")
    stand_in.claims = {**ADA, **claims}
    browser, found = come_back(api)
    assert found == f"/?sign-in={where}"
    assert browser.get("/api/apps").status_code == 401


def test_an_answer_cannot_be_made_up_or_used_by_another(
    api: FastAPI, signing: Signing, stand_in: StandIn
) -> None:
    signing.team.invite_to_all("ada@example.org")
    stand_in.claims, stand_in.signs_by = ADA, RSAKey.generate_key(2048, {"kid": "1"})
    assert come_back(api)[1] == "/?sign-in=failed", "signed by another key"
    stand_in.signs_by = None
    _, back = go(api)
    other = TestClient(api, HOME, follow_redirects=False)
    assert other.get(back).headers["Location"] == "/?sign-in=failed", "not where it was begun"
    browser, back = go(api)
    assert browser.get(back).headers["Location"] == "/"
    assert browser.get(back).headers["Location"] == "/?sign-in=failed", "once"
    for more in ("&next=https://elsewhere.example", "&redirect_uri=//elsewhere.example"):
        browser, back = go(api)
        assert browser.get(back + more).headers["Location"] == "/"
        there = browser.get(f"/api/sign-in/provider?{more[1:]}").headers["Location"]
        assert urlsplit(there).netloc == urlsplit(stand_in.address).netloc
        assert parse_qs(urlsplit(there).query)["redirect_uri"] == [
            f"{HOME}/api/sign-in/provider/back"
        ]


def test_a_provider_that_is_away_is_told(engine: Engine, tmp_path: Any) -> None:
    away = Provider(f"http://127.0.0.1:{free_port()}", "mossy", "its secret")
    api = create_app(new_context(engine, tmp_path), Signing(Team(engine), HOME, b"key", away))
    browser = TestClient(api, HOME, follow_redirects=False)
    assert browser.get("/api/sign-in/provider").headers["Location"] == "/?sign-in=unreachable"
