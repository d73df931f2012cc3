"""`rustgauge reading` and `rustgauge wall`: readings, what changed them, forecasts, headroom, annotations, settings."""

import argparse
import shlex
from datetime import UTC, date, datetime

from rust_gauge.cli import jobs_wait
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import (
    DOCUMENT,
    SUBJECTS,
    TABLE,
    Noun,
    confirm_option,
    day,
    number_id,
    pair,
    period_chosen,
    period_options,
    positive,
)
from rust_gauge.cli.output import MARKS, percent, plate, plural
from rust_gauge.cli.session import Session, checked, read_model
from rust_gauge.contract.readings import (
    Annotation,
    Explanation,
    FactorMove,
    FactorShown,
    ForecastRequest,
    Headroom,
    Move,
    NewAnnotation,
    Pull,
    Reading,
    ReadingChange,
    ReadingSeries,
    ReadingSettings,
    ReadingSettingsView,
    Wall,
)

DEFAULT = "show"
EXAMPLES = (
    "reading news.glasswort.example --days 14",
    "reading explain news.glasswort.example --since 2026-11-20",
    "reading forecast news.glasswort.example --volume 0.5",
    "wall --subject stream",
)
_SHOWN = 0.1  # points of a change at one provider
_ROWS, _PAGE = 500, 1000  # of the wall: shown in a terminal, and fetched at once
_WIDEST = 14  # characters of a provider's name at the head of its column


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("wall", wall, "show all domains by mailbox provider", ("text", "json", "csv"))
    made.add_argument("--subject", choices=SUBJECTS, default="domain", help="what the rows are (domain)")
    made.add_argument("--search", default="", metavar="TEXT", help="only names that contain this")
    made.add_argument("--condition", choices=list(MARKS), help="only subjects in this condition over all providers")
    made.add_argument("--order", choices=("name", "worst", "delivered"), default="name",
                      help="worst: lowest reading first (name)")  # fmt: skip
    made.add_argument("--limit", type=positive, help="rows (500; all in csv and json)")
    period_options(made, 7)
    made = _of_subject(noun, "show", show, "show readings day by day", TABLE)
    _provider(made)
    period_options(made, 14)
    made = _of_subject(noun, "explain", explain, "explain the difference between two days", DOCUMENT)
    _provider(made)
    period_options(made, 8)
    made = _of_subject(noun, "forecast", forecast, "forecast readings, with and without a change", DOCUMENT)
    _provider(made)
    made.add_argument("--days", type=positive, default=21, help="days to come (21)")
    made.add_argument("--volume", type=float, default=1.0, help="share of today's mail: 0.5 is half")
    made.add_argument("--remains", action="append", type=pair, default=[], metavar="FACTOR=SHARE",
                      help="share of a factor's events that remains, such as authentication=0; repeatable")  # fmt: skip
    _of_subject(noun, "headroom", headroom, "how many more bounces or complaints until a line", TABLE)
    made = noun.add(
        "annotations", annotations, "list what happened: annotations, record changes, shifts, outages", TABLE
    )
    made.add_argument("--domain", help="only what concerns this domain")
    period_options(made, 30)
    made = noun.add("annotate", annotate, "add an annotation to the time axis")
    made.add_argument("text")
    made.add_argument("--domain", default="", help="the domain that it concerns (all)")
    made.add_argument("--on", type=day, metavar="DAY", help="its day (today)")
    made = noun.add("remove-annotation", remove_annotation, "remove an annotation")
    made.add_argument("annotation", type=number_id)
    confirm_option(made)
    made = noun.add("settings", settings, "show the parameters of readings, or set them", TABLE)
    either = made.add_mutually_exclusive_group()
    either.add_argument(
        "--set", metavar="FILE", help='set them from a JSON file: {"factors": {"delays": {"weight": 0.5}}}'
    )
    either.add_argument("--reset", action="store_true", help="go back to the default parameters")
    either.add_argument(
        "--last-change", action="store_true",
        help="each domain's reading before and after the last change of the arithmetic or of the parameters",
    )  # fmt: skip


def _of_subject(noun: Noun, *words: object) -> argparse.ArgumentParser:
    made = noun.add(*words)  # type: ignore[arg-type]
    made.add_argument("name", help="a domain, or the name of a stream, relay or IP")
    made.add_argument("--subject", choices=SUBJECTS, default="domain", help="what the name is of (domain)")
    return made


def _provider(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--provider", help="only at this mailbox provider")


def measured(value: float | None, unit: str) -> str:
    """Return a measure with its unit."""
    if value is None:
        return "not measured"
    if unit == "doublings":
        return f"{2**value:.1f} times the usual week"
    if unit == "faults":
        return plural(round(value), "fault")
    return f"{100 / value:.0f} % of usual opens" if unit == "times" and value else percent(value)


def factor_name(name: str) -> str:
    """Return a factor's name as people read it."""
    return name.replace("_", " ")


def _lines(pull: Pull) -> str:
    if pull.unit == "rate":
        return f"watch line {percent(pull.watch)}, stop line {percent(pull.stop)}"
    if pull.unit == "doublings":
        return f"watch line {2**pull.watch:.1f} times, stop line {2**pull.stop:.1f} times"
    if pull.unit == "times":
        return f"watch line {100 / pull.watch:.0f} %, stop line {100 / pull.stop:.0f} %"
    return f"watch line {pull.watch:g}, stop line {pull.stop:g}"


def show(session: Session) -> int:
    """Show readings, with the newest one taken apart."""
    arguments, output = session.arguments, session.output
    first, last = period_chosen(arguments)
    series = session.client.readings.series(
        session.tenant_of_subject(), arguments.name, subject=arguments.subject, provider=arguments.provider,
        first=first, last=last,
    )  # fmt: skip
    if arguments.format == "text":
        if series.readings:
            _headline(session, series)
            rows = [_reading_row(reading) for reading in series.readings]
            output.table(("day", "", "reading", "margin", "condition", "largest pull"), rows, right=(2, 3))
        else:
            output.say("No readings: no such mail in this period.")
    elif arguments.format == "json":
        output.json(series)
    else:
        output.items(arguments.format, series.readings, Reading, (), _reading_row)
    return 0


def _reading_row(reading: Reading) -> tuple[object, ...]:
    pull = reading.pulls[0] if reading.pulls else None
    largest = f"{pull.points:g} {factor_name(pull.factor)}, {pull.label}" if pull and pull.points >= 1 else ""
    condition = (reading.condition or "too little mail", reading.condition or "dim")
    return (
        str(reading.day), plate(reading.value, reading.margin), "" if reading.value is None else f"{reading.value:.0f}",
        "" if reading.margin is None else f"± {reading.margin:.0f}", condition, largest,
    )  # fmt: skip


def _headline(session: Session, series: ReadingSeries) -> None:
    output, last = session.output, series.readings[-1]
    where = "" if series.label == "All" else f" at {series.label}"
    if last.value is None:
        output.line(f"{series.name}{where}: too little mail for a reading")
        output.line()
        return
    condition = last.condition or ""
    word = output.paint(f"{MARKS[condition]} {condition}", condition)
    when = "today so far" if last.provisional else str(last.day)
    output.line(f"{series.name}{where}  {output.paint(f'{last.value:g}', 'bold')} ± {last.margin:g}  {word}  ({when})")
    total = sum(pull.points for pull in last.pulls)
    rates = " (rates are estimates: recent mail counts more)" if any(p.unit == "rate" for p in last.pulls) else ""
    output.line(f"100 - {total:.1f} = {last.value:g}{rates}")
    for pulls in _by_factor(last.pulls):
        points, worst = sum(pull.points for pull in pulls), pulls[0]
        if round(points, 1):
            at = worst.label if len(pulls) == 1 else f"most at {worst.label}"
            more = f", {len(pulls)} providers" if len(pulls) > 1 else ""
            output.line(
                f"  {points:5.1f}  {factor_name(worst.factor)}{more}; {at}: {measured(worst.measure, worst.unit)} "
                f"({_lines(worst)}{_seen(worst)})"
            )
    output.line()


def _by_factor(pulls: list[Pull]) -> list[list[Pull]]:
    """Return the pulls of each factor together, the largest first."""
    found: dict[str, list[Pull]] = {}
    for pull in pulls:
        found.setdefault(pull.factor, []).append(pull)
    return sorted(found.values(), key=lambda mine: -sum(pull.points for pull in mine))


def _seen(pull: Pull) -> str:
    if pull.count is None:
        return ""
    where = " at the other providers, as this one reports none" if pull.elsewhere else ""
    return f"; {pull.count:,} of {pull.total:,}, last {pull.days} days{where}"


def wall(session: Session) -> int:
    """Show the wall: subjects as rows, mailbox providers as columns."""
    arguments, output = session.arguments, session.output
    first, last = period_chosen(arguments)
    most = arguments.limit or (_ROWS if arguments.format == "text" else None)

    def page(cursor: str | None, limit: int) -> Wall:
        return session.client.readings.wall(
            days=(last - first).days + 1, tenant=arguments.tenant, subject=arguments.subject, last=arguments.until,
            search=arguments.search, condition=arguments.condition, order=arguments.order, cursor=cursor,
            limit=min(limit, _PAGE),
        )  # fmt: skip

    result = page(None, most or _PAGE)
    rows, following = list(result.rows), result.next
    while following and (most is None or len(rows) < most):
        more = page(following, _PAGE if most is None else most - len(rows))
        rows, following = rows + list(more.rows), more.next
    result = result.model_copy(update={"rows": rows, "next": following})
    if arguments.format == "json":
        output.json(result)
    elif arguments.format == "csv":
        columns = ("tenant", arguments.subject, "delivered", *(column.provider for column in result.columns), "faults")
        shown = [(row.tenant, row.name, row.delivered, *(cell.value for cell in row.cells), row.faults)
                 for row in result.rows]  # fmt: skip
        output.rows("csv", columns, shown)
    else:
        _show_wall(session, result)
    return 0


def _show_wall(session: Session, result: Wall) -> None:
    output = session.output
    rows = []
    for row in result.rows:
        cells: list[object] = [
            "" if cell.value is None else (f"{MARKS[cell.condition or 'sound']} {cell.value:3.0f}", cell.condition)
            for cell in row.cells
        ]
        rows.append((row.tenant, row.name, f"{row.delivered:,}", *cells, row.faults))
    labels = [column.label for column in result.columns]
    labels = [label if len(label) <= _WIDEST else label[: _WIDEST - 1] + "…" for label in labels]
    columns = ("tenant", {"ip": "IP"}.get(result.subject, result.subject), "delivered", *labels, "faults")
    output.table(columns, rows, right=range(2, len(columns)))
    legend = "   ".join(output.paint(f"{mark} {word}", word) for word, mark in MARKS.items())
    output.say(f"{legend}   empty: too little mail. Delivered: messages in {result.days} days to {result.day}.")
    if result.next:
        summary = result.summary
        counts = ", ".join(f"{n:,} {condition}" for condition, n in summary.conditions.items() if n)
        output.say(
            f"{len(result.rows):,} of {summary.subjects:,} are shown ({counts}; "
            f"{summary.unknown:,} with too little mail). Use --order worst, --condition, --search or --limit."
        )
    for column in result.columns:
        if column.outage:
            output.say(f"{column.label} delays {column.outage * 100:.0f} % of all senders' mail: a provider outage.")


def explain(session: Session) -> int:
    """Explain what changed between the first and the last day of the period."""
    arguments, output = session.arguments, session.output
    first, last = period_chosen(arguments)
    tenant = session.tenant_of_subject()
    found = session.client.readings.explain(
        tenant, arguments.name, first, last, subject=arguments.subject, provider=arguments.provider
    )
    output.document(arguments.format, found, lambda: _show_explanation(session, found, tenant))
    return 0


def _show_explanation(session: Session, found: Explanation, tenant: str) -> None:
    output = session.output
    output.line(
        f"{found.name}  {_value(found.first)} on {found.first.day}  →  {_value(found.last)} on {found.last.day}"
    )
    rows: list[tuple[str, ...]] = []
    for factor in found.factors:
        seen = ""
        if factor.count_after is not None:
            seen = (
                f"{factor.count_before:,} of {factor.total_before:,} → {factor.count_after:,} of "
                f"{factor.total_after:,}, {factor.days} days each"
            )
        mine = [move for move in found.moves if move.factor == factor.factor]
        at = mine[0].label if len(mine) == 1 else plural(len(mine), "provider")
        rows.append((f"{-factor.change:+.1f}", factor_name(factor.factor), at, _pair(factor), seen))
        if len(mine) > 1:
            rows += [
                ("", "", f"  {move.label}", _pair(move),
                 f"{measured(move.measure_before, move.unit)} → {measured(move.measure_after, move.unit)}")
                for move in mine[:3] if abs(move.change) >= _SHOWN
            ]  # fmt: skip
    output.table(("points", "factor", "at", "pull", "counts or measure"), rows, right=(0,))
    for stream in found.streams[:6]:
        name = stream.stream or "no stream"
        output.line(f"{factor_name(stream.factor)} of {name}: {stream.before:g} a day → {stream.after:g} a day")
    for annotation in found.annotations:
        by = f" ({annotation.by})" if annotation.by else ""
        output.line(f"{annotation.day}  {annotation.kind.replace('_', ' ')}: {annotation.text}{by}")
    events = _trail(found, tenant)
    if events:
        output.line(f"Events: {events}")


def _pair(move: FactorMove | Move) -> str:
    return f"{move.before:g} → {move.after:g}"


def _trail(found: Explanation, tenant: str) -> str:
    """Return the command that shows the events behind the largest change."""
    for move in found.moves[:1]:
        reading = found.last if move.after >= move.before else found.first
        for pull in reading.pulls:
            if (pull.factor, pull.provider) == (move.factor, move.provider) and pull.kinds:
                words = ["rustgauge trail --tenant", tenant, f"--{found.subject}", shlex.quote(found.name)]
                words += [f"--kind {kind}" for kind in pull.kinds] + [f"--cause {cause}" for cause in pull.causes]
                if not pull.provider.startswith("("):
                    words.append(f"--provider {pull.provider}")
                return " ".join(words)
    return ""


def _value(reading: Reading) -> str:
    return "too little mail" if reading.value is None else f"{reading.value:g} ± {reading.margin:g}"


def forecast(session: Session) -> int:
    """Forecast readings."""
    arguments, output = session.arguments, session.output
    remains = {}
    for name, share in arguments.remains:
        try:
            remains[name.replace("-", "_")] = float(share)
        except ValueError:
            raise UsageError(f"--remains {name}={share}: {share!r} is not a number") from None
    wanted = checked(
        lambda: ForecastRequest.model_validate({"volume": arguments.volume, "remains": remains, "days": arguments.days})
    )
    found = session.client.readings.forecast(
        session.tenant_of_subject(), arguments.name, wanted, subject=arguments.subject, provider=arguments.provider
    )

    def text() -> None:
        if found.changed:
            rows = [(str(d.day), d.unchanged, d.with_change, d.margin) for d in found.days]
            output.table(("day", "unchanged", "with the change", "margin"), rows, right=(1, 2, 3))
        else:
            output.table(
                ("day", "reading", "margin"), [(str(d.day), d.unchanged, d.margin) for d in found.days], right=(1, 2)
            )
        if found.sound_again is not None:
            output.say(f"Sound again on {found.sound_again}.")

    output.document(arguments.format, found, text)
    return 0


def headroom(session: Session) -> int:
    """Show headroom. Exit status 3 when a watch line is crossed."""
    arguments = session.arguments
    found = session.client.readings.headroom(session.tenant_of_subject(), arguments.name, subject=arguments.subject)

    def left(number: int | None, on: date | None) -> str:
        if number is None:
            return "not reachable today"
        return "crossed" if number == 0 else f"{number:,} more" + (f"; {on} at this rate" if on else "")

    session.output.items(
        arguments.format, found, Headroom, ("factor", "at", "rate", "until the watch line", "until the stop line"),
        lambda h: (factor_name(h.factor), h.label, percent(h.measure), left(h.to_watch, h.watch_on),
                   left(h.to_stop, h.stop_on)),
        right=(2,),
    )  # fmt: skip
    return 3 if any(line.to_watch == 0 for line in found) else 0


def annotations(session: Session) -> int:
    """List annotations."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    found = session.client.readings.annotations(session.tenant(), first=first, last=last, domain=arguments.domain)
    session.output.items(
        arguments.format, found, Annotation, ("day", "kind", "concerns", "text", "by", "annotation"),
        lambda a: (a.day, a.kind.replace("_", " "), a.domain or a.provider, a.text, a.by, a.id or ""),
        empty="Nothing happened in this period.",
    )  # fmt: skip
    return 0


def annotate(session: Session) -> int:
    """Add a note."""
    arguments = session.arguments
    on = arguments.on or datetime.now(UTC).date()
    new = checked(lambda: NewAnnotation(day=on, text=arguments.text, domain=arguments.domain))
    made = session.client.readings.add_annotation(session.tenant(), new)
    session.output.say(f"Added annotation {made.id} on {made.day}.")
    return 0


def remove_annotation(session: Session) -> int:
    """Remove a note."""
    id = session.arguments.annotation
    if not session.confirm(f"Remove annotation {id}?"):
        return 3
    session.client.readings.delete_annotation(session.tenant(), id)
    session.output.say(f"Removed annotation {id}.")
    return 0


def settings(session: Session) -> int:
    """Show the parameters, or set them and wait until the history is recomputed."""
    arguments, tenant = session.arguments, session.tenant()
    readings = session.client.readings
    view: ReadingSettingsView
    if arguments.set:
        wanted = read_model(arguments.set, ReadingSettings, "rustgauge reading settings --format json")
        view = readings.set_settings(tenant, wanted)
    else:
        view = readings.reset_settings(tenant) if arguments.reset else readings.settings(tenant)
    if view.job is not None:
        job = jobs_wait.wait(session, session.client.jobs.get(tenant, view.job), "Recomputing", cancel=False)
        for change in job.result.get("changes", []):
            if change["before"] != change["after"]:
                session.output.say(f"{change['name']}: {change['before']} → {change['after']}")
    if arguments.last_change:
        return _show_last_change(session, view)
    if arguments.format == "json":
        session.output.json(view.settings)
        return 0
    session.output.items(
        arguments.format, view.factors, FactorShown,
        ("factor", "unit", "watch line", "stop line", "weight", "half-life", "short half-life", "usual", "usual weight",
         "changed"),
        lambda f: (factor_name(f.name), f.unit, f.watch, f.stop, f.weight, f.half_life, f.quick, f.usual, f.worth,
                   ", ".join(f.changed)),
        right=range(2, 9),
    )  # fmt: skip
    return 0


def _show_last_change(session: Session, view: ReadingSettingsView) -> int:
    """Show old and new readings side by side."""
    found = view.last_change
    if found is not None and session.arguments.format == "text":
        why = "the arithmetic of readings changed" if found.why == "arithmetic" else "parameters were changed"
        session.output.line(f"Recomputed {found.at:%Y-%m-%d %H:%M} UTC: {why}")
    session.output.items(
        session.arguments.format, found.changes if found is not None else [], ReadingChange,
        ("domain", "before", "after", "difference"),
        lambda c: (c.name, c.before, c.after, _difference(c)), right=(1, 2, 3),
        empty="Readings have not been recomputed since this tenant was added.",
    )  # fmt: skip
    return 0


def _difference(change: ReadingChange) -> str:
    if change.before is None or change.after is None:
        return ""
    return f"{change.after - change.before:+.1f}"
