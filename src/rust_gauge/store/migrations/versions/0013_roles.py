"""Roles are checked now, and there are three. Everybody could do everything before, and still can."""

from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("UPDATE membership SET role = 'admin' WHERE role NOT IN ('viewer', 'operator', 'admin')")
