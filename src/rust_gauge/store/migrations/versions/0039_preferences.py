"""What people have set for themselves."""

from alembic import op

revision = "0039"
down_revision = "0038"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE TABLE IF NOT EXISTS account_preferences (account_id INTEGER UNSIGNED NOT NULL PRIMARY KEY, "
        "preferences JSON NOT NULL, CONSTRAINT account_preferences_account FOREIGN KEY (account_id) "
        "REFERENCES account (id) ON DELETE CASCADE) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
    )
