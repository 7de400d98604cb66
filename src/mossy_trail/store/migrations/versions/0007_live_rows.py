"""The rows of live logs are found by their lines."""

from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    for rows in _of_live_logs():
        op.create_index(f"{rows}_line_idx", rows, ["line"])


def downgrade() -> None:
    for rows in _of_live_logs():
        op.drop_index(f"{rows}_line_idx", rows)


def _of_live_logs() -> list[str]:
    ids = op.get_bind().exec_driver_sql("SELECT id FROM logs WHERE live ORDER BY id").scalars()
    return [f"rows_{log_id}" for log_id in ids]
