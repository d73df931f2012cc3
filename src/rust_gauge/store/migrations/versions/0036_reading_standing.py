"""An index of newest readings: the wall of a large tenant is ordered and summed up without reading their histories."""

from alembic import op

revision = "0036"
down_revision = "0035"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE INDEX IF NOT EXISTS reading_series_standing "
        "ON reading_series (tenant_id, kind, provider_id, last_day, tenths)"
    )
