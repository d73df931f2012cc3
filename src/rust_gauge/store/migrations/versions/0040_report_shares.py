"""Reports that are shared by a link."""

from alembic import op

revision = "0040"
down_revision = "0039"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE TABLE IF NOT EXISTS report_share (id INTEGER UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, "
        "tenant_id INTEGER UNSIGNED NOT NULL, token_digest BINARY(32) NOT NULL, title VARCHAR(400) NOT NULL, "
        "note VARCHAR(200) NOT NULL, page MEDIUMBLOB NOT NULL, created_by VARCHAR(320) NOT NULL, "
        "created_at DATETIME(6) NOT NULL, expires_at DATETIME(6) NOT NULL, opened INTEGER UNSIGNED NOT NULL, "
        "opened_at DATETIME(6) NULL, UNIQUE KEY token_digest (token_digest), KEY report_share_tenant (tenant_id), "
        "FOREIGN KEY (tenant_id) REFERENCES tenant (id) ON DELETE CASCADE) "
        "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"
    )
