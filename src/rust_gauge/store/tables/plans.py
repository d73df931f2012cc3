"""Watches of propagation and what was published."""

from sqlalchemy import JSON, Boolean, Column, ForeignKey, Index, String

from rust_gauge.store.tables.base import Big, Id, Time, table

watch = table(
    "watch",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("state", String(12), nullable=False),
    Column("records", JSON, nullable=False),
    Column("servers", JSON, nullable=False),
    Column("sightings", JSON, nullable=False),
    Column("rounds", Id, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("looked_at", Time, nullable=True),
    Column("next_at", Time, nullable=True),
    Column("gives_up_at", Time, nullable=False),
    Column("finished_at", Time, nullable=True),
    Index("watch_domain", "domain_id", "id"),
)

publication = table(
    "publication",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("zone", String(253), nullable=False),
    Column("state", String(12), nullable=False),
    Column("verified", Boolean, nullable=False),
    Column("changes", JSON, nullable=False),
    Column("made_at", Time, nullable=False),
    Column("made_by", String(254), nullable=False),
    Column("rolled_back_at", Time, nullable=True),
    Index("publication_domain", "domain_id", "id"),
)
