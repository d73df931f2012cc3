"""`rustgauge shifts`: sudden rises of a rate. `rustgauge keeping`: how long events are kept, how alert shifts are."""

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import percent
from rust_gauge.cli.session import Session


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("shifts", shifts, "rates that rose suddenly at a provider or relay, and why", commands.tables)
    made.add_argument("id", nargs="?", type=positive, help="the number of one, to see what is behind it")
    made.add_argument("--days", type=positive, default=7, help="today and the days before (7)")
    made = commands.add("keeping", keeping, "how long events are kept, and how alert the search for shifts is")
    made.add_argument("--events-days", type=positive, help="drop events after so many days; counters stay")
    made.add_argument("--false-alarms", type=float, help="shifts a year that may be reported although they are none")


def shifts(session: Session) -> int:
    """List them, or show one with what is behind it. Exit status 3 while one goes on."""
    arguments, output = session.arguments, session.output
    tenant, flow = session.tenant(), session.client.flow
    if arguments.id is not None:
        return _show(session, tenant, arguments.id)
    found = flow.shifts(tenant, days=arguments.days)
    rows = [
        (s.id, ("going on", "fault") if s.ended_at is None else "over", s.label, s.rate, percent(s.seen.value),
         percent(s.usual), f"{s.seen.count:,} of {s.seen.total:,}", f"{s.began_at:%Y-%m-%d %H:%M}",
         f"{s.ended_at:%Y-%m-%d %H:%M}" if s.ended_at else "")
        for s in found
    ]  # fmt: skip
    if arguments.format == "text" and not rows:
        output.line(f"No rate has shifted within {arguments.days} days.")
    else:
        heads = ("shift", "state", "at", "rate", "is", "usually", "messages", "began (UTC)", "ended (UTC)")
        output.table(arguments.format, heads, rows, right=(4, 5, 6))
    return 3 if any(s.ended_at is None for s in found) else 0


def _show(session: Session, tenant: str, id: int) -> int:
    output, arguments = session.output, session.arguments
    found = session.client.flow.shift(tenant, id)
    if arguments.format == "json":
        output.json(found)
        return 0
    output.line(f"{found.shift.said}.")
    output.line(f"As long as nothing changes it looks like this once in {_years(found.shift.chance_years)}.")
    output.line()
    rows = [(part.what, part.name, part.count, part.total) for part in found.parts]
    output.table(arguments.format, ("where", "name", "messages", "of"), rows, right=(2, 3))
    if found.causes:
        output.line()
        causes = [(c.cause.replace("_", " "), c.permanent, c.transient) for c in found.causes]
        output.table(arguments.format, ("cause", "permanent", "transient"), causes, right=(1, 2))
    output.line()
    events = [(f"{e.time:%Y-%m-%d %H:%M:%S}", e.recipient, e.diagnostic) for e in found.examples]
    output.table(arguments.format, ("for example (UTC)", "recipient", "reply"), events)
    return 0


def _years(years: float) -> str:
    return f"{years:,.0f} years" if years < 1e6 else "more than a million years"


def keeping(session: Session) -> int:
    """Show or change settings of mail flow."""
    arguments, flow = session.arguments, session.client.flow
    tenant = session.tenant()
    kept = flow.settings(tenant)
    changes = {"keep_events_days": arguments.events_days, "false_alarms_a_year": arguments.false_alarms}
    given = {name: value for name, value in changes.items() if value is not None}
    if given:
        kept = flow.change_settings(tenant, kept.model_copy(update=given))
    session.output.line(
        f"Events are kept for {kept.keep_events_days} days, counters without end. At most "
        f"{kept.false_alarms_a_year:g} a year of the shifts that are reported may be none."
    )
    return 0
