"""The first tables, and the view in which a person can read rows in psql."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None

DICTIONARY_OF = {
    "user": "user",
    "session": "session",
    "word": "word",
    "screen": "screen",
    "origin": "screen",
    "tab": "word",
    "uri": "uri",
    "source": "word",
    "params": "params",
    "props": "props",
}
EVENTS = (
    "app_start app_background app_foreground app_recreate app_exit screen_view push pop "
    "pop_to replace reset switch_tab open_modal close_modal update forward redirect blocked "
    "open_link leave_prompt sign_in sign_up sign_out session_restored custom"
).split()


def upgrade() -> None:
    op.create_table(
        "apps",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("ingest_key", sa.Text(), nullable=True),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("key"),
    )
    op.create_table(
        "live_events",
        sa.Column("log_id", sa.Integer(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("event_id", sa.Text(), nullable=False),
        sa.Column("line", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("log_id", "source", "event_id"),
        postgresql_partition_by="LIST (log_id)",
    )
    op.create_index("live_events_in_order", "live_events", ["log_id", "line"], unique=False)
    op.create_table(
        "raw_blocks",
        sa.Column("log_id", sa.Integer(), nullable=False),
        sa.Column("file", sa.Integer(), nullable=False),
        sa.Column("first_line", sa.Integer(), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("log_id", "file", "first_line"),
        postgresql_partition_by="LIST (log_id)",
    )
    op.create_table(
        "rows",
        sa.Column("log_id", sa.Integer(), nullable=False),
        sa.Column("file", sa.Integer(), nullable=False),
        sa.Column("line", sa.Integer(), nullable=False),
        sa.Column("time", sa.DateTime(timezone=True), nullable=False),
        sa.Column("user", sa.Integer(), nullable=False),
        sa.Column("session", sa.Integer(), nullable=False),
        sa.Column("order", sa.BigInteger(), nullable=False),
        sa.Column("event", sa.SmallInteger(), nullable=False),
        sa.Column("word", sa.Integer(), nullable=False),
        sa.Column("screen", sa.Integer(), nullable=False),
        sa.Column("origin", sa.Integer(), nullable=False),
        sa.Column("tab", sa.Integer(), nullable=False),
        sa.Column("uri", sa.Integer(), nullable=False),
        sa.Column("source", sa.Integer(), nullable=False),
        sa.Column("outcome", sa.SmallInteger(), nullable=False),
        sa.Column("params", sa.Integer(), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("via", sa.SmallInteger(), nullable=False),
        sa.Column("props", sa.Integer(), nullable=False),
        postgresql_partition_by="LIST (log_id)",
    )
    op.create_table(
        "set_aside",
        sa.Column("log_id", sa.Integer(), nullable=False),
        sa.Column("file", sa.Integer(), nullable=False),
        sa.Column("line", sa.Integer(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("log_id", "file", "line"),
        postgresql_partition_by="LIST (log_id)",
    )
    op.create_table(
        "terms",
        sa.Column("log_id", sa.Integer(), nullable=False),
        sa.Column("dictionary", sa.Text(), nullable=False),
        sa.Column("code", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("log_id", "dictionary", "code"),
        postgresql_partition_by="LIST (log_id)",
    )
    op.create_table(
        "app_maps",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("app_id", sa.Integer(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("document", sa.JSON(none_as_null=True), nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(["app_id"], ["apps.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("app_id", "version"),
    )
    op.create_table(
        "logs",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("app_id", sa.Integer(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("files", sa.JSON(), nullable=False),
        sa.Column("rows", sa.BigInteger(), nullable=False),
        sa.Column("reasons", sa.JSON(none_as_null=True), nullable=False),
        sa.Column("users", sa.Integer(), nullable=False),
        sa.Column("first_time", sa.DateTime(timezone=True), nullable=True),
        sa.Column("last_time", sa.DateTime(timezone=True), nullable=True),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.Column("live", sa.Boolean(), nullable=False),
        sa.Column("received", sa.BigInteger(), nullable=False),
        sa.Column("through", sa.BigInteger(), nullable=False),
        sa.Column("duplicates", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["app_id"], ["apps.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "mappings",
        sa.Column("app_id", sa.Integer(), nullable=False),
        sa.Column("shape", sa.Text(), nullable=False),
        sa.Column("mapping", sa.JSON(none_as_null=True), nullable=False),
        sa.ForeignKeyConstraint(["app_id"], ["apps.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("app_id", "shape"),
    )
    op.create_table(
        "jobs",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("app_id", sa.Integer(), nullable=False),
        sa.Column("files", sa.JSON(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("message", sa.Text(), nullable=False),
        sa.Column("mend", sa.Text(), nullable=False),
        sa.Column("mappings", sa.JSON(none_as_null=True), nullable=False),
        sa.Column("anew", sa.Boolean(), nullable=False),
        sa.Column("log_id", sa.Integer(), nullable=True),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(["app_id"], ["apps.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["log_id"], ["logs.id"], ondelete="SET NULL"),
        sa.PrimaryKeyConstraint("id"),
    )

    texts = ", ".join(
        f"(SELECT text FROM terms t WHERE t.log_id = r.log_id AND t.dictionary = '{dictionary}' "
        f'AND t.code = r."{name}") AS "{name}"'
        for name, dictionary in DICTIONARY_OF.items()
    )
    words = ", ".join(f"'{word}'" for word in EVENTS)
    op.execute(
        "CREATE VIEW readable_rows AS SELECT r.log_id, r.file, r.line, r.time, "
        f"(ARRAY[{words}])[r.event + 1] AS event, {texts} FROM rows r"
    )


def downgrade() -> None:
    op.execute("DROP VIEW readable_rows")
    for table in [
        "jobs",
        "mappings",
        "logs",
        "app_maps",
        "terms",
        "set_aside",
        "rows",
        "raw_blocks",
        "live_events",
        "apps",
    ]:
        op.drop_table(table)
