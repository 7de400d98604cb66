"""Errors that a person can act on."""

from __future__ import annotations


class UnusableFile(Exception):
    """A file that cannot be read as a log at all.

    `what` says what is wrong and where; `mend` what to do about it.
    """

    def __init__(self, file: str, what: str, mend: str) -> None:
        super().__init__(f"{file}: {what} {mend}")
        self.file, self.what, self.mend = file, what, mend


class UnusableMap(Exception):
    """An app map that cannot be used; the message names the line or key and the mend."""
