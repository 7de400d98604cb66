"""Funnels and segments that people keep."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.create_table(
        "kept",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("app_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("document", sa.JSON(none_as_null=True), nullable=False),
        sa.ForeignKeyConstraint(["app_id"], ["apps.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("app_id", "kind", "name"),
    )


def downgrade() -> None:
    op.drop_table("kept")
