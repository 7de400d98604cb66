"""What a row does not have is null: it takes no room, and rows are copied in faster.

Rows that were there before keep their −1, which means the same.
"""

from alembic import op

revision = "0008"
down_revision = "0007"

COLUMNS = (
    "account session order word screen origin tab uri source outcome params count via props"
).split()


def upgrade() -> None:
    op.alter_column("rows", "account", server_default=None)
    for name in COLUMNS:
        op.alter_column("rows", name, nullable=True)


def downgrade() -> None:
    filled = ", ".join(f'"{name}" = coalesce("{name}", \'-1\')' for name in COLUMNS)
    op.execute(f"UPDATE rows SET {filled}")
    for name in COLUMNS:
        op.alter_column("rows", name, nullable=False)
    op.alter_column("rows", "account", server_default="-1")
