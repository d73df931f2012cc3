"""`rustgauge address`: check addresses before they are mailed, and settings of these checks."""

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun
from rust_gauge.cli.session import Session, read_model
from rust_gauge.contract.checks import AddressCheck, AddressWords

DEFAULT = "check"
EXAMPLES = (
    "address check kim@tidpost.example sales@kestrelbox.example --tenant glasswort",
    "address settings --tenant glasswort",
)
_COLOURS = {"good": "clear", "bad": "held", "doubtful": "risk"}


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("check", check, "check addresses: syntax, domain, kind, your own history", TABLE)
    made.add_argument("address", nargs="+")
    made.add_argument("--probe", action="store_true", help="ask the mail host by SMTP, if the settings allow it")
    made = noun.add("settings", settings, "show the settings of address checks, or set them", DOCUMENT)
    made.add_argument("--set", metavar="FILE", help="set them from a JSON file, as --format json prints them")


def check(session: Session) -> int:
    """Check addresses. Exit status 3 when one is bad."""
    arguments = session.arguments
    found = session.client.addresses.check(session.tenant(), arguments.address, probe=arguments.probe)
    session.output.items(
        arguments.format, found, AddressCheck, ("address", "verdict", "suggestion", "why"),
        lambda c: (c.address, (c.verdict, _COLOURS.get(c.verdict, "dim")), c.suggestion,
                   "; ".join(f.detail for f in c.found)),
    )  # fmt: skip
    return 3 if any(c.verdict == "bad" for c in found) else 0


def settings(session: Session) -> int:
    """Show or set the settings."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    client = session.client.addresses
    if arguments.set:
        client.set_words(tenant, read_model(arguments.set, AddressWords, "rustgauge address settings --format json"))
        output.say("Saved.")
    found = client.words(tenant)

    def text() -> None:
        output.line(f"Role addresses: {len(found.roles):,} added, {len(found.people):,} treated as people")
        output.line(f"Disposable domains: {len(found.throw_away):,}; hosts of parked domains: {len(found.parked):,}")
        probes = f"{found.probes_a_minute} a minute at each provider" if found.probe else "off"
        output.line(f"SMTP probes: {probes}")

    output.document(arguments.format, found, text)
    return 0
