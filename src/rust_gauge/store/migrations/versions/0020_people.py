"""People, invitations, sessions that can be listed, second factors, tokens with scopes, ownership, the audit log."""

import json

from alembic import op
from sqlalchemy import text

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_CHANGES = (
    "ALTER TABLE tenant ADD COLUMN second_factor BOOL NOT NULL DEFAULT 0",
    "ALTER TABLE account ADD COLUMN is_owner BOOL NOT NULL DEFAULT 0, ADD COLUMN password_changed_at DATETIME(6) NULL, "
    "ADD COLUMN code_secret VARCHAR(300) NOT NULL DEFAULT '', ADD COLUMN code_confirmed BOOL NOT NULL DEFAULT 0, "
    "ADD COLUMN code_step BIGINT UNSIGNED NOT NULL DEFAULT 0",
    # Whoever set the installation up came first.
    "UPDATE account SET is_owner = 1 ORDER BY id LIMIT 1",
    "ALTER TABLE session ADD COLUMN id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE, "
    "ADD COLUMN last_seen_at DATETIME(6) NULL, ADD COLUMN address VARCHAR(45) NOT NULL DEFAULT '', "
    "ADD COLUMN agent VARCHAR(200) NOT NULL DEFAULT '', ADD COLUMN second_factor BOOL NOT NULL DEFAULT 0",
    "ALTER TABLE token ADD COLUMN scopes JSON NOT NULL DEFAULT '[]', ADD COLUMN networks JSON NOT NULL DEFAULT '[]', "
    "ADD COLUMN tenants JSON NOT NULL DEFAULT '[]', ADD COLUMN last_used_address VARCHAR(45) NOT NULL DEFAULT '', "
    "ADD COLUMN refused_at DATETIME(6) NULL, ADD COLUMN refused_address VARCHAR(45) NOT NULL DEFAULT '', "
    "ADD COLUMN previous_digest BINARY(32) NULL UNIQUE, ADD COLUMN previous_until DATETIME(6) NULL",
    "UPDATE token SET tenants = JSON_ARRAY(tenant_id) WHERE tenant_id IS NOT NULL",
    "ALTER TABLE sign_in_failure RENAME TO sign_in_attempt, RENAME COLUMN failed_at TO at, "
    "ADD COLUMN source VARCHAR(45) NOT NULL DEFAULT '', RENAME INDEX sign_in_failure_email TO sign_in_attempt_email",
    "ALTER TABLE sign_in_attempt ADD INDEX sign_in_attempt_source (source, at)",
    f"""CREATE TABLE invitation (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NULL,
        email VARCHAR(254) NOT NULL,
        role VARCHAR(20) NOT NULL,
        digest BINARY(32) NOT NULL UNIQUE,
        invited_by VARCHAR(254) NOT NULL,
        created_at DATETIME(6) NOT NULL,
        expires_at DATETIME(6) NOT NULL,
        FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
        UNIQUE KEY invitation_email (tenant_id, email)
    ) {_OPTIONS}""",
    f"""CREATE TABLE recovery_code (
        account_id INT UNSIGNED NOT NULL,
        digest BINARY(32) NOT NULL,
        PRIMARY KEY (account_id, digest),
        FOREIGN KEY (account_id) REFERENCES account (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE assignment (
        kind VARCHAR(10) NOT NULL,
        value VARCHAR(500) NOT NULL,
        tenant_id INT UNSIGNED NOT NULL,
        assigned_at DATETIME(6) NOT NULL,
        assigned_by VARCHAR(254) NOT NULL,
        PRIMARY KEY (kind, value),
        FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE audit_entry (
        id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
        at DATETIME(6) NOT NULL,
        tenant_id INT UNSIGNED NULL,
        account VARCHAR(254) NOT NULL,
        token VARCHAR(100) NOT NULL,
        address VARCHAR(45) NOT NULL,
        request_id VARCHAR(32) NOT NULL,
        action VARCHAR(60) NOT NULL,
        subject VARCHAR(500) NOT NULL,
        before_state MEDIUMTEXT NOT NULL,
        after_state MEDIUMTEXT NOT NULL,
        previous BINARY(32) NOT NULL,
        hash BINARY(32) NOT NULL,
        KEY audit_entry_tenant (tenant_id, id),
        KEY audit_entry_action (action, id)
    ) {_OPTIONS}""",
    f"CREATE TABLE audit_head (id TINYINT UNSIGNED NOT NULL PRIMARY KEY, last BIGINT UNSIGNED NOT NULL, "
    f"hash BINARY(32) NOT NULL) {_OPTIONS}",
    "INSERT INTO audit_head VALUES (1, 0, REPEAT(CHAR(0), 32))",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
    _assign_what_feeds_use()
    names = op.get_bind().exec_driver_sql(
        "SELECT constraint_name FROM information_schema.key_column_usage WHERE table_schema = DATABASE() "
        "AND table_name = 'token' AND column_name = 'tenant_id' AND referenced_table_name = 'tenant'"
    )
    for (name,) in names.all():
        op.execute(f"ALTER TABLE token DROP FOREIGN KEY `{name}`")
    op.execute("ALTER TABLE token DROP COLUMN tenant_id")


def _assign_what_feeds_use() -> None:
    """What feeds read already belongs to their tenants; where two tenants use the same, to the one that came first."""
    connection = op.get_bind()
    for tenant_id, kind, source in connection.exec_driver_sql(
        "SELECT tenant_id, kind, source FROM feed ORDER BY id"
    ).all():
        found = json.loads(source) if isinstance(source, str) else source
        used = []
        if kind == "mail":
            used = [("mail", address.lower()) for address in found.get("addresses", [])]
        elif kind in ("mailbox", "log") and found.get("path"):
            used = [("folder", found["path"])]
        elif found.get("host"):
            host = found["host"].lower()
            used = [("host", f"{host}:{found['port']}" if found.get("port") else host)]
        for what, value in used:
            connection.execute(
                text("INSERT IGNORE INTO assignment VALUES (:what, :value, :tenant_id, NOW(6), 'migration')"),
                {"what": what, "value": value[:500], "tenant_id": tenant_id},
            )
