"""Warm-up: plans, where each is at each provider, what was decided day by day, and what clearance let go."""

from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

_OPTIONS = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
_PLAN = "FOREIGN KEY (plan_id) REFERENCES warmup_plan (id) ON DELETE CASCADE"
_CHANGES = (
    f"""CREATE TABLE warmup_plan (
        id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
        tenant_id INT UNSIGNED NOT NULL,
        name VARCHAR(40) NOT NULL,
        domain VARCHAR(253) NOT NULL,
        stream VARCHAR(60) NOT NULL,
        relay VARCHAR(60) NOT NULL,
        sending_ip VARCHAR(45) NOT NULL,
        move_from VARCHAR(60) NOT NULL,
        settings JSON NOT NULL,
        starts_on DATE NOT NULL,
        judged_to DATE NOT NULL,
        state VARCHAR(10) NOT NULL,
        created_by VARCHAR(320) NOT NULL,
        created_at DATETIME(6) NOT NULL,
        UNIQUE KEY warmup_plan_name (tenant_id, name),
        KEY warmup_plan_state (state, judged_to),
        FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) {_OPTIONS}""",
    f"""CREATE TABLE warmup_track (
        plan_id INT UNSIGNED NOT NULL,
        provider_id INT UNSIGNED NOT NULL,
        share DOUBLE NOT NULL,
        step SMALLINT UNSIGNED NOT NULL,
        since DATE NOT NULL,
        PRIMARY KEY (plan_id, provider_id),
        {_PLAN}
    ) {_OPTIONS}""",
    f"""CREATE TABLE warmup_day (
        plan_id INT UNSIGNED NOT NULL,
        provider_id INT UNSIGNED NOT NULL,
        day DATE NOT NULL,
        step SMALLINT UNSIGNED NOT NULL,
        per_day INT UNSIGNED NOT NULL,
        per_hour INT UNSIGNED NOT NULL,
        turn VARCHAR(10) NOT NULL,
        reasons JSON NOT NULL,
        decided_by VARCHAR(320) NOT NULL,
        PRIMARY KEY (plan_id, provider_id, day),
        {_PLAN}
    ) {_OPTIONS}""",
    f"""CREATE TABLE warmup_cleared (
        plan_id INT UNSIGNED NOT NULL,
        provider_id INT UNSIGNED NOT NULL,
        hour DATETIME NOT NULL,
        n BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (plan_id, provider_id, hour),
        {_PLAN}
    ) {_OPTIONS}""",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
