"""Webhooks and their calls."""

from sqlalchemy import JSON, Boolean, Column, ForeignKey, Index, String, Text, text
from sqlalchemy.dialects.mysql import SMALLINT

from rust_gauge.store.tables.base import Big, Id, Time, table

webhook = table(
    "webhook",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    Column("url", String(500), nullable=False),
    Column("subjects", JSON, nullable=False),
    Column("secret", String(300), nullable=False),
    Column("paused", Boolean, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("last_at", Time, nullable=True),
    Column("last_response", String(500), nullable=False),
    # The secret before the last rotation, which signs as well until then.
    Column("previous_secret", String(300), nullable=False, server_default=text("''")),
    Column("previous_until", Time, nullable=True),
)

webhook_call = table(
    "webhook_call",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("webhook_id", Id, ForeignKey("webhook.id", ondelete="CASCADE"), nullable=False),
    Column("message_id", String(40), nullable=False, unique=True),
    Column("subject", String(40), nullable=False),
    Column("body", Text, nullable=False),
    Column("state", String(10), nullable=False),
    Column("attempts", SMALLINT(unsigned=True), nullable=False),
    Column("response", String(500), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("next_at", Time, nullable=True),
    Column("finished_at", Time, nullable=True),
    Index("webhook_call_webhook", "webhook_id", "id"),
    Index("webhook_call_state", "tenant_id", "state"),
)
