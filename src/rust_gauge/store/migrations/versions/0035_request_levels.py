"""How many requests callers and sources have left, shared by all service processes."""

from alembic import op

revision = "0035"
down_revision = "0034"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE TABLE IF NOT EXISTS request_level (whose VARCHAR(12) NOT NULL, key_digest BINARY(16) NOT NULL, "
        "remaining DOUBLE NOT NULL, at DATETIME(6) NOT NULL, PRIMARY KEY (whose, key_digest), "
        "INDEX request_level_at (at)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
    )
