"""Bringing a database to the newest schema with Alembic. Migrations only go forward."""

from functools import cache
from pathlib import Path

from sqlalchemy import inspect, text

from rust_gauge.store.engine import Store, StoreError

_MIGRATIONS = Path(__file__).parent / "migrations"


@cache
def newest_revision() -> str:
    """Return the schema that this code was written for: migrations are numbered, and each file is named by its own."""
    return max(path.name[:4] for path in (_MIGRATIONS / "versions").glob("[0-9]*.py"))


def revision_of(store: Store) -> str:
    """Return the schema of a database; empty for one without any."""
    with store.engine.connect() as connection:
        if not inspect(connection).has_table("alembic_version"):
            return ""
        return str(connection.scalar(text("SELECT version_num FROM alembic_version")) or "")


def migrate(store: Store, to: str = "head") -> None:
    """Apply every migration that is missing, up to a revision. StoreError for a schema newer than this code."""
    there = revision_of(store)
    if there > newest_revision():
        raise StoreError(
            f"The database has schema {there}, which is newer than this version ({newest_revision()})",
            remedy="Install the version that wrote it, or restore a backup from before the upgrade",
        )
    from alembic import command  # a quarter of a second that only a migration needs
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    config.attributes["engine"] = store.engine
    command.upgrade(config, to)


def is_current(store: Store) -> bool:
    """Return whether the schema is the one that this code was written for."""
    store.ping()
    return revision_of(store) == newest_revision()
