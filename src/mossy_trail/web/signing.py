"""How this server signs people in: its cookie, its own address, and a provider if it has one."""

from __future__ import annotations

import hmac
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from urllib.parse import urlsplit

from authlib.integrations.starlette_client import OAuth, OAuthError
from httpx2 import HTTPError
from joserfc.errors import JoseError
from starlette.requests import Request
from starlette.responses import Response

from mossy_trail.team.team import VISIT, Team


@dataclass(frozen=True)
class Provider:
    """A provider of OpenID Connect, and what this server is to it."""

    issuer: str
    client: str
    secret: str

    @cached_property
    def _client(self) -> Any:
        """Finds the provider's addresses by itself; asks with PKCE, state and nonce."""
        return OAuth().register(
            "provider",
            server_metadata_url=f"{self.issuer.rstrip('/')}/.well-known/openid-configuration",
            client_id=self.client,
            client_secret=self.secret,
            client_kwargs={"scope": "openid email profile", "code_challenge_method": "S256"},
        )

    async def way_to(self, request: Request, back: str) -> Response:
        """Leads to the provider, which leads `back`. Raises `Unreachable`."""
        try:
            way: Response = await self._client.authorize_redirect(request, back)
        except (OAuthError, HTTPError, ValueError, RuntimeError) as error:
            raise Unreachable(str(error)) from error
        return way

    async def claims(self, request: Request) -> dict[str, Any]:
        """What it vouches for, of who came back with this request. Raises `Unreachable`."""
        try:
            told = await self._client.authorize_access_token(request)
        except (OAuthError, JoseError, HTTPError, ValueError, KeyError, RuntimeError) as error:
            raise Unreachable(str(error)) from error
        found: dict[str, Any] = told.get("userinfo") or {}
        return found


class Unreachable(Exception):
    """The provider did not answer as it should, or vouches for nobody."""


@dataclass(frozen=True)
class Signing:
    team: Team
    address: str
    """Where people reach the server, as “https://trail.example.org”."""
    key: bytes
    """The installation's."""
    provider: Provider | None = None

    @property
    def host(self) -> str:
        return urlsplit(self.address).netloc

    @property
    def secure(self) -> bool:
        return urlsplit(self.address).scheme == "https"

    @property
    def cookie(self) -> str:
        """Under the prefix a browser takes it from this host alone, and over TLS."""
        return "__Host-mossy" if self.secure else "mossy"

    @property
    def way_key(self) -> str:
        """What is signed with while someone is away at the provider."""
        return hmac.digest(self.key, b"on the way to the provider", "sha256").hex()

    def link(self, invitation: str) -> str:
        """The secret stands behind the #, which no browser sends to a server, or a proxy's log."""
        return f"{self.address}/invited#{invitation}"

    def begin(self, response: Response, secret: str) -> None:
        """Have the browser keep the secret of a visit, where no script can read it."""
        response.set_cookie(
            self.cookie,
            secret,
            max_age=int(VISIT.total_seconds()),
            secure=self.secure,
            httponly=True,
            samesite="lax",
        )

    def end(self, response: Response) -> None:
        response.delete_cookie(self.cookie, secure=self.secure, httponly=True, samesite="lax")
