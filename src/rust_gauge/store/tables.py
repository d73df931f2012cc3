"""The tables, as SQLAlchemy sees them. Migrations make them; a test compares the two.

Times are DATETIME(6) in UTC. Kinds, causes and permanences are kept as the numbers that their enums give them.
`event` is partitioned by time (see `partitions`), so its identity includes the event time.
"""

from typing import Any

from sqlalchemy import (
    BINARY,
    CHAR,
    JSON,
    VARBINARY,
    Boolean,
    Column,
    Date,
    Float,
    ForeignKey,
    Index,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.mysql import BIGINT, DATETIME, INTEGER, MEDIUMBLOB, MEDIUMTEXT, SMALLINT, TINYINT
from sqlalchemy.schema import SchemaItem

metadata = MetaData()

_Id = INTEGER(unsigned=True)
_Big = BIGINT(unsigned=True)
_Time = DATETIME(fsp=6)
_Small = TINYINT(unsigned=True)
_OPTIONS = {
    "mysql_engine": "InnoDB",
    "mysql_charset": "utf8mb4",
    "mysql_collate": "utf8mb4_bin",
    "mariadb_engine": "InnoDB",
    "mariadb_charset": "utf8mb4",
    "mariadb_collate": "utf8mb4_bin",
}


def _table(name: str, *parts: SchemaItem) -> Table:
    options: dict[str, Any] = _OPTIONS
    made: Table = Table(name, metadata, *parts, **options)
    return made


tenant = _table(
    "tenant",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("slug", String(40), nullable=False, unique=True),
    Column("name", String(120), nullable=False),
    Column("created_at", _Time, nullable=False),
)

account = _table(
    "account",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("email", String(254), nullable=False, unique=True),
    Column("name", String(120), nullable=False),
    Column("password_hash", String(200), nullable=False),
    Column("created_at", _Time, nullable=False),
)

membership = _table(
    "membership",
    Column("account_id", _Id, ForeignKey("account.id", ondelete="CASCADE"), primary_key=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("role", String(20), nullable=False),
)

session = _table(
    "session",
    Column("digest", BINARY(32), primary_key=True),
    Column("account_id", _Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("created_at", _Time, nullable=False),
    Column("expires_at", _Time, nullable=False),
)

token = _table(
    "token",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("digest", BINARY(32), nullable=False, unique=True),
    Column("name", String(80), nullable=False),
    Column("account_id", _Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=True),
    Column("created_at", _Time, nullable=False),
    Column("last_used_at", _Time, nullable=True),
    Column("expires_at", _Time, nullable=True),
)

sign_in_failure = _table(
    "sign_in_failure",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("email", String(254), nullable=False),
    Column("failed_at", _Time, nullable=False),
    Index("sign_in_failure_email", "email", "failed_at"),
)

sending_domain = _table(
    "sending_domain",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(253), nullable=False),
    Column("origin", String(8), nullable=False),
    Column("selectors", JSON, nullable=False),
    Column("created_at", _Time, nullable=False),
    Column("streams", JSON, nullable=False, server_default=text("'[]'")),
    Column("sends", Boolean, nullable=False, server_default=text("1")),
    Column("audit_every_hours", SMALLINT(unsigned=True), nullable=False, server_default=text("24")),
    Column("next_audit_at", _Time, nullable=True),
    Column("plan", JSON, nullable=False, server_default=text("'{}'")),
    UniqueConstraint("tenant_id", "name", name="sending_domain_name"),
    Index("sending_domain_due", "origin", "next_audit_at"),
)

stream = _table(
    "stream",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    UniqueConstraint("tenant_id", "name", name="stream_name"),
)

relay = _table(
    "relay",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    Column("description", JSON, nullable=True),
    UniqueConstraint("tenant_id", "name", name="relay_name"),
)

mailbox_provider = _table(
    "mailbox_provider",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("name", String(253), nullable=False, unique=True),
)

provider_label = _table(
    "provider_label",
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("provider_id", _Id, ForeignKey("mailbox_provider.id", ondelete="CASCADE"), primary_key=True),
    Column("label", String(60), nullable=False),
)

recipient_domain = _table(
    "recipient_domain",
    Column("name", String(253), primary_key=True),
    Column("provider_id", _Id, ForeignKey("mailbox_provider.id", ondelete="CASCADE"), nullable=False),
    Column("resolved_at", _Time, nullable=False),
    Column("expires_at", _Time, nullable=False),
)

audit = _table(
    "audit",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", _Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("finished_at", _Time, nullable=False),
    Column("faults", SMALLINT(unsigned=True), nullable=False),
    Column("risks", SMALLINT(unsigned=True), nullable=False),
    Column("notes", SMALLINT(unsigned=True), nullable=False),
    Column("spf_lookups", SMALLINT(unsigned=True), nullable=True),
    Column("document", JSON, nullable=False),
    Column("cause", String(12), nullable=False, server_default=text("'asked'")),
    Column("digest", BINARY(16), nullable=True),
    Column("checked_at", _Time, nullable=True),
    Index("audit_domain", "domain_id", "id"),
)

domain_history = _table(
    "domain_history",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", _Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("audit_id", _Big, nullable=False),
    Column("happened_at", _Time, nullable=False),
    Column("kind", String(12), nullable=False),
    Column("title", String(500), nullable=False),
    Column("document", JSON, nullable=False),
    Index("domain_history_domain", "domain_id", "id"),
)

watch = _table(
    "watch",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", _Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("state", String(12), nullable=False),
    Column("records", JSON, nullable=False),
    Column("servers", JSON, nullable=False),
    Column("sightings", JSON, nullable=False),
    Column("rounds", _Id, nullable=False),
    Column("created_at", _Time, nullable=False),
    Column("looked_at", _Time, nullable=True),
    Column("next_at", _Time, nullable=True),
    Column("gives_up_at", _Time, nullable=False),
    Column("finished_at", _Time, nullable=True),
    Index("watch_domain", "domain_id", "id"),
)

publication = _table(
    "publication",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", _Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("zone", String(253), nullable=False),
    Column("state", String(12), nullable=False),
    Column("verified", Boolean, nullable=False),
    Column("changes", JSON, nullable=False),
    Column("made_at", _Time, nullable=False),
    Column("made_by", String(254), nullable=False),
    Column("rolled_back_at", _Time, nullable=True),
    Index("publication_domain", "domain_id", "id"),
)

proof = _table(
    "proof",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("kind", String(8), nullable=False),
    Column("subject", String(320), nullable=False),
    Column("way", String(12), nullable=False),
    Column("sent_to", String(320), nullable=False),
    Column("token", String(64), nullable=False),
    Column("state", String(8), nullable=False),
    Column("tries", SMALLINT(unsigned=True), nullable=False),
    Column("sends", SMALLINT(unsigned=True), nullable=False),
    Column("code_digest", BINARY(32), nullable=True),
    Column("link_digest", BINARY(32), nullable=True),
    Column("created_at", _Time, nullable=False),
    Column("sent_at", _Time, nullable=True),
    Column("expires_at", _Time, nullable=True),
    Column("proven_at", _Time, nullable=True),
    Column("checked_at", _Time, nullable=True),
    Column("lost_at", _Time, nullable=True),
    UniqueConstraint("tenant_id", "kind", "subject", "way", name="proof_subject"),
    Index("proof_link", "link_digest", unique=True),
    Index("proof_due", "way", "state", "checked_at"),
)

webhook = _table(
    "webhook",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    Column("url", String(500), nullable=False),
    Column("subjects", JSON, nullable=False),
    Column("secret", String(300), nullable=False),
    Column("paused", Boolean, nullable=False),
    Column("created_at", _Time, nullable=False),
    Column("last_at", _Time, nullable=True),
    Column("last_said", String(500), nullable=False),
)

webhook_call = _table(
    "webhook_call",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("webhook_id", _Id, ForeignKey("webhook.id", ondelete="CASCADE"), nullable=False),
    Column("message_id", String(40), nullable=False, unique=True),
    Column("subject", String(40), nullable=False),
    Column("body", Text, nullable=False),
    Column("state", String(10), nullable=False),
    Column("attempts", SMALLINT(unsigned=True), nullable=False),
    Column("said", String(500), nullable=False),
    Column("created_at", _Time, nullable=False),
    Column("next_at", _Time, nullable=True),
    Column("finished_at", _Time, nullable=True),
    Index("webhook_call_webhook", "webhook_id", "id"),
    Index("webhook_call_state", "tenant_id", "state"),
)

dkim_key_seen = _table(
    "dkim_key_seen",
    Column("domain_id", _Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), primary_key=True),
    Column("selector", String(63), primary_key=True),
    Column("fingerprint", CHAR(32), primary_key=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("first_seen_at", _Time, nullable=False),
    Column("last_seen_at", _Time, nullable=False),
    Index("dkim_key_seen_fingerprint", "tenant_id", "fingerprint"),
)

tenant_setting = _table(
    "tenant_setting",
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String(40), primary_key=True),
    Column("document", JSON, nullable=False),
    Column("changed_at", _Time, nullable=False),
)

# Partitioned tables take no foreign keys; the ids here are handed out by the tables above.
event = _table(
    "event",
    Column("tenant_id", _Id, primary_key=True),
    Column("occurred_at", _Time, primary_key=True),
    Column("identity", BINARY(16), primary_key=True),
    Column("arrived_at", _Time, nullable=False),
    Column("processed_at", _Time, nullable=False),
    Column("load_id", _Big, nullable=False),
    Column("feed_id", _Id, nullable=False),
    Column("kind", _Small, nullable=False),
    Column("domain_id", _Id, nullable=False),
    Column("stream_id", _Id, nullable=False),
    Column("relay_id", _Id, nullable=False),
    Column("provider_id", _Id, nullable=False),
    Column("recipient", String(320), nullable=False),
    Column("recipient_key", BINARY(16), nullable=False),
    Column("message_id", String(255), nullable=False),
    Column("message_key", BINARY(8), nullable=False),
    Column("cause", _Small, nullable=False),
    Column("permanence", _Small, nullable=False),
    Column("cause_rule", String(60), nullable=False),
    Column("wording_id", _Id, nullable=False),
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
)

# One row for each load that was taken in: who brought it, when, and what became of its rows.
load = _table(
    "event_load",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("feed_id", _Id, nullable=False),
    Column("arrived_at", _Time, nullable=False),
    Column("processed_at", _Time, nullable=False),
    Column("received", _Id, nullable=False),
    Column("stored", _Id, nullable=False),
    Column("refused", _Id, nullable=False),
    Column("newest", _Time, nullable=True),
    Index("event_load_feed", "tenant_id", "feed_id", "id"),
)

# Held while a tenant's counters are changed, so that two loads that know of the same message see each other.
intake_lock = _table(
    "intake_lock",
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    # Of the tenant's own rules: a load that was judged by others when it gets the lock is judged anew.
    Column("rules_version", _Id, nullable=False, server_default=text("0")),
)

# Sudden changes of a rate at one provider or relay.
shift = _table(
    "shift",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("what", String(8), nullable=False),
    Column("subject_id", _Id, nullable=False),
    Column("rate", String(12), nullable=False),
    Column("began_at", _Time, nullable=False),
    Column("found_at", _Time, nullable=False),
    Column("seen_at", _Time, nullable=False),
    Column("ended_at", _Time, nullable=True),
    Column("usual", Float, nullable=False),
    Column("count", _Big, nullable=False),
    Column("total", _Big, nullable=False),
    Column("strength", Float, nullable=False),
    Index("shift_tenant", "tenant_id", "found_at"),
)

# That somebody's data was erased; not whose.
erasure = _table(
    "erasure",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("erased_at", _Time, nullable=False),
    Column("erased_by", String(254), nullable=False),
    Column("reason", String(500), nullable=False),
    Column("events", _Id, nullable=False),
    Column("others", _Id, nullable=False),
    Index("erasure_tenant", "tenant_id", "id"),
)

# Recipients with whom there was trouble (a delay, bounce, complaint): a later delivery is looked at beside those.
trouble = _table(
    "message_trouble",
    Column("tenant_id", _Id, primary_key=True),
    Column("recipient_key", BINARY(16), primary_key=True),
    Column("seen_on", Date, nullable=False),
    # Handed out under the lock of a tenant's counters, so whoever has seen one has seen all before it.
    Column("number", _Big, nullable=False, autoincrement=True),
    Index("message_trouble_seen", "seen_on"),
    Index("message_trouble_number", "number"),
)

# The fixed part of replies: numbers, ids and addresses taken out.
wording = _table(
    "reply_wording",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("wording_key", BINARY(16), nullable=False),
    Column("wording", String(500), nullable=False),
    Column("example", Text, nullable=False),
    Column("first_seen_at", _Time, nullable=False),
    UniqueConstraint("tenant_id", "wording_key", name="reply_wording_key"),
)

feed = _table(
    "feed",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
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
    Column("trouble", String(500), nullable=False),
    Column("created_at", _Time, nullable=False),
    UniqueConstraint("tenant_id", "name", name="feed_name"),
)

refused_row = _table(
    "refused_row",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("feed_id", _Id, ForeignKey("feed.id", ondelete="CASCADE"), nullable=False),
    Column("arrived_at", _Time, nullable=False),
    Column("form", String(10), nullable=False),
    Column("item", MEDIUMTEXT, nullable=False),
    Column("problems", JSON, nullable=False),
    Index("refused_row_feed", "feed_id", "id"),
)

# When a feed without times of its own was first told of an event: told again, it is the same event.
feed_told = _table(
    "feed_told",
    Column("feed_id", _Id, primary_key=True),
    Column("digest", BINARY(16), primary_key=True),
    Column("occurred_at", _Time, nullable=False),
    Index("feed_told_at", "occurred_at"),
)

label = _table(
    "event_label",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("what", _Small, nullable=False),
    Column("name", String(60), nullable=False),
    UniqueConstraint("tenant_id", "what", "name", name="event_label_name"),
)


def _counter(name: str, period: Column) -> Table:  # type: ignore[type-arg]
    return _table(
        name,
        Column("tenant_id", _Id, primary_key=True),
        Column("domain_id", _Id, primary_key=True),
        period,
        Column("provider_id", _Id, primary_key=True),
        Column("stream_id", _Id, primary_key=True),
        Column("relay_id", _Id, primary_key=True),
        Column("kind", _Small, primary_key=True),
        Column("cause", _Small, primary_key=True),
        Column("permanence", _Small, primary_key=True),
        Column("n", _Big, nullable=False),
    )


# By sending address, campaign or tag; and replies by wording. A day each.
flow_label_day = _table(
    "flow_label_day",
    Column("tenant_id", _Id, primary_key=True),
    Column("label_id", _Id, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("domain_id", _Id, primary_key=True),
    Column("provider_id", _Id, primary_key=True),
    Column("kind", _Small, primary_key=True),
    Column("cause", _Small, primary_key=True),
    Column("permanence", _Small, primary_key=True),
    Column("n", _Big, nullable=False),
)
flow_wording_day = _table(
    "flow_wording_day",
    Column("tenant_id", _Id, primary_key=True),
    Column("wording_id", _Id, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("provider_id", _Id, primary_key=True),
    Column("cause", _Small, primary_key=True),
    Column("permanence", _Small, primary_key=True),
    Column("n", _Big, nullable=False),
)
flow_time_day = _table(
    "flow_time_day",
    Column("tenant_id", _Id, primary_key=True),
    Column("domain_id", _Id, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("provider_id", _Id, primary_key=True),
    Column("stream_id", _Id, primary_key=True),
    Column("relay_id", _Id, primary_key=True),
    Column("bucket", _Small, primary_key=True),
    Column("n", _Big, nullable=False),
)

flow_hour = _counter("flow_hour", Column("hour", DATETIME, primary_key=True))
flow_day = _counter("flow_day", Column("day", Date, primary_key=True))

# The same by one part of the key alone: what is asked of all domains together is too much to add up from `flow_day`.
flow_sum_day = _table(
    "flow_sum_day",
    Column("tenant_id", _Id, primary_key=True),
    Column("what", _Small, primary_key=True),
    Column("day", Date, primary_key=True),
    Column("part_id", _Id, primary_key=True),
    Column("kind", _Small, primary_key=True),
    Column("n", _Big, nullable=False),
    Index("flow_sum_kind", "what", "kind", "day", "part_id"),
)
SUM_DOMAIN, SUM_STREAM, SUM_RELAY, SUM_PROVIDER = 1, 2, 3, 5  # values of `what`, the first three as kinds of subjects

# One row for an address (or a whole recipient domain), a reason and a reach, for ever: what stands, and the newest
# change of it. `number` is that change's place in the tenant's changes.
suppression_entry = _table(
    "suppression_entry",
    Column("tenant_id", _Id, primary_key=True, autoincrement=False),
    Column("address_key", BINARY(16), primary_key=True),
    Column("reason", _Small, primary_key=True, autoincrement=False),
    Column("reach", _Small, primary_key=True, autoincrement=False),
    Column("reach_id", _Id, primary_key=True, autoincrement=False),
    Column("number", _Big, nullable=False),
    Column("state", _Small, nullable=False),
    # Searched as one types, without case; it is found by its key, which knows better.
    Column("address", String(320, collation="utf8mb4_general_ci"), nullable=False),
    Column("mail_domain", String(253), nullable=False),
    Column("provider_id", _Id, nullable=False),
    Column("stream_id", _Id, nullable=False),
    Column("since", _Time, nullable=False),
    Column("until", _Time, nullable=True),
    Column("ended_at", _Time, nullable=True),
    Column("times", _Id, nullable=False),
    Column("returns", SMALLINT(unsigned=True), nullable=False),
    Column("made_at", _Time, nullable=False),
    Column("change", _Small, nullable=False),
    Column("changed_at", _Time, nullable=False),
    Column("changed_by", String(80), nullable=False),
    Column("note", String(500), nullable=False),
    Column("origin", String(12), nullable=False),
    Column("evidence", Text, nullable=False),
    Index("suppression_entry_number", "tenant_id", "number"),
    Index("suppression_entry_text", "tenant_id", "address"),
    Index("suppression_entry_domain", "tenant_id", "mail_domain"),
    Index("suppression_entry_until", "tenant_id", "until"),
)

# Append-only: what stood before. The newest change of an entry stands in the entry itself, so that one that never
# changed is written once.
suppression_change = _table(
    "suppression_change",
    Column("tenant_id", _Id, primary_key=True, autoincrement=False),
    Column("number", _Big, primary_key=True, autoincrement=False),
    Column("address_key", BINARY(16), nullable=False),
    Column("reason", _Small, nullable=False),
    Column("reach", _Small, nullable=False),
    Column("reach_id", _Id, nullable=False),
    Column("state", _Small, nullable=False),
    Column("change", _Small, nullable=False),
    Column("changed_at", _Time, nullable=False),
    Column("changed_by", String(80), nullable=False),
    Column("note", String(500), nullable=False),
    Column("until", _Time, nullable=True),
    Column("address", String(320), nullable=False),
    Index("suppression_change_address", "tenant_id", "address_key"),
)

# Locked while a tenant's list changes: numbers are handed out in the order in which changes are seen.
suppression_state = _table(
    "suppression_state",
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("last_number", _Big, nullable=False, server_default=text("0")),
    Column("matching", JSON, nullable=False, server_default=text("'{}'")),
    Column("matching_before", JSON, nullable=True),
    Column("secret", String(300), nullable=False, server_default=text("''")),
    # Streams over relays that are held as a whole until somebody releases them.
    Column("brakes", JSON, nullable=False, server_default=text("'[]'")),
)

# What came onto the list, left it, and was withheld, a day each.
suppression_day = _table(
    "suppression_day",
    Column("tenant_id", _Id, primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("what", _Small, primary_key=True, autoincrement=False),
    Column("reason", _Small, primary_key=True, autoincrement=False),
    Column("provider_id", _Id, primary_key=True, autoincrement=False),
    Column("stream_id", _Id, primary_key=True, autoincrement=False),
    Column("n", _Big, nullable=False),
)

# Ways in for an MTA that asks about recipients (Postfix's policy delegation).
gate = _table(
    "gate",
    Column("id", _Id, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    Column("digest", BINARY(32), nullable=False, unique=True),
    Column("stream", String(60), nullable=False),
    Column("relay", String(60), nullable=False),
    Column("created_at", _Time, nullable=False),
    Column("last_used_at", _Time, nullable=True),
    UniqueConstraint("tenant_id", "name", name="gate_name"),
)

# What was found out about a recipient domain's ability to take mail, so that it is not looked up again at once.
domain_fact = _table(
    "domain_fact",
    Column("name", String(253), primary_key=True),
    Column("document", JSON, nullable=False),
    Column("found_at", _Time, nullable=False),
)

# One row for a subject (domain, stream, relay, sending address) at one mailbox provider: the newest reading, its trend,
# and the whole history packed (`readings.pack`).
reading_series = _table(
    "reading_series",
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("kind", _Small, primary_key=True, autoincrement=False),
    Column("subject_id", _Id, primary_key=True, autoincrement=False),
    Column("provider_id", _Id, primary_key=True, autoincrement=False),
    Column("first_day", Date, nullable=False),
    Column("last_day", Date, nullable=False),
    Column("tenths", SMALLINT, nullable=False),
    Column("margin", SMALLINT, nullable=False),
    Column("mail", Float, nullable=False),
    Column("pulls", VARBINARY(80), nullable=False),
    Column("measures", VARBINARY(400), nullable=False),
    Column("trend", VARBINARY(400), nullable=False),
    Column("history", MEDIUMBLOB, nullable=False),
    Column("computed_at", _Time, nullable=False),
    Index("reading_series_stale", "last_day", "tenant_id", "kind", "subject_id"),
)

# What a provider did to everybody on a day: the share of mail that it put off, and that it put off by its own trouble.
provider_day = _table(
    "provider_day",
    Column("provider_id", _Id, primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("senders", SMALLINT(unsigned=True), nullable=False),
    Column("common", Float, nullable=False),
    Column("outage", Float, nullable=False),
)

# What is usual of senders at a provider, from all tenants together and at least five senders.
provider_usual = _table(
    "provider_usual",
    Column("provider_id", _Id, primary_key=True, autoincrement=False),
    Column("since", Date, nullable=False),
    Column("document", JSON, nullable=False),
)

# Mail that went to addresses that were held: found once an hour for the days that can still change.
held_mailed_day = _table(
    "held_mailed_day",
    Column("tenant_id", _Id, primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("domain_id", _Id, primary_key=True, autoincrement=False),
    Column("provider_id", _Id, primary_key=True, autoincrement=False),
    Column("stream_id", _Id, primary_key=True, autoincrement=False),
    Column("relay_id", _Id, primary_key=True, autoincrement=False),
    Column("n", _Big, nullable=False),
)

# Notes of people on the time axis. An empty domain: for all of the tenant.
mark = _table(
    "mark",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain", String(253), nullable=False),
    Column("day", Date, nullable=False),
    Column("text", String(500), nullable=False),
    Column("made_at", _Time, nullable=False),
    Column("made_by", String(254), nullable=False),
    Column("kind", String(10), nullable=False, server_default=text("'note'")),  # or policy
    Index("mark_tenant", "tenant_id", "day"),
)

# One incident: what is wrong (`trouble`), and where it stands. The key is what makes it the same one again.
work_item = _table(
    "work_item",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("item_key", String(400), nullable=False),
    Column("state", String(10), nullable=False),
    Column("level", String(6), nullable=False),
    Column("trouble", JSON, nullable=False),
    Column("found_at", _Time, nullable=False),
    Column("seen_at", _Time, nullable=False),
    Column("told_at", _Time, nullable=True),
    Column("well_since", _Time, nullable=True),
    Column("closed_at", _Time, nullable=True),
    Column("until", _Time, nullable=True),
    Column("returns", SMALLINT(unsigned=True), nullable=False),
    Column("assigned_to", String(254), nullable=False),
    UniqueConstraint("tenant_id", "item_key", name="work_item_key"),
    Index("work_item_state", "tenant_id", "state"),
)

work_step = _table(
    "work_step",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("item_id", _Big, ForeignKey("work_item.id", ondelete="CASCADE"), nullable=False),
    Column("at", _Time, nullable=False),
    Column("by", String(254), nullable=False),
    Column("what", String(20), nullable=False),
    Column("text", String(2000), nullable=False),
)

# Messages to people about items: by mail, or to a chat.
told = _table(
    "told",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("item_id", _Big, ForeignKey("work_item.id", ondelete="CASCADE"), nullable=False),
    Column("way", JSON, nullable=False),
    Column("what", String(10), nullable=False),
    Column("title", String(500), nullable=False),
    Column("body", Text, nullable=False),
    Column("state", String(10), nullable=False),
    Column("attempts", SMALLINT(unsigned=True), nullable=False),
    Column("said", String(500), nullable=False),
    Column("made_at", _Time, nullable=False),
    Column("next_at", _Time, nullable=True),
    Column("finished_at", _Time, nullable=True),
    Index("told_tenant", "tenant_id", "id"),
)

# Locks of the installation (see `leases`).
lease = _table(
    "lease",
    Column("name", String(120), primary_key=True),
    Column("fence", _Big, nullable=False),  # grows each time it is taken
    Column("holder", String(120), nullable=False),
    Column("until", _Time, nullable=False),
)

# Work of the workers. Short work that nobody looks at is deleted when it is done; what people start is listed to them.
job = _table(
    "job",
    Column("id", _Big, primary_key=True, autoincrement=True),
    Column("tenant_id", _Id, nullable=True),
    Column("kind", String(40), nullable=False),
    Column("subject", _Big, nullable=False),
    Column("listed", Boolean, nullable=False),
    Column("name", String(200), nullable=False),
    Column("state", String(12), nullable=False),
    # Set while waiting: a second request for the same work joins the first. NULL once it runs, so that later
    # requests queue anew.
    Column("waiting_key", String(80), nullable=True, unique=True),
    Column("request", JSON, nullable=False),
    Column("position", JSON, nullable=False),
    Column("result", JSON, nullable=False),
    Column("done", _Big, nullable=False),
    Column("total", _Big, nullable=False),
    Column("stop_requested", Boolean, nullable=False),
    Column("attempts", SMALLINT(unsigned=True), nullable=False),
    Column("claim", _Id, nullable=False),  # grows each time a worker takes it; every write of that worker names it
    Column("error", Text, nullable=False),
    Column("created_by", String(254), nullable=False),
    Column("created_at", _Time, nullable=False),
    Column("run_after", _Time, nullable=False),
    Column("lease_until", _Time, nullable=True),
    Column("finished_at", _Time, nullable=True),
    Index("job_state", "state", "run_after"),
    Index("job_listed", "tenant_id", "listed", "kind", "id"),
)

# Files that were sent for a job, and what came out of it.
job_piece = _table(
    "job_piece",
    Column("job_id", _Big, ForeignKey("job.id", ondelete="CASCADE"), primary_key=True),
    Column("part", String(12), primary_key=True),
    Column("number", _Id, primary_key=True, autoincrement=False),
    Column("size", _Id, nullable=False),
    Column("octets", MEDIUMBLOB, nullable=False),
)

# What a batch of audits found, domain by domain.
batch_result = _table(
    "batch_result",
    Column("job_id", _Big, ForeignKey("job.id", ondelete="CASCADE"), primary_key=True),
    Column("number", _Id, primary_key=True, autoincrement=False),
    Column("name", String(253), nullable=False),
    Column("problem", String(500), nullable=False),
    Column("faults", SMALLINT(unsigned=True), nullable=False),
    Column("risks", SMALLINT(unsigned=True), nullable=False),
    Column("notes", SMALLINT(unsigned=True), nullable=False),
    Column("findings", JSON, nullable=False),
)

# Rows of mailbox_provider that every database has.
ALL_PROVIDERS, OTHER_PROVIDERS, UNRESOLVED_PROVIDER, NO_MAIL_PROVIDER = 1, 2, 3, 4
