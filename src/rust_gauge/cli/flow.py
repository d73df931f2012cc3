"""`rustgauge flow`: mail per mailbox provider."""

from datetime import UTC, date, datetime, timedelta
from typing import Any

from rust_gauge.cli.commands import Commands, positive, which_mail
from rust_gauge.cli.output import percent
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.flow import FlowRow, Rate


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("flow", flow, "mail flow per mailbox provider", commands.tables)
    which_mail(made)
    made.add_argument("--by-day", action="store_true", help="day by day")
    made.add_argument("--versus", metavar="WHAT=NAME", help="beside other mail, such as campaign=spring-b")
    made = commands.add("causes", causes, "why mail bounced or waited, per provider, with replies", commands.tables)
    which_mail(made)
    made = commands.add(
        "replies", wordings, "replies grouped by their fixed part, the most frequent first", commands.tables
    )
    made.add_argument("--cause", help="only these; unclassified for those that no rule knows")
    made.add_argument("--days", type=positive, default=7, help="today and the days before (7)")
    made.add_argument("--limit", type=positive, default=50, help="so many (50)")
    made = commands.add("providers", providers, "mailbox providers, and what you call them", commands.tables)
    made.add_argument("provider", nargs="?", help="one of them, to give it a name")
    made.add_argument("--call", help="its name")


def flow(session: Session) -> int:
    arguments = session.arguments
    today = datetime.now(UTC).date()
    first = today - timedelta(days=arguments.days - 1)
    tenant = session.tenant(arguments.domain)
    if arguments.versus:
        return _versus(session, tenant, first, today)
    if arguments.by_day:
        return _by_day(session, tenant, first, today)
    result = session.client.flow.show(tenant, **_chosen(arguments), first=first, last=today)
    if arguments.format == "json":
        session.output.json(result)
        return 0
    rows = [_row(row, arguments.format) for row in (*result.providers, result.total)]
    columns = ("provider", "accepted", "delivered", "permanent", "transient", "delayed", "p50", "p95", "complaints",
               "unsubscribed", "before")  # fmt: skip
    if arguments.format == "text":
        session.output.line(
            f"{result.domain or result.tenant}, {result.first_day} to {result.last_day} (UTC); "
            "rates with their 95 % interval"
        )
    session.output.table(arguments.format, columns, rows, right=range(1, 11))
    if arguments.format == "text" and result.causes:
        session.output.line()
        causes = [(c.cause.replace("_", " "), f"{c.permanent:,}", f"{c.transient:,}") for c in result.causes]
        session.output.table("text", ("cause", "permanent", "transient"), causes, right=(1, 2))
    return 0


def _by_day(session: Session, tenant: str, first: date, last: date) -> int:
    """Counts of each day and provider."""
    found = session.client.flow.days(tenant, **_chosen(session.arguments), first=first, last=last)
    if session.arguments.format == "json":
        session.output.json(found)
        return 0
    names = ("delivered", "permanent", "transient", "delayed", "complained", "unsubscribed")
    rows = [
        (
            f"{first + timedelta(days=number)}",
            flow_series.label,
            *(getattr(flow_series, name)[number] for name in names),
        )
        for number in range((last - first).days + 1)
        for flow_series in found.series
    ]
    session.output.table(session.arguments.format, ("day", "provider", *names), rows, right=range(2, 8))
    return 0


def _chosen(arguments: Any) -> dict[str, str | None]:
    return {key: getattr(arguments, key) for key in ("domain", "stream", "relay", "ip", "campaign", "tag")}


def _versus(session: Session, tenant: str, first: date, last: date) -> int:
    """Two parts of the mail beside each other."""
    arguments, output = session.arguments, session.output
    kind, equals, name = arguments.versus.partition("=")
    if not equals or kind not in ("domain", "stream", "relay", "ip", "campaign", "tag"):
        raise UsageError("Compare with what? Write --versus campaign=NAME, or domain, stream, relay, ip, tag")
    other = {f"other_{kind}": name}
    found = session.client.flow.compare(tenant, **_chosen(arguments), **other, first=first, last=last)
    if arguments.format == "json":
        output.json(found)
        return 0
    rows = [
        (row.name, _interval(row.first), _interval(row.second),
         "" if row.low is None or row.high is None else f"{_points(row.low)} to {_points(row.high)}", row.said)
        for row in found.rates
    ]  # fmt: skip
    output.table(arguments.format, ("", found.first, found.second, "difference, points", "which"), rows)
    return 0


def _points(share: float) -> str:
    return f"{share * 100:+.2f}"


def _seconds(seconds: float | None) -> str:
    if seconds is None:
        return ""
    return (
        f"{seconds:.1f} s"
        if seconds < 90
        else f"{seconds / 60:.0f} min"
        if seconds < 5400
        else f"{seconds / 3600:.1f} h"
    )


def causes(session: Session) -> int:
    """Causes per provider, with a reply of each. What is new is marked."""
    arguments = session.arguments
    today = datetime.now(UTC).date()
    first = today - timedelta(days=arguments.days - 1)
    found = session.client.flow.causes(session.tenant(arguments.domain), **_chosen(arguments), first=first, last=today)
    rows = [
        (row.label, row.cause.replace("_", " "), ("new", "risk") if row.is_new else "", row.bounced, row.delayed,
         row.before, row.example if arguments.format != "text" else row.example[:90])
        for row in found.rows
    ]  # fmt: skip
    heads = ("provider", "cause", "", "bounced", "delayed", "before", "for example")
    session.output.table(arguments.format, heads, rows, right=(3, 4, 5))
    return 0


def wordings(session: Session) -> int:
    """Replies grouped by their fixed part."""
    arguments = session.arguments
    today = datetime.now(UTC).date()
    found = session.client.flow.wordings(
        session.tenant(), first=today - timedelta(days=arguments.days - 1), last=today, cause=arguments.cause,
        limit=arguments.limit,
    )  # fmt: skip
    rows = [(row.count, row.cause.replace("_", " "), ", ".join(row.providers), row.wording) for row in found]
    session.output.table(arguments.format, ("times", "cause", "at", "wording"), rows, right=(0,))
    return 0


def providers(session: Session) -> int:
    """List the providers that mail goes to, or give one a name."""
    arguments = session.arguments
    tenant, reader = session.tenant(), session.client.flow
    if arguments.provider is None:
        rows = [(provider.provider, provider.label if provider.named else "") for provider in reader.providers(tenant)]
        session.output.table(arguments.format, ("provider", "called"), rows)
        return 0
    if arguments.call is None:
        raise UsageError("What should it be called? Give --call NAME, or --call '' to take the name back")
    named = reader.name_provider(tenant, arguments.provider, arguments.call)
    session.output.line(f"{named.provider} is called {named.label}.")
    return 0


def _row(row: FlowRow, form: str) -> tuple[object, ...]:
    shown = _interval if form == "text" else lambda rate: rate.value if rate else None
    complaints: object = shown(row.complaints) if row.reports_complaints else "does not report"
    number = (lambda n: f"{n:,}") if form == "text" else (lambda n: n)
    return (
        row.label,
        number(row.counts.accepted),
        number(row.counts.delivered),
        shown(row.permanent),
        shown(row.transient),
        shown(row.delayed),
        _seconds(row.seconds_p50) if form == "text" else row.seconds_p50,
        _seconds(row.seconds_p95) if form == "text" else row.seconds_p95,
        complaints,
        shown(row.unsubscribed),
        number(row.before.delivered),
    )


def _interval(rate: Rate | None) -> str:
    if rate is None:
        return ""
    low, high = percent(rate.low).removesuffix(" %"), percent(rate.high).removesuffix(" %")
    return f"{percent(rate.value)} ({low}-{high})"
