"""`rustgauge flow`: mail per mailbox provider."""

from datetime import UTC, datetime, timedelta

from rust_gauge.cli.output import percent
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.flow import FlowRow, Rate


def flow(session: Session) -> int:
    arguments = session.arguments
    today = datetime.now(UTC).date()
    first = today - timedelta(days=arguments.days - 1)
    result = session.client.flow.show(
        session.tenant(arguments.domain), domain=arguments.domain, first=first, last=today
    )
    if arguments.format == "json":
        session.output.json(result)
        return 0
    rows = [_row(row, arguments.format) for row in (*result.providers, result.total)]
    columns = ("provider", "accepted", "delivered", "permanent", "transient", "delayed", "complaints", "before")
    if arguments.format == "text":
        session.output.line(
            f"{result.domain or result.tenant}, {result.first_day} to {result.last_day} (UTC); "
            "rates with their 95 % interval"
        )
    session.output.table(arguments.format, columns, rows, right=range(1, 8))
    if arguments.format == "text" and result.causes:
        session.output.line()
        causes = [(c.cause.replace("_", " "), f"{c.permanent:,}", f"{c.transient:,}") for c in result.causes]
        session.output.table("text", ("cause", "permanent", "transient"), causes, right=(1, 2))
    return 0


def providers(session: Session) -> int:
    """List the providers that mail goes to, or give one a name."""
    arguments = session.arguments
    tenant, reader = session.tenant(), session.client.flow
    if arguments.provider is None:
        rows = [(each.provider, each.label if each.named else "") for each in reader.providers(tenant)]
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
        complaints,
        number(row.before.delivered),
    )


def _interval(rate: Rate | None) -> str:
    if rate is None:
        return ""
    low, high = percent(rate.low).removesuffix(" %"), percent(rate.high).removesuffix(" %")
    return f"{percent(rate.value)} ({low}-{high})"
