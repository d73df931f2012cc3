"""Rules of one's own, shifts, erasures."""

from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

STATEMENTS = (
    "ALTER TABLE intake_lock ADD COLUMN rules_version INTEGER UNSIGNED NOT NULL DEFAULT 0",
    "ALTER TABLE message_trouble ADD COLUMN number BIGINT UNSIGNED NOT NULL AUTO_INCREMENT, "
    "ADD INDEX message_trouble_number (number)",
    """
CREATE TABLE rule_application (
    tenant_id INTEGER UNSIGNED NOT NULL,
    rules_version INTEGER UNSIGNED NOT NULL,
    state VARCHAR(10) NOT NULL,
    cancel_asked BOOL NOT NULL,
    days_done INTEGER UNSIGNED NOT NULL,
    days INTEGER UNSIGNED NOT NULL,
    judged BIGINT UNSIGNED NOT NULL,
    changed BIGINT UNSIGNED NOT NULL,
    entries_made INTEGER UNSIGNED NOT NULL,
    entries_lifted INTEGER UNSIGNED NOT NULL,
    error VARCHAR(500) NOT NULL,
    asked_at DATETIME(6) NOT NULL,
    finished_at DATETIME(6),
    PRIMARY KEY (tenant_id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE shift (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    what VARCHAR(8) NOT NULL,
    subject_id INTEGER UNSIGNED NOT NULL,
    rate VARCHAR(12) NOT NULL,
    began_at DATETIME(6) NOT NULL,
    found_at DATETIME(6) NOT NULL,
    seen_at DATETIME(6) NOT NULL,
    ended_at DATETIME(6),
    usual FLOAT NOT NULL,
    count BIGINT UNSIGNED NOT NULL,
    total BIGINT UNSIGNED NOT NULL,
    strength FLOAT NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX shift_tenant ON shift (tenant_id, found_at)",
    """
CREATE TABLE erasure (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    erased_at DATETIME(6) NOT NULL,
    erased_by VARCHAR(254) NOT NULL,
    reason VARCHAR(500) NOT NULL,
    events INTEGER UNSIGNED NOT NULL,
    others INTEGER UNSIGNED NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX erasure_tenant ON erasure (tenant_id, id)",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
