"""Replies are found by their words: reply patterns have a full-text index, and events one by pattern.

Both are online: events are stored while the index is built. A migration that was cut off is run again, and leaves what
is there as it is.
"""

from alembic import op

from rust_gauge.store.migrations.online import change_online

revision = "0033"
down_revision = "0032"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "ALTER TABLE reply_pattern MODIFY reply_pattern VARCHAR(500) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci "
        "NOT NULL"
    )
    op.execute("ALTER TABLE reply_pattern ADD FULLTEXT INDEX IF NOT EXISTS reply_pattern_words (reply_pattern)")
    change_online(
        op.get_bind(),
        "ALTER TABLE event ADD INDEX IF NOT EXISTS event_pattern (tenant_id, pattern_id, occurred_at, identity), "
        "ALGORITHM=INPLACE, LOCK=NONE",
    )
