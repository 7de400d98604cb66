"""What is sent and answered other than JSON of a model, as the API's description has it."""

from __future__ import annotations

from typing import Any

from fastapi import Request

from mossy_trail.web.problems import ProblemError

BYTES = {"type": "string", "format": "binary"}
TEXT = {"type": "string"}
OBJECT = {"type": "object", "additionalProperties": True}


def takes(**schemas: Any) -> dict[str, Any]:
    """What a route's description has more: a body of one of these media types."""
    return {"requestBody": {"required": True, "content": _contents(schemas)}}


def answers(**schemas: Any) -> dict[int | str, dict[str, Any]]:
    """The `responses` of a route that answers with one of these media types."""
    return {200: {"content": _contents(schemas)}}


def _contents(schemas: dict[str, Any]) -> dict[str, Any]:
    return {kind: {"schema": schema} for kind, schema in schemas.items()}


async def body_of(request: Request, most: int) -> bytes:
    """The whole body. Raises `ProblemError` where it is larger than so many bytes."""
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > most:
            raise ProblemError(
                413, f"The body is larger than {most >> 20} MB.", "Send it in several."
            )
    return bytes(body)
