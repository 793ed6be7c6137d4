"""Run by Alembic: migrates the tables on the given connection, in the open transaction."""

from alembic import context

context.configure(connection=context.config.attributes["connection"], target_metadata=None)
with context.begin_transaction():
    context.run_migrations()
