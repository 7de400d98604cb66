"""What PostgreSQL holds of people: who may do what, what they sign in by, and what they did.

Of every secret it holds a hash alone: Argon2id of passwords, SHA-256 of what is random itself.
"""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, ForeignKey, Identity, Index, Text, UniqueConstraint, func
from sqlalchemy.orm import Mapped, mapped_column, relationship

from mossy_trail.store.models import Base

ROLES = ("read", "work", "manage")
"""What may be done with an app; each may do what those before it may."""


class Person(Base):
    """Someone with an account, or invited to have one: then there is neither name nor password."""

    __tablename__ = "people"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    email: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str] = mapped_column(default="")
    password: Mapped[str | None]
    issuer: Mapped[str | None]
    subject: Mapped[str | None]
    """Who it is to the provider of OpenID Connect, `issuer`."""
    manages_all: Mapped[bool] = mapped_column(default=False)
    """Every app, those to come too, and who has an account."""
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    memberships: Mapped[list[Membership]] = relationship(cascade="all, delete-orphan")

    __table_args__ = (UniqueConstraint("issuer", "subject"),)


class Membership(Base):
    __tablename__ = "memberships"

    person_id: Mapped[int] = mapped_column(
        ForeignKey("people.id", ondelete="CASCADE"), primary_key=True
    )
    app_id: Mapped[int] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"), primary_key=True)
    role: Mapped[str]


class Visit(Base):
    """A browser in which someone is signed in."""

    __tablename__ = "visits"

    secret: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"))
    ends_at: Mapped[datetime]


class Token(Base):
    """What a person's scripts sign in by. It may do at most what `role` may, and they may."""

    __tablename__ = "tokens"

    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    secret: Mapped[str] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"))
    name: Mapped[str]
    role: Mapped[str]
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    ends_at: Mapped[datetime]


class Invitation(Base):
    """A link by which a person sets name and password, once; the newest alone holds."""

    __tablename__ = "invitations"

    person_id: Mapped[int] = mapped_column(
        ForeignKey("people.id", ondelete="CASCADE"), primary_key=True
    )
    secret: Mapped[str] = mapped_column(unique=True)
    ends_at: Mapped[datetime]


class Tries(Base):
    """How often someone failed to sign in to an account, or from an address, since it last went
    well, and until when no other try is let through."""

    __tablename__ = "tries"

    key: Mapped[str] = mapped_column(primary_key=True)
    failed: Mapped[int]
    tried_at: Mapped[datetime]
    wait_until: Mapped[datetime]


class Deed(Base):
    """What someone did: brought in, changed, exported, erased, let in. It outlives who did it."""

    __tablename__ = "deeds"
    __table_args__ = (Index("deeds_of_an_app", "app_id", "id"),)

    id: Mapped[int] = mapped_column(BigInteger, Identity(), primary_key=True)
    at: Mapped[datetime] = mapped_column(server_default=func.now())
    app_id: Mapped[int | None] = mapped_column(ForeignKey("apps.id", ondelete="CASCADE"))
    who: Mapped[str] = mapped_column(Text)
    """Name and e-mail, as they were."""
    did: Mapped[str]
    what: Mapped[str]
    address: Mapped[str]
