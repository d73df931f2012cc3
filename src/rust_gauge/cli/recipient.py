"""`rustgauge recipient`: the data stored about one recipient: show, export, erase."""

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, reason_option
from rust_gauge.cli.session import Session
from rust_gauge.contract.recipients import Erasure, ErasureRequest

DEFAULT = "show"
EXAMPLES = (
    "recipient show kim@tidepost.example --tenant glasswort",
    "recipient erasures --tenant glasswort",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("show", show, "show all data of a recipient; --format json exports it", DOCUMENT)
    made.add_argument("address")
    made = noun.add("erase", erase, "erase a recipient from events, lists and logs; cannot be undone")
    made.add_argument("address")
    made.add_argument("--may-be-mailed-again", action="store_true", help="remove suppression entries as well")
    reason_option(made, "recorded with the erasure, such as a ticket number")
    confirm_option(made)
    noun.add("erasures", erasures, "list erasures", TABLE)


def show(session: Session) -> int:
    """Show what is stored."""
    arguments, output = session.arguments, session.output
    found = session.client.recipients.data(session.tenant(), arguments.address)

    def text() -> None:
        output.line(
            f"{found.address}: {len(found.events):,} events, {len(found.entries):,} suppression entries, "
            f"{len(found.rejected):,} rejected rows, {len(found.caught):,} test messages in trays"
        )
        events = [
            (f"{e.time:%Y-%m-%d %H:%M:%S}", e.kind, e.domain, e.stream, e.message_id, e.diagnostic)
            for e in found.events
        ]
        output.table(("time (UTC)", "kind", "domain", "stream", "message", "reply"), events)
        for change in found.changes:
            output.line(f"{change.at:%Y-%m-%d %H:%M} {change.change}: {change.reason}, by {change.by}")

    output.document(arguments.format, found, text)
    return 0


def erase(session: Session) -> int:
    """Erase a recipient."""
    arguments = session.arguments
    if not session.confirm(f"Erase all data of {arguments.address}? This cannot be undone."):
        return 3
    request = ErasureRequest.model_construct(
        address=arguments.address, reason=arguments.reason, may_be_mailed_again=arguments.may_be_mailed_again
    )
    done = session.client.recipients.erase(session.tenant(), request)
    others = f"{done.others:,} entries, rejected rows and test messages"
    session.output.say(f"Erased from {done.events:,} events and {others}. Counters stay.")
    return 0


def erasures(session: Session) -> int:
    """List erasures; they do not say whose."""
    session.output.items(
        session.arguments.format, session.client.recipients.erasures(session.tenant()), Erasure,
        ("erased (UTC)", "by", "events", "other rows", "reason"),
        lambda e: (f"{e.erased_at:%Y-%m-%d %H:%M}", e.erased_by, e.events, e.others, e.reason),
        right=(2, 3), empty="No erasures yet.",
    )  # fmt: skip
    return 0
