"""What people write on the time axis is an annotation in the database too; a note is a level of findings."""

from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE annotation ALTER COLUMN kind SET DEFAULT 'annotation'")
    op.execute("UPDATE annotation SET kind = 'annotation' WHERE kind = 'note'")
