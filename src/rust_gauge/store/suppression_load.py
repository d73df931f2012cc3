"""Many entries of the suppression list at once, for imports."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import NamedTuple

from sqlalchemy import Connection

from rust_gauge.core.suppression import Change, Scope, State
from rust_gauge.store.bulk import literal
from rust_gauge.store.bulk_load import LINE, SPECIAL, Loaded, escape, load_rows
from rust_gauge.store.suppression import naive


class LoadedEntry(NamedTuple):
    """An entry that an import adds. Times as the store writes them; `until` is NULL_TEXT for no end."""

    key: bytes
    reason: int
    number: int
    address: str
    mail_domain: str
    provider_id: int
    since: str
    until: str
    note: str
    scope: int
    scope_id: int


NULL_TEXT = r"\N"
COLUMNS = (
    "address_key, reason, scope, scope_id, number, address, mail_domain, provider_id, stream_id, since, until, note"
)
_PACKET = 5000  # entries
_STREAM = Scope.STREAM.number


def load_entries(
    connection: Connection, tenant_id: int, entries: Iterable[LoadedEntry], *, at: datetime, by: str
) -> Loaded:  # fmt: skip
    """Add entries that are not there yet; those that are, whatever they say, are left out and counted as skipped.

    The list has to be locked.
    """
    moment = literal(naive(at))
    shared = (
        f"tenant_id = {tenant_id}, state = {State.HELD.number}, ended_at = NULL, times = 1, returns = 0, "
        f"made_at = {moment}, `change` = {Change.MADE.number}, changed_at = {moment}, changed_by = {literal(by)}, "
        "origin = 'import', evidence = '[]'"
    )
    packets = _packets(entries)
    return load_rows(connection, "suppression_entry", COLUMNS, shared, packets)


def _packets(entries: Iterable[LoadedEntry]) -> Iterator[bytes]:
    lines: list[bytes] = []
    for key, reason, number, address, domain, provider_id, since, until, note, scope, scope_id in entries:
        stream_id = scope_id if scope == _STREAM else 0
        if "\\" in address:
            address = address.replace("\\", "\\\\")
        text = (
            f"{reason}\x1f{scope}\x1f{scope_id}\x1f{number}\x1f{address}\x1f{domain}\x1f{provider_id}\x1f{stream_id}"
            f"\x1f{since}\x1f{until}\x1f"
        )
        if SPECIAL.search(key):
            key = escape(key)
        kept = escape(note.encode("utf-8", "replace")) if note else b""
        lines.append(b"%b\x1f%b%b" % (key, text.encode("utf-8", "surrogatepass"), kept))
        if len(lines) == _PACKET:
            yield LINE.join(lines) + LINE
            lines = []
    if lines:
        yield LINE.join(lines) + LINE
