"""Tenants, accounts, sessions and tokens."""

from sqlalchemy import BINARY, Column, ForeignKey, Index, String

from rust_gauge.store.tables.base import Big, Id, Time, table

tenant = table(
    "tenant",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("slug", String(40), nullable=False, unique=True),
    Column("name", String(120), nullable=False),
    Column("created_at", Time, nullable=False),
)

account = table(
    "account",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("email", String(254), nullable=False, unique=True),
    Column("name", String(120), nullable=False),
    Column("password_hash", String(200), nullable=False),
    Column("created_at", Time, nullable=False),
)

membership = table(
    "membership",
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), primary_key=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("role", String(20), nullable=False),
)

session = table(
    "session",
    Column("digest", BINARY(32), primary_key=True),
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
)

token = table(
    "token",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("digest", BINARY(32), nullable=False, unique=True),
    Column("name", String(80), nullable=False),
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=True),
    Column("created_at", Time, nullable=False),
    Column("last_used_at", Time, nullable=True),
    Column("expires_at", Time, nullable=True),
)

sign_in_failure = table(
    "sign_in_failure",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("email", String(254), nullable=False),
    Column("failed_at", Time, nullable=False),
    Index("sign_in_failure_email", "email", "failed_at"),
)
