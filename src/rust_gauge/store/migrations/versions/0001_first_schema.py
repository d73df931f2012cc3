"""The first schema.

Written out rather than made from `tables`, because a migration must go on meaning the same when the tables change.
"""

from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None

STATEMENTS = (
    """
CREATE TABLE account (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    email VARCHAR(254) NOT NULL,
    name VARCHAR(120) NOT NULL,
    password_hash VARCHAR(200) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    PRIMARY KEY (id),
    UNIQUE (email)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE event (
    tenant_id INTEGER UNSIGNED NOT NULL,
    occurred_at DATETIME(6) NOT NULL,
    identity BINARY(16) NOT NULL,
    arrived_at DATETIME(6) NOT NULL,
    processed_at DATETIME(6) NOT NULL,
    kind TINYINT UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    stream_id INTEGER UNSIGNED NOT NULL,
    relay_id INTEGER UNSIGNED NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    recipient VARCHAR(320) NOT NULL,
    recipient_key BINARY(16) NOT NULL,
    message_id VARCHAR(255) NOT NULL,
    cause TINYINT UNSIGNED NOT NULL,
    permanence TINYINT UNSIGNED NOT NULL,
    cause_rule VARCHAR(40) NOT NULL,
    reply_code SMALLINT UNSIGNED,
    enhanced_code VARCHAR(12),
    diagnostic TEXT NOT NULL,
    remote_host VARCHAR(255) NOT NULL,
    sending_ip VARCHAR(45) NOT NULL,
    campaign VARCHAR(60) NOT NULL,
    attempt SMALLINT UNSIGNED,
    seconds_taken FLOAT,
    PRIMARY KEY (tenant_id, occurred_at, identity)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
PARTITION BY RANGE COLUMNS (occurred_at) (PARTITION pmax VALUES LESS THAN (MAXVALUE))
    """,
    """
CREATE INDEX event_recipient ON event (tenant_id, recipient_key, occurred_at)
    """,
    """
CREATE INDEX event_message ON event (tenant_id, message_id(80))
    """,
    """
CREATE TABLE flow_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    stream_id INTEGER UNSIGNED NOT NULL,
    relay_id INTEGER UNSIGNED NOT NULL,
    kind TINYINT UNSIGNED NOT NULL,
    cause TINYINT UNSIGNED NOT NULL,
    permanence TINYINT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, domain_id, day, provider_id, stream_id, relay_id, kind, cause, permanence)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE flow_hour (
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    hour DATETIME NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    stream_id INTEGER UNSIGNED NOT NULL,
    relay_id INTEGER UNSIGNED NOT NULL,
    kind TINYINT UNSIGNED NOT NULL,
    cause TINYINT UNSIGNED NOT NULL,
    permanence TINYINT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, domain_id, hour, provider_id, stream_id, relay_id, kind, cause, permanence)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE job (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    kind VARCHAR(40) NOT NULL,
    tenant_id INTEGER UNSIGNED,
    subject BIGINT UNSIGNED NOT NULL,
    state VARCHAR(12) NOT NULL,
    waiting_key VARCHAR(80),
    parameters JSON NOT NULL,
    done BIGINT UNSIGNED NOT NULL,
    total BIGINT UNSIGNED NOT NULL,
    cancel_asked BOOL NOT NULL,
    attempts SMALLINT UNSIGNED NOT NULL,
    error TEXT NOT NULL,
    created_at DATETIME(6) NOT NULL,
    run_after DATETIME(6) NOT NULL,
    lease_until DATETIME(6),
    finished_at DATETIME(6),
    PRIMARY KEY (id),
    UNIQUE (waiting_key)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE INDEX job_state ON job (state, run_after)
    """,
    """
CREATE TABLE mailbox_provider (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    name VARCHAR(253) NOT NULL,
    PRIMARY KEY (id),
    UNIQUE (name)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE sign_in_failure (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    email VARCHAR(254) NOT NULL,
    failed_at DATETIME(6) NOT NULL,
    PRIMARY KEY (id)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE INDEX sign_in_failure_email ON sign_in_failure (email, failed_at)
    """,
    """
CREATE TABLE tenant (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    slug VARCHAR(40) NOT NULL,
    name VARCHAR(120) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    PRIMARY KEY (id),
    UNIQUE (slug)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE membership (
    account_id INTEGER UNSIGNED NOT NULL,
    tenant_id INTEGER UNSIGNED NOT NULL,
    role VARCHAR(20) NOT NULL,
    PRIMARY KEY (account_id, tenant_id),
    FOREIGN KEY(account_id) REFERENCES account (id) ON DELETE CASCADE,
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE provider_label (
    tenant_id INTEGER UNSIGNED NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    label VARCHAR(60) NOT NULL,
    PRIMARY KEY (tenant_id, provider_id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(provider_id) REFERENCES mailbox_provider (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE recipient_domain (
    name VARCHAR(253) NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    resolved_at DATETIME(6) NOT NULL,
    expires_at DATETIME(6) NOT NULL,
    PRIMARY KEY (name),
    FOREIGN KEY(provider_id) REFERENCES mailbox_provider (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE relay (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    name VARCHAR(60) NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT relay_name UNIQUE (tenant_id, name),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE sending_domain (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    name VARCHAR(253) NOT NULL,
    origin VARCHAR(8) NOT NULL,
    selectors JSON NOT NULL,
    created_at DATETIME(6) NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT sending_domain_name UNIQUE (tenant_id, name),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE session (
    digest BINARY(32) NOT NULL,
    account_id INTEGER UNSIGNED NOT NULL,
    created_at DATETIME(6) NOT NULL,
    expires_at DATETIME(6) NOT NULL,
    PRIMARY KEY (digest),
    FOREIGN KEY(account_id) REFERENCES account (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE stream (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    name VARCHAR(60) NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT stream_name UNIQUE (tenant_id, name),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE suppression_change (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    address_key BINARY(16) NOT NULL,
    reason VARCHAR(20) NOT NULL,
    `change` VARCHAR(12) NOT NULL,
    changed_at DATETIME(6) NOT NULL,
    changed_by VARCHAR(80) NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE INDEX suppression_change_address ON suppression_change (tenant_id, address_key, id)
    """,
    """
CREATE TABLE suppression_entry (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    address_key BINARY(16) NOT NULL,
    reason VARCHAR(20) NOT NULL,
    address VARCHAR(320) NOT NULL,
    made_by VARCHAR(80) NOT NULL,
    since DATETIME(6) NOT NULL,
    until DATETIME(6),
    times INTEGER UNSIGNED NOT NULL,
    evidence JSON NOT NULL,
    PRIMARY KEY (id),
    CONSTRAINT suppression_entry_address UNIQUE (tenant_id, address_key, reason),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE token (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    digest BINARY(32) NOT NULL,
    name VARCHAR(80) NOT NULL,
    account_id INTEGER UNSIGNED NOT NULL,
    tenant_id INTEGER UNSIGNED,
    created_at DATETIME(6) NOT NULL,
    last_used_at DATETIME(6),
    expires_at DATETIME(6),
    PRIMARY KEY (id),
    UNIQUE (digest),
    FOREIGN KEY(account_id) REFERENCES account (id) ON DELETE CASCADE,
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE audit (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    finished_at DATETIME(6) NOT NULL,
    faults SMALLINT UNSIGNED NOT NULL,
    risks SMALLINT UNSIGNED NOT NULL,
    notes SMALLINT UNSIGNED NOT NULL,
    spf_lookups SMALLINT UNSIGNED,
    document JSON NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE INDEX audit_domain ON audit (domain_id, id)
    """,
    """
CREATE TABLE reading_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain_id INTEGER UNSIGNED NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    value NUMERIC(4, 1),
    margin NUMERIC(4, 1),
    mail FLOAT NOT NULL,
    pulls JSON NOT NULL,
    computed_at DATETIME(6) NOT NULL,
    PRIMARY KEY (tenant_id, domain_id, provider_id, day),
    FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE INDEX reading_day_day ON reading_day (tenant_id, day)
    """,
    """
CREATE INDEX suppression_entry_since ON suppression_entry (tenant_id, since, id)
    """,
    """
INSERT INTO mailbox_provider (id, name)
VALUES (1, '(all)'), (2, '(others)'), (3, '(unresolved)'), (4, '(takes no mail)')
    """,
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
