"""Two more words for events, in the view that a person reads rows by."""

from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    _with_words(", 'custom']", ", 'custom', 'navigate', 'traverse']")


def downgrade() -> None:
    _with_words(", 'custom', 'navigate', 'traverse']", ", 'custom']")


def _with_words(old: str, new: str) -> None:
    """The view as it is, but for its list of words; PostgreSQL writes each with its type."""
    query = "SELECT pg_get_viewdef('readable_rows'::regclass)"
    definition = op.get_bind().exec_driver_sql(query).scalar_one()
    plain = definition.replace("::text", "")
    op.execute("DROP VIEW readable_rows")
    op.execute(f"CREATE VIEW readable_rows AS {plain.replace(old, new)}")
