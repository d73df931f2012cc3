"""Placement: seeds, outlets, runs and their copies."""

from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_ACCESS = """
        host VARCHAR(253) NOT NULL,
        port SMALLINT UNSIGNED NOT NULL,
        security VARCHAR(10) NOT NULL,
        login_user VARCHAR(320) NOT NULL,
        password TEXT NOT NULL,
        checked_at DATETIME(6) NULL,
        problem VARCHAR(30) NOT NULL,
        problem_text VARCHAR(1000) NOT NULL,
        problem_remedy VARCHAR(500) NOT NULL,
        created_at DATETIME(6) NOT NULL,"""
_TENANT = "FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE"
_RUN = "FOREIGN KEY (run_id) REFERENCES placement_run (id) ON DELETE CASCADE"
_CHANGES = (
    f"""CREATE TABLE seed (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        address VARCHAR(320) NOT NULL,
        provider VARCHAR(255) NOT NULL,
        folders JSON NOT NULL,
        seen_folders JSON NOT NULL,
        lists JSON NOT NULL,
        note VARCHAR(500) NOT NULL,
        enabled BOOL NOT NULL,{_ACCESS}
        UNIQUE KEY seed_address (tenant_id, address),
        {_TENANT}
    ) {_OPTIONS}""",
    f"""CREATE TABLE outlet (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        name VARCHAR(40) NOT NULL,
        from_name VARCHAR(120) NOT NULL,
        from_address VARCHAR(320) NOT NULL,
        mail_from VARCHAR(320) NOT NULL,
        relay VARCHAR(80) NOT NULL,
        stream VARCHAR(80) NOT NULL,
        extra JSON NOT NULL,{_ACCESS}
        UNIQUE KEY outlet_name (tenant_id, name),
        {_TENANT}
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_run (
        id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        outlet_id INT UNSIGNED NULL,
        outlet_name VARCHAR(40) NOT NULL,
        title VARCHAR(200) NOT NULL,
        address_key VARCHAR(60) NOT NULL UNIQUE,
        state VARCHAR(10) NOT NULL,
        keep_custom BOOL NOT NULL,
        plan JSON NOT NULL,
        wait_minutes INT UNSIGNED NOT NULL,
        subject VARCHAR(500) NOT NULL,
        series VARCHAR(200) NOT NULL,
        header_from VARCHAR(320) NOT NULL,
        size INT UNSIGNED NOT NULL,
        mark DOUBLE NULL,
        error VARCHAR(1000) NOT NULL,
        created_by VARCHAR(320) NOT NULL,
        created_at DATETIME(6) NOT NULL,
        started_at DATETIME(6) NULL,
        ended_at DATETIME(6) NULL,
        KEY placement_run_tenant (tenant_id, id),
        KEY placement_run_time (tenant_id, started_at),
        KEY placement_run_series (tenant_id, series, id),
        KEY placement_run_state (state, tenant_id),
        {_TENANT},
        FOREIGN KEY (outlet_id) REFERENCES outlet (id) ON DELETE SET NULL
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_piece (
        run_id BIGINT UNSIGNED NOT NULL,
        number SMALLINT UNSIGNED NOT NULL,
        octets MEDIUMBLOB NOT NULL,
        PRIMARY KEY (run_id, number),
        {_RUN}
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_copy (
        id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        run_id BIGINT UNSIGNED NOT NULL,
        seed_id INT UNSIGNED NULL,
        address VARCHAR(320) NOT NULL,
        provider VARCHAR(255) NOT NULL,
        mark VARCHAR(20) NOT NULL UNIQUE,
        outcome VARCHAR(10) NOT NULL,
        folder VARCHAR(255) NOT NULL,
        reply VARCHAR(500) NOT NULL,
        problem VARCHAR(1000) NOT NULL,
        sent_at DATETIME(6) NULL,
        arrived_at DATETIME(6) NULL,
        looked_at DATETIME(6) NULL,
        arrival JSON NULL,
        KEY placement_copy_run (run_id, id),
        KEY placement_copy_open (tenant_id, outcome),
        {_TENANT},
        {_RUN},
        FOREIGN KEY (seed_id) REFERENCES seed (id) ON DELETE SET NULL
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_count (
        run_id BIGINT UNSIGNED NOT NULL,
        provider VARCHAR(255) NOT NULL,
        outcome VARCHAR(10) NOT NULL,
        copies INT UNSIGNED NOT NULL,
        PRIMARY KEY (run_id, provider, outcome),
        {_RUN}
    ) {_OPTIONS}""",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
