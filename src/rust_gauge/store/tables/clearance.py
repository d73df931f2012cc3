"""Gates of MTAs."""

from sqlalchemy import BINARY, Column, ForeignKey, String, UniqueConstraint
from sqlalchemy.dialects.mysql import DATETIME

from rust_gauge.store.tables.base import Big, Id, Time, table

# Gates: policy services for MTAs that ask about each recipient (Postfix policy delegation).
gate = table(
    "gate",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    Column("digest", BINARY(32), nullable=False, unique=True),
    Column("stream", String(60), nullable=False),
    Column("relay", String(60), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("last_used_at", Time, nullable=True),
    UniqueConstraint("tenant_id", "name", name="gate_name"),
)

# What clearance let go by a relay that has limits: it counts against them before the events are there.
cleared_hour = table(
    "cleared_hour",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("relay_id", Id, primary_key=True, autoincrement=False),
    Column("hour", DATETIME, primary_key=True),
    Column("stream_id", Id, primary_key=True, autoincrement=False),
    Column("n", Big, nullable=False),
)
