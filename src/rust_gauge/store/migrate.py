"""Bringing a database to the newest schema with Alembic. Migrations only go forward."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory

from rust_gauge.store.engine import Store


def _config(store: Store) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["engine"] = store.engine
    return config


def migrate(store: Store, to: str = "head") -> None:
    """Apply every migration that is missing, up to a revision."""
    command.upgrade(_config(store), to)


def is_current(store: Store) -> bool:
    """Return whether the schema is the one that this code was written for."""
    head = ScriptDirectory.from_config(_config(store)).get_current_head()
    with store.engine.connect() as connection:
        return MigrationContext.configure(connection).get_current_revision() == head
