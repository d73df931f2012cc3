"""HELO names are looked up, whatever SPF says of them; paths tell a record that is gone from a missing
answer of DNS.
"""

from alembic import op

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE report_result ADD COLUMN helo_result VARCHAR(20) NOT NULL DEFAULT '' AFTER helo_domain")
    op.execute("UPDATE report_result SET helo_result = 'pass' WHERE helo_domain != ''")
    op.execute(
        """CREATE TABLE helo_host (
            ip VARBINARY(16) NOT NULL,
            name VARCHAR(253) NOT NULL,
            has_address BOOL NULL,
            looked_up_at DATETIME(6) NOT NULL,
            PRIMARY KEY (ip, name)
        ) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"""
    )
    op.execute("ALTER TABLE policy_path ADD COLUMN asked_at DATETIME(6) NULL")
    op.execute("UPDATE policy_path SET asked_at = checked_at")
