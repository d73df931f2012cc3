"""Webhooks, and the calls that they are due."""

from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

STATEMENTS = (
    """
CREATE TABLE webhook (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    name VARCHAR(60) NOT NULL,
    url VARCHAR(500) NOT NULL,
    subjects JSON NOT NULL,
    secret VARCHAR(300) NOT NULL,
    paused BOOL NOT NULL,
    created_at DATETIME(6) NOT NULL,
    last_at DATETIME(6),
    last_said VARCHAR(500) NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE webhook_call (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    webhook_id INTEGER UNSIGNED NOT NULL,
    message_id VARCHAR(40) NOT NULL,
    subject VARCHAR(40) NOT NULL,
    body TEXT NOT NULL,
    state VARCHAR(10) NOT NULL,
    attempts SMALLINT UNSIGNED NOT NULL,
    said VARCHAR(500) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    next_at DATETIME(6),
    finished_at DATETIME(6),
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(webhook_id) REFERENCES webhook (id) ON DELETE CASCADE,
    UNIQUE (message_id)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX webhook_call_state ON webhook_call (tenant_id, state)",
    "CREATE INDEX webhook_call_webhook ON webhook_call (webhook_id, id)",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
