"""A batch says what it could not judge about a domain."""

from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE batch_result ADD COLUMN not_checked JSON NOT NULL DEFAULT '[]'")
