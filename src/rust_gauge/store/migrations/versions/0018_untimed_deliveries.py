"""Time to delivery from pairs of events: which tenants have both kinds."""

from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE intake_lock ADD COLUMN pairing TINYINT UNSIGNED NOT NULL DEFAULT 0")
