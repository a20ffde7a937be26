"""How Alembic reaches the ledger: over the connection that the caller opened."""

from alembic import context

from tallgrain.store.models import METADATA

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=METADATA, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
