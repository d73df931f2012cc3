"""Mailbox providers and who runs which recipient domain."""

from sqlalchemy import JSON, Column, ForeignKey, String

from rust_gauge.store.tables.base import Id, Time, table

mailbox_provider = table(
    "mailbox_provider",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("name", String(253), nullable=False, unique=True),
)

provider_label = table(
    "provider_label",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("provider_id", Id, ForeignKey("mailbox_provider.id", ondelete="CASCADE"), primary_key=True),
    Column("label", String(60), nullable=False),
)

recipient_domain = table(
    "recipient_domain",
    Column("name", String(253), primary_key=True),
    Column("provider_id", Id, ForeignKey("mailbox_provider.id", ondelete="CASCADE"), nullable=False),
    Column("resolved_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
)

# What was found out about a recipient domain's ability to take mail, so that it is not looked up again at once.
domain_fact = table(
    "domain_fact",
    Column("name", String(253), primary_key=True),
    Column("document", JSON, nullable=False),
    Column("found_at", Time, nullable=False),
)

# Rows of mailbox_provider that every database has.
ALL_PROVIDERS, OTHER_PROVIDERS, UNRESOLVED_PROVIDER, NO_MAIL_PROVIDER = 1, 2, 3, 4
