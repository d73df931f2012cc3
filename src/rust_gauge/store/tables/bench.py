"""Trays and the messages that they caught."""

from sqlalchemy import BINARY, JSON, Column, ForeignKey, Index, String, UniqueConstraint
from sqlalchemy.dialects.mysql import DOUBLE, INTEGER, LONGBLOB, MEDIUMBLOB, SMALLINT

from rust_gauge.store.tables.base import Big, Id, Small, Time, table

_Count = INTEGER(unsigned=True)


def _message_id() -> Column[int]:
    """Return the column that names a caught message: the key, or a part of it."""
    there = ForeignKey("caught_message.id", ondelete="CASCADE")
    return Column("message_id", Big, there, primary_key=True, autoincrement=False)


tray = table(
    "tray",
    Column("id", Id, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("name", String(40), nullable=False),
    Column("title", String(120), nullable=False),
    Column("address_key", String(60), nullable=False, unique=True),
    Column("smtp_user", String(60), nullable=False, unique=True),
    Column("password_digest", BINARY(32), nullable=False),
    Column("rotated_at", Time, nullable=False),
    Column("keep_days", _Count, nullable=False),
    Column("keep_messages", _Count, nullable=False),
    Column("max_bytes", _Count, nullable=False),
    Column("sending_ip", String(45), nullable=False),
    Column("series_header", String(80), nullable=False),
    Column("receiver", JSON, nullable=False),
    Column("created_at", Time, nullable=False),
    UniqueConstraint("tenant_id", "name", name="tray_name"),
)

# What lists show; what only one opened message needs is beside it.
caught_message = table(
    "caught_message",
    Column("id", Big, primary_key=True, autoincrement=True),
    Column("tenant_id", Id, ForeignKey("tenant.id", ondelete="CASCADE"), nullable=False),
    Column("tray_id", Id, ForeignKey("tray.id", ondelete="CASCADE"), nullable=False),
    Column("arrived_at", Time, nullable=False),
    Column("via", String(10), nullable=False),
    Column("mail_from", String(320), nullable=False),
    Column("helo", String(255), nullable=False),
    Column("client_ip", String(45), nullable=False),
    Column("tls", String(20), nullable=False),
    Column("recipients", JSON, nullable=False),
    Column("subject", String(500), nullable=False),
    Column("header_from", String(320), nullable=False),
    Column("message_id", String(500), nullable=False),
    Column("series", String(200), nullable=False),
    Column("size", _Count, nullable=False),
    Column("state", String(10), nullable=False),
    Column("attempts", Small, nullable=False),
    Column("claimed_at", Time, nullable=True),
    Column("mark", DOUBLE(asdecimal=False), nullable=True),
    Column("worst", String(10), nullable=True),
    Column("points", JSON, nullable=True),
    Index("caught_tray", "tray_id", "id", "size"),
    Index("caught_series", "tray_id", "series", "id"),
    Index("caught_state", "state", "id"),
)

caught_detail = table(
    "caught_detail",
    _message_id(),
    Column("conversation", MEDIUMBLOB, nullable=False),
    Column("assay", LONGBLOB, nullable=True),
)

caught_recipient = table(
    "caught_recipient",
    Column("tray_id", Id, primary_key=True, autoincrement=False),
    Column("recipient", String(320), primary_key=True),
    _message_id(),
)

# The octets, in pieces that any server takes (`max_allowed_packet`).
caught_piece = table(
    "caught_piece",
    _message_id(),
    Column("number", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    Column("octets", MEDIUMBLOB, nullable=False),
)

tray_greylist = table(
    "tray_greylist",
    Column("tray_id", Id, ForeignKey("tray.id", ondelete="CASCADE"), primary_key=True, autoincrement=False),
    Column("digest", BINARY(16), primary_key=True),
    Column("first_at", Time, nullable=False),
)
