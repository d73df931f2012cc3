"""Tenants, people, how they sign in, tokens, and who may use what."""

from sqlalchemy import BINARY, JSON, VARBINARY, Boolean, Column, ForeignKey, Index, String, UniqueConstraint, text

from rust_gauge.store.tables.base import Big, Id, Time, table

tenant = table(
    "tenant",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("slug", String(40), nullable=False, unique=True),
    Column("name", String(120), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("second_factor", Boolean, nullable=False, server_default=text("0")),
)

account = table(
    "account",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("email", String(254), nullable=False, unique=True),
    Column("name", String(120), nullable=False),
    Column("password_hash", String(200), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("is_owner", Boolean, nullable=False, server_default=text("0")),
    Column("password_changed_at", Time, nullable=True),
    # One-time codes (RFC 6238): the secret, encrypted; in use once confirmed; the newest time step that was used.
    Column("code_secret", String(300), nullable=False, server_default=text("''")),
    Column("code_confirmed", Boolean, nullable=False, server_default=text("0")),
    Column("code_step", Big, nullable=False, server_default=text("0")),
)

account_preferences = table(
    "account_preferences",
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), primary_key=True),
    Column("preferences", JSON, nullable=False),
)

membership = table(
    "membership",
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), primary_key=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True),
    Column("role", String(20), nullable=False),
)

# One-time links: to a tenant with a role, or (without a tenant) to own the installation.
invitation = table(
    "invitation",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=True),
    Column("email", String(254), nullable=False),
    Column("role", String(20), nullable=False),
    Column("digest", BINARY(32), nullable=False, unique=True),
    Column("invited_by", String(254), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
    UniqueConstraint("tenant_id", "email", name="invitation_email"),
)

session = table(
    "session",
    Column("digest", BINARY(32), primary_key=True),
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
    Column("id", Big, nullable=False, unique=True, autoincrement=True),
    Column("last_seen_at", Time, nullable=True),
    Column("address", String(45), nullable=False, server_default=text("''")),
    Column("agent", String(200), nullable=False, server_default=text("''")),
    Column("second_factor", Boolean, nullable=False, server_default=text("0")),
)

recovery_code = table(
    "recovery_code",
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), primary_key=True),
    Column("digest", BINARY(32), primary_key=True),
)

# `tenants` are ids, none means all of the account's; so with `scopes` and `networks`. `previous_digest` is what a
# rotated token was before, good for a while.
token = table(
    "token",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("digest", BINARY(32), nullable=False, unique=True),
    Column("name", String(80), nullable=False),
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("last_used_at", Time, nullable=True),
    Column("expires_at", Time, nullable=True),
    Column("scopes", JSON, nullable=False, server_default=text("'[]'")),
    Column("networks", JSON, nullable=False, server_default=text("'[]'")),
    Column("tenants", JSON, nullable=False, server_default=text("'[]'")),
    Column("last_used_address", String(45), nullable=False, server_default=text("''")),
    Column("refused_at", Time, nullable=True),
    Column("refused_address", String(45), nullable=False, server_default=text("''")),
    Column("previous_digest", BINARY(32), nullable=True, unique=True),
    Column("previous_until", Time, nullable=True),
)

# WebAuthn credentials. Ids may have 1,023 octets, so they are looked up by a digest.
passkey = table(
    "passkey",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(80), nullable=False),
    Column("credential_digest", BINARY(32), nullable=False, unique=True),
    Column("credential_id", VARBINARY(1023), nullable=False),
    Column("public_key", VARBINARY(4096), nullable=False),
    Column("sign_count", Big, nullable=False),
    Column("synced", Boolean, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("last_used_at", Time, nullable=True),
)

# Accounts at OpenID Connect issuers. `issuer` is the name in the settings, `digest` that of its address and `sub`.
identity = table(
    "identity",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=False),
    Column("issuer", String(40), nullable=False),
    Column("digest", BINARY(32), nullable=False, unique=True),
    Column("email", String(254), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("last_used_at", Time, nullable=True),
)

# What a passkey has to sign, once. Without an account it is for signing in.
challenge = table(
    "challenge",
    Column("digest", BINARY(32), primary_key=True),
    Column("account_id", Id, ForeignKey("account.id", ondelete="CASCADE"), nullable=True),
    Column("expires_at", Time, nullable=False),
    Index("challenge_expires", "expires_at"),
)

# Counted before a password is looked at, by where it came from and whom it named.
sign_in_attempt = table(
    "sign_in_attempt",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("email", String(254), nullable=False),
    Column("at", Time, nullable=False),
    Column("source", String(45), nullable=False, server_default=text("''")),
    Index("sign_in_attempt_email", "email", "at"),
    Index("sign_in_attempt_source", "source", "at"),
)

# Which tenant an address or domain for bounces, a folder or a host of feeds belongs to.
assignment = table(
    "assignment",
    Column("kind", String(10), primary_key=True),
    Column("value", String(500), primary_key=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("assigned_at", Time, nullable=False),
    Column("assigned_by", String(254), nullable=False),
)
