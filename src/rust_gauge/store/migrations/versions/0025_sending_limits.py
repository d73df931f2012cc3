"""Sending limits: what clearance let go, by hour; a relay that takes proven recipients only is `restricted`."""

from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

_CHANGES = (
    """CREATE TABLE cleared_hour (
        tenant_id INT UNSIGNED NOT NULL,
        relay_id INT UNSIGNED NOT NULL,
        hour DATETIME NOT NULL,
        stream_id INT UNSIGNED NOT NULL,
        n BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (tenant_id, relay_id, hour, stream_id),
        FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """CREATE TABLE flow_relay_hour (
        tenant_id INT UNSIGNED NOT NULL,
        relay_id INT UNSIGNED NOT NULL,
        hour DATETIME NOT NULL,
        stream_id INT UNSIGNED NOT NULL,
        kind TINYINT UNSIGNED NOT NULL,
        n BIGINT UNSIGNED NOT NULL,
        PRIMARY KEY (tenant_id, relay_id, hour, stream_id, kind)
    ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin""",
    """INSERT INTO flow_relay_hour
        SELECT tenant_id, relay_id, hour, stream_id, kind, SUM(n) FROM flow_hour WHERE kind IN (0, 1, 3, 13)
        GROUP BY tenant_id, relay_id, hour, stream_id, kind""",
    """UPDATE relay SET description = REPLACE(description, '"trial":', '"restricted":')
        WHERE description LIKE '%"trial":%'""",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
