"""What an item was before a person's action, so that the action can be undone."""

from alembic import op

revision = "0038"
down_revision = "0037"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE work_step ADD COLUMN IF NOT EXISTS previous JSON NULL")
