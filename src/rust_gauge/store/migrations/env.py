"""Alembic's entry: runs migrations over the engine that `store.migrate` hands in."""

from alembic import context

from rust_gauge.store.tables import metadata

with context.config.attributes["engine"].connect() as connection:
    context.configure(connection=connection, target_metadata=metadata)
    with context.begin_transaction():
        context.run_migrations()
    connection.commit()
