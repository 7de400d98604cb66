"""Alembic's entry: runs the migrations on the connection that `database.migrate` hands over."""

from alembic import context

from mossy_trail.store.models import Base

context.configure(connection=context.config.attributes["connection"], target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
