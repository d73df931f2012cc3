"""Warm-up: plans, where each is at each mailbox provider, and what was decided day by day."""

from sqlalchemy import JSON, Column, Date, ForeignKey, Index, String, UniqueConstraint
from sqlalchemy.dialects.mysql import DATETIME, DOUBLE, INTEGER, SMALLINT

from rust_gauge.store.tables.base import Big, Id, Time, table

_Count = INTEGER(unsigned=True)


def _plan() -> Column[int]:
    there = ForeignKey("warmup_plan.id", ondelete="CASCADE")
    return Column("plan_id", Id, there, primary_key=True, autoincrement=False)


# Which mail it is about: what is empty is not asked of.
warmup_plan = table(
    "warmup_plan",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(40), nullable=False),
    Column("domain", String(253), nullable=False),
    Column("stream", String(60), nullable=False),
    Column("relay", String(60), nullable=False),
    Column("sending_ip", String(45), nullable=False),
    Column("move_from", String(60), nullable=False),
    Column("settings", JSON, nullable=False),
    Column("starts_on", Date, nullable=False),
    Column("judged_to", Date, nullable=False),  # the newest day whose steps are decided
    Column("state", String(10), nullable=False),
    Column("created_by", String(320), nullable=False),
    Column("created_at", Time, nullable=False),
    UniqueConstraint("tenant_id", "name", name="warmup_plan_name"),
    Index("warmup_plan_state", "state", "judged_to"),
)

# Provider 0: all others.
warmup_track = table(
    "warmup_track",
    _plan(),
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("share", DOUBLE(asdecimal=False), nullable=False),
    Column("step", SMALLINT(unsigned=True), nullable=False),
    Column("since", Date, nullable=False),
)

# The step of a day and what led to it.
warmup_day = table(
    "warmup_day",
    _plan(),
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("step", SMALLINT(unsigned=True), nullable=False),
    Column("per_day", _Count, nullable=False),
    Column("per_hour", _Count, nullable=False),
    Column("turn", String(10), nullable=False),
    Column("reasons", JSON, nullable=False),
    Column("decided_by", String(320), nullable=False),
)

# What clearance let go, which counts before the events are there.
warmup_cleared = table(
    "warmup_cleared",
    _plan(),
    Column("provider_id", Id, primary_key=True, autoincrement=False),
    Column("hour", DATETIME, primary_key=True),
    Column("n", Big, nullable=False),
)
