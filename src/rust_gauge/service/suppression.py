"""The suppression list, and "may I mail these?"."""

from datetime import datetime

from sqlalchemy import Connection

from rust_gauge.contract.common import Page
from rust_gauge.contract.suppression import ClearanceAnswer, ClearanceRequest, ClearanceResult, SuppressionEntry
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import Address, address_key, parse_address
from rust_gauge.core.suppression import Clearance, Entry, Reason, judge
from rust_gauge.core.suppression.clearance import no_address
from rust_gauge.service.context import Context
from rust_gauge.service.cursors import read_cursor, write_cursor
from rust_gauge.service.problems import ServiceProblem
from rust_gauge.store import suppression
from rust_gauge.store.accounts import TenantAccess


def answer(context: Context, tenant: TenantAccess, request: ClearanceRequest) -> ClearanceResult:
    """Each address `clear` or `held`, and why. Reads the list as it is now: nothing is cached."""
    now = context.clock()
    parsed: list[Address | AddressError] = []
    for text in request.addresses:
        try:
            parsed.append(parse_address(text))
        except AddressError as error:
            parsed.append(error)
    keys = [address_key(address) for address in parsed if isinstance(address, Address)]

    def work(connection: Connection) -> dict[bytes, list[Entry]]:
        rows = suppression.entries_for(connection, tenant.id, keys)
        return {
            key: [
                Entry(
                    Reason(row.reason),
                    row.since.replace(tzinfo=now.tzinfo),
                    row.until.replace(tzinfo=now.tzinfo) if row.until else None,
                    (row.detail or "")[:200],
                )
                for row in group
            ]
            for key, group in rows.items()
        }

    entries = context.store.transaction(work)
    answers = []
    for text, address in zip(request.addresses, parsed, strict=True):
        if isinstance(address, Address):
            answers.append(_show(judge(text, entries.get(address_key(address), ()), now)))
        else:
            answers.append(_show(no_address(text, address)))
    held = sum(each.verdict == "held" for each in answers)
    return ClearanceResult(clear=len(answers) - held, held=held, answers=answers)


def _show(clearance: Clearance) -> ClearanceAnswer:
    return ClearanceAnswer(
        address=clearance.address,
        verdict="held" if clearance.held else "clear",
        reason=clearance.reason,
        why=clearance.why,
        since=clearance.since,
        until=clearance.until,
    )


def list_entries(
    context: Context, tenant: TenantAccess, address: str | None, cursor: str | None, limit: int
) -> Page[SuppressionEntry]:
    """The list, newest first."""
    position = read_cursor(cursor, str, int)
    try:
        parsed = parse_address(address) if address else None
    except AddressError as error:
        raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None
    try:
        before = (datetime.fromisoformat(position[0]), position[1]) if position else None
    except ValueError:
        raise ServiceProblem("bad-cursor", "This cursor was not made by this list") from None
    rows = context.store.transaction(
        lambda c: suppression.list_entries(c, tenant.id, address=parsed, before=before, limit=limit + 1)
    )
    same = ("id", "address", "reason", "made_by", "since", "until", "times", "evidence")
    items = [SuppressionEntry(**{name: getattr(row, name) for name in same}) for row in rows[:limit]]
    return Page(
        items=items,
        next=write_cursor(rows[limit - 1].since.isoformat(), rows[limit - 1].id) if len(rows) > limit else None,
    )
