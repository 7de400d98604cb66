"""The account that was signed in when a row was logged."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    column = sa.Column("account", sa.Integer(), nullable=False, server_default="-1")
    op.add_column("rows", column)


def downgrade() -> None:
    op.drop_column("rows", "account")
