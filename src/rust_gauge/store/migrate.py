"""Bringing a database to the newest schema with Alembic. Migrations only go forward."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory

from rust_gauge.store.engine import Store, StoreError


def _config(store: Store) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["engine"] = store.engine
    return config


def newest_revision() -> str:
    """Return the schema that this code was written for."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    return str(ScriptDirectory.from_config(config).get_current_head())


def revision_of(store: Store) -> str:
    """Return the schema of a database; empty for one without any."""
    with store.engine.connect() as connection:
        return MigrationContext.configure(connection).get_current_revision() or ""


def migrate(store: Store, to: str = "head") -> None:
    """Apply every migration that is missing, up to a revision. StoreError for a schema newer than this code."""
    there = revision_of(store)
    if there > newest_revision():
        raise StoreError(
            f"The database has schema {there}, which is newer than this version ({newest_revision()})",
            remedy="Install the version that wrote it, or restore a backup from before the upgrade",
        )
    command.upgrade(_config(store), to)


def is_current(store: Store) -> bool:
    """Return whether the schema is the one that this code was written for."""
    return revision_of(store) == newest_revision()
