"""Columns as Arrow files in a folder: of this machine, or of whatever else fsspec reaches."""

from __future__ import annotations

import json
import shutil
from abc import abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from mmap import ACCESS_COPY, mmap
from pathlib import Path
from typing import Any, TypeVar, overload
from uuid import uuid4

import numpy as np
import pyarrow as pa

from mossy_trail.core.model.log import DICTIONARIES, DTYPES, Column, Log

Item = TypeVar("Item")
MAKING = ".making"
"""Ends the name of what is not whole: on its way in, or out."""
_CONTENTS = "contents.json"


class Folder:
    """A folder by its path, or by a URL such as `s3://bucket/name`.

    What is in a folder of this machine is mapped into memory, elsewhere it is read. A file is
    there as a whole or not at all, whenever whoever writes it is killed.
    """

    def __init__(self, url: str | Path) -> None:
        self.url = str(url)

    def __repr__(self) -> str:
        return f"Folder({self.url!r})"

    @property
    def _away(self) -> bool:
        return "://" in self.url

    @cached_property
    def _elsewhere(self) -> Any:
        from fsspec.core import url_to_fs

        return url_to_fs(self.url)[0]

    def under(self, name: str) -> Folder:
        return Folder(self._path(name))

    def remove(self) -> None:
        """Delete it and all that is in it, if it is there."""
        if not self._away:
            shutil.rmtree(self.url, ignore_errors=True)
        elif self._elsewhere.exists(self.url):
            self._elsewhere.rm(self.url, recursive=True)

    def _path(self, name: str) -> str:
        return f"{self.url.rstrip('/')}/{name}"

    def write(self, name: str, content: bytes | memoryview) -> None:
        if self._away:
            self._elsewhere.makedirs(self.url, exist_ok=True)
            self._elsewhere.pipe_file(self._path(name), bytes(content))
            return
        path = Path(self._path(name))
        path.parent.mkdir(parents=True, exist_ok=True)
        making = path.with_name(f"{path.name}.{uuid4().hex}{MAKING}")
        making.write_bytes(content)
        making.rename(path)

    def read(self, name: str) -> mmap | bytearray:
        """What may be written to, and is never written back. Raises `OSError` where there is no
        such file."""
        if self._away:
            return bytearray(self._elsewhere.cat_file(self._path(name)))
        with open(self._path(name), "rb") as file:
            return mmap(file.fileno(), 0, access=ACCESS_COPY)

    def write_table(self, name: str, table: pa.Table) -> None:
        sink = pa.BufferOutputStream()
        with pa.ipc.new_file(sink, table.schema) as writer:
            writer.write_table(table.combine_chunks())
        self.write(name, memoryview(sink.getvalue()))

    def read_table(self, name: str) -> pa.Table:
        return pa.ipc.open_file(pa.py_buffer(self.read(name))).read_all()

    def write_columns(self, name: str, columns: Mapping[str, Column]) -> None:
        self.write_table(name, pa.table({key: pa.array(own) for key, own in columns.items()}))

    def write_texts(self, name: str, texts: Sequence[str]) -> None:
        self.write_table(name, pa.table({"text": pa.array(texts, pa.large_string())}))

    def read_texts(self, name: str) -> list[str]:
        found: list[str] = self.read_table(name)["text"].to_pylist()
        return found

    def read_columns(self, name: str) -> dict[str, Column]:
        """The columns of numbers of a table, as arrays that may be written to."""
        content = self.read(name)
        whole = pa.py_buffer(content)
        table = pa.ipc.open_file(whole).read_all()

        def plain(column: pa.ChunkedArray) -> Column:
            dtype = column.type.to_pandas_dtype()
            if not len(column):
                return np.empty(0, dtype)
            place = column.chunk(0).buffers()[1].address - whole.address
            return np.frombuffer(content, dtype, len(column), place)

        return {key: plain(table[key]) for key in table.column_names}


class OneByOne(Sequence[Item]):
    """What is opened one by one when it is asked for."""

    @abstractmethod
    def _at(self, number: int) -> Item: ...

    @overload
    def __getitem__(self, number: int) -> Item: ...

    @overload
    def __getitem__(self, number: slice) -> list[Item]: ...

    def __getitem__(self, number: int | slice) -> Item | list[Item]:
        numbers = range(len(self))[number]
        return self._at(numbers) if isinstance(numbers, int) else [self._at(i) for i in numbers]


class LogParts(OneByOne[Log]):
    """The parts of a log, which share their dictionaries, in a folder. Each is held by whoever asks
    for it."""

    def __init__(self, folder: Folder) -> None:
        """Raises `OSError`, `ValueError` or `LookupError` where no parts are in there."""
        self.folder = folder
        self.contents = json.loads(bytes(folder.read(_CONTENTS)))
        found = sorted((int(number), rows) for number, rows in self.contents["rows"].items())
        self._numbers, self.rows = [number for number, _ in found], [rows for _, rows in found]

    @cached_property
    def terms(self) -> dict[str, list[str]]:
        return {name: self.folder.read_texts(_terms_name(name)) for name in DICTIONARIES}

    def check(self) -> None:
        """Open all of it once; raises the same where a file is missing, or cut short."""
        if [len(part) for part in self] != self.rows:
            raise ValueError("parts have other rows than are said")

    def __len__(self) -> int:
        return len(self.rows)

    def _at(self, number: int) -> Log:
        columns = self.folder.read_columns(_part_name(self._numbers[number]))
        return Log({name: columns[name] for name in DTYPES}, self.terms)


def write_part(folder: Folder, number: int, part: Mapping[str, Column]) -> None:
    folder.write_columns(_part_name(number), part)


def _part_name(number: int) -> str:
    return f"part-{number:04}.arrow"


def _terms_name(dictionary: str) -> str:
    return f"{dictionary}.terms.arrow"


def write_parts(
    folder: Folder, parts: Iterable[Log], terms: Mapping[str, list[str]], **more: Any
) -> None:
    """Write the parts that have rows, one after the other, and what else there is to say of
    them."""
    rows: dict[int, int] = {}
    for number, part in enumerate(parts):
        if len(part):
            write_part(folder, number, part.columns)
            rows[number] = len(part)
    write_contents(folder, rows, terms, **more)


def write_contents(
    folder: Folder, rows: Mapping[int, int], terms: Mapping[str, list[str]], **more: Any
) -> None:
    """Say of a folder which parts it has, by their numbers, and of how many rows."""
    for name in DICTIONARIES:
        folder.write_texts(_terms_name(name), terms[name])
    folder.write(_CONTENTS, json.dumps({"rows": rows, **more}).encode())
