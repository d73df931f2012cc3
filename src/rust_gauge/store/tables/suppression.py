"""The suppression list, its changes and its numbers."""

from sqlalchemy import BINARY, JSON, Column, Date, ForeignKey, Index, String, Text, text
from sqlalchemy.dialects.mysql import SMALLINT

from rust_gauge.store.tables.base import Big, Id, Small, Time, table

# One row for an address (or a whole recipient domain), a reason and a scope, for ever: what stands, and the newest
# change of it. `number` is that change's place in the tenant's changes.
suppression_entry = table(
    "suppression_entry",
    Column("tenant_id", Id, primary_key=True, autoincrement=False),
    Column("address_key", BINARY(16), primary_key=True),
    Column("reason", Small, primary_key=True, autoincrement=False),
    Column("scope", Small, primary_key=True, autoincrement=False),
    Column("scope_id", Id, primary_key=True, autoincrement=False),
    Column("number", Big, nullable=False),
    Column("state", Small, nullable=False),
    # Searched as one types, without case; it is found by its key, which knows better.
    Column("address", String(320, collation="utf8mb4_general_ci"), nullable=False),
    Column("mail_domain", String(253), nullable=False),
    Column("provider_id", Id, nullable=False),
    Column("stream_id", Id, nullable=False),
    Column("since", Time, nullable=False),
    Column("until", Time, nullable=True),
    Column("ended_at", Time, nullable=True),
    Column("times", Id, nullable=False),
    Column("returns", SMALLINT(unsigned=True), nullable=False),
    Column("made_at", Time, nullable=False),
    Column("change", Small, nullable=False),
    Column("changed_at", Time, nullable=False),
    Column("changed_by", String(80), nullable=False),
    Column("note", String(500), nullable=False),
    Column("origin", String(12), nullable=False),
    Column("evidence", Text, nullable=False),
    Index("suppression_entry_number", "tenant_id", "number"),
    Index("suppression_entry_text", "tenant_id", "address"),
    Index("suppression_entry_domain", "tenant_id", "mail_domain"),
    Index("suppression_entry_until", "tenant_id", "until"),
)

# Append-only: what stood before. The newest change of an entry stands in the entry itself, so that one that never
# changed is written once.
suppression_change = table(
    "suppression_change",
    Column("tenant_id", Id, primary_key=True, autoincrement=False),
    Column("number", Big, primary_key=True, autoincrement=False),
    Column("address_key", BINARY(16), nullable=False),
    Column("reason", Small, nullable=False),
    Column("scope", Small, nullable=False),
    Column("scope_id", Id, nullable=False),
    Column("state", Small, nullable=False),
    Column("change", Small, nullable=False),
    Column("changed_at", Time, nullable=False),
    Column("changed_by", String(80), nullable=False),
    Column("note", String(500), nullable=False),
    Column("until", Time, nullable=True),
    Column("address", String(320), nullable=False),
    Index("suppression_change_address", "tenant_id", "address_key"),
)

# Locked while a tenant's list changes: numbers are handed out in the order in which changes are seen.
suppression_state = table(
    "suppression_state",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("last_number", Big, nullable=False, server_default=text("0")),
    Column("matching", JSON, nullable=False, server_default=text("'{}'")),
    Column("matching_before", JSON, nullable=True),
    Column("secret", String(300), nullable=False, server_default=text("''")),
    # Streams over relays that are held as a whole until somebody releases them.
    Column("pauses", JSON, nullable=False, server_default=text("'[]'")),
)

# What came onto the list, left it, and was withheld, a day each.
suppression_day = table(
    "suppression_day",
    Column("tenant_id", Id, primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("what", Small, primary_key=True, autoincrement=False),
    Column("reason", Small, primary_key=True, autoincrement=False),
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("stream_id", Id, primary_key=True, autoincrement=False),
    Column("n", Big, nullable=False),
)
