"""How often what changed in a tenant, so that open pages follow without asking for everything again."""

from alembic import op

revision = "0037"
down_revision = "0036"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE TABLE IF NOT EXISTS tenant_change (tenant_id INTEGER UNSIGNED NOT NULL, what VARCHAR(12) NOT NULL, "
        "number BIGINT UNSIGNED NOT NULL, PRIMARY KEY (tenant_id, what), "
        "CONSTRAINT tenant_change_tenant FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE"
        ") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
    )
