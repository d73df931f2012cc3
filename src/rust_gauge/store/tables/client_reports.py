"""Reports that were shared by a link."""

from sqlalchemy import BINARY, Column, ForeignKey, Index, String
from sqlalchemy.dialects.mysql import INTEGER, MEDIUMBLOB

from rust_gauge.store.tables.base import Id, Time, table

# `page`: the report as it was when it was shared, HTML, deflated.
report_share = table(
    "report_share",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("token_digest", BINARY(32), nullable=False, unique=True),
    Column("title", String(400), nullable=False),
    Column("note", String(200), nullable=False),
    Column("page", MEDIUMBLOB, nullable=False),
    Column("created_by", String(320), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
    Column("opened", INTEGER(unsigned=True), nullable=False),
    Column("opened_at", Time, nullable=True),
    Index("report_share_tenant", "tenant_id"),
)
