"""Sending domains with their audits, proofs, streams and relays."""

from sqlalchemy import BINARY, CHAR, JSON, Boolean, Column, ForeignKey, Index, String, UniqueConstraint, text
from sqlalchemy.dialects.mysql import SMALLINT

from rust_gauge.store.tables.base import Big, Id, Time, table

sending_domain = table(
    "sending_domain",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(253), nullable=False),
    Column("origin", String(8), nullable=False),
    Column("selectors", JSON, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("streams", JSON, nullable=False, server_default=text("'[]'")),
    Column("sends", Boolean, nullable=False, server_default=text("1")),
    Column("audit_every_hours", SMALLINT(unsigned=True), nullable=False, server_default=text("24")),
    Column("next_audit_at", Time, nullable=True),
    Column("plan", JSON, nullable=False, server_default=text("'{}'")),
    UniqueConstraint("tenant_id", "name", name="sending_domain_name"),
    Index("sending_domain_due", "origin", "next_audit_at"),
)

stream = table(
    "stream",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    UniqueConstraint("tenant_id", "name", name="stream_name"),
)

relay = table(
    "relay",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(60), nullable=False),
    Column("description", JSON, nullable=True),
    UniqueConstraint("tenant_id", "name", name="relay_name"),
)

audit = table(
    "audit",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("finished_at", Time, nullable=False),
    Column("faults", SMALLINT(unsigned=True), nullable=False),
    Column("risks", SMALLINT(unsigned=True), nullable=False),
    Column("notes", SMALLINT(unsigned=True), nullable=False),
    Column("spf_lookups", SMALLINT(unsigned=True), nullable=True),
    Column("document", JSON, nullable=False),
    Column("cause", String(12), nullable=False, server_default=text("'asked'")),
    Column("digest", BINARY(16), nullable=True),
    Column("checked_at", Time, nullable=True),
    Index("audit_domain", "domain_id", "id"),
)

domain_history = table(
    "domain_history",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), nullable=False),
    Column("audit_id", Big, nullable=False),
    Column("happened_at", Time, nullable=False),
    Column("kind", String(12), nullable=False),
    Column("title", String(500), nullable=False),
    Column("document", JSON, nullable=False),
    Index("domain_history_domain", "domain_id", "id"),
)

proof = table(
    "proof",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("kind", String(8), nullable=False),
    Column("subject", String(320), nullable=False),
    Column("method", String(12), nullable=False),
    Column("sent_to", String(320), nullable=False),
    Column("token", String(64), nullable=False),
    Column("state", String(8), nullable=False),
    Column("tries", SMALLINT(unsigned=True), nullable=False),
    Column("sends", SMALLINT(unsigned=True), nullable=False),
    Column("code_digest", BINARY(32), nullable=True),
    Column("link_digest", BINARY(32), nullable=True),
    Column("created_at", Time, nullable=False),
    Column("sent_at", Time, nullable=True),
    Column("expires_at", Time, nullable=True),
    Column("verified_at", Time, nullable=True),
    Column("checked_at", Time, nullable=True),
    Column("lost_at", Time, nullable=True),
    UniqueConstraint("tenant_id", "kind", "subject", "method", name="proof_subject"),
    Index("proof_link", "link_digest", unique=True),
    Index("proof_due", "method", "state", "checked_at"),
)

dkim_key_seen = table(
    "dkim_key_seen",
    Column("domain_id", Id, ForeignKey("sending_domain.id", ondelete="CASCADE"), primary_key=True),
    Column("selector", String(63), primary_key=True),
    Column("fingerprint", CHAR(32), primary_key=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("first_seen_at", Time, nullable=False),
    Column("last_seen_at", Time, nullable=False),
    Index("dkim_key_seen_fingerprint", "tenant_id", "fingerprint"),
)

tenant_setting = table(
    "tenant_setting",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String(40), primary_key=True),
    Column("document", JSON, nullable=False),
    Column("changed_at", Time, nullable=False),
)
