"""The bytes of a log file as UTF-8 text, whatever they are packed and encoded in."""

from __future__ import annotations

import codecs
import re
from pathlib import Path
from typing import Any

import pyarrow as pa

from mossy_trail.intake.errors import UnusableFile

HEAD = 1 << 16
PACKED = {b"\x1f\x8b": "gzip", b"\x28\xb5\x2f\xfd": "zstd"}
WIDE = {codecs.BOM_UTF16_LE: "utf-16-le", codecs.BOM_UTF16_BE: "utf-16-be"}
EXPANSION = 250
"""A packed file that grows by more than this is a bomb; logs grow by ten to fifty."""
HARMLESS = 256 << 20
"""Bytes up to which a file may grow as it likes."""


class Source:
    """A log file, unpacked and decoded as it is read."""

    def __init__(self, name: str, path: Path) -> None:
        self.name, self.path = name, path
        self._raw = path.open("rb")
        self.packing = self._sniff(PACKED)
        self._bytes: Any = self._raw
        if self.packing:
            self._bytes = pa.CompressedInputStream(pa.PythonFile(self._raw, "r"), self.packing)
        self._unpacked = 0
        self._ahead = b""
        self._decoder: codecs.IncrementalDecoder | None = None
        self._told = False
        self._ahead = self._read(HEAD)
        self._decode()
        self.line = 1
        """The number of the line that is read next; kept up by whoever reads."""

    def _sniff(self, magics: dict[bytes, str]) -> str:
        start = self._raw.read(4)
        self._raw.seek(0)
        return next((kind for magic, kind in magics.items() if start.startswith(magic)), "")

    def _decode(self) -> None:
        """Leave out a byte order mark; from UTF-16 make UTF-8."""
        for mark, encoding in WIDE.items():
            if self._ahead.startswith(mark):
                self._decoder = codecs.getincrementaldecoder(encoding)("replace")
                self._ahead = self._decoder.decode(self._ahead[len(mark) :]).encode()
        self._ahead = self._ahead.removeprefix(codecs.BOM_UTF8)
        if not self._decoder:
            self._ahead = self._as_utf8(self._ahead)

    def _as_utf8(self, data: bytes) -> bytes:
        """The data, decoded if its first letters beyond ASCII tell that it is Windows-1252."""
        if not self._told and not data.isascii():
            self._told = True
            if _is_western(data):
                self._decoder = codecs.getincrementaldecoder("cp1252")("replace")
                return self._decoder.decode(data).encode()
        return data

    @property
    def head(self) -> bytes:
        """The first bytes that are not read yet, up to 64 kB."""
        return self._ahead

    @property
    def position(self) -> int:
        """Bytes of the file as it lies on disk that have been read."""
        return self._raw.tell()

    def pass_by(self, share: float) -> None:
        """Say how much of the file has been read, where it is not read from here."""
        self._raw.seek(int(share * self.path.stat().st_size))

    def skip(self, size: int) -> None:
        """Leave out so many bytes of the head."""
        self._ahead = self._ahead[size:]

    def read(self, size: int) -> bytes:
        """More of the text; nothing when it is at its end."""
        if self._ahead:
            ahead, self._ahead = self._ahead, b""
            return ahead
        data = self._read(size)
        if self._decoder:
            return self._decoder.decode(data, final=not data).encode()
        return self._as_utf8(data)

    def _read(self, size: int) -> bytes:
        try:
            data: bytes = self._bytes.read(size)
        except (OSError, EOFError):
            raise UnusableFile(
                self.name,
                f"Its {self.packing or 'data'} breaks off after {self._unpacked:,} bytes of text.",
                "The file is cut short or damaged; fetch or pack it again.",
            ) from None
        self._unpacked += len(data)
        if self.packing and self._unpacked > max(HARMLESS, EXPANSION * self.path.stat().st_size):
            raise UnusableFile(
                self.name,
                f"It unpacks to more than {EXPANSION} times its size.",
                "No log does that. If it is one after all, unpack it first.",
            )
        return data

    def close(self) -> None:
        self._raw.close()


_LETTERS = re.compile(
    rb"""(?<=[A-Za-z])[\xc0-\xfd]+(?=[A-Za-z\s,;.:"'/)_-]|$)|(?<![^\s,;"'(/_-])[\xc0-\xfd]+(?=[A-Za-z])"""
)
"""Letters beyond ASCII, beside one of ASCII."""


def _is_western(data: bytes) -> bool:
    """Whether this is text of Windows-1252 (or Latin-1, a part of it), and no UTF-8.

    A broken byte here and there is UTF-8 with a flaw: letters must stand among letters, and no
    character of several bytes beside them.
    """
    if _is_utf8(data):
        return False
    wide = re.findall(rb"[\xc2-\xdf][\x80-\xbf]|[\xe0-\xef][\x80-\xbf]{2}", data)
    return len(_LETTERS.findall(data)) > len(wide)


def _is_utf8(data: bytes) -> bool:
    """Whether it is UTF-8, but for a character that the end may have cut."""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(data)
    except UnicodeDecodeError:
        return False
    return True
