"""`rustgauge flow`: deliveries, bounces, delays and complaints by provider; causes, replies, shifts."""

from datetime import date, timedelta

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import (
    DOCUMENT,
    TABLE,
    Noun,
    mail_chosen,
    mail_options,
    number_id,
    pair,
    period_chosen,
    period_options,
    positive,
)
from rust_gauge.cli.output import percent
from rust_gauge.cli.session import Session
from rust_gauge.contract.flow import CauseSeries, FlowRow, Provider, Rate, ReplyPattern, Shift, ShiftDetails

DEFAULT = "show"
EXAMPLES = (
    "flow --domain news.glasswort.example --days 14",
    "flow causes --domain news.glasswort.example",
    "flow compare --stream newsletter --with stream=bookings --days 30 --tenant glasswort",
)
_PARTS = ("domain", "stream", "relay", "ip", "campaign", "tag")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("show", show, "show mail flow by mailbox provider, beside the period before", TABLE)
    mail_options(made)
    period_options(made, 7)
    made = noun.add("days", days, "show mail flow day by day", ("text", "json", "csv"))
    mail_options(made)
    period_options(made, 7)
    made = noun.add("compare", compare, "compare two parts of the mail", DOCUMENT)
    mail_options(made)
    made.add_argument("--with", dest="other", type=pair, required=True, metavar="WHAT=NAME",
                      help="the other part, such as campaign=spring-b")  # fmt: skip
    period_options(made, 7)
    made = noun.add("causes", causes, "show why mail bounced or was delayed, with a reply of each cause", TABLE)
    mail_options(made)
    period_options(made, 7)
    made = noun.add("replies", replies, "show reply patterns, the most frequent first", TABLE)
    made.add_argument("--cause", help="only this cause; unclassified for replies that no rule covers")
    made.add_argument("--limit", type=positive, default=50, help="this many (50)")
    period_options(made, 7)
    made = noun.add("shifts", shifts, "list rates that rose suddenly at a provider or relay", TABLE)
    period_options(made, 7)
    made = noun.add("shift", shift, "show the details of a shift", DOCUMENT)
    made.add_argument("shift", type=number_id)
    noun.add("names", names, "list the streams, relays, IPs, campaigns and tags of events", DOCUMENT)
    noun.add("providers", providers, "list mailbox providers and your names for them", TABLE)
    made = noun.add("rename-provider", rename, "give a mailbox provider a name of your own")
    made.add_argument("provider", help="the registered domain of its MX")
    made.add_argument("label", help="its name; an empty text removes it")
    made = noun.add("settings", settings, "show or set retention and the sensitivity of shift detection", DOCUMENT)
    made.add_argument("--retention-days", type=positive, help="delete events after this many days; counters stay")
    made.add_argument("--false-alarms", type=float, metavar="N", help="tolerated false shifts per year")


def show(session: Session) -> int:
    """Show mail flow."""
    arguments, output = session.arguments, session.output
    first, last = period_chosen(arguments)
    result = session.client.flow.show(
        session.tenant(arguments.domain), **mail_chosen(arguments), first=first, last=last
    )
    if arguments.format == "json":
        output.json(result)
        return 0
    columns = ("provider", "accepted", "delivered", "permanent bounces", "transient bounces", "delayed", "median",
               "95 % within", "complaints", "unsubscribes", "delivered before")  # fmt: skip
    output.items(arguments.format, [*result.providers, result.total], FlowRow, columns, _row, right=range(1, 11))
    if arguments.format == "text":
        if result.causes:
            output.line()
            rows = [(c.cause.replace("_", " "), f"{c.permanent:,}", f"{c.transient:,}") for c in result.causes]
            output.table(("cause", "permanent", "transient"), rows, right=(1, 2))
        output.say(f"{result.domain or result.tenant}, {result.first_day} to {result.last_day} (UTC). Rates with their "
                   "counts and 95 % interval; before: the period of the same length before.")  # fmt: skip
    return 0


def days(session: Session) -> int:
    """Show counts of each day and provider."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    found = session.client.flow.days(session.tenant(arguments.domain), **mail_chosen(arguments), first=first, last=last)
    if arguments.format == "json":
        session.output.json(found)
        return 0
    names = ("delivered", "permanent", "transient", "delayed", "complained", "unsubscribed")
    rows = [
        (f"{first + timedelta(days=number)}", series.label, *(getattr(series, name)[number] for name in names))
        for number in range((last - first).days + 1)
        for series in found.series
    ]
    session.output.rows(arguments.format, ("day", "provider", *names), rows, right=range(2, 8))
    return 0


def compare(session: Session) -> int:
    """Compare two parts of the mail."""
    arguments, output = session.arguments, session.output
    kind, name = arguments.other
    if kind not in _PARTS:
        raise UsageError(f"--with {kind}={name}: compare by {', '.join(_PARTS)}")
    first, last = period_chosen(arguments)
    other = {f"other_{kind}": name}
    found = session.client.flow.compare(
        session.tenant(arguments.domain), **mail_chosen(arguments), **other, first=first, last=last
    )

    def text() -> None:
        rows = [
            (r.name, _interval(r.first), _interval(r.second),
             "" if r.low is None or r.high is None else f"{_points(r.low)} to {_points(r.high)}", r.summary)
            for r in found.rates
        ]  # fmt: skip
        output.table(("rate", found.first, found.second, "difference, points", "result"), rows)
        output.say(f"{found.first_day} to {found.last_day} (UTC).")

    output.document(arguments.format, found, text)
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
    """Show causes by provider; new ones are marked."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    found = session.client.flow.causes(
        session.tenant(arguments.domain), **mail_chosen(arguments), first=first, last=last
    )
    session.output.items(
        arguments.format, found.rows, CauseSeries,
        ("provider", "cause", "", "bounced", "delayed", "before", "example"),
        lambda r: (r.label, r.cause.replace("_", " "), ("new", "risk") if r.is_new else "", r.bounced, r.delayed,
                   r.before, r.example),
        right=(3, 4, 5), empty="Nothing bounced or was delayed.",
    )  # fmt: skip
    return 0


def replies(session: Session) -> int:
    """Show reply patterns."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    found = session.client.flow.reply_patterns(
        session.tenant(), first=first, last=last, cause=arguments.cause, limit=arguments.limit
    )
    session.output.items(
        arguments.format, found, ReplyPattern, ("count", "cause", "at", "pattern"),
        lambda r: (r.count, r.cause.replace("_", " "), ", ".join(r.providers), r.pattern), right=(0,),
        empty="No replies in this period.",
    )  # fmt: skip
    return 0


def shifts(session: Session) -> int:
    """List shifts. Exit status 3 while one continues."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    today = date.today()
    found = [s for s in session.client.flow.shifts(session.tenant(), days=(max(today, last) - first).days + 1)
             if s.began_at.date() <= last]  # fmt: skip
    session.output.items(
        arguments.format, found, Shift,
        ("shift", "state", "at", "rate of", "rate", "usual", "events", "messages", "began (UTC)", "ended (UTC)"),
        lambda s: (
            s.id, ("continues", "fault") if s.ended_at is None else "over", s.label, s.rate, percent(s.seen.value),
            percent(s.usual), f"{s.seen.count:,}", f"{s.seen.total:,}", f"{s.began_at:%Y-%m-%d %H:%M}",
            f"{s.ended_at:%Y-%m-%d %H:%M}" if s.ended_at else "",
        ),
        right=(0, 4, 5, 6, 7), empty=f"No rate rose suddenly from {first} to {last}.",
    )  # fmt: skip
    return 3 if any(s.ended_at is None for s in found) else 0


def shift(session: Session) -> int:
    """Show what is behind a shift."""
    arguments, output = session.arguments, session.output
    found = session.client.flow.shift(session.tenant(), arguments.shift)
    output.document(arguments.format, found, lambda: _show_shift(session, found))
    return 0


def _show_shift(session: Session, found: ShiftDetails) -> None:
    output = session.output
    years = found.shift.chance_years
    output.line(f"{found.shift.summary}.")
    often = f"{years:,.0f} years" if years < 1e6 else "more than a million years"
    output.line(f"Without a change, this would be seen by chance once in {often}.")
    output.line()
    output.table(("part", "name", "events", "messages"), [(p.what, p.name, p.count, p.total) for p in found.parts],
                 right=(2, 3))  # fmt: skip
    if found.causes:
        output.line()
        rows = [(c.cause.replace("_", " "), c.permanent, c.transient) for c in found.causes]
        output.table(("cause", "permanent", "transient"), rows, right=(1, 2))
    output.line()
    events = [(f"{e.time:%Y-%m-%d %H:%M:%S}", e.recipient, e.diagnostic) for e in found.examples]
    output.table(("example (UTC)", "recipient", "reply"), events)


def names(session: Session) -> int:
    """List the names by which mail can be chosen."""
    found = session.client.flow.names(session.tenant())
    kinds = (("stream", found.streams), ("relay", found.relays), ("ip", found.ips), ("campaign", found.campaigns),
             ("tag", found.tags))  # fmt: skip
    rows = [(kind, name or "(unnamed)") for kind, known in kinds for name in known]
    session.output.document(session.arguments.format, found, lambda: session.output.table(("kind", "name"), rows))
    return 0


def providers(session: Session) -> int:
    """List providers."""
    session.output.items(
        session.arguments.format, session.client.flow.providers(session.tenant()), Provider, ("provider", "your name"),
        lambda p: (p.provider, p.label if p.named else ""), empty="No mail to any provider yet.",
    )  # fmt: skip
    return 0


def rename(session: Session) -> int:
    """Rename a provider."""
    arguments = session.arguments
    made = session.client.flow.rename_provider(session.tenant(), arguments.provider, arguments.label)
    session.output.say(f"{made.provider} is shown as {made.label}.")
    return 0


def settings(session: Session) -> int:
    """Show or change settings."""
    arguments, output = session.arguments, session.output
    flow, tenant = session.client.flow, session.tenant()
    found = flow.settings(tenant)
    changes = {"keep_events_days": arguments.retention_days, "false_alarms_a_year": arguments.false_alarms}
    given = {name: value for name, value in changes.items() if value is not None}
    if given:
        found = flow.set_settings(tenant, found.model_copy(update=given))
        output.say("Saved.")

    def text() -> None:
        output.line(f"Retention of events: {found.keep_events_days} days; counters are kept")
        output.line(f"Tolerated false shifts: {found.false_alarms_a_year:g} a year")

    output.document(arguments.format, found, text)
    return 0


def _number(number: int) -> str:
    return f"{number:,}"


def _row(row: FlowRow) -> tuple[object, ...]:
    complaints: object = _interval(row.complaints) if row.reports_complaints else "not reported"
    return (
        row.label,
        _number(row.counts.accepted),
        _number(row.counts.delivered),
        _interval(row.permanent),
        _interval(row.transient),
        _interval(row.delayed),
        _seconds(row.seconds_p50),
        _seconds(row.seconds_p95),
        complaints,
        _interval(row.unsubscribed),
        _number(row.before.delivered),
    )


def _interval(rate: Rate | None) -> str:
    if rate is None:
        return ""
    low, high = percent(rate.low).removesuffix(" %"), percent(rate.high).removesuffix(" %")
    return f"{rate.count:,}/{rate.total:,} {percent(rate.value)} ({low}-{high})"
