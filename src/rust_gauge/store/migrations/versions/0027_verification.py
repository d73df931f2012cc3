"""Outside verifiers with their budgets and verdicts, and recipients that just came in."""

from alembic import op

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_TENANT = "FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE"
_VERIFIER = "FOREIGN KEY (verifier_id) REFERENCES verifier (id) ON DELETE CASCADE"
_CHANGES = (
    f"""CREATE TABLE verifier (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        name VARCHAR(40) NOT NULL,
        place SMALLINT UNSIGNED NOT NULL,
        enabled BOOL NOT NULL,
        settings JSON NOT NULL,
        secret TEXT NOT NULL,
        price BIGINT UNSIGNED NOT NULL,
        budget_day BIGINT UNSIGNED NULL,
        budget_month BIGINT UNSIGNED NULL,
        problem VARCHAR(500) NOT NULL,
        problem_at DATETIME(6) NULL,
        answered_at DATETIME(6) NULL,
        created_at DATETIME(6) NOT NULL,
        UNIQUE KEY verifier_name (tenant_id, name),
        {_TENANT}
    ) {_OPTIONS}""",
    f"""CREATE TABLE verifier_day (
        verifier_id INT UNSIGNED NOT NULL,
        day DATE NOT NULL,
        asked INT UNSIGNED NOT NULL,
        failed INT UNSIGNED NOT NULL,
        spent BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (verifier_id, day),
        {_VERIFIER}
    ) {_OPTIONS}""",
    f"""CREATE TABLE verdict (
        tenant_id INT UNSIGNED NOT NULL,
        address_key BINARY(16) NOT NULL,
        verifier_id INT UNSIGNED NOT NULL,
        address VARCHAR(320) NOT NULL,
        verdict TINYINT UNSIGNED NOT NULL,
        word VARCHAR(60) NOT NULL,
        detail VARCHAR(300) NOT NULL,
        price BIGINT UNSIGNED NOT NULL,
        asked_at DATETIME(6) NOT NULL,
        outcome TINYINT UNSIGNED NULL,
        outcome_at DATETIME(6) NULL,
        PRIMARY KEY (tenant_id, address_key, verifier_id),
        KEY verdict_asked (tenant_id, asked_at),
        KEY verdict_open (tenant_id, outcome, asked_at),
        {_TENANT},
        {_VERIFIER}
    ) {_OPTIONS}""",
    f"""CREATE TABLE verification_day (
        tenant_id INT UNSIGNED NOT NULL,
        day DATE NOT NULL,
        own INT UNSIGNED NOT NULL,
        reused INT UNSIGNED NOT NULL,
        paid INT UNSIGNED NOT NULL,
        unpaid INT UNSIGNED NOT NULL,
        saved BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (tenant_id, day),
        {_TENANT}
    ) {_OPTIONS}""",
    f"""CREATE TABLE recipient_source (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        name VARCHAR(40) NOT NULL,
        source_key VARCHAR(60) NOT NULL UNIQUE,
        path VARCHAR(500) NOT NULL,
        created_at DATETIME(6) NOT NULL,
        last_at DATETIME(6) NULL,
        UNIQUE KEY recipient_source_name (tenant_id, name),
        {_TENANT}
    ) {_OPTIONS}""",
    f"""CREATE TABLE new_recipient (
        id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        address_key BINARY(16) NOT NULL,
        address VARCHAR(320) NOT NULL,
        source VARCHAR(40) NOT NULL,
        came_at DATETIME(6) NOT NULL,
        checked_at DATETIME(6) NULL,
        verdict TINYINT UNSIGNED NULL,
        found JSON NOT NULL,
        KEY new_recipient_tenant (tenant_id, id),
        KEY new_recipient_open (tenant_id, checked_at),
        KEY new_recipient_key (tenant_id, address_key),
        {_TENANT}
    ) {_OPTIONS}""",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
