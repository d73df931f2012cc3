"""The worklist: incidents with all that happened to them, messages to people, brakes."""

from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

STATEMENTS = (
    """
CREATE TABLE work_item (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    item_key VARCHAR(400) NOT NULL,
    state VARCHAR(10) NOT NULL,
    level VARCHAR(6) NOT NULL,
    trouble JSON NOT NULL,
    found_at DATETIME(6) NOT NULL,
    seen_at DATETIME(6) NOT NULL,
    told_at DATETIME(6),
    well_since DATETIME(6),
    closed_at DATETIME(6),
    until DATETIME(6),
    returns SMALLINT UNSIGNED NOT NULL,
    assigned_to VARCHAR(254) NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT work_item_key UNIQUE (tenant_id, item_key),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX work_item_state ON work_item (tenant_id, state)",
    """
CREATE TABLE work_step (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    item_id BIGINT UNSIGNED NOT NULL,
    at DATETIME(6) NOT NULL,
    `by` VARCHAR(254) NOT NULL,
    what VARCHAR(20) NOT NULL,
    text VARCHAR(2000) NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(item_id) REFERENCES work_item (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE told (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    item_id BIGINT UNSIGNED NOT NULL,
    way JSON NOT NULL,
    what VARCHAR(10) NOT NULL,
    title VARCHAR(500) NOT NULL,
    body TEXT NOT NULL,
    state VARCHAR(10) NOT NULL,
    attempts SMALLINT UNSIGNED NOT NULL,
    said VARCHAR(500) NOT NULL,
    made_at DATETIME(6) NOT NULL,
    next_at DATETIME(6),
    finished_at DATETIME(6),
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(item_id) REFERENCES work_item (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX told_tenant ON told (tenant_id, id)",
    """
CREATE TABLE held_mailed_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    stream_id INTEGER UNSIGNED NOT NULL,
    relay_id INTEGER UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, day, domain_id, provider_id, stream_id, relay_id)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "ALTER TABLE suppression_state ADD COLUMN brakes JSON NOT NULL DEFAULT '[]'",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
