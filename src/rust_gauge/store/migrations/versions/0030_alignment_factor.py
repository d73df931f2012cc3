"""A thirteenth factor of readings: mail of our own that receivers reported as not aligned. Nothing is known yet."""

from alembic import op

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # Histories are packed; `readings.unpack` adds what they lack.
    op.execute(
        "UPDATE reading_series SET pulls = CONCAT(pulls, x'0000'), measures = CONCAT(SUBSTRING(measures, 1, 48), "
        "x'0000C07F', SUBSTRING(measures, 49, 48), x'0000C07F', SUBSTRING(measures, 97, 48), x'0000C07F') "
        "WHERE LENGTH(pulls) = 24 AND LENGTH(measures) = 144"
    )
