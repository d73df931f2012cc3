"""What all tables share: the metadata, types of columns, and how a table is made."""

from typing import Any

from sqlalchemy import MetaData, Table
from sqlalchemy.dialects.mysql import BIGINT, DATETIME, INTEGER, TINYINT
from sqlalchemy.schema import SchemaItem

metadata = MetaData()

Id = INTEGER(unsigned=True)
Big = BIGINT(unsigned=True)
Time = DATETIME(fsp=6)
Small = TINYINT(unsigned=True)
_OPTIONS = {
    "mysql_engine": "InnoDB",
    "mysql_charset": "utf8mb4",
    "mysql_collate": "utf8mb4_bin",
    "mariadb_engine": "InnoDB",
    "mariadb_charset": "utf8mb4",
    "mariadb_collate": "utf8mb4_bin",
}


def table(name: str, *parts: SchemaItem) -> Table:
    """Make a table with the options that all have."""
    options: dict[str, Any] = _OPTIONS
    made: Table = Table(name, metadata, *parts, **options)
    return made
