"""Reports of receivers: each once, its rows by domain and source, and the sums that views are drawn from.

`report_row` and the sums are keyed so that 90 days of a domain and source lie next to each other. They have no foreign
keys: there are tens of millions of them, and `store.receiver_reports` removes them with their report.
"""

from sqlalchemy import BINARY, JSON, Boolean, Column, Date, ForeignKey, Index, String, UniqueConstraint
from sqlalchemy.dialects.mysql import DOUBLE, INTEGER, LONGBLOB, MEDIUMBLOB, SMALLINT, VARBINARY

from rust_gauge.store.tables.base import Big, Id, Time, table

_Count = INTEGER(unsigned=True)


def _tenant(*, key: bool = False) -> Column[int]:
    there = ForeignKey("tenant.id", ondelete="CASCADE")
    return Column("tenant_id", Id, there, primary_key=key, autoincrement=False, nullable=False)


def _number(name: str) -> Column[int]:
    return Column(name, Id, primary_key=True, autoincrement=False)


report_receiver = table(
    "report_receiver",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("name", String(200), nullable=False),
    Column("label", String(200), nullable=False),
    UniqueConstraint("tenant_id", "name", name="report_receiver_name"),
)

receiver_report = table(
    "receiver_report",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("kind", String(10), nullable=False),
    Column("digest", BINARY(16), nullable=False),
    Column("receiver_id", Id, ForeignKey("report_receiver.id", ondelete="CASCADE"), nullable=False),
    Column("report_id", String(255), nullable=False),
    Column("domain", String(253), nullable=False),
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="SET NULL"), nullable=True),
    Column("begins_at", Time, nullable=False),
    Column("ends_at", Time, nullable=False),
    Column("arrived_at", Time, nullable=False),
    Column("arrived_by", String(10), nullable=False),
    Column("feed_id", Id, ForeignKey("feed.id", ondelete="SET NULL"), nullable=True),
    Column("authentic", String(10), nullable=False),
    Column("authentic_domain", String(253), nullable=False),
    Column("records", _Count, nullable=False),
    Column("left_out", _Count, nullable=False),
    Column("messages", Big, nullable=False),
    Column("passed", Big, nullable=False),
    Column("document", JSON, nullable=False),
    UniqueConstraint("tenant_id", "digest", name="receiver_report_once"),
    Index("receiver_report_domain", "domain_id", "kind", "ends_at"),
    Index("receiver_report_receiver", "receiver_id", "ends_at"),
    Index("receiver_report_end", "tenant_id", "ends_at"),
)

# The report as it came, in pieces that any server takes (`max_allowed_packet`).
receiver_report_piece = table(
    "receiver_report_piece",
    Column(
        "id", Id, ForeignKey("receiver_report.id", ondelete="CASCADE"), primary_key=True, autoincrement=False,
    ),
    Column("number", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    Column("octets", MEDIUMBLOB, nullable=False),
)  # fmt: skip

rejected_report = table(
    "rejected_report",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("feed_id", Id, ForeignKey("feed.id", ondelete="SET NULL"), nullable=True),
    Column("digest", BINARY(16), nullable=False),
    Column("arrived_at", Time, nullable=False),
    Column("arrived_by", String(10), nullable=False),
    Column("what", String(500), nullable=False),
    Column("why", String(500), nullable=False),
    Column("remedy", String(500), nullable=False),
    Column("size", _Count, nullable=False),
    Column("octets", LONGBLOB, nullable=True),
    UniqueConstraint("tenant_id", "digest", name="rejected_report_once"),
)

# An address that sent as a domain, and whose it is.
report_source = table(
    "report_source",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("ip", VARBINARY(16), nullable=False),
    Column("verdict", String(10), nullable=False),
    Column("group_name", String(255), nullable=False),
    Column("certainty", DOUBLE(asdecimal=False), nullable=False),
    Column("evidence", JSON, nullable=False),
    Column("first_day", Date, nullable=False),
    Column("last_day", Date, nullable=False),
    Column("judged_at", Time, nullable=True),
    Column("changes", _Count, nullable=False, server_default="0"),
    UniqueConstraint("domain_id", "ip", name="report_source_ip"),
    Index("report_source_group", "domain_id", "group_name"),
    Index("report_source_due", "tenant_id", "judged_at"),
)

source_decision = table(
    "source_decision",
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("group_name", String(255), primary_key=True),
    _tenant(),
    Column("verdict", String(10), nullable=False),
    Column("relay", String(60), nullable=False),
    Column("note", String(500), nullable=False),
    Column("decided_by", String(320), nullable=False),
    Column("decided_at", Time, nullable=False),
)

# The name that an address has by reverse DNS, where it leads back to the address.
address_host = table(
    "address_host",
    Column("ip", VARBINARY(16), primary_key=True),
    Column("host", String(253), nullable=False),
    Column("answered", Boolean, nullable=False),
    Column("looked_up_at", Time, nullable=False),
)

# Whether a name that a host gave in HELO has the address of that host.
helo_host = table(
    "helo_host",
    Column("ip", VARBINARY(16), primary_key=True),
    Column("name", String(253), primary_key=True),
    Column("has_address", Boolean, nullable=True),  # null: no answer
    Column("looked_up_at", Time, nullable=False),
)

# What rows have in common: identifiers and results, without source, day and count.
report_result = table(
    "report_result",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("digest", BINARY(16), nullable=False),
    Column("header_from", String(253), nullable=False),
    Column("envelope_from", String(253), nullable=False),
    Column("spf_domain", String(253), nullable=False),
    Column("spf_result", String(20), nullable=False),
    Column("helo_domain", String(253), nullable=False, server_default=""),
    Column("helo_result", String(20), nullable=False, server_default=""),
    Column("signatures", JSON, nullable=False),
    Column("reasons", JSON, nullable=False),
    Column("outcome", SMALLINT(unsigned=True), nullable=False),
    UniqueConstraint("tenant_id", "digest", name="report_result_once"),
)

report_row = table(
    "report_row",
    _number("domain_id"),
    _number("source_id"),
    Column("day", Date, primary_key=True),
    _number("report_id"),
    _number("result_id"),
    Column("n", Big, nullable=False),
    Index("report_row_report", "report_id"),
)

report_source_day = table(
    "report_source_day",
    _number("domain_id"),
    _number("source_id"),
    Column("day", Date, primary_key=True),
    Column("outcome", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    Column("n", Big, nullable=False),
)

report_receiver_day = table(
    "report_receiver_day",
    _number("domain_id"),
    Column("day", Date, primary_key=True),
    _number("receiver_id"),
    Column("verdict", String(10), primary_key=True),
    Column("outcome", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    Column("n", Big, nullable=False),
)

# From domains below a domain that reports name, and that nobody added here.
report_name = table(
    "report_name",
    _number("domain_id"),
    Column("name", String(253), primary_key=True),
    Column("first_day", Date, nullable=False),
    Column("last_day", Date, nullable=False),
    Column("n", Big, nullable=False),
    Column("passed", Big, nullable=False),
)

# A domain on its way to `p=reject`. `stage` is that of the published record when it was last looked at.
policy_path = table(
    "policy_path",
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    _tenant(),
    Column("stage", String(10), nullable=False),
    Column("stage_since", Date, nullable=False),
    Column("published", String(1000), nullable=False),
    Column("settings", JSON, nullable=False),
    Column("started_by", String(320), nullable=False),
    Column("started_at", Time, nullable=False),
    Column("checked_at", Time, nullable=True),  # when DNS last answered for its record
    Column("asked_at", Time, nullable=True),
)

# Sessions of TLS reports. `result` is empty for those that succeeded.
tls_row = table(
    "tls_row",
    _number("domain_id"),
    Column("day", Date, primary_key=True),
    _number("report_id"),
    Column("number", INTEGER(unsigned=True), primary_key=True, autoincrement=False),
    Column("policy", String(40), nullable=False),
    Column("result", String(60), nullable=False),
    Column("mx", String(253), nullable=False),
    Column("sending_ip", String(45), nullable=False),
    Column("receiving_ip", String(45), nullable=False),
    Column("reason", String(400), nullable=False),
    Column("sessions", Big, nullable=False),
    Index("tls_row_report", "report_id"),
)
