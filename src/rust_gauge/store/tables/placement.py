"""Placement: seeds, outlets, runs and their copies."""

from sqlalchemy import BINARY, JSON, Boolean, Column, Date, ForeignKey, Index, String, Text, UniqueConstraint
from sqlalchemy.dialects.mysql import DOUBLE, INTEGER, LONGBLOB, MEDIUMBLOB, SMALLINT

from rust_gauge.store.tables.base import Big, Id, Time, table

_Count = INTEGER(unsigned=True)


def _tenant() -> Column[int]:
    return Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False)


def _run(*, key: bool = False) -> Column[int]:
    there = ForeignKey("placement_run.id", ondelete="CASCADE")
    return Column("run_id", Big, there, primary_key=key, autoincrement=False, nullable=False)


# How to sign in somewhere, and what came of the last time.
def _access() -> tuple[Column[object], ...]:
    return (
        Column("host", String(253), nullable=False),
        Column("port", SMALLINT(unsigned=True), nullable=False),
        Column("security", String(10), nullable=False),
        Column("login_user", String(320), nullable=False),
        Column("password", Text, nullable=False),
        Column("checked_at", Time, nullable=True),
        Column("problem", String(30), nullable=False),
        Column("problem_text", String(1000), nullable=False),
        Column("problem_remedy", String(500), nullable=False),
        Column("created_at", Time, nullable=False),
    )


seed = table(
    "seed",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("address", String(320), nullable=False),
    Column("provider", String(255), nullable=False),
    Column("folders", JSON, nullable=False),
    Column("seen_folders", JSON, nullable=False),
    Column("lists", JSON, nullable=False),
    Column("note", String(500), nullable=False),
    Column("enabled", Boolean, nullable=False),
    *_access(),
    UniqueConstraint("tenant_id", "address", name="seed_address"),
)

outlet = table(
    "outlet",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("name", String(40), nullable=False),
    Column("from_name", String(120), nullable=False),
    Column("from_address", String(320), nullable=False),
    Column("mail_from", String(320), nullable=False),
    Column("relay", String(80), nullable=False),
    Column("stream", String(80), nullable=False),
    Column("extra", JSON, nullable=False),
    *_access(),
    UniqueConstraint("tenant_id", "name", name="outlet_name"),
)

placement_run = table(
    "placement_run",
    Column("id", Big, primary_key=True, autoincrement=True),
    _tenant(),
    Column("outlet_id", Id, ForeignKey("outlet.id", ondelete="SET NULL"), nullable=True),
    Column("outlet_name", String(40), nullable=False),
    Column("title", String(200), nullable=False),
    Column("address_key", String(60), nullable=False, unique=True),
    Column("state", String(10), nullable=False),
    Column("keep_custom", Boolean, nullable=False),
    Column("plan", JSON, nullable=False),
    Column("wait_minutes", _Count, nullable=False),
    Column("subject", String(500), nullable=False),
    Column("series", String(200), nullable=False),
    Column("header_from", String(320), nullable=False),
    Column("size", _Count, nullable=False),
    Column("mark", DOUBLE(asdecimal=False), nullable=True),
    Column("error", String(1000), nullable=False),
    Column("created_by", String(320), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("started_at", Time, nullable=True),
    Column("ended_at", Time, nullable=True),
    Column("path_id", Id, ForeignKey("placement_path.id", ondelete="SET NULL"), nullable=True),
    Column("schedule_id", Id, ForeignKey("placement_schedule.id", ondelete="SET NULL"), nullable=True),
    Column("why", String(300), nullable=False),
    Index("placement_run_schedule", "schedule_id", "id"),
    Index("placement_run_tenant", "tenant_id", "id"),
    Index("placement_run_time", "tenant_id", "started_at"),
    Index("placement_run_series", "tenant_id", "series", "id"),
    Index("placement_run_state", "state", "tenant_id"),
)

# The message that is copied, in pieces that any server takes (`max_allowed_packet`).
placement_piece = table(
    "placement_piece",
    _run(key=True),
    Column("number", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    Column("octets", MEDIUMBLOB, nullable=False),
)

placement_assay = table("placement_assay", _run(key=True), Column("assay", LONGBLOB, nullable=False))

placement_copy = table(
    "placement_copy",
    Column("id", Big, primary_key=True, autoincrement=True),
    _tenant(),
    _run(),
    Column("seed_id", Id, ForeignKey("seed.id", ondelete="SET NULL"), nullable=True),
    Column("address", String(320), nullable=False),
    Column("provider", String(255), nullable=False),
    Column("mark", String(20), nullable=False, unique=True),
    Column("outcome", String(10), nullable=False),
    Column("folder", String(255), nullable=False),
    Column("reply", String(500), nullable=False),
    Column("problem", String(1000), nullable=False),
    Column("sent_at", Time, nullable=True),
    Column("arrived_at", Time, nullable=True),
    Column("looked_at", Time, nullable=True),
    Column("arrival", JSON, nullable=True),
    Index("placement_copy_run", "run_id", "id"),
    Index("placement_copy_open", "tenant_id", "outcome"),
)

# How many copies of a run came to what, so that lists and charts need no copies.
placement_count = table(
    "placement_count",
    _run(key=True),
    Column("provider", String(255), primary_key=True),
    Column("outcome", String(10), primary_key=True),
    Column("copies", _Count, nullable=False),
)

placement_schedule = table(
    "placement_schedule",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("name", String(40), nullable=False),
    Column("outlet_id", Id, ForeignKey("outlet.id", ondelete="SET NULL"), nullable=True),
    Column("outlet_name", String(40), nullable=False),
    Column("enabled", Boolean, nullable=False),
    Column("address_key", String(60), nullable=False, unique=True),
    Column("settings", JSON, nullable=False),
    Column("digest", BINARY(16), nullable=True),  # of the message that was copied last
    Column("message_id", Big, nullable=True),  # the newest caught message that was looked at
    Column("records_seen_at", Time, nullable=False),
    Column("after_changes", Boolean, nullable=False),
    Column("next_at", Time, nullable=True),
    Column("ran_at", Time, nullable=True),
    Column("problem", String(1000), nullable=False),
    Column("created_by", String(320), nullable=False),
    Column("created_at", Time, nullable=False),
    UniqueConstraint("tenant_id", "name", name="placement_schedule_name"),
    Index("placement_schedule_due", "enabled", "next_at"),
)

placement_schedule_piece = table(
    "placement_schedule_piece",
    Column(
        "schedule_id", Id, ForeignKey("placement_schedule.id", ondelete="CASCADE"), primary_key=True,
        autoincrement=False,
    ),
    Column("number", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    Column("octets", MEDIUMBLOB, nullable=False),
)  # fmt: skip

# What copies have in common that count together over time.
placement_path = table(
    "placement_path",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("outlet", String(40), nullable=False),
    Column("domain", String(253), nullable=False),
    Column("relay", String(80), nullable=False),
    Column("stream", String(80), nullable=False),
    UniqueConstraint("tenant_id", "outlet", "domain", "relay", "stream", name="placement_path_all"),
)

# By the day on which a run began, so that a year of charts and readings needs no runs.
placement_day = table(
    "placement_day",
    Column("path_id", Id, ForeignKey("placement_path.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("provider", String(255), primary_key=True),
    Column("outcome", String(10), primary_key=True),
    Column("copies", INTEGER, nullable=False),
)

placement_share = table(
    "placement_share",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    _run(),
    Column("token_digest", BINARY(32), nullable=False, unique=True),
    Column("note", String(200), nullable=False),
    Column("created_by", String(320), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
    Column("opened", _Count, nullable=False),
    Column("opened_at", Time, nullable=True),
    Index("placement_share_run", "run_id"),
)
