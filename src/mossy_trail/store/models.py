"""What PostgreSQL holds: apps, their maps and logs, jobs, and per log its rows and terms."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    DateTime,
    ForeignKey,
    Identity,
    Index,
    LargeBinary,
    SmallInteger,
    Text,
    UniqueConstraint,
    func,
)
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


class Base(DeclarativeBase):
    type_annotation_map = {  # noqa: RUF012
        str: Text,
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSON(none_as_null=True),
        list[dict[str, Any]]: JSON,
    }


class App(Base):
    __tablename__ = "apps"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    key: Mapped[str] = mapped_column(unique=True)
    """The app's name in addresses."""
    name: Mapped[str]
    ingest_key: Mapped[str | None]
    """SHA-256 of the key with which events may be sent to it, in hexadecimal digits."""
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    maps: Mapped[list[AppMapVersion]] = relationship(order_by="AppMapVersion.version")
    logs: Mapped[list[StoredLog]] = relationship(order_by="StoredLog.id")


class AppMapVersion(Base):
    __tablename__ = "app_maps"
    __table_args__ = (UniqueConstraint("app_id", "version"),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    app_id: Mapped[int] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"))
    version: Mapped[int]
    document: Mapped[dict[str, Any]]
    author: Mapped[str] = mapped_column(default="")
    """Who made it, by name; empty where nobody signs in."""
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


class StoredLog(Base):
    """One import that landed whole, or the events that an app sends. Rows lie in partitions."""

    __tablename__ = "logs"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    app_id: Mapped[int] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"))
    version: Mapped[int]
    """Goes up when rows that were there are changed: read anew, or a user erased."""
    files: Mapped[list[dict[str, Any]]]
    """Per file its `name`, the `mapping` it was read by, and of CSV `delimiter` and `columns`."""
    rows: Mapped[int] = mapped_column(BigInteger)
    reasons: Mapped[dict[str, Any]]
    """How many rows were set aside, by reason."""
    users: Mapped[int]
    first_time: Mapped[datetime | None]
    last_time: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    live: Mapped[bool] = mapped_column(default=False)
    """Its rows are sent over HTTP as they happen."""
    received: Mapped[int] = mapped_column(BigInteger, default=0)
    """Events of a live log that were acknowledged; each is a line."""
    through: Mapped[int] = mapped_column(BigInteger, default=0)
    """Up to which of these lines they are read into rows."""
    duplicates: Mapped[int] = mapped_column(BigInteger, default=0)
    """Events that were sent again, and dropped."""

    @property
    def set_aside(self) -> int:
        return sum(self.reasons.values())


class SavedMapping(Base):
    """How files of one shape are read in an app, so that the next one asks no questions."""

    __tablename__ = "mappings"

    app_id: Mapped[int] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"), primary_key=True)
    shape: Mapped[str] = mapped_column(primary_key=True)
    mapping: Mapped[dict[str, Any]]


class Kept(Base):
    """What a person made and keeps: a funnel or a segment, under a name of its own."""

    __tablename__ = "kept"
    __table_args__ = (UniqueConstraint("app_id", "kind", "name"),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    app_id: Mapped[int] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"))
    kind: Mapped[str]
    name: Mapped[str]
    document: Mapped[dict[str, Any]]
    author: Mapped[str] = mapped_column(default="")


class KeptFinding(Base):
    """A finding, or any figure, that a person keeps with a note, or dismisses with a reason."""

    __tablename__ = "kept_findings"
    __table_args__ = (UniqueConstraint("app_id", "key"),)

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    app_id: Mapped[int] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"))
    key: Mapped[str]
    """What it is known by: the same finding of the same scope has the same."""
    dismissed: Mapped[bool]
    place: Mapped[int]
    """Where it stands among those kept."""
    note: Mapped[str]
    """Or why it was dismissed."""
    author: Mapped[str] = mapped_column(default="")
    told: Mapped[dict[str, Any]]
    """Its sentence, figure, scope and values, as they were when it was kept."""
    data_version: Mapped[str]
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())


class Job(Base):
    """One import, from upload to landing. `state` is one of `JOB_STATES`."""

    __tablename__ = "jobs"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    app_id: Mapped[int] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"))
    files: Mapped[list[dict[str, Any]]]
    """Per file its `name`, its `bytes`, and where these lie under the data directory (`upload`)."""
    state: Mapped[str]
    message: Mapped[str] = mapped_column(default="")
    mend: Mapped[str] = mapped_column(default="")
    mappings: Mapped[dict[str, Any]] = mapped_column(default=dict)
    """How files of each shape are to be read; of other shapes: as their first rows propose."""
    anew: Mapped[bool] = mapped_column(default=False)
    """The log is in already, and is read once more, from the bytes that were kept."""
    log_id: Mapped[int | None] = mapped_column(ForeignKey("logs.id", ondelete="SET NULL"))
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


JOB_STATES = (
    *("uploading", "waiting", "reading", "storing"),
    *("asking", "done", "failed", "cancelled", "interrupted"),
)
"""`asking`: the file is here, and waits to be told which of its columns is which."""
UNDER_WAY = JOB_STATES[:4]


class Row(Base):
    """A row of a log, as codes into its terms; what a row does not have is null, or −1 in older
    ones."""

    __tablename__ = "rows"
    __table_args__ = ({"postgresql_partition_by": "LIST (log_id)"},)

    log_id: Mapped[int]
    file: Mapped[int]
    line: Mapped[int]
    time: Mapped[datetime]
    user: Mapped[int]
    session: Mapped[int | None]
    order: Mapped[int | None] = mapped_column(BigInteger)
    event: Mapped[int] = mapped_column(SmallInteger)
    word: Mapped[int | None]
    screen: Mapped[int | None]
    origin: Mapped[int | None]
    tab: Mapped[int | None]
    uri: Mapped[int | None]
    source: Mapped[int | None]
    outcome: Mapped[int | None] = mapped_column(SmallInteger)
    params: Mapped[int | None]
    count: Mapped[int | None]
    via: Mapped[int | None] = mapped_column(SmallInteger)
    props: Mapped[int | None]
    account: Mapped[int | None]
    # Only those of a live log have an index: see `logs.index_by_line`.
    __mapper_args__ = {"primary_key": ["log_id", "file", "line"]}  # noqa: RUF012


class Term(Base):
    """A string that codes of a log stand for."""

    __tablename__ = "terms"
    __table_args__ = ({"postgresql_partition_by": "LIST (log_id)"},)

    log_id: Mapped[int] = mapped_column(primary_key=True)
    dictionary: Mapped[str] = mapped_column(primary_key=True)
    code: Mapped[int] = mapped_column(primary_key=True)
    text: Mapped[str]


class SetAsideRow(Base):
    __tablename__ = "set_aside"
    __table_args__ = ({"postgresql_partition_by": "LIST (log_id)"},)

    log_id: Mapped[int] = mapped_column(primary_key=True)
    file: Mapped[int] = mapped_column(primary_key=True)
    line: Mapped[int] = mapped_column(primary_key=True)
    reason: Mapped[str]
    text: Mapped[str]


class RawBlock(Base):
    """Some of a log file's bytes as they came, compressed with zstd."""

    __tablename__ = "raw_blocks"
    __table_args__ = ({"postgresql_partition_by": "LIST (log_id)"},)

    log_id: Mapped[int] = mapped_column(primary_key=True)
    file: Mapped[int] = mapped_column(primary_key=True)
    first_line: Mapped[int] = mapped_column(primary_key=True)
    size: Mapped[int]
    """Bytes before compression."""
    data: Mapped[bytes] = mapped_column(LargeBinary)


class LiveEvent(Base):
    """An event as it was sent, a line of its log; another of its source and id is dropped."""

    __tablename__ = "live_events"
    __table_args__ = (
        Index("live_events_in_order", "log_id", "line"),
        {"postgresql_partition_by": "LIST (log_id)"},
    )

    log_id: Mapped[int] = mapped_column(primary_key=True)
    source: Mapped[str] = mapped_column(primary_key=True)
    event_id: Mapped[str] = mapped_column(primary_key=True)
    line: Mapped[int]
    text: Mapped[str]
    """The row that it stands for, as a JSON object."""


PARTITIONED = (Row, Term, SetAsideRow, RawBlock)
