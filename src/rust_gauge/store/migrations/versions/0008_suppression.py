"""The suppression list anew: states, reach, every change; tasks with files, gates for MTAs, facts about domains.

Entries and changes of before are taken over; their keys stay as they were.
"""

from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

_OLD_ENTRY, _OLD_CHANGE = "suppression_entry_before", "suppression_change_before"

STATEMENTS = (
    f"RENAME TABLE suppression_entry TO {_OLD_ENTRY}, suppression_change TO {_OLD_CHANGE}",
    """
CREATE TABLE suppression_entry (
    tenant_id INTEGER UNSIGNED NOT NULL,
    address_key BINARY(16) NOT NULL,
    reason TINYINT UNSIGNED NOT NULL,
    reach TINYINT UNSIGNED NOT NULL,
    reach_id INTEGER UNSIGNED NOT NULL,
    number BIGINT UNSIGNED NOT NULL,
    state TINYINT UNSIGNED NOT NULL,
    address VARCHAR(320) COLLATE utf8mb4_general_ci NOT NULL,
    mail_domain VARCHAR(253) NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    stream_id INTEGER UNSIGNED NOT NULL,
    since DATETIME(6) NOT NULL,
    until DATETIME(6),
    ended_at DATETIME(6),
    times INTEGER UNSIGNED NOT NULL,
    returns SMALLINT UNSIGNED NOT NULL,
    made_at DATETIME(6) NOT NULL,
    `change` TINYINT UNSIGNED NOT NULL,
    changed_at DATETIME(6) NOT NULL,
    changed_by VARCHAR(80) NOT NULL,
    note VARCHAR(500) NOT NULL,
    origin VARCHAR(12) NOT NULL,
    evidence TEXT NOT NULL,
    PRIMARY KEY (tenant_id, address_key, reason, reach, reach_id)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX suppression_entry_domain ON suppression_entry (tenant_id, mail_domain)",
    "CREATE INDEX suppression_entry_number ON suppression_entry (tenant_id, number)",
    "CREATE INDEX suppression_entry_text ON suppression_entry (tenant_id, address)",
    "CREATE INDEX suppression_entry_until ON suppression_entry (tenant_id, until)",
    """
CREATE TABLE suppression_change (
    tenant_id INTEGER UNSIGNED NOT NULL,
    number BIGINT UNSIGNED NOT NULL,
    address_key BINARY(16) NOT NULL,
    reason TINYINT UNSIGNED NOT NULL,
    reach TINYINT UNSIGNED NOT NULL,
    reach_id INTEGER UNSIGNED NOT NULL,
    state TINYINT UNSIGNED NOT NULL,
    `change` TINYINT UNSIGNED NOT NULL,
    changed_at DATETIME(6) NOT NULL,
    changed_by VARCHAR(80) NOT NULL,
    note VARCHAR(500) NOT NULL,
    until DATETIME(6),
    address VARCHAR(320) NOT NULL,
    PRIMARY KEY (tenant_id, number)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX suppression_change_address ON suppression_change (tenant_id, address_key)",
    """
CREATE TABLE suppression_state (
    tenant_id INTEGER UNSIGNED NOT NULL,
    last_number BIGINT UNSIGNED NOT NULL DEFAULT 0,
    matching JSON NOT NULL DEFAULT '{}',
    matching_before JSON,
    secret VARCHAR(300) NOT NULL DEFAULT '',
    PRIMARY KEY (tenant_id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE suppression_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    what TINYINT UNSIGNED NOT NULL,
    reason TINYINT UNSIGNED NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    stream_id INTEGER UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, day, what, reason, provider_id, stream_id)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE task (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    kind VARCHAR(20) NOT NULL,
    name VARCHAR(200) NOT NULL,
    state VARCHAR(10) NOT NULL,
    request JSON NOT NULL,
    position JSON NOT NULL,
    result JSON NOT NULL,
    done BIGINT UNSIGNED NOT NULL,
    total BIGINT UNSIGNED NOT NULL,
    cancel_asked BOOL NOT NULL,
    error VARCHAR(500) NOT NULL,
    made_by VARCHAR(254) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    finished_at DATETIME(6),
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX task_tenant ON task (tenant_id, kind, id)",
    """
CREATE TABLE task_piece (
    task_id BIGINT UNSIGNED NOT NULL,
    part VARCHAR(12) NOT NULL,
    number INTEGER UNSIGNED NOT NULL,
    size INTEGER UNSIGNED NOT NULL,
    octets MEDIUMBLOB NOT NULL,
    PRIMARY KEY (task_id, part, number),
    FOREIGN KEY(task_id) REFERENCES task (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE gate (
    id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    name VARCHAR(60) NOT NULL,
    digest BINARY(32) NOT NULL,
    stream VARCHAR(60) NOT NULL,
    relay VARCHAR(60) NOT NULL,
    created_at DATETIME(6) NOT NULL,
    last_used_at DATETIME(6),
    PRIMARY KEY (id),
    CONSTRAINT gate_name UNIQUE (tenant_id, name),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
    UNIQUE (digest)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE domain_fact (
    name VARCHAR(253) NOT NULL,
    document JSON NOT NULL,
    found_at DATETIME(6) NOT NULL,
    PRIMARY KEY (name)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    # What stands no more goes into the log, in the order in which it happened; then come the entries.
    f"""
INSERT INTO suppression_change
SELECT c.tenant_id, ROW_NUMBER() OVER (PARTITION BY c.tenant_id ORDER BY c.id), c.address_key,
    IF(c.reason = 'complaint', 2, 1), 1, 0, IF(c.`change` = 'made', 1, 0), IF(c.`change` = 'made', 1, 10),
    c.changed_at, c.changed_by, '', NULL, ''
FROM {_OLD_CHANGE} AS c LEFT JOIN {_OLD_ENTRY} AS e
    ON e.tenant_id = c.tenant_id AND e.address_key = c.address_key AND e.reason = c.reason
WHERE e.id IS NULL
    """,
    f"""
INSERT INTO suppression_entry
SELECT e.tenant_id, e.address_key, IF(e.reason = 'complaint', 2, 1), 1, 0,
    COALESCE(n.number, 0) + ROW_NUMBER() OVER (PARTITION BY e.tenant_id ORDER BY e.since, e.id), 1, e.address,
    SUBSTRING_INDEX(e.address, '@', -1), COALESCE(d.provider_id, 0), 0, e.since, e.until, NULL, e.times, 0,
    e.since, 1, e.since, e.made_by, '', IF(e.made_by IN ('event', 'rules'), 'event', 'import'), e.evidence
FROM {_OLD_ENTRY} AS e
LEFT JOIN recipient_domain AS d ON d.name = SUBSTRING_INDEX(e.address, '@', -1)
LEFT JOIN (SELECT tenant_id, MAX(number) AS number FROM suppression_change GROUP BY tenant_id) AS n
    ON n.tenant_id = e.tenant_id
    """,
    """
INSERT INTO suppression_state (tenant_id, last_number)
SELECT t.id, GREATEST(
    COALESCE((SELECT MAX(number) FROM suppression_entry AS e WHERE e.tenant_id = t.id), 0),
    COALESCE((SELECT MAX(number) FROM suppression_change AS c WHERE c.tenant_id = t.id), 0))
FROM tenant AS t
    """,
    """
INSERT INTO suppression_day
SELECT tenant_id, DATE(since), 1, reason, provider_id, stream_id, COUNT(*) FROM suppression_entry
GROUP BY 1, 2, 4, 5, 6
    """,
    f"DROP TABLE {_OLD_ENTRY}, {_OLD_CHANGE}",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
