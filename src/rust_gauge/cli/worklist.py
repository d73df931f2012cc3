"""`rustgauge worklist`, `work`, `lines`, `alerts`, `brakes`."""

import json
from datetime import UTC, datetime, timedelta
from pathlib import Path

from pydantic import ValidationError

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import percent
from rust_gauge.cli.session import Session, UsageError, parse_day
from rust_gauge.contract.worklist import AlertSettings, BrakeRelease, WorkAct, WorkItemDetails

_COLOURS = {"stop": "seized", "mend": "corroded", "look": "tarnished", "know": "dim"}


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("worklist", worklist, "what to do next, by mail at risk", commands.tables)
    made.add_argument("--state", action="append", choices=("waiting", "open", "minded", "put_off", "closed"))
    made.add_argument("--assigned-to", help="only what somebody looks after")
    made.add_argument("--on", metavar="DAY", help="what lived on this day, whatever became of it")
    made.add_argument("--look", action="store_true", help="look for trouble of the tenant now")
    made = commands.add("work", work, "an item of the worklist: show it, or do something with it", commands.brief)
    made.add_argument("item", type=int)
    made.add_argument("--mind", action="store_true", help="say that you look after it")
    made.add_argument("--assign", metavar="WHO", help="give it to somebody; an empty text to nobody")
    made.add_argument("--comment", metavar="TEXT")
    made.add_argument("--put-off", type=float, metavar="DAYS", help="with --why")
    made.add_argument("--why", metavar="TEXT")
    made.add_argument("--remeasure", action="store_true", help="look again now; closes it when it is mended")
    commands.add("lines", lines, "bounce and complaint rates against their lines", commands.tables)
    made = commands.add("alerts", alerts, "who is told of trouble, and what was told", commands.tables)
    made.add_argument("--keep", metavar="FILE", help="set it from a JSON file")
    made.add_argument("--told", action="store_true", help="the newest messages, and what became of them")
    made = commands.add(
        "report", report, "how each domain stood in a period, what was mended, what is next", commands.brief
    )
    made.add_argument("--days", type=positive, default=7, help="of this many days, beside as many before (7)")
    made.add_argument("--file", metavar="FILE", help="keep it as a page (HTML, its picture inside)")
    made.add_argument("--send", action="store_true", help="mail it to the people of `alerts`")
    made = commands.add("brakes", brakes, "streams that clearance holds as a whole", commands.tables)
    made.add_argument("--hold", metavar="STREAM")
    made.add_argument("--release", metavar="STREAM")
    made.add_argument("--relay", help="only over this relay")
    made.add_argument("--why", metavar="TEXT")


def worklist(session: Session) -> int:
    """Exit status 3 when something is to be mended."""
    arguments = session.arguments
    if arguments.look:
        session.client.worklist.look(session.tenant())
    found = session.client.worklist.list(
        tenant=arguments.tenant, state=arguments.state or None, assigned_to=arguments.assigned_to,
        on=parse_day(arguments.on) if arguments.on else None,
    )  # fmt: skip
    rows = [
        (item.id, item.tenant, (item.level, _COLOURS[item.level]), item.state.replace("_", " "),
         f"{item.since:%Y-%m-%d}", f"{item.mail:,}", item.title + (" (came back)" if item.returns else ""),
         item.assigned_to)
        for item in found
    ]  # fmt: skip
    columns = ("item", "tenant", "level", "state", "since", "mail", "what", "who")
    session.output.table(arguments.format, columns, rows, right=(0, 5))
    return 3 if any(item.level in ("stop", "mend") and item.state != "closed" for item in found) else 0


def work(session: Session) -> int:
    """Show an item, or do something with it. Exit status 3 while it is not closed."""
    arguments, tenant = session.arguments, session.tenant()
    client = session.client.worklist
    acts: list[WorkAct] = []
    if arguments.mind:
        acts.append(WorkAct(act="mind", text=arguments.why or ""))
    if arguments.assign is not None:
        acts.append(WorkAct(act="assign", to=arguments.assign))
    if arguments.comment:
        acts.append(WorkAct(act="comment", text=arguments.comment))
    if arguments.put_off:
        until = datetime.now(UTC) + timedelta(days=arguments.put_off)
        acts.append(WorkAct(act="put_off", until=until, text=arguments.why or ""))
    if arguments.remeasure:
        acts.append(WorkAct(act="remeasure"))
    found: WorkItemDetails | None = None
    for act in acts:
        found = client.act(tenant, arguments.item, act)
    found = found or client.get(tenant, arguments.item)
    if arguments.format == "json":
        session.output.json(found)
    else:
        _show(session, found)
    return 0 if found.state == "closed" else 3


def _show(session: Session, item: WorkItemDetails) -> None:
    output = session.output
    output.line(f"{output.paint(item.level, _COLOURS[item.level])}  {output.paint(item.title, 'bold')}  ({item.state})")
    output.line(item.text)
    for line in item.evidence:
        output.line(f"  | {line}")
    if item.remedy:
        output.line(f"What to do: {item.remedy}")
    if item.record:
        output.line(f"Publish:\n{item.record}")
    output.line()
    rows = [(f"{step.at:%Y-%m-%d %H:%M}", step.what.replace("_", " "), step.by, step.text) for step in item.steps]
    output.table("text", ("at (UTC)", "what", "by", "text"), rows)


def lines(session: Session) -> int:
    """Exit status 3 when a line is crossed."""
    arguments = session.arguments
    found = session.client.worklist.lines(session.tenant())
    rows = [
        (line.subject, line.name, line.rate, percent(line.value), percent(line.watch), percent(line.stop),
         f"{line.watch_chance:.0%}", f"{line.stop_chance:.0%}",
         (line.crossed or "", {"stop": "seized", "watch": "tarnished"}.get(line.crossed, "dim")),
         f"{line.next} on {line.next_on}" if line.next else "")
        for line in found
    ]  # fmt: skip
    columns = ("of", "name", "rate", "is", "watch", "stop", "past watch", "past stop", "crossed", "next")
    session.output.table(arguments.format, columns, rows, right=range(3, 8))
    return 3 if any(line.crossed for line in found) else 0


def alerts(session: Session) -> int:
    """Who is told; `--keep FILE` sets it, `--told` shows the newest messages."""
    arguments, tenant = session.arguments, session.tenant()
    client = session.client.worklist
    if arguments.keep:
        try:
            wanted = AlertSettings.model_validate(json.loads(Path(arguments.keep).read_text("utf-8")))
        except OSError as error:
            raise UsageError(f"{arguments.keep} cannot be read: {error.strerror}") from None
        except (ValueError, ValidationError) as error:
            raise UsageError(f"{arguments.keep}: {error}. `rustgauge alerts --format json` shows one") from None
        client.put_settings(tenant, wanted)
    if arguments.told:
        rows = [
            (f"{told.made_at:%Y-%m-%d %H:%M}", told.way, told.state, told.attempts, told.title, told.said)
            for told in client.told(tenant)
        ]
        columns = ("at (UTC)", "way", "state", "tries", "title", "said")
        session.output.table(arguments.format, columns, rows, right=(3,))
        return 0
    settings = client.settings(tenant)
    if arguments.format == "json":
        session.output.json(settings)
        return 0
    session.output.line(
        f"Told after {settings.wait_minutes:g} minutes, again after {settings.repeat_hours:g} hours; closed when well "
        f"for {settings.well_hours:g} hours; lines are crossed when sure to {settings.sure:.0%}; the brake is "
        f"{'on' if settings.brake else 'off'}."
    )
    ways = [
        (way.name, way.kind, way.least, ", ".join(way.to) or way.url,
         f"{way.quiet_from} to {way.quiet_to} UTC" if way.quiet_from else "")
        for way in settings.ways
    ]  # fmt: skip
    session.output.table(arguments.format, ("way", "kind", "from", "to", "quiet"), ways)
    return 0


def report(session: Session) -> int:
    """A period in words; `--file` keeps it as a page, `--send` mails it to the people of the alert settings."""
    arguments, tenant = session.arguments, session.tenant()
    client = session.client.worklist
    if arguments.send:
        client.send_report(tenant, days=arguments.days)
        session.output.line(f"Sent to {', '.join(client.settings(tenant).report_to)}.")
        return 0
    made = client.report(tenant, days=arguments.days)
    if arguments.format == "json":
        session.output.json(made)
    elif arguments.file:
        try:
            Path(arguments.file).write_text(made.html, "utf-8")
        except OSError as error:
            raise UsageError(f"{arguments.file} cannot be written: {error.strerror}") from None
        session.output.line(f"{made.title}: written to {arguments.file}")
    else:
        session.output.line(made.text.rstrip())
    return 0


def brakes(session: Session) -> int:
    """Exit status 3 while something is held."""
    arguments, tenant = session.arguments, session.tenant()
    client = session.client.worklist
    for wanted, act in ((arguments.hold, client.put_brake), (arguments.release, client.release_brake)):
        if wanted:
            if not arguments.why:
                raise UsageError("Say why with --why")
            act(tenant, BrakeRelease(stream=wanted, relay=arguments.relay or "", why=arguments.why))
    found = client.brakes(tenant)
    rows = [
        (brake.stream, brake.relay or "any", f"{brake.since:%Y-%m-%d %H:%M}", brake.by or "a stop line", brake.why)
        for brake in found
    ]
    session.output.table(arguments.format, ("stream", "relay", "since (UTC)", "set by", "why"), rows)
    return 3 if found else 0
