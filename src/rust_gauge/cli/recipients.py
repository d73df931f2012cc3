"""`rustgauge person`: all that is kept of one recipient, and its erasure."""

from rust_gauge.cli.commands import Commands
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.recipients import ErasureRequest


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("person", person, "all that is kept of one recipient, and its erasure", commands.tables)
    made.add_argument("address", nargs="?", help="without it: the erasures there were")
    made.add_argument("--erase", action="store_true", help="take the recipient out of everything, for good")
    made.add_argument("--reason", default="", help="why; kept with the erasure")
    made.add_argument("--may-be-mailed-again", action="store_true", help="drop the suppression entries, too")


def person(session: Session) -> int:
    """Show or write out what is kept; erase it. Without an address: the erasures there were."""
    arguments, output = session.arguments, session.output
    tenant, client = session.tenant(), session.client.recipients
    if arguments.address is None:
        rows = [
            (f"{e.erased_at:%Y-%m-%d %H:%M}", e.erased_by, e.events, e.others, e.reason)
            for e in client.erasures(tenant)
        ]
        heads = ("erased (UTC)", "by", "events", "others", "reason")
        output.table(arguments.format, heads, rows, right=(2, 3))
        return 0
    if arguments.erase:
        if not arguments.reason:
            raise UsageError("Why? An erasure is for good; write --reason, such as a ticket's number")
        request = ErasureRequest.model_construct(
            address=arguments.address, reason=arguments.reason, may_be_mailed_again=arguments.may_be_mailed_again
        )
        done = client.erase(tenant, request)
        output.line(f"Erased from {done.events:,} events and {done.others:,} entries and refused rows. Counters stay.")
        return 0
    found = client.data(tenant, arguments.address)
    if arguments.format in ("json", "ndjson"):
        output.json(found)
        return 0
    output.line(
        f"{found.address}: {len(found.events):,} events, {len(found.entries):,} suppression entries, "
        f"{len(found.refused):,} refused rows."
    )
    events = [
        (f"{e.time:%Y-%m-%d %H:%M:%S}", e.kind, e.domain, e.stream, e.message_id, e.diagnostic) for e in found.events
    ]
    output.table(arguments.format, ("time (UTC)", "kind", "domain", "stream", "message", "reply"), events)
    for change in found.changes:
        output.line(f"{change.at:%Y-%m-%d %H:%M} {change.change}: {change.reason}, by {change.by}")
    return 0
