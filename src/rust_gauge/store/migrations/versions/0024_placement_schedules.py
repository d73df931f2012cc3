"""Placement: schedules, shared links, sums by day for charts and readings, and the assay of a run's message."""

from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_TENANT = "FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE"
_CHANGES = (
    f"""CREATE TABLE placement_schedule (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        name VARCHAR(40) NOT NULL,
        outlet_id INT UNSIGNED NULL,
        outlet_name VARCHAR(40) NOT NULL,
        enabled BOOL NOT NULL,
        address_key VARCHAR(60) NOT NULL UNIQUE,
        settings JSON NOT NULL,
        digest BINARY(16) NULL,
        message_id BIGINT UNSIGNED NULL,
        records_seen_at DATETIME(6) NOT NULL,
        after_changes BOOL NOT NULL,
        next_at DATETIME(6) NULL,
        ran_at DATETIME(6) NULL,
        problem VARCHAR(1000) NOT NULL,
        created_by VARCHAR(320) NOT NULL,
        created_at DATETIME(6) NOT NULL,
        UNIQUE KEY placement_schedule_name (tenant_id, name),
        KEY placement_schedule_due (enabled, next_at),
        {_TENANT},
        FOREIGN KEY (outlet_id) REFERENCES outlet (id) ON DELETE SET NULL
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_schedule_piece (
        schedule_id INT UNSIGNED NOT NULL,
        number SMALLINT UNSIGNED NOT NULL,
        octets MEDIUMBLOB NOT NULL,
        PRIMARY KEY (schedule_id, number),
        FOREIGN KEY (schedule_id) REFERENCES placement_schedule (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_path (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        outlet VARCHAR(40) NOT NULL,
        domain VARCHAR(253) NOT NULL,
        relay VARCHAR(80) NOT NULL,
        stream VARCHAR(80) NOT NULL,
        UNIQUE KEY placement_path_all (tenant_id, outlet, domain, relay, stream),
        {_TENANT}
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_day (
        path_id INT UNSIGNED NOT NULL,
        day DATE NOT NULL,
        provider VARCHAR(255) NOT NULL,
        outcome VARCHAR(10) NOT NULL,
        copies INT NOT NULL,
        PRIMARY KEY (path_id, day, provider, outcome),
        FOREIGN KEY (path_id) REFERENCES placement_path (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_share (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        run_id BIGINT UNSIGNED NOT NULL,
        token_digest BINARY(32) NOT NULL UNIQUE,
        note VARCHAR(200) NOT NULL,
        created_by VARCHAR(320) NOT NULL,
        created_at DATETIME(6) NOT NULL,
        expires_at DATETIME(6) NOT NULL,
        opened INT UNSIGNED NOT NULL,
        opened_at DATETIME(6) NULL,
        KEY placement_share_run (run_id),
        {_TENANT},
        FOREIGN KEY (run_id) REFERENCES placement_run (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE placement_assay (
        run_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
        assay LONGBLOB NOT NULL,
        FOREIGN KEY (run_id) REFERENCES placement_run (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    "ALTER TABLE placement_run ADD COLUMN path_id INT UNSIGNED NULL, ADD COLUMN schedule_id INT UNSIGNED NULL, "
    "ADD COLUMN why VARCHAR(300) NOT NULL DEFAULT '', "
    "ADD KEY placement_run_schedule (schedule_id, id), "
    "ADD FOREIGN KEY (path_id) REFERENCES placement_path (id) ON DELETE SET NULL, "
    "ADD FOREIGN KEY (schedule_id) REFERENCES placement_schedule (id) ON DELETE SET NULL",
    # What is known of runs that are there already.
    """INSERT IGNORE INTO placement_path (tenant_id, outlet, domain, relay, stream)
        SELECT r.tenant_id, r.outlet_name,
            LOWER(LEFT(TRIM(TRAILING '>' FROM SUBSTRING_INDEX(r.header_from, '@', -1)), 253)),
            COALESCE(o.relay, ''), COALESCE(o.stream, '')
        FROM placement_run AS r LEFT JOIN outlet AS o ON o.id = r.outlet_id WHERE r.started_at IS NOT NULL""",
    """UPDATE placement_run AS r LEFT JOIN outlet AS o ON o.id = r.outlet_id
        JOIN placement_path AS p ON p.tenant_id = r.tenant_id AND p.outlet = r.outlet_name
            AND p.domain = LOWER(LEFT(TRIM(TRAILING '>' FROM SUBSTRING_INDEX(r.header_from, '@', -1)), 253))
            AND p.relay = COALESCE(o.relay, '') AND p.stream = COALESCE(o.stream, '')
        SET r.path_id = p.id WHERE r.started_at IS NOT NULL""",
    """INSERT INTO placement_day (path_id, day, provider, outcome, copies)
        SELECT r.path_id, DATE(r.started_at), c.provider, c.outcome, SUM(c.copies)
        FROM placement_run AS r JOIN placement_count AS c ON c.run_id = r.id
        WHERE r.path_id IS NOT NULL AND c.copies > 0 GROUP BY r.path_id, DATE(r.started_at), c.provider, c.outcome""",
    # A twelfth factor: nothing is known of it yet. Histories are packed; `unpack` adds what they lack.
    "UPDATE reading_series SET pulls = CONCAT(pulls, x'0000'), measures = CONCAT(SUBSTRING(measures, 1, 44), "
    "x'0000C07F', SUBSTRING(measures, 45, 44), x'0000C07F', SUBSTRING(measures, 89, 44), x'0000C07F') "
    "WHERE LENGTH(pulls) = 22 AND LENGTH(measures) = 132",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
