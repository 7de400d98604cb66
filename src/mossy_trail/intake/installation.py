"""What tells this installation from all others."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

KEY = "key"


def installation_key(folder: Path) -> bytes:
    """What this installation hashes with: made once, kept in its data, and nowhere shown."""
    path = folder / KEY
    if not path.exists():
        keep_key(folder, secrets.token_bytes(32))
    return path.read_bytes()


def keep_key(folder: Path, key: bytes) -> None:
    """Put a key there, in place of one that there may be, for its owner alone to read."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / KEY
    path.unlink(missing_ok=True)
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT, 0o600), "wb") as file:
        file.write(key)
