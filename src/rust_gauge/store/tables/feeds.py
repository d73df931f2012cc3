"""Feeds and the rows that they could not use."""

from sqlalchemy import BINARY, JSON, Boolean, Column, ForeignKey, Index, String, UniqueConstraint
from sqlalchemy.dialects.mysql import MEDIUMTEXT

from rust_gauge.store.tables.base import Big, Id, Time, table

feed = table(
    "feed",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(40), nullable=False),
    Column("kind", String(10), nullable=False),
    Column("feed_key", String(32), nullable=False, unique=True),
    Column("token_digest", BINARY(32), nullable=False),
    Column("secret", String(300), nullable=False),
    Column("password", String(1000), nullable=False),
    Column("source", JSON, nullable=False),
    Column("mapping", JSON, nullable=True),
    Column("defaults", JSON, nullable=False),
    Column("position", JSON, nullable=False),
    Column("paused", Boolean, nullable=False),
    Column("error", String(500), nullable=False),
    Column("created_at", Time, nullable=False),
    UniqueConstraint("tenant_id", "name", name="feed_name"),
)

rejected_row = table(
    "rejected_row",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("feed_id", Id, ForeignKey("feed.id", ondelete="CASCADE"), nullable=False),
    Column("arrived_at", Time, nullable=False),
    Column("form", String(10), nullable=False),
    Column("item", MEDIUMTEXT, nullable=False),
    Column("problems", JSON, nullable=False),
    Index("rejected_row_feed", "feed_id", "id"),
)

# When a feed without times of its own was first told of an event: told again, it is the same event.
feed_told = table(
    "feed_told",
    Column("feed_id", Id, primary_key=True),
    Column("digest", BINARY(16), primary_key=True),
    Column("occurred_at", Time, nullable=False),
    Index("feed_told_at", "occurred_at"),
)
