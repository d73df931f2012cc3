"""Work of the workers, and locks."""

from sqlalchemy import JSON, Boolean, Column, ForeignKey, Index, String, Text, text
from sqlalchemy.dialects.mysql import BINARY, DOUBLE, MEDIUMBLOB, SMALLINT

from rust_gauge.store.tables.base import Big, Id, Time, table

# Locks of the installation (see `leases`).
lease = table(
    "lease",
    Column("name", String(120), primary_key=True),
    Column("fence", Big, nullable=False),  # grows each time it is taken
    Column("holder", String(120), nullable=False),
    Column("until", Time, nullable=False),
)

# Transactions that were committed to a cluster, for an hour: where the answer was lost, the id tells what became of it.
unit_of_work = table(
    "unit_of_work",
    Column("id", BINARY(16), primary_key=True),
    Column("done_at", Time, nullable=False),
    Index("unit_of_work_time", "done_at"),
)

# The time, once a second; how old a replica's copy of it is, is how far it is behind.
database_beat = table(
    "database_beat",
    Column("id", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    Column("beat_at", Time, nullable=False),
)

# What callers and sources have left of their requests in a minute, as all service processes know it.
request_level = table(
    "request_level",
    Column("whose", String(12), primary_key=True),
    Column("key_digest", BINARY(16), primary_key=True),
    Column("remaining", DOUBLE(asdecimal=False), nullable=False),
    Column("at", Time, nullable=False),
    Index("request_level_at", "at"),
)

# How often what changed in a tenant (see `changes`).
tenant_change = table(
    "tenant_change",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("what", String(12), primary_key=True),
    Column("number", Big, nullable=False),
)

# Work of the workers. Short work that nobody looks at is deleted when it is done; what people start is listed to them.
job = table(
    "job",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, nullable=True),
    Column("kind", String(40), nullable=False),
    Column("subject", Big, nullable=False),
    Column("listed", Boolean, nullable=False),
    Column("name", String(200), nullable=False),
    Column("state", String(12), nullable=False),
    # Set while waiting: a second request for the same work joins the first. NULL once it runs, so that later
    # requests queue again.
    Column("waiting_key", String(80), nullable=True, unique=True),
    Column("request", JSON, nullable=False),
    Column("position", JSON, nullable=False),
    Column("result", JSON, nullable=False),
    Column("done", Big, nullable=False),
    Column("total", Big, nullable=False),
    Column("cancel_requested", Boolean, nullable=False),
    Column("attempts", SMALLINT(unsigned=True), nullable=False),
    Column("claim", Id, nullable=False),  # grows each time a worker takes it; every write of that worker names it
    Column("error", Text, nullable=False),
    Column("created_by", String(254), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("run_after", Time, nullable=False),
    Column("lease_until", Time, nullable=True),
    Column("finished_at", Time, nullable=True),
    Index("job_state", "state", "run_after"),
    Index("job_listed", "tenant_id", "listed", "kind", "id"),
)

# Files that were sent for a job, and what came out of it.
job_piece = table(
    "job_piece",
    Column("job_id", Big, ForeignKey("job.id", ondelete="CASCADE"), primary_key=True),
    Column("part", String(12), primary_key=True),
    Column("number", Id, primary_key=True, autoincrement=False),
    Column("size", Id, nullable=False),
    Column("octets", MEDIUMBLOB, nullable=False),
)

# What a batch of audits found, domain by domain.
batch_result = table(
    "batch_result",
    Column("job_id", Big, ForeignKey("job.id", ondelete="CASCADE"), primary_key=True),
    Column("number", Id, primary_key=True, autoincrement=False),
    Column("name", String(253), nullable=False),
    Column("problem", String(500), nullable=False),
    Column("faults", SMALLINT(unsigned=True), nullable=False),
    Column("risks", SMALLINT(unsigned=True), nullable=False),
    Column("notes", SMALLINT(unsigned=True), nullable=False),
    Column("findings", JSON, nullable=False),
    Column("not_checked", JSON, nullable=False, server_default=text("'[]'")),
)
