"""People, what they sign in by, what they may do and what they did."""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"

_AUTHORED = ("app_maps", "kept", "kept_findings")


def upgrade() -> None:
    op.create_table(
        "people",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("email", sa.Text, nullable=False, unique=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("password", sa.Text),
        sa.Column("issuer", sa.Text),
        sa.Column("subject", sa.Text),
        sa.Column("manages_all", sa.Boolean, nullable=False),
        _moment("made_at", server_default=sa.func.now()),
        sa.UniqueConstraint("issuer", "subject"),
    )
    op.create_table(
        "memberships",
        _person(primary_key=True),
        _app(primary_key=True),
        sa.Column("role", sa.Text, nullable=False),
    )
    op.create_table(
        "visits", sa.Column("secret", sa.Text, primary_key=True), _person(), _moment("ends_at")
    )
    op.create_table(
        "tokens",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("secret", sa.Text, nullable=False, unique=True),
        _person(),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("role", sa.Text, nullable=False),
        _moment("made_at", server_default=sa.func.now()),
        _moment("ends_at"),
    )
    op.create_table(
        "invitations",
        _person(primary_key=True),
        sa.Column("secret", sa.Text, nullable=False, unique=True),
        _moment("ends_at"),
    )
    op.create_table(
        "tries",
        sa.Column("key", sa.Text, primary_key=True),
        sa.Column("failed", sa.Integer, nullable=False),
        _moment("tried_at"),
        _moment("wait_until"),
    )
    op.create_table(
        "deeds",
        sa.Column("id", sa.BigInteger, sa.Identity(), primary_key=True),
        _moment("at", server_default=sa.func.now()),
        _app(nullable=True),
        *(sa.Column(name, sa.Text, nullable=False) for name in ("who", "did", "what", "address")),
    )
    op.create_index("deeds_of_an_app", "deeds", ["app_id", "id"])
    for table in _AUTHORED:
        op.add_column(table, sa.Column("author", sa.Text, server_default="", nullable=False))


def _moment(name: str, **more: Any) -> sa.Column[Any]:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=False, **more)


def _person(**more: Any) -> sa.Column[Any]:
    key = sa.ForeignKey("people.id", ondelete="CASCADE")
    return sa.Column("person_id", sa.Integer, key, **{"nullable": False, **more})


def _app(**more: Any) -> sa.Column[Any]:
    key = sa.ForeignKey("apps.id", ondelete="CASCADE")
    return sa.Column("app_id", sa.Integer, key, **{"nullable": False, **more})


def downgrade() -> None:
    for table in _AUTHORED:
        op.drop_column(table, "author")
    for table in ("deeds", "tries", "invitations", "tokens", "visits", "memberships", "people"):
        op.drop_table(table)
