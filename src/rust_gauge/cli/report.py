"""`rustgauge report`: a period in words, as a page, by mail or by a link; and the look of the reports."""

from rust_gauge.cli.input_files import read_octets
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, days_chosen, number_id, period_options
from rust_gauge.cli.session import Session, checked, write_bytes
from rust_gauge.contract.client_reports import LOGO_MOST, NewReportShare, ReportShare, ReportStyle, ReportStyleShown

DEFAULT = "show"
EXAMPLES = (
    "report --tenant copperline", "report show --tenant copperline --days 30 --file report.html",
    "report share --tenant copperline --days 30 --valid-days 14", "report shares --tenant copperline",
    "report style --tenant copperline --sender 'Skerry Deliverability' --colour '#7A1F4B'",
)  # fmt: skip


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("show", show, "show the report of a period, compared with the period before", DOCUMENT)
    period_options(made, 7)
    made.add_argument("--file", metavar="FILE", help="write it as an HTML page to this file")
    made = noun.add("send", send, "email the report to the addresses of the alert settings")
    period_options(made, 7)
    made = noun.add("share", share, "make a link that opens the report without an account, as it is now", DOCUMENT)
    period_options(made, 7)
    made.add_argument("--valid-days", type=int, default=30, metavar="DAYS", help="days until it expires (default 30)")
    made.add_argument("--note", default="", metavar="TEXT", help="a note for yourself")
    noun.add("shares", shares, "list the links that open a report", TABLE)
    made = noun.add("unshare", unshare, "revoke a link: it opens nothing any more")
    made.add_argument("link", metavar="LINK", type=number_id, help="number of the link, from `report shares`")
    made = noun.add("style", style, "show or change sender, colour, logo and closing text of the reports", DOCUMENT)
    made.add_argument("--sender", metavar="NAME", help="whose report it is, shown at the top")
    made.add_argument("--colour", metavar="#RRGGBB", help="of headings and lines; dark enough to be read on white")
    made.add_argument("--closing", metavar="TEXT", help="text at the end")
    logo = made.add_mutually_exclusive_group()
    logo.add_argument("--logo", metavar="FILE", help="upload a logo, PNG or JPEG")
    logo.add_argument("--no-logo", action="store_true", help="delete the logo")


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


def share(session: Session) -> int:
    """Make a link to the report."""
    arguments, output = session.arguments, session.output
    days, last = days_chosen(arguments)
    new = checked(
        lambda: NewReportShare(days=days, last=last, valid_days=arguments.valid_days, note=arguments.note)
    )  # fmt: skip
    made = session.client.worklist.add_report_share(session.tenant(), new)

    def show_link() -> None:
        output.line(made.url)
        output.say(
            f"Valid until {made.expires_at:%Y-%m-%d %H:%M} UTC. It is shown only now; whoever has it sees the report "
            "as it is now."
        )

    output.document(arguments.format, made, show_link)
    return 0


def shares(session: Session) -> int:
    """List the links."""
    session.output.items(
        session.arguments.format, session.client.worklist.report_shares(session.tenant()), ReportShare,
        ("link", "report", "made (UTC)", "by", "valid until", "opened", "note"),
        lambda s: (s.id, s.title, f"{s.created_at:%Y-%m-%d %H:%M}", s.created_by, f"{s.expires_at:%Y-%m-%d %H:%M}",
                   s.opened, s.note),
        right=(0, 5), empty="No links to reports. Make one: rustgauge report share",
    )  # fmt: skip
    return 0


def unshare(session: Session) -> int:
    """Revoke a link."""
    session.client.worklist.delete_report_share(session.tenant(), session.arguments.link)
    session.output.say(f"Link {session.arguments.link} opens nothing any more.")
    return 0


def style(session: Session) -> int:
    """Show or change the look."""
    arguments, output, client = session.arguments, session.output, session.client.worklist
    tenant = session.tenant()
    wanted = {name: getattr(arguments, name) for name in ("sender", "colour", "closing")}
    changes = {name: value for name, value in wanted.items() if value is not None}
    found = client.report_style(tenant)
    if changes:
        kept = found.model_dump(exclude={"logo"})
        found = client.set_report_style(tenant, checked(lambda: ReportStyle(**{**kept, **changes})))
    if arguments.logo:
        found = client.set_report_logo(tenant, read_octets(arguments.logo, LOGO_MOST))
    if arguments.no_logo:
        client.delete_report_logo(tenant)
        found = client.report_style(tenant)
    output.document(arguments.format, found, lambda: _show_style(session, found))
    return 0


def _show_style(session: Session, found: ReportStyleShown) -> None:
    logo = found.logo
    size = f"{logo.width} × {logo.height} pixels, {logo.octets:,} octets" if logo else "none"
    session.output.line(f"Sender   {found.sender or '(the tenant alone)'}")
    session.output.line(f"Colour   {found.colour}")
    session.output.line(f"Logo     {size}")
    session.output.line(f"Closing  {found.closing or 'none'}")
