"""A log of many files, read and put to parts by a Dask cluster: no machine holds all of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Any
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from mossy_trail.core.model.log import (
    DICTIONARIES,
    DTYPES,
    Log,
    parts_needed,
    recoded,
    sorted_rows,
    united,
)
from mossy_trail.core.model.people import Names, tells_accounts
from mossy_trail.intake.mapping import Mapping
from mossy_trail.intake.reader import LogFile, Watcher, read_log
from mossy_trail.intake.rows import SetAside
from mossy_trail.store.folder import Folder, LogParts, write_contents, write_part

if TYPE_CHECKING:
    import pandas as pd

_HASH, _PART = "hash", "part"
"""Columns beside those of a log: the hash of the user's name, and the part that it tells."""


@dataclass(frozen=True)
class Spread:
    """What came of the files."""

    parts: LogParts
    set_aside: list[SetAside]
    rows_read: int


@dataclass(frozen=True)
class _Piece:
    """What a worker says of a file, of which it has kept the rows."""

    terms: dict[str, list[str]]
    rows: int
    set_aside: list[SetAside]
    tells_accounts: bool


def read(
    client: Any,
    files: Sequence[LogFile],
    folder: Folder,
    mapping: Mapping | None = None,
    key: bytes = b"",
) -> Spread:
    """Read files that are one log together, and write its parts to a folder that all workers of a
    `distributed.Client` reach.

    The parts are those that one machine would have made of it. Raises `UnusableFile`.
    """
    numbers = list(range(len(files)))
    read_one = partial(_read_one, folder=folder, mapping=mapping, key=key)
    tasks = client.map(read_one, numbers, list(files), pure=False)
    pieces: list[_Piece] = client.gather(tasks)
    terms, codings = united([piece.terms for piece in pieces])
    for number, coding in enumerate(codings):
        for name, codes in coding.items():
            folder.write_columns(_coding(number, name), {"code": codes})
    count = parts_needed(sum(piece.rows for piece in pieces))
    frames = _shuffled(_frames(len(files), folder), count)
    if any(piece.tells_accounts for piece in pieces):
        frames, terms = _of_persons(client, frames, folder, terms, count)
    written = frames.map_partitions(_write, folder, meta={_PART: "int64", "rows": "int64"})
    found = client.compute(written).result()
    rows = dict(zip(found[_PART].tolist(), found["rows"].tolist(), strict=True))
    write_contents(folder, rows, terms)
    aside = [replace(row, file=number) for number in numbers for row in pieces[number].set_aside]
    return Spread(LogParts(folder), aside, len(aside) + sum(piece.rows for piece in pieces))


def _read_one(
    number: int, file: LogFile, folder: Folder, mapping: Mapping | None, key: bytes
) -> _Piece:
    reading = read_log([file], lambda _: mapping, Watcher(), key)
    log = reading.log
    folder.write_columns(_piece(number), {**log.columns, _HASH: _hashes(log.terms["user"], log)})
    return _Piece(log.terms, len(log), reading.set_aside, tells_accounts(log))


def _hashes(users: Sequence[str], log: Log) -> NDArray[np.uint32]:
    """Of the name of each row's user; shape (rows,)."""
    return np.array([crc32(user.encode()) for user in users], "u4")[log.columns["user"]]


def _frames(files: int, folder: Folder) -> Any:
    """The rows of all files, in the codes of their united dictionaries."""
    import dask.dataframe as dd

    from_map: Any = dd.from_map
    return from_map(partial(_rows_of, folder=folder), range(files), meta=_meta())


def _rows_of(number: int, folder: Folder) -> pd.DataFrame:
    import pandas as pd

    columns = folder.read_columns(_piece(number))
    codings = {name: folder.read_columns(_coding(number, name))["code"] for name in DICTIONARIES}
    own = recoded({name: columns[name] for name in DTYPES}, codings)
    return pd.DataFrame({**own, _HASH: columns[_HASH]})


def _meta() -> pd.DataFrame:
    import pandas as pd

    return pd.DataFrame(
        {name: np.empty(0, dtype) for name, dtype in {**DTYPES, _HASH: "uint32"}.items()}
    )


def _shuffled(frames: Any, parts: int) -> Any:
    """The rows so that those of one part come together."""
    placed = frames.assign(**{_PART: (frames[_HASH] % parts).astype("int32")})
    return placed.shuffle(_PART, npartitions=parts, shuffle_method="p2p")


def _of_persons(
    client: Any, frames: Any, folder: Folder, terms: dict[str, list[str]], parts: int
) -> tuple[Any, dict[str, list[str]]]:
    """The rows by who they are of. An install's are together, as that takes all of them; a person's
    may be on several."""
    for kind in _KINDS:
        folder.write_texts(_naming(kind), terms[kind])
    named = client.persist(frames.map_partitions(_named, folder, meta=_meta()))
    used = np.sort(client.compute(named["user"].unique()).result().to_numpy())
    folder.write_columns(_USED, {"code": used})
    text = Names.of(terms).text
    own = named.map_partitions(_numbered, folder, meta=_meta())
    return _shuffled(own, parts), {**terms, "user": [text[code] for code in used]}


_KINDS = ("user", "account")
_USED = "persons.arrow"


def _named(frame: pd.DataFrame, folder: Folder) -> pd.DataFrame:
    """The rows of whole installs, `user` being the code of a name and `hash` that of its text."""
    names = Names.of({kind: folder.read_texts(_naming(kind)) for kind in _KINDS})
    code = names.of_rows({name: frame[name].to_numpy() for name in DTYPES})
    some, where = np.unique(code, return_inverse=True)
    hashes = np.array([crc32(names.text[one].encode()) for one in some], "u4")
    return frame.drop(columns=_PART).assign(user=code, **{_HASH: hashes[where]})


def _numbered(frame: pd.DataFrame, folder: Folder) -> pd.DataFrame:
    """The rows with persons numbered without gaps."""
    used = folder.read_columns(_USED)["code"]
    return frame.assign(user=np.searchsorted(used, frame["user"]).astype("i4"))


def _write(frame: pd.DataFrame, folder: Folder) -> pd.DataFrame:
    """Write the parts that came together, and say how many rows each has."""
    import pandas as pd

    rows: dict[int, int] = {}
    for part, own in frame.groupby(_PART):
        columns = {name: own[name].to_numpy() for name in DTYPES}
        users, user = np.unique(columns["user"], return_inverse=True)
        keys = (columns[name] for name in ("time", "order", "file", "line"))
        order = sorted_rows(user.astype("i4"), len(users), *keys)
        write_part(folder, int(part), {name: column[order] for name, column in columns.items()})
        rows[int(part)] = len(own)
    return pd.DataFrame({_PART: list(rows), "rows": list(rows.values())}, dtype="int64")


def _piece(number: int) -> str:
    return f"piece-{number:06}.arrow"


def _coding(number: int, dictionary: str) -> str:
    return f"piece-{number:06}.{dictionary}.arrow"


def _naming(kind: str) -> str:
    return f"{kind}.names.arrow"
