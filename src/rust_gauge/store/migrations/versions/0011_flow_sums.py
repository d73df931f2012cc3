"""Counters by one part of their key: domain, stream, relay or provider."""

from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

_ADD = (
    "INSERT INTO flow_sum_day (tenant_id, what, day, part_id, kind, n) "
    "SELECT tenant_id, {}, day, {}, kind, SUM(n) FROM flow_day GROUP BY tenant_id, day, {}, kind"
)
STATEMENTS = (
    """
CREATE TABLE flow_sum_day (
    tenant_id INTEGER UNSIGNED NOT NULL,
    what TINYINT UNSIGNED NOT NULL,
    day DATE NOT NULL,
    part_id INTEGER UNSIGNED NOT NULL,
    kind TINYINT UNSIGNED NOT NULL,
    n BIGINT UNSIGNED NOT NULL,
    PRIMARY KEY (tenant_id, what, day, part_id, kind)
)ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin
    """,
    "CREATE INDEX flow_sum_kind ON flow_sum_day (what, kind, day, part_id)",
    *(
        _ADD.format(what, column, column)
        for what, column in ((1, "domain_id"), (2, "stream_id"), (3, "relay_id"), (5, "provider_id"))
    ),
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
