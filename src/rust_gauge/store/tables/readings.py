"""Readings, what providers did on a day, and notes on the time axis."""

from sqlalchemy import JSON, VARBINARY, Column, Date, Float, ForeignKey, Index, String, text
from sqlalchemy.dialects.mysql import MEDIUMBLOB, SMALLINT

from rust_gauge.store.tables.base import Big, Id, Small, Time, table

# One row for a subject (domain, stream, relay, sending address) at one mailbox provider: the newest reading, its trend,
# and the whole history packed (`readings.pack`).
reading_series = table(
    "reading_series",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("kind", Small, primary_key=True, autoincrement=False),
    Column("subject_id", Id, primary_key=True, autoincrement=False),
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("first_day", Date, nullable=False),
    Column("last_day", Date, nullable=False),
    Column("tenths", SMALLINT, nullable=False),
    Column("margin", SMALLINT, nullable=False),
    Column("mail", Float, nullable=False),
    Column("pulls", VARBINARY(80), nullable=False),
    Column("measures", VARBINARY(400), nullable=False),
    Column("trend", VARBINARY(400), nullable=False),
    Column("jumps", VARBINARY(4000), nullable=False, server_default=""),
    Column("history", MEDIUMBLOB, nullable=False),
    Column("computed_at", Time, nullable=False),
    Index("reading_series_stale", "last_day", "tenant_id", "kind", "subject_id"),
    Index("reading_series_standing", "tenant_id", "kind", "provider_id", "last_day", "tenths"),
)

# What a provider did to all senders on a day: the share of mail that it delayed, and that it delayed by its own fault.
provider_day = table(
    "provider_day",
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("senders", SMALLINT(unsigned=True), nullable=False),
    Column("common", Float, nullable=False),
    Column("outage", Float, nullable=False),
)

# What is usual of senders at a provider, from all tenants together and at least five senders.
provider_usual = table(
    "provider_usual",
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("since", Date, nullable=False),
    Column("document", JSON, nullable=False),
)

# Mail that went to addresses that were held: found once an hour for the days that can still change.
held_mailed_day = table(
    "held_mailed_day",
    Column("tenant_id", Id, primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("domain_id", Id, primary_key=True, autoincrement=False),
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("stream_id", Id, primary_key=True, autoincrement=False),
    Column("relay_id", Id, primary_key=True, autoincrement=False),
    Column("n", Big, nullable=False),
)

# Notes of people on the time axis. An empty domain: for all of the tenant.
annotation = table(
    "annotation",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain", String(253), nullable=False),
    Column("day", Date, nullable=False),
    Column("text", String(500), nullable=False),
    Column("made_at", Time, nullable=False),
    Column("made_by", String(254), nullable=False),
    Column("kind", String(10), nullable=False, server_default=text("'annotation'")),  # or policy
    Index("annotation_tenant", "tenant_id", "day"),
)
