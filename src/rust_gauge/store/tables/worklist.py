"""Items of the worklist, their history, and notifications."""

from sqlalchemy import JSON, Column, ForeignKey, Index, String, Text, UniqueConstraint
from sqlalchemy.dialects.mysql import SMALLINT

from rust_gauge.store.tables.base import Big, Id, Time, table

# One incident: what is wrong (`incident`), and where it stands. The key is what makes it the same one again.
work_item = table(
    "work_item",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("item_key", String(400), nullable=False),
    Column("state", String(12), nullable=False),
    Column("level", String(12), nullable=False),
    Column("incident", JSON, nullable=False),
    Column("found_at", Time, nullable=False),
    Column("seen_at", Time, nullable=False),
    Column("notified_at", Time, nullable=True),
    Column("well_since", Time, nullable=True),
    Column("resolved_at", Time, nullable=True),
    Column("until", Time, nullable=True),
    Column("returns", SMALLINT(unsigned=True), nullable=False),
    Column("assigned_to", String(254), nullable=False),
    UniqueConstraint("tenant_id", "item_key", name="work_item_key"),
    Index("work_item_state", "tenant_id", "state"),
)

work_step = table(
    "work_step",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("item_id", Big, ForeignKey("work_item.id", ondelete="CASCADE"), nullable=False),
    Column("at", Time, nullable=False),
    Column("by", String(254), nullable=False),
    Column("what", String(20), nullable=False),
    Column("text", String(2000), nullable=False),
    Column("previous", JSON),  # state, until and assigned_to before a person's action; null where nothing is undone
)

# Messages to people about items: by mail, or to a chat.
notification = table(
    "notification",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("item_id", Big, ForeignKey("work_item.id", ondelete="CASCADE"), nullable=False),
    Column("channel", JSON, nullable=False),
    Column("what", String(10), nullable=False),
    Column("title", String(500), nullable=False),
    Column("body", Text, nullable=False),
    Column("state", String(10), nullable=False),
    Column("attempts", SMALLINT(unsigned=True), nullable=False),
    Column("response", String(500), nullable=False),
    Column("made_at", Time, nullable=False),
    Column("next_at", Time, nullable=True),
    Column("finished_at", Time, nullable=True),
    Index("notification_tenant", "tenant_id", "id"),
)
