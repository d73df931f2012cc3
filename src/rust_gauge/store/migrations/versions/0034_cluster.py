"""What a cluster needs: ids of transactions whose commit may go unanswered, and a beat to measure replicas by."""

from alembic import op

revision = "0034"
down_revision = "0033"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE TABLE IF NOT EXISTS unit_of_work (id BINARY(16) NOT NULL, done_at DATETIME(6) NOT NULL, "
        "PRIMARY KEY (id), INDEX unit_of_work_time (done_at)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
    )
    op.execute(
        "CREATE TABLE IF NOT EXISTS database_beat (id SMALLINT UNSIGNED NOT NULL, beat_at DATETIME(6) NOT NULL, "
        "PRIMARY KEY (id)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
    )
