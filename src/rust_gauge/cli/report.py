"""`rustgauge report`: a period in words, or as a page to hand on."""

from rust_gauge.cli.nouns import DOCUMENT, Noun, days_chosen, period_options
from rust_gauge.cli.session import Session, write_bytes

DEFAULT = "show"
EXAMPLES = ("report --tenant copperline", "report show --tenant copperline --days 30 --file report.html")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("show", show, "show the report of a period, compared with the period before", DOCUMENT)
    period_options(made, 7)
    made.add_argument("--file", metavar="FILE", help="write it as an HTML page to this file")
    made = noun.add("send", send, "email the report to the addresses of the alert settings")
    period_options(made, 7)


def show(session: Session) -> int:
    """Show the report, or write it to a file."""
    arguments, output = session.arguments, session.output
    days, last = days_chosen(arguments)
    made = session.client.worklist.report(session.tenant(), days=days, last=last)
    if arguments.file:
        write_bytes(arguments.file, [made.html.encode()])
        output.say(f"{made.title}: written to {arguments.file}")
        return 0
    output.document(arguments.format, made, lambda: output.line(made.text.rstrip()))
    return 0


def send(session: Session) -> int:
    """Email the report."""
    tenant, client = session.tenant(), session.client.worklist
    days, last = days_chosen(session.arguments)
    client.send_report(tenant, days=days, last=last)
    session.output.say(f"Sent to {', '.join(client.settings(tenant).report_to)}.")
    return 0
