"""Readings as series, of domains, streams, relays and addresses; what providers did to everybody; notes.

Readings of before are not taken over: they are computed anew from the counters.
"""

from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

STATEMENTS = (
    "DROP TABLE reading_day",
    """
CREATE TABLE reading_series (
    tenant_id INTEGER UNSIGNED NOT NULL,
    kind TINYINT UNSIGNED NOT NULL,
    subject_id INTEGER UNSIGNED NOT NULL,
    provider_id INTEGER UNSIGNED NOT NULL,
    first_day DATE NOT NULL,
    last_day DATE NOT NULL,
    tenths SMALLINT NOT NULL,
    margin SMALLINT NOT NULL,
    mail FLOAT NOT NULL,
    pulls VARBINARY(80) NOT NULL,
    measures VARBINARY(400) NOT NULL,
    trend VARBINARY(400) NOT NULL,
    history MEDIUMBLOB NOT NULL,
    computed_at DATETIME(6) NOT NULL,
    PRIMARY KEY (tenant_id, kind, subject_id, provider_id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX reading_series_stale ON reading_series (last_day, tenant_id, kind, subject_id)",
    """
CREATE TABLE provider_day (
    provider_id INTEGER UNSIGNED NOT NULL,
    day DATE NOT NULL,
    senders SMALLINT UNSIGNED NOT NULL,
    common FLOAT NOT NULL,
    outage FLOAT NOT NULL,
    PRIMARY KEY (provider_id, day)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE provider_usual (
    provider_id INTEGER UNSIGNED NOT NULL,
    since DATE NOT NULL,
    document JSON NOT NULL,
    PRIMARY KEY (provider_id)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    """
CREATE TABLE mark (
    id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
    tenant_id INTEGER UNSIGNED NOT NULL,
    domain VARCHAR(253) NOT NULL,
    day DATE NOT NULL,
    text VARCHAR(500) NOT NULL,
    made_at DATETIME(6) NOT NULL,
    made_by VARCHAR(254) NOT NULL,
    PRIMARY KEY (id),
    FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX mark_tenant ON mark (tenant_id, day)",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
