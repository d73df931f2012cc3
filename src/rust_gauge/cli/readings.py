"""`rustgauge reading` and `rustgauge wall`."""

from datetime import UTC, datetime, timedelta

from rust_gauge.cli.output import MARKS, percent, plate
from rust_gauge.cli.session import Session
from rust_gauge.contract.readings import Reading

_WIDEST = 14  # of a provider's name at the head of its column


def reading(session: Session) -> int:
    arguments = session.arguments
    today = datetime.now(UTC).date()
    series = session.client.readings.series(
        session.tenant(arguments.domain),
        arguments.domain,
        provider=arguments.provider,
        first=today - timedelta(days=arguments.days - 1),
        last=today,
    )
    output = session.output
    if arguments.format == "json":
        output.json(series)
        return 0
    if arguments.format == "text" and series.readings:
        _headline(session, series.domain, series.label, series.readings[-1])
    rows = [
        (each.day, each.value, each.margin, each.condition, f"{each.mail:.0f}", _heaviest(each))
        for each in series.readings
    ]
    columns = ("day", "reading", "margin", "condition", "mail", "heaviest pull")
    if arguments.format == "text":
        shown = [
            (str(day), plate(value, margin), "" if value is None else f"{value:.0f}",
             "" if margin is None else f"± {margin:.0f}", (condition or "too little mail", condition or "dim"), pull)
            for day, value, margin, condition, _, pull in rows
        ]  # fmt: skip
        output.table("text", ("day", "", "reading", "margin", "condition", "heaviest pull"), shown, right=(2, 3))
    else:
        output.table(arguments.format, columns, rows)
    if not rows:
        output.say("No readings: no mail of this domain has been counted in these days.")
    return 0


def _headline(session: Session, domain: str, label: str, last: Reading) -> None:
    output = session.output
    where = "" if label == "All" else f" at {label}"
    if last.value is None:
        output.line(f"{domain}{where}: too little mail to say")
        output.line()
        return
    condition = last.condition or ""
    word = output.paint(f"{MARKS[condition]} {condition}", condition)
    day = "today so far" if last.provisional else str(last.day)
    output.line(f"{domain}{where}  {output.paint(f'{last.value:g}', 'bold')} ± {last.margin:g}  {word}  ({day})")
    total = sum(pull.points for pull in last.pulls)
    output.line(f"100 - {total:.1f} = {last.value:g}")
    for pull in last.pulls[:6]:
        if pull.points:
            rate = f"{percent(pull.rate)} (watch {percent(pull.watch)}, stop {percent(pull.stop)})"
            output.line(f"  {pull.points:5.1f}  {pull.factor.replace('_', ' ')}, {pull.label}: {rate}")
    output.line()


def _heaviest(each: Reading) -> str:
    pull = each.pulls[0] if each.pulls else None
    return f"{pull.points:g} {pull.factor.replace('_', ' ')}, {pull.label}" if pull and pull.points >= 1 else ""


def wall(session: Session) -> int:
    arguments = session.arguments
    result = session.client.readings.wall(days=arguments.days, tenant=arguments.tenant)
    if arguments.format == "json":
        session.output.json(result)
        return 0
    rows = []
    for row in result.rows:
        cells: list[object] = []
        for cell in row.cells:
            if cell.value is None:
                cells.append("")
            elif arguments.format == "text":
                cells.append((f"{MARKS[cell.condition or 'sound']} {cell.value:3.0f}", cell.condition))
            else:
                cells.append(cell.value)
        rows.append((row.tenant, row.domain, row.delivered, *cells, row.faults))
    labels = [column.label for column in result.columns]
    if arguments.format == "text":
        labels = [label if len(label) <= _WIDEST else label[: _WIDEST - 1] + "…" for label in labels]
    columns = ("tenant", "domain", "delivered", *labels, "faults")
    session.output.table(arguments.format, columns, rows, right=range(2, len(columns)))
    if arguments.format == "text":
        legend = "   ".join(session.output.paint(f"{mark} {word}", word) for word, mark in MARKS.items())
        session.output.line(f"{legend}   empty: too little mail to say")
    return 0
