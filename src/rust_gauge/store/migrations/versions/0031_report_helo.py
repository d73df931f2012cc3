"""Reports tell the HELO name that SPF passed for; sources count what was reported of them, so that mail which
comes while a source is judged is not overlooked.
"""

from alembic import op

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE report_result ADD COLUMN helo_domain VARCHAR(253) NOT NULL DEFAULT '' AFTER spf_result")
    op.execute("ALTER TABLE report_source ADD COLUMN changes INT UNSIGNED NOT NULL DEFAULT 0")
