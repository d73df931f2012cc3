"""Outside verifiers of addresses: what they are, what they said, what they cost; and recipients that just came in."""

from sqlalchemy import BINARY, JSON, Boolean, Column, Date, ForeignKey, Index, String, Text, UniqueConstraint
from sqlalchemy.dialects.mysql import BIGINT, INTEGER, SMALLINT

from rust_gauge.store.tables.base import Big, Id, Small, Time, table

_Count = INTEGER(unsigned=True)
_Micros = BIGINT(unsigned=True)  # millionths of a currency unit


def _tenant() -> Column[int]:
    return Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False)


verifier = table(
    "verifier",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("name", String(40), nullable=False),
    Column("place", SMALLINT(unsigned=True), nullable=False),
    Column("enabled", Boolean, nullable=False),
    Column("settings", JSON, nullable=False),
    Column("secret", Text, nullable=False),
    Column("price", _Micros, nullable=False),
    Column("budget_day", _Micros, nullable=True),
    Column("budget_month", _Micros, nullable=True),
    Column("problem", String(500), nullable=False),
    Column("problem_at", Time, nullable=True),
    Column("answered_at", Time, nullable=True),
    Column("created_at", Time, nullable=False),
    UniqueConstraint("tenant_id", "name", name="verifier_name"),
)

# What was asked and spent on a day; reserved before the question, given back where no answer came.
verifier_day = table(
    "verifier_day",
    Column("verifier_id", Id, ForeignKey("verifier.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("asked", _Count, nullable=False),
    Column("failed", _Count, nullable=False),
    Column("spent", _Micros, nullable=False),
)

# The newest verdict of each verifier on an address. `outcome`: what became of mail after it.
verdict = table(
    "verdict",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("address_key", BINARY(16), primary_key=True),
    Column("verifier_id", Id, ForeignKey("verifier.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("address", String(320), nullable=False),
    Column("verdict", Small, nullable=False),
    Column("word", String(60), nullable=False),
    Column("detail", String(300), nullable=False),
    Column("price", _Micros, nullable=False),
    Column("asked_at", Time, nullable=False),
    Column("outcome", Small, nullable=True),
    Column("outcome_at", Time, nullable=True),
    Index("verdict_asked", "tenant_id", "asked_at"),
    Index("verdict_open", "tenant_id", "outcome", "asked_at"),
)

# How addresses were decided, for the gauge of what was spent and saved.
verification_day = table(
    "verification_day",
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("day", Date, primary_key=True),
    Column("own", _Count, nullable=False),
    Column("reused", _Count, nullable=False),
    Column("paid", _Count, nullable=False),
    Column("unpaid", _Count, nullable=False),
    Column("saved", _Micros, nullable=False),
)

# A way by which new recipients come in, such as a form on a website.
recipient_source = table(
    "recipient_source",
    Column("id", Id, primary_key=True, autoincrement=True),
    _tenant(),
    Column("name", String(40), nullable=False),
    Column("source_key", String(60), nullable=False, unique=True),
    Column("path", String(500), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("last_at", Time, nullable=True),
    UniqueConstraint("tenant_id", "name", name="recipient_source_name"),
)

new_recipient = table(
    "new_recipient",
    Column("id", Big, primary_key=True, autoincrement=True),
    _tenant(),
    Column("address_key", BINARY(16), nullable=False),
    Column("address", String(320), nullable=False),
    Column("source", String(40), nullable=False),
    Column("came_at", Time, nullable=False),
    Column("checked_at", Time, nullable=True),
    Column("verdict", Small, nullable=True),
    Column("found", JSON, nullable=False),
    Index("new_recipient_tenant", "tenant_id", "id"),
    Index("new_recipient_open", "tenant_id", "checked_at"),
    Index("new_recipient_key", "tenant_id", "address_key"),
)
