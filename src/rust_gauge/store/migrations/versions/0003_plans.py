"""Relays as they are described, what people choose about a domain's record plan, and watches of propagation."""

from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

STATEMENTS = (
    "ALTER TABLE relay ADD COLUMN description JSON NULL",
    "ALTER TABLE sending_domain ADD COLUMN plan JSON NOT NULL DEFAULT '{}'",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(statement)
