"""The audit log: who did what to what. Entries are added, never changed; each holds the hash of the one before it."""

from sqlalchemy import BINARY, Column, Index, String
from sqlalchemy.dialects.mysql import MEDIUMTEXT

from rust_gauge.store.tables.base import Big, Id, Small, Time, table

# No foreign keys: what is written stays when a tenant or a person goes.
audit_entry = table(
    "audit_entry",
    Column("id", Big, primary_key=True, autoincrement=False),
    Column("at", Time, nullable=False),
    Column("tenant_id", Id, nullable=True),
    Column("account", String(254), nullable=False),
    Column("token", String(100), nullable=False),
    Column("address", String(45), nullable=False),
    Column("request_id", String(32), nullable=False),
    Column("action", String(60), nullable=False),
    Column("subject", String(500), nullable=False),
    Column("before_state", MEDIUMTEXT, nullable=False),
    Column("after_state", MEDIUMTEXT, nullable=False),
    Column("previous", BINARY(32), nullable=False),
    Column("hash", BINARY(32), nullable=False),
    Index("audit_entry_tenant", "tenant_id", "id"),
    Index("audit_entry_action", "action", "id"),
)

# One row, locked while an entry is added.
audit_head = table(
    "audit_head",
    Column("id", Small, primary_key=True, autoincrement=False),
    Column("last", Big, nullable=False),
    Column("hash", BINARY(32), nullable=False),
)
