"""Passkeys, identities of other issuers, challenges; webhook secrets that overlap."""

from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_CHANGES = (
    f"""CREATE TABLE passkey (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        account_id INT UNSIGNED NOT NULL,
        name VARCHAR(80) NOT NULL,
        credential_digest BINARY(32) NOT NULL UNIQUE,
        credential_id VARBINARY(1023) NOT NULL,
        public_key VARBINARY(4096) NOT NULL,
        sign_count BIGINT UNSIGNED NOT NULL,
        synced BOOL NOT NULL,
        created_at DATETIME(6) NOT NULL,
        last_used_at DATETIME(6) NULL,
        FOREIGN KEY (account_id) REFERENCES account (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE identity (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        account_id INT UNSIGNED NOT NULL,
        issuer VARCHAR(40) NOT NULL,
        digest BINARY(32) NOT NULL UNIQUE,
        email VARCHAR(254) NOT NULL,
        created_at DATETIME(6) NOT NULL,
        last_used_at DATETIME(6) NULL,
        FOREIGN KEY (account_id) REFERENCES account (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE challenge (
        digest BINARY(32) NOT NULL PRIMARY KEY,
        account_id INT UNSIGNED NULL,
        expires_at DATETIME(6) NOT NULL,
        KEY challenge_expires (expires_at),
        FOREIGN KEY (account_id) REFERENCES account (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    "ALTER TABLE webhook ADD COLUMN previous_secret VARCHAR(300) NOT NULL DEFAULT '', "
    "ADD COLUMN previous_until DATETIME(6) NULL",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
