"""Feeds, the rows that they refused, and when feeds without times told of events."""

from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

STATEMENTS = (
    """
CREATE TABLE feed (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    name VARCHAR(40) NOT NULL,
    kind VARCHAR(10) NOT NULL,
    feed_key VARCHAR(32) NOT NULL,
    token_digest BINARY(32) NOT NULL,
    secret VARCHAR(300) NOT NULL,
    password VARCHAR(1000) NOT NULL,
    source JSON NOT NULL,
    mapping JSON,
    defaults JSON NOT NULL,
    position JSON NOT NULL,
    paused BOOL NOT NULL,
    trouble VARCHAR(500) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT feed_name UNIQUE (tenant_id, name),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    UNIQUE (feed_key)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE refused_row (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    feed_id INTEGER UNSIGNED NOT NULL,
    arrived_at DATETIME(6) NOT NULL,
    form VARCHAR(10) NOT NULL,
    item MEDIUMTEXT NOT NULL,
    problems JSON NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(feed_id) REFERENCES feed (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX refused_row_feed ON refused_row (feed_id, id)",
    """
CREATE TABLE feed_told (
    feed_id INTEGER UNSIGNED NOT NULL,
    digest BINARY(16) NOT NULL,
    occurred_at DATETIME(6) NOT NULL,
    PRIMARY KEY (feed_id, digest)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX feed_told_at ON feed_told (occurred_at)",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
