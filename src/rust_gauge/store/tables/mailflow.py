"""Events, the counters that are kept with them, replies and shifts."""

from sqlalchemy import BINARY, Column, Date, Float, ForeignKey, Index, String, Table, Text, UniqueConstraint, text
from sqlalchemy.dialects.mysql import DATETIME, SMALLINT

from rust_gauge.store.tables.base import Big, Id, Small, Time, table

# Partitioned tables take no foreign keys; the ids here are handed out by the tables above.
event = table(
    "event",
    Column("tenant_id", Id, primary_key=True),
    Column("occurred_at", Time, primary_key=True),
    Column("identity", BINARY(16), primary_key=True),
    Column("arrived_at", Time, nullable=False),
    Column("processed_at", Time, nullable=False),
    Column("load_id", Big, nullable=False),
    Column("feed_id", Id, nullable=False),
    Column("kind", Small, nullable=False),
    Column("domain_id", Id, nullable=False),
    Column("stream_id", Id, nullable=False),
    Column("relay_id", Id, nullable=False),
    Column("provider_id", Id, nullable=False),
    Column("recipient", String(320), nullable=False),
    Column("recipient_key", BINARY(16), nullable=False),
    Column("message_id", String(255), nullable=False),
    Column("message_key", BINARY(8), nullable=False),
    Column("cause", Small, nullable=False),
    Column("permanence", Small, nullable=False),
    Column("cause_rule", String(60), nullable=False),
    Column("pattern_id", Id, nullable=False),
    Column("reply_code", SMALLINT(unsigned=True), nullable=True),
    Column("enhanced_code", String(12), nullable=True),
    Column("diagnostic", Text, nullable=False),
    Column("remote_host", String(255), nullable=False),
    Column("sending_ip", String(45), nullable=False),
    Column("campaign", String(60), nullable=False),
    Column("tags", String(700), nullable=False),
    Column("label_ids", String(140), nullable=False),
    Column("attempt", SMALLINT(unsigned=True), nullable=True),
    Column("seconds_taken", Float, nullable=True),
    Index(
        "event_recipient",
        "tenant_id",
        "recipient_key",
        "occurred_at",
        mysql_length={"recipient_key": 8},
        mariadb_length={"recipient_key": 8},
    ),
    Index("event_message", "tenant_id", "message_key"),
    # Time and identity are named, though InnoDB has them in any index: else a partitioned table is sorted by them.
    Index("event_pattern", "tenant_id", "pattern_id", "occurred_at", "identity"),
)

# One row for each load that was taken in: who brought it, when, and what became of its rows.
load = table(
    "event_load",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("feed_id", Id, nullable=False),
    Column("arrived_at", Time, nullable=False),
    Column("processed_at", Time, nullable=False),
    Column("received", Id, nullable=False),
    Column("stored", Id, nullable=False),
    Column("rejected", Id, nullable=False),
    Column("newest", Time, nullable=True),
    Index("event_load_feed", "tenant_id", "feed_id", "id"),
)

# Held while a tenant's counters are changed, so that two loads that know of the same message see each other.
intake_lock = table(
    "intake_lock",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    # Of the tenant's own rules: a load that was judged by others when it gets the lock is judged again.
    Column("rules_version", Id, nullable=False, server_default=text("0")),
    # Whether sources gave deliveries without the time that they took, and accepted events (`delivery_times`).
    Column("pairing", Small, nullable=False, server_default=text("0")),
)

# Sudden changes of a rate at one provider or relay.
shift = table(
    "shift",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("what", String(8), nullable=False),
    Column("subject_id", Id, nullable=False),
    Column("rate", String(12), nullable=False),
    Column("began_at", Time, nullable=False),
    Column("found_at", Time, nullable=False),
    Column("seen_at", Time, nullable=False),
    Column("ended_at", Time, nullable=True),
    Column("usual", Float, nullable=False),
    Column("count", Big, nullable=False),
    Column("total", Big, nullable=False),
    Column("strength", Float, nullable=False),
    Index("shift_tenant", "tenant_id", "found_at"),
)

# That somebody's data was erased; not whose.
erasure = table(
    "erasure",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("erased_at", Time, nullable=False),
    Column("erased_by", String(254), nullable=False),
    Column("reason", String(500), nullable=False),
    Column("events", Id, nullable=False),
    Column("others", Id, nullable=False),
    Index("erasure_tenant", "tenant_id", "id"),
)

# Recipients with whom there was trouble (a delay, bounce, complaint): a later delivery is looked at beside those.
trouble = table(
    "message_trouble",
    Column("tenant_id", Id, primary_key=True),
    Column("recipient_key", BINARY(16), primary_key=True),
    Column("seen_on", Date, nullable=False),
    # Handed out under the lock of a tenant's counters, so whoever has seen one has seen all before it.
    Column("number", Big, nullable=False, autoincrement=True),
    Index("message_trouble_seen", "seen_on"),
    Index("message_trouble_number", "number"),
)

# The fixed part of replies: numbers, ids and addresses taken out.
reply_pattern = table(
    "reply_pattern",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("pattern_key", BINARY(16), nullable=False),
    Column("reply_pattern", String(500, collation="utf8mb4_general_ci"), nullable=False),
    Column("example", Text, nullable=False),
    Column("first_seen_at", Time, nullable=False),
    UniqueConstraint("tenant_id", "pattern_key", name="reply_pattern_key"),
    Index("reply_pattern_words", "reply_pattern", mysql_prefix="FULLTEXT", mariadb_prefix="FULLTEXT"),
)

label = table(
    "event_label",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("what", Small, nullable=False),
    Column("name", String(60), nullable=False),
    UniqueConstraint("tenant_id", "what", "name", name="event_label_name"),
)


def _counter(name: str, period: Column) -> Table:  # type: ignore[type-arg]
    return table(
        name,
        Column("tenant_id", Id, primary_key=True),
        Column("domain_id", Id, primary_key=True),
        period,
        Column("provider_id", Id, primary_key=True),
        Column("stream_id", Id, primary_key=True),
        Column("relay_id", Id, primary_key=True),
        Column("kind", Small, primary_key=True),
        Column("cause", Small, primary_key=True),
        Column("permanence", Small, primary_key=True),
        Column("n", Big, nullable=False),
    )


# By sending address, campaign or tag; and replies by reply pattern. A day each.
flow_label_day = table(
    "flow_label_day",
    Column("tenant_id", Id, primary_key=True),
    Column("label_id", Id, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("domain_id", Id, primary_key=True),
    Column("provider_id", Id, primary_key=True),
    Column("kind", Small, primary_key=True),
    Column("cause", Small, primary_key=True),
    Column("permanence", Small, primary_key=True),
    Column("n", Big, nullable=False),
)

flow_pattern_day = table(
    "flow_pattern_day",
    Column("tenant_id", Id, primary_key=True),
    Column("pattern_id", Id, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("provider_id", Id, primary_key=True),
    Column("cause", Small, primary_key=True),
    Column("permanence", Small, primary_key=True),
    Column("n", Big, nullable=False),
)

flow_time_day = table(
    "flow_time_day",
    Column("tenant_id", Id, primary_key=True),
    Column("domain_id", Id, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("provider_id", Id, primary_key=True),
    Column("stream_id", Id, primary_key=True),
    Column("relay_id", Id, primary_key=True),
    Column("bucket", Small, primary_key=True),
    Column("n", Big, nullable=False),
)

flow_hour = _counter("flow_hour", Column("hour", DATETIME, primary_key=True))

# What a relay took, of all domains and providers together: limits are asked for before each send.
flow_relay_hour = table(
    "flow_relay_hour",
    Column("tenant_id", Id, primary_key=True),
    Column("relay_id", Id, primary_key=True),
    Column("hour", DATETIME, primary_key=True),
    Column("stream_id", Id, primary_key=True),
    Column("kind", Small, primary_key=True),
    Column("n", Big, nullable=False),
)

flow_day = _counter("flow_day", Column("day", Date, primary_key=True))

# The same by one part of the key alone: what is asked of all domains together is too much to add up from `flow_day`.
flow_sum_day = table(
    "flow_sum_day",
    Column("tenant_id", Id, primary_key=True),
    Column("what", Small, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("part_id", Id, primary_key=True),
    Column("kind", Small, primary_key=True),
    Column("n", Big, nullable=False),
    Index("flow_sum_kind", "what", "kind", "day", "part_id"),
)

SUM_DOMAIN, SUM_STREAM, SUM_RELAY, SUM_PROVIDER = 1, 2, 3, 5  # values of `what`, the first three as kinds of subjects
