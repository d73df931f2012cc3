"""Loads, message keys and tags of events; counters by label, wording and time to delivery."""

from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

STATEMENTS = (
    "ALTER TABLE event DROP INDEX event_recipient, DROP INDEX event_message, "
    "ADD COLUMN load_id BIGINT UNSIGNED NOT NULL DEFAULT 0 AFTER processed_at, "
    "ADD COLUMN feed_id INTEGER UNSIGNED NOT NULL DEFAULT 0 AFTER load_id, "
    "ADD COLUMN message_key BINARY(8) NOT NULL DEFAULT '' AFTER message_id, "
    "MODIFY COLUMN cause_rule VARCHAR(60) NOT NULL, "
    "ADD COLUMN wording_id INTEGER UNSIGNED NOT NULL DEFAULT 0 AFTER cause_rule, "
    "ADD COLUMN tags VARCHAR(700) NOT NULL DEFAULT '' AFTER campaign, "
    "ADD COLUMN label_ids VARCHAR(140) NOT NULL DEFAULT '' AFTER tags, "
    "ADD INDEX event_recipient (tenant_id, recipient_key(8), occurred_at), "
    "ADD INDEX event_message (tenant_id, message_key)",
    "UPDATE event SET message_key = UNHEX(LEFT(SHA1(message_id), 16))",
    "ALTER TABLE event ALTER COLUMN load_id DROP DEFAULT, ALTER COLUMN feed_id DROP DEFAULT, "
    "ALTER COLUMN message_key DROP DEFAULT, ALTER COLUMN wording_id DROP DEFAULT, ALTER COLUMN tags DROP DEFAULT, "
    "ALTER COLUMN label_ids DROP DEFAULT",
    """
CREATE TABLE event_load (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    feed_id INTEGER UNSIGNED NOT NULL,
    arrived_at DATETIME(6) NOT NULL,
    processed_at DATETIME(6) NOT NULL,
    received INTEGER UNSIGNED NOT NULL,
    `stored` INTEGER UNSIGNED NOT NULL,
    refused INTEGER UNSIGNED NOT NULL,
    newest DATETIME(6),
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX event_load_feed ON event_load (tenant_id, feed_id, id)",
    """
CREATE TABLE intake_lock (
    tenant_id INTEGER UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE message_trouble (
    tenant_id INTEGER UNSIGNED NOT NULL,
    recipient_key BINARY(16) NOT NULL,
    seen_on DATE NOT NULL,
    PRIMARY KEY (tenant_id, recipient_key)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX message_trouble_seen ON message_trouble (seen_on)",
    """
CREATE TABLE reply_wording (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    wording_key BINARY(16) NOT NULL,
    wording VARCHAR(500) NOT NULL,
    example TEXT NOT NULL,
    first_seen_at DATETIME(6) NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT reply_wording_key UNIQUE (tenant_id, wording_key),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE event_label (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    what TINYINT UNSIGNED NOT NULL,
    name VARCHAR(60) NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT event_label_name UNIQUE (tenant_id, what, name),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE flow_label_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    label_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    kind TINYINT UNSIGNED NOT NULL,
    cause TINYINT UNSIGNED NOT NULL,
    permanence TINYINT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, label_id, day, domain_id, provider_id, kind, cause, permanence)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE flow_wording_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    wording_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    cause TINYINT UNSIGNED NOT NULL,
    permanence TINYINT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, wording_id, day, provider_id, cause, permanence)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE flow_time_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    stream_id INTEGER UNSIGNED NOT NULL,
    relay_id INTEGER UNSIGNED NOT NULL,
    bucket TINYINT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, domain_id, day, provider_id, stream_id, relay_id, bucket)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "INSERT INTO intake_lock (tenant_id) SELECT id FROM tenant",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
