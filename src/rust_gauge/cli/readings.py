"""`rustgauge wall`, `reading`, `moved`, `ahead`, `room`, `notes`, `reading-settings`."""

import argparse
import json
import shlex
import time
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from rust_gauge.cli.commands import SUBJECTS, Commands, positive
from rust_gauge.cli.output import MARKS, percent, plate
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, UsageError, parse_day
from rust_gauge.contract.readings import Ahead, Moved, NewMark, Pull, Reading, ReadingSettings

_WIDEST = 14  # of a provider's name at the head of its column


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("wall", wall, "all domains by mailbox provider", commands.tables)
    made.add_argument("--days", type=positive, default=7, help="over how many days mail is counted (7)")
    made.add_argument("--subject", choices=SUBJECTS, default="domain", help="what the rows are (domain)")
    made.add_argument("--last", metavar="DAY", help="as it was on this day (today)")
    of_subject = argparse.ArgumentParser(add_help=False)
    of_subject.add_argument("name", help="a domain, or the name of a stream, relay or sending address")
    of_subject.add_argument("--subject", choices=SUBJECTS, default="domain", help="what the name is of (domain)")
    there = argparse.ArgumentParser(add_help=False)
    there.add_argument("--provider", help="at this mailbox provider only")
    made = commands.add("reading", reading, "readings, day by day", commands.tables, of_subject, there)
    made.add_argument("--days", type=positive, default=14, help="today and the days before (14)")
    made = commands.add("moved", moved, "what moved a reading between two days", commands.tables, of_subject, there)
    made.add_argument("--first", metavar="DAY", help="the first day (seven days before the last)")
    made.add_argument("--last", metavar="DAY", help="the last day (today)")
    made = commands.add(
        "ahead", ahead, "what a reading will be, and would be with a change", commands.tables, of_subject, there
    )
    made.add_argument("--days", type=positive, default=21, help="how far ahead (21)")
    made.add_argument("--volume", type=float, default=1.0, help="how much of the mail goes out: 0.5 is half")
    made.add_argument("--remains", action="append", default=[], metavar="FACTOR=SHARE",
                      help="how much of a factor's events remains: authentication=0; repeatable")  # fmt: skip
    commands.add("room", room, "how many more complaints or bounces until a line", commands.tables, of_subject)
    made = commands.add("notes", notes, "what happened on the time axis, with notes of people", commands.tables)
    made.add_argument("--days", type=positive, default=30, help="how far back (30)")
    made.add_argument("--domain", help="only what is about this domain")
    made.add_argument("--add", metavar="TEXT", help="keep a note")
    made.add_argument("--day", help="with --add: its day (today)")
    made.add_argument("--drop", type=int, metavar="NOTE", help="take a note away")
    made = commands.add("reading-settings", settings, "the parameters of readings", commands.tables)
    made.add_argument("--keep", metavar="FILE", help="set them from a JSON file; the past is computed anew")
    made.add_argument("--shipped", action="store_true", help="back to those that are shipped")


def measured(value: float | None, unit: str) -> str:
    """A measure as people read it."""
    if value is None:
        return ""
    if unit == "doublings":
        return f"{2**value:.1f} times the usual week"
    if unit == "faults":
        return f"{value:.1f} faults"
    return f"{percent(value)} fewer opened" if unit == "drop" else percent(value)


def _lines(pull: Pull) -> str:
    if pull.unit == "rate":
        return f"watch {percent(pull.watch)}, stop {percent(pull.stop)}"
    if pull.unit == "doublings":
        return f"watch {2**pull.watch:.1f} times, stop {2**pull.stop:.1f} times"
    if pull.unit == "drop":
        return f"watch {pull.watch:.0%}, stop {pull.stop:.0%}"
    return f"watch {pull.watch:g}, stop {pull.stop:g}"


def _series(session: Session, days: int) -> Any:
    arguments = session.arguments
    today = datetime.now(UTC).date()
    tenant = session.tenant(arguments.name if arguments.subject == "domain" else None)
    return session.client.readings.series(
        tenant, arguments.name, subject=arguments.subject, provider=arguments.provider,
        first=today - timedelta(days=days - 1), last=today,
    )  # fmt: skip


def reading(session: Session) -> int:
    arguments = session.arguments
    series = _series(session, arguments.days)
    output = session.output
    if arguments.format == "json":
        output.json(series)
        return 0
    if arguments.format == "text" and series.readings:
        _headline(session, series.name, series.label, series.readings[-1])
    rows = [
        (reading.day, reading.value, reading.margin, reading.condition, f"{reading.mail:.0f}", _heaviest(reading))
        for reading in series.readings
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
        output.say("No readings: no such mail has been counted in these days.")
    return 0


def _headline(session: Session, name: str, label: str, last: Reading) -> None:
    output = session.output
    where = "" if label == "All" else f" at {label}"
    if last.value is None:
        output.line(f"{name}{where}: too little mail to say")
        output.line()
        return
    condition = last.condition or ""
    word = output.paint(f"{MARKS[condition]} {condition}", condition)
    day = "today so far" if last.provisional else str(last.day)
    output.line(f"{name}{where}  {output.paint(f'{last.value:g}', 'bold')} ± {last.margin:g}  {word}  ({day})")
    total = sum(pull.points for pull in last.pulls)
    output.line(f"100 - {total:.1f} = {last.value:g}")
    for pull in last.pulls[:6]:
        if pull.points:
            what = f"{pull.factor.replace('_', ' ')}, {pull.label}"
            output.line(f"  {pull.points:5.1f}  {what}: {measured(pull.measure, pull.unit)} ({_lines(pull)})")
    smaller = [pull.points for pull in last.pulls[6:] if pull.points]
    if smaller:
        output.line(f"  {sum(smaller):5.1f}  {len(smaller)} smaller ones")
    output.line()


def _heaviest(reading: Reading) -> str:
    pull = reading.pulls[0] if reading.pulls else None
    return f"{pull.points:g} {pull.factor.replace('_', ' ')}, {pull.label}" if pull and pull.points >= 1 else ""


def wall(session: Session) -> int:
    arguments = session.arguments
    last = parse_day(arguments.last) if arguments.last else None
    result = session.client.readings.wall(
        days=arguments.days, tenant=arguments.tenant, subject=arguments.subject, last=last
    )
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
        rows.append((row.tenant, row.name, row.delivered, *cells, row.faults))
    labels = [column.label for column in result.columns]
    if arguments.format == "text":
        labels = [label if len(label) <= _WIDEST else label[: _WIDEST - 1] + "…" for label in labels]
    columns = ("tenant", {"ip": "address"}.get(arguments.subject, arguments.subject), "delivered", *labels, "faults")
    session.output.table(arguments.format, columns, rows, right=range(2, len(columns)))
    if arguments.format == "text":
        legend = "   ".join(session.output.paint(f"{mark} {word}", word) for word, mark in MARKS.items())
        session.output.line(f"{legend}   empty: too little mail to say")
        for column in result.columns:
            if column.outage:
                puts = "put" if last else "puts"
                session.output.line(
                    f"{column.label} {puts} off {column.outage:.0%} of everybody's mail by its own trouble."
                )
    return 0


def moved(session: Session) -> int:
    """What moved a reading between two days."""
    arguments = session.arguments
    today = datetime.now(UTC).date()
    last = parse_day(arguments.last) if arguments.last else today
    first = parse_day(arguments.first) if arguments.first else last - timedelta(days=7)
    tenant = session.tenant(arguments.name if arguments.subject == "domain" else None)
    found = session.client.readings.moved(
        tenant, arguments.name, first, last, subject=arguments.subject, provider=arguments.provider
    )
    output = session.output
    if arguments.format == "json":
        output.json(found)
        return 0
    if arguments.format == "text":
        output.line(
            f"{found.name}  {_said(found.first)} on {found.first.day}  →  {_said(found.last)} on {found.last.day}"
        )
    rows = [
        (f"{-move.change:+.1f}", move.factor.replace("_", " "), move.label, f"{move.before:g} → {move.after:g}",
         f"{measured(move.measure_before, move.unit)} → {measured(move.measure_after, move.unit)}")
        for move in found.moves
    ]  # fmt: skip
    output.table(arguments.format, ("points", "factor", "at", "pull", "measure"), rows, right=(0,))
    if arguments.format == "text":
        for move in found.streams[:6]:
            stream = move.stream or "no stream"
            output.line(f"{move.factor.replace('_', ' ')} of {stream}: {move.before:g} a day → {move.after:g} a day")
        for mark in found.marks:
            output.line(f"{mark.day}  {mark.kind.replace('_', ' ')}: {mark.text}{f' ({mark.by})' if mark.by else ''}")
        events = _trail(found, tenant)
        if events:
            output.line(f"Its events: {events}")
    return 0


def _trail(found: Moved, tenant: str) -> str:
    """The command that shows the events behind the largest move."""
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


def _said(reading: Reading) -> str:
    return "too little mail" if reading.value is None else f"{reading.value:g} ± {reading.margin:g}"


def ahead(session: Session) -> int:
    """What would follow."""
    arguments = session.arguments
    remains = {}
    for text in arguments.remains:
        name, equals, share = text.partition("=")
        try:
            remains[name.replace("-", "_")] = float(share)
        except ValueError:
            equals = ""
        if not equals:
            raise UsageError(f"{text} is no FACTOR=SHARE, such as authentication=0")
    try:
        wanted = Ahead(volume=arguments.volume, remains=remains, days=arguments.days)
    except ValidationError as error:
        raise UsageError(f"{error.errors()[0]['loc']}: {error.errors()[0]['msg']}") from None
    tenant = session.tenant(arguments.name if arguments.subject == "domain" else None)
    found = session.client.readings.ahead(
        tenant, arguments.name, wanted, subject=arguments.subject, provider=arguments.provider
    )
    if arguments.format == "json":
        session.output.json(found)
        return 0
    rows = [(day.day, day.as_it_goes, day.with_change, day.margin) for day in found.days]
    session.output.table(arguments.format, ("day", "as it goes", "with the change", "margin"), rows, right=(1, 2, 3))
    if arguments.format == "text" and found.sound_again is not None:
        session.output.line(f"Sound again on {found.sound_again}.")
    return 0


def room(session: Session) -> int:
    """How much more until a line. Exit status 3 when one is past."""
    arguments = session.arguments
    tenant = session.tenant(arguments.name if arguments.subject == "domain" else None)
    found = session.client.readings.room(tenant, arguments.name, subject=arguments.subject)

    def left(number: int | None, day: date | None) -> str:
        if number is None:
            return "out of reach"
        return "past it" if number == 0 else f"{number:,} more" + (f", {day} at this pace" if day else "")

    rows = [
        (line.factor.replace("_", " "), line.label, percent(line.measure), left(line.to_watch, line.watch_on),
         left(line.to_stop, line.stop_on))
        for line in found
    ]  # fmt: skip
    columns = ("factor", "at", "is", "until the watch line", "until the stop line")
    session.output.table(arguments.format, columns, rows, right=(2,))
    return 3 if any(line.to_watch == 0 for line in found) else 0


def notes(session: Session) -> int:
    """What happened; `--add` keeps a note, `--drop` takes one away."""
    arguments, tenant = session.arguments, session.tenant()
    readings = session.client.readings
    if arguments.add:
        day = parse_day(arguments.day) if arguments.day else datetime.now(UTC).date()
        readings.add_mark(tenant, NewMark(day=day, text=arguments.add, domain=arguments.domain or ""))
    if arguments.drop:
        readings.drop_mark(tenant, arguments.drop)
    last = datetime.now(UTC).date()
    found = readings.marks(tenant, first=last - timedelta(days=arguments.days), last=last, domain=arguments.domain)
    rows = [
        (mark.day, mark.kind.replace("_", " "), mark.domain or mark.provider, mark.text, mark.by, mark.id or "")
        for mark in found
    ]
    session.output.table(arguments.format, ("day", "what", "of", "text", "by", "note"), rows)
    return 0


def settings(session: Session) -> int:
    """The parameters of readings; `--keep FILE` sets them and waits until the past is computed anew."""
    arguments, tenant = session.arguments, session.tenant()
    readings = session.client.readings
    view = readings.settings(tenant)
    if arguments.keep:
        try:
            wanted = ReadingSettings.model_validate(json.loads(Path(arguments.keep).read_text("utf-8")))
        except OSError as error:
            raise UsageError(f"{arguments.keep} cannot be read: {error.strerror}") from None
        except (ValueError, ValidationError) as error:
            raise UsageError(
                f'{arguments.keep}: {error}. It looks like {{"factors": {{"delays": {{"weight": 5}}}}}}'
            ) from None
        view = readings.put_settings(tenant, wanted)
    elif arguments.shipped:
        view = readings.drop_settings(tenant)
    if view.job is not None:
        _wait(session, tenant, view.job)
    rows = [
        (f.name.replace("_", " "), f.unit, f.watch, f.stop, f.weight, f.half_life, f.quick, f.usual, f.worth,
         ", ".join(f.changed))
        for f in view.factors
    ]  # fmt: skip
    columns = ("factor", "unit", "watch", "stop", "weight", "half life", "quick", "usual", "worth", "changed")
    session.output.table(arguments.format, columns, rows, right=range(2, 9))
    return 0


def _wait(session: Session, tenant: str, id: int) -> None:
    progress = Progress("Computing", 0)
    job = session.client.jobs.get(tenant, id)
    while job.state in ("waiting", "running"):
        time.sleep(0.3)
        job = session.client.jobs.get(tenant, id)
        progress.total = job.total
        progress.advance(job.done - progress.done)
    progress.close()
    for change in job.result.get("changes", []):
        if change["before"] != change["after"]:
            session.output.say(f"{change['name']}: {change['before']} → {change['after']}")
