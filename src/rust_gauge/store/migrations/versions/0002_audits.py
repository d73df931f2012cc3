"""Audits as snapshots with a history, keys by first sight, streams of a domain, settings, and batches."""

from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

STATEMENTS = (
    """
ALTER TABLE sending_domain
    ADD COLUMN streams JSON NOT NULL DEFAULT '[]',
    ADD COLUMN sends BOOL NOT NULL DEFAULT 1,
    ADD COLUMN audit_every_hours SMALLINT UNSIGNED NOT NULL DEFAULT 24,
    ADD COLUMN next_audit_at DATETIME(6) NULL
    """,
    "CREATE INDEX sending_domain_due ON sending_domain (origin, next_audit_at)",
    """
ALTER TABLE audit
    ADD COLUMN cause VARCHAR(12) NOT NULL DEFAULT 'asked',
    ADD COLUMN digest BINARY(16) NULL,
    ADD COLUMN checked_at DATETIME(6) NULL
    """,
    """
CREATE TABLE domain_history (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    audit_id BIGINT UNSIGNED NOT NULL,
    happened_at DATETIME(6) NOT NULL,
    kind VARCHAR(12) NOT NULL,
    title VARCHAR(500) NOT NULL,
    document JSON NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX domain_history_domain ON domain_history (domain_id, id)",
    """
CREATE TABLE dkim_key_seen (
    domain_id INTEGER UNSIGNED NOT NULL,
    selector VARCHAR(63) NOT NULL,
    fingerprint CHAR(32) NOT NULL,
    tenant_id INTEGER UNSIGNED NOT NULL,
    first_seen_at DATETIME(6) NOT NULL,
    last_seen_at DATETIME(6) NOT NULL,
    PRIMARY KEY (domain_id, selector, fingerprint),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX dkim_key_seen_fingerprint ON dkim_key_seen (tenant_id, fingerprint)",
    """
CREATE TABLE tenant_setting (
    tenant_id INTEGER UNSIGNED NOT NULL,
    name VARCHAR(40) NOT NULL,
    document JSON NOT NULL,
    changed_at DATETIME(6) NOT NULL,
    PRIMARY KEY (tenant_id, name),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE audit_batch (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    state VARCHAR(12) NOT NULL,
    request JSON NOT NULL,
    total INTEGER UNSIGNED NOT NULL,
    done INTEGER UNSIGNED NOT NULL,
    cancel_asked BOOL NOT NULL,
    error VARCHAR(500) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    finished_at DATETIME(6),
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX audit_batch_tenant ON audit_batch (tenant_id, id)",
    """
CREATE TABLE audit_batch_result (
    batch_id BIGINT UNSIGNED NOT NULL,
    number INTEGER UNSIGNED NOT NULL,
    name VARCHAR(253) NOT NULL,
    problem VARCHAR(500) NOT NULL,
    faults SMALLINT UNSIGNED NOT NULL,
    risks SMALLINT UNSIGNED NOT NULL,
    notes SMALLINT UNSIGNED NOT NULL,
    findings JSON NOT NULL,
    PRIMARY KEY (batch_id, number),
    FOREIGN KEY(batch_id) REFERENCES audit_batch (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
