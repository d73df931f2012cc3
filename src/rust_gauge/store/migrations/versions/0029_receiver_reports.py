"""Reports of receivers: each once, its rows and sums, who sends as a domain, and sessions of TLS reports."""

from alembic import op

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None

_TABLES = (
    """CREATE TABLE report_receiver (
        id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
        tenant_id INTEGER UNSIGNED NOT NULL,
        name VARCHAR(200) NOT NULL,
        label VARCHAR(200) NOT NULL,
        PRIMARY KEY (id),
        UNIQUE INDEX report_receiver_name (tenant_id, name),
        FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE receiver_report (
        id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
        tenant_id INTEGER UNSIGNED NOT NULL,
        kind VARCHAR(10) NOT NULL,
        digest BINARY(16) NOT NULL,
        receiver_id INTEGER UNSIGNED NOT NULL,
        report_id VARCHAR(255) NOT NULL,
        domain VARCHAR(253) NOT NULL,
        domain_id INTEGER UNSIGNED,
        begins_at DATETIME(6) NOT NULL,
        ends_at DATETIME(6) NOT NULL,
        arrived_at DATETIME(6) NOT NULL,
        arrived_by VARCHAR(10) NOT NULL,
        feed_id INTEGER UNSIGNED,
        authentic VARCHAR(10) NOT NULL,
        authentic_domain VARCHAR(253) NOT NULL,
        records INTEGER UNSIGNED NOT NULL,
        left_out INTEGER UNSIGNED NOT NULL,
        messages BIGINT UNSIGNED NOT NULL,
        passed BIGINT UNSIGNED NOT NULL,
        document JSON NOT NULL,
        PRIMARY KEY (id),
        UNIQUE INDEX receiver_report_once (tenant_id, digest),
        FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
        FOREIGN KEY(receiver_id) REFERENCES report_receiver (id) ON DELETE CASCADE,
        FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE SET NULL,
        FOREIGN KEY(feed_id) REFERENCES feed (id) ON DELETE SET NULL,
        INDEX receiver_report_domain (domain_id, kind, ends_at),
        INDEX receiver_report_end (tenant_id, ends_at),
        INDEX receiver_report_receiver (receiver_id, ends_at)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE receiver_report_piece (
        id INTEGER UNSIGNED NOT NULL,
        number SMALLINT UNSIGNED NOT NULL,
        octets MEDIUMBLOB NOT NULL,
        PRIMARY KEY (id, number),
        FOREIGN KEY(id) REFERENCES receiver_report (id) ON DELETE CASCADE
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE rejected_report (
        id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
        tenant_id INTEGER UNSIGNED NOT NULL,
        feed_id INTEGER UNSIGNED,
        digest BINARY(16) NOT NULL,
        arrived_at DATETIME(6) NOT NULL,
        arrived_by VARCHAR(10) NOT NULL,
        what VARCHAR(500) NOT NULL,
        why VARCHAR(500) NOT NULL,
        remedy VARCHAR(500) NOT NULL,
        size INTEGER UNSIGNED NOT NULL,
        octets LONGBLOB,
        PRIMARY KEY (id),
        UNIQUE INDEX rejected_report_once (tenant_id, digest),
        FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
        FOREIGN KEY(feed_id) REFERENCES feed (id) ON DELETE SET NULL
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE report_source (
        id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
        tenant_id INTEGER UNSIGNED NOT NULL,
        domain_id INTEGER UNSIGNED NOT NULL,
        ip VARBINARY(16) NOT NULL,
        verdict VARCHAR(10) NOT NULL,
        group_name VARCHAR(255) NOT NULL,
        certainty DOUBLE NOT NULL,
        evidence JSON NOT NULL,
        first_day DATE NOT NULL,
        last_day DATE NOT NULL,
        judged_at DATETIME(6),
        PRIMARY KEY (id),
        UNIQUE INDEX report_source_ip (domain_id, ip),
        FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE,
        FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE,
        INDEX report_source_due (tenant_id, judged_at),
        INDEX report_source_group (domain_id, group_name)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE source_decision (
        domain_id INTEGER UNSIGNED NOT NULL,
        group_name VARCHAR(255) NOT NULL,
        tenant_id INTEGER UNSIGNED NOT NULL,
        verdict VARCHAR(10) NOT NULL,
        relay VARCHAR(60) NOT NULL,
        note VARCHAR(500) NOT NULL,
        decided_by VARCHAR(320) NOT NULL,
        decided_at DATETIME(6) NOT NULL,
        PRIMARY KEY (domain_id, group_name),
        FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE,
        FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE address_host (
        ip VARBINARY(16) NOT NULL,
        host VARCHAR(253) NOT NULL,
        answered BOOL NOT NULL,
        looked_up_at DATETIME(6) NOT NULL,
        PRIMARY KEY (ip)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE report_result (
        id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT,
        tenant_id INTEGER UNSIGNED NOT NULL,
        digest BINARY(16) NOT NULL,
        header_from VARCHAR(253) NOT NULL,
        envelope_from VARCHAR(253) NOT NULL,
        spf_domain VARCHAR(253) NOT NULL,
        spf_result VARCHAR(20) NOT NULL,
        signatures JSON NOT NULL,
        reasons JSON NOT NULL,
        outcome SMALLINT UNSIGNED NOT NULL,
        PRIMARY KEY (id),
        UNIQUE INDEX report_result_once (tenant_id, digest),
        FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE report_row (
        domain_id INTEGER UNSIGNED NOT NULL,
        source_id INTEGER UNSIGNED NOT NULL,
        day DATE NOT NULL,
        report_id INTEGER UNSIGNED NOT NULL,
        result_id INTEGER UNSIGNED NOT NULL,
        n BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (domain_id, source_id, day, report_id, result_id),
        INDEX report_row_report (report_id)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE report_source_day (
        domain_id INTEGER UNSIGNED NOT NULL,
        source_id INTEGER UNSIGNED NOT NULL,
        day DATE NOT NULL,
        outcome SMALLINT UNSIGNED NOT NULL,
        n BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (domain_id, source_id, day, outcome)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE report_receiver_day (
        domain_id INTEGER UNSIGNED NOT NULL,
        day DATE NOT NULL,
        receiver_id INTEGER UNSIGNED NOT NULL,
        verdict VARCHAR(10) NOT NULL,
        outcome SMALLINT UNSIGNED NOT NULL,
        n BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (domain_id, day, receiver_id, verdict, outcome)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE report_name (
        domain_id INTEGER UNSIGNED NOT NULL,
        name VARCHAR(253) NOT NULL,
        first_day DATE NOT NULL,
        last_day DATE NOT NULL,
        n BIGINT UNSIGNED NOT NULL,
        passed BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (domain_id, name)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE policy_path (
        domain_id INTEGER UNSIGNED NOT NULL,
        tenant_id INTEGER UNSIGNED NOT NULL,
        stage VARCHAR(10) NOT NULL,
        stage_since DATE NOT NULL,
        published VARCHAR(1000) NOT NULL,
        settings JSON NOT NULL,
        started_by VARCHAR(320) NOT NULL,
        started_at DATETIME(6) NOT NULL,
        checked_at DATETIME(6),
        PRIMARY KEY (domain_id),
        FOREIGN KEY(domain_id) REFERENCES sending_domain (id) ON DELETE CASCADE,
        FOREIGN KEY(tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE tls_row (
        domain_id INTEGER UNSIGNED NOT NULL,
        day DATE NOT NULL,
        report_id INTEGER UNSIGNED NOT NULL,
        number INTEGER UNSIGNED NOT NULL,
        policy VARCHAR(40) NOT NULL,
        result VARCHAR(60) NOT NULL,
        mx VARCHAR(253) NOT NULL,
        sending_ip VARCHAR(45) NOT NULL,
        receiving_ip VARCHAR(45) NOT NULL,
        reason VARCHAR(400) NOT NULL,
        sessions BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (domain_id, day, report_id, number),
        INDEX tls_row_report (report_id)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
)


def upgrade() -> None:
    for table in _TABLES:
        op.execute(table)
