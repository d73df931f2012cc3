"""`rustgauge search`: everything that has a name, over all tenants."""

from rust_gauge.cli.nouns import TABLE, Noun, positive
from rust_gauge.cli.session import Session
from rust_gauge.contract.search import Found

DEFAULT = "find"
EXAMPLES = (
    "search boxoffice",
    "search kim@tidepost.example",
    "search no such mailbox --each 20",
)
_KINDS = {"sending_ip": "sending IP", "suppressed": "suppression"}


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("find", find, "search names, addresses, message ids, items and replies", TABLE)
    made.add_argument("text", nargs="+", help="part of a name, a whole address or message id, words of a reply")
    made.add_argument("--each", type=positive, default=5, help="at most so many of each kind (5)")


def find(session: Session) -> int:
    """Search everything that has a name."""
    arguments = session.arguments
    text = " ".join(arguments.text)
    found = session.client.search(text, tenant=arguments.tenant, each=arguments.each)
    columns = ("kind", "tenant", "name", "about", "console")
    session.output.items(arguments.format, found.items, Found, columns, _row,
                         empty=f"Nothing fits “{text}”. Recipients and message ids are found by the whole of theirs.",
                         )  # fmt: skip
    if found.more and arguments.format == "text":
        session.output.say(f"There are more: {', '.join(_KINDS.get(kind, kind) for kind in found.more)}. Use --each.")
    return 0


def _row(found: Found) -> tuple[object, ...]:
    return _KINDS.get(found.kind, found.kind), found.tenant, found.name, found.text, found.path
