"""Sending limits: mail by relay and hour, what clearance let go; `restricted` relays; senders that are not proven."""

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
    # A new cause must not fall to the last rules of a policy, which would hold good addresses.
    """UPDATE tenant_setting SET document = REPLACE(document, '"relay_denied"', '"relay_denied", "sender_unproven"')
        WHERE name = 'suppression_policy' AND document NOT LIKE '%"sender_unproven"%'""",
)


def upgrade() -> None:
    for change in _CHANGES:
        op.execute(change)
