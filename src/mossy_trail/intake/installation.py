"""What tells this installation from all others."""

from __future__ import annotations

import os
import secrets
from pathlib import Path


def installation_key(folder: Path) -> bytes:
    """What this installation hashes with: made once, kept in its data, and nowhere shown."""
    path = folder / "key"
    if not path.exists():
        folder.mkdir(parents=True, exist_ok=True)
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT, 0o600), "wb") as file:
            file.write(secrets.token_bytes(32))
    return path.read_bytes()
