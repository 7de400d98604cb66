"""Findings that people keep or dismiss."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.create_table(
        "kept_findings",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column(
            "app_id", sa.Integer, sa.ForeignKey("apps.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("key", sa.Text, nullable=False),
        sa.Column("dismissed", sa.Boolean, nullable=False),
        sa.Column("place", sa.Integer, nullable=False),
        sa.Column("note", sa.Text, nullable=False),
        sa.Column("told", sa.JSON(none_as_null=True), nullable=False),
        sa.Column("data_version", sa.Text, nullable=False),
        sa.Column(
            "made_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False
        ),
        sa.UniqueConstraint("app_id", "key"),
    )


def downgrade() -> None:
    op.drop_table("kept_findings")
