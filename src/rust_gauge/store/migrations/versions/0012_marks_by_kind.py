"""Marks on the time axis tell people's notes from changes of policies, each of which stays there."""

from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE mark ADD COLUMN kind VARCHAR(10) NOT NULL DEFAULT 'note'")
    for name, what in (
        ("suppression_policy", "the suppression policy was changed"),
        ("reputation", "how readings are computed was changed"),
    ):
        op.execute(
            "INSERT INTO mark (tenant_id, domain, day, text, made_at, made_by, kind) "
            f"SELECT tenant_id, '', DATE(changed_at), '{what}', changed_at, "
            "COALESCE(JSON_VALUE(document, '$.changed_by'), ''), 'policy' "
            f"FROM tenant_setting WHERE name = '{name}' AND JSON_VALUE(document, '$.changed_at') IS NOT NULL"
        )
