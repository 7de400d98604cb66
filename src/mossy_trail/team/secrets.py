"""Secrets: made at random and known by their hash, or chosen by a person and hashed slowly."""

from __future__ import annotations

import secrets
from functools import cache
from hashlib import sha256
from threading import Semaphore

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

SHORTEST = 12
"""Letters of a password at least; what they are is its owner's choice."""
_HASHER = PasswordHasher()  # Argon2id, with the parameters of RFC 9106 for little memory
_AT_ONCE = Semaphore(2)
"""Each takes 64 MB for a moment: more at a time would let anyone take all the memory there is."""


def new_secret(kind: str) -> str:
    """A secret of 256 random bits. Its kind is told in front, for whoever finds one in a file."""
    return f"mossy_{kind}_{secrets.token_urlsafe(32)}"


def digest(secret: str) -> str:
    """SHA-256, in hexadecimal digits: enough for what cannot be guessed."""
    return sha256(secret.encode()).hexdigest()


def hashed(password: str) -> str:
    with _AT_ONCE:
        return _HASHER.hash(password)


def fits(password: str, kept: str | None) -> bool:
    """Whether it is the password. It takes as long where there is none as where there is one."""
    with _AT_ONCE:
        try:
            return _HASHER.verify(kept or _nobodys(), password) and kept is not None
        except (VerificationError, InvalidHashError):
            return False


@cache
def _nobodys() -> str:
    return _HASHER.hash(secrets.token_urlsafe(32))
