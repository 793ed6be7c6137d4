"""Run by Alembic: brings the tables forward on the connection that it is given, in the transaction that is open."""

from alembic import context

context.configure(connection=context.config.attributes["connection"], target_metadata=None)
with context.begin_transaction():
    context.run_migrations()
