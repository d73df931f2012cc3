"""Relays as they are described, what people choose about a domain's record plan, and watches of propagation."""

from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

STATEMENTS = (
    "ALTER TABLE relay ADD COLUMN description JSON NULL",
    "ALTER TABLE sending_domain ADD COLUMN plan JSON NOT NULL DEFAULT '{}'",
    """
CREATE TABLE watch (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    state VARCHAR(12) NOT NULL,
    records JSON NOT NULL,
    servers JSON NOT NULL,
    sightings JSON NOT NULL,
    rounds INTEGER UNSIGNED NOT NULL,
    created_at DATETIME(6) NOT NULL,
    looked_at DATETIME(6) NULL,
    next_at DATETIME(6) NULL,
    gives_up_at DATETIME(6) NOT NULL,
    finished_at DATETIME(6) NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX watch_domain ON watch (domain_id, id)",
    """
CREATE TABLE publication (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    zone VARCHAR(253) NOT NULL,
    state VARCHAR(12) NOT NULL,
    verified BOOL NOT NULL,
    changes JSON NOT NULL,
    made_at DATETIME(6) NOT NULL,
    made_by VARCHAR(254) NOT NULL,
    rolled_back_at DATETIME(6) NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX publication_domain ON publication (domain_id, id)",
    """
CREATE TABLE proof (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    kind VARCHAR(8) NOT NULL,
    subject VARCHAR(320) NOT NULL,
    way VARCHAR(12) NOT NULL,
    sent_to VARCHAR(320) NOT NULL,
    token VARCHAR(64) NOT NULL,
    state VARCHAR(8) NOT NULL,
    tries SMALLINT UNSIGNED NOT NULL,
    sends SMALLINT UNSIGNED NOT NULL,
    code_digest BINARY(32) NULL,
    link_digest BINARY(32) NULL,
    created_at DATETIME(6) NOT NULL,
    sent_at DATETIME(6) NULL,
    expires_at DATETIME(6) NULL,
    proven_at DATETIME(6) NULL,
    checked_at DATETIME(6) NULL,
    lost_at DATETIME(6) NULL,
    PRIMARY KEY (id),
    CONSTRAINT proof_subject UNIQUE (tenant_id, kind, subject, way),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE UNIQUE INDEX proof_link ON proof (link_digest)",
    "CREATE INDEX proof_due ON proof (way, state, checked_at)",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
