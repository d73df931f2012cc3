"""`rustgauge schedule`: placement runs that start by themselves."""

import argparse
from typing import Any

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_octets
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session
from rust_gauge.contract.placement import NewSchedule, Rhythm, Schedule, ScheduleAlert, ScheduleChange

DEFAULT = "list"
EXAMPLES = (
    "schedule list --tenant marram",
    "schedule add weekly newsletter.eml --outlet driftline --every weekly --weekday 1 --hour 9 --tenant marram",
    "schedule add on-change --outlet driftline --tray booking-staging --after-template --after-records --tenant marram",
    "schedule pause weekly --tenant marram",
)
_MOST = 10 * 1024 * 1024  # octets of a message
_OFF = "off"


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_schedules, "list schedules, by name", TABLE)
    made = noun.add("add", add, "add a schedule", DOCUMENT)
    _name(made)
    made.add_argument("file", nargs="?", help="the message that it copies; - for standard input")
    _settings(made)
    made.add_argument("--off", action="store_true", help="paused until it is resumed")
    made = noun.add("show", show, "show a schedule", DOCUMENT)
    _name(made)
    made = noun.add("update", update, "change a schedule; what is not given stays", DOCUMENT)
    _name(made)
    made.add_argument("file", nargs="?", help="another message; - for standard input")
    _settings(made)
    _name(noun.add("pause", pause, "pause a schedule"))
    _name(noun.add("resume", resume, "turn a paused schedule on again"))
    made = noun.add("copy", copy, "copy a schedule with its message; the copy is paused", DOCUMENT)
    _name(made)
    made.add_argument("new_name", metavar="NEW_NAME")
    _name(noun.add("run", run, "start a run now"))
    made = noun.add("delete", delete, "delete a schedule; its runs stay")
    _name(made)
    confirm_option(made)


def _name(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("schedule", metavar="NAME", help="name of the schedule")


def _settings(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--outlet", help="how copies go out, from `outlet list`")
    parser.add_argument("--every", choices=("hourly", "daily", "weekly", "monthly", "never"),
                        help="how often; never: only after changes")  # fmt: skip
    parser.add_argument("--hour", type=int, action="append", metavar="HOUR", help="0 to 23; repeatable")
    parser.add_argument("--minute", type=int, help="of the hour (0)")
    parser.add_argument("--weekday", type=int, action="append", metavar="DAY", help="1 is Monday; repeatable")
    parser.add_argument("--month-day", type=int, action="append", metavar="DAY", help="1 to 31; repeatable")
    parser.add_argument("--time-zone", metavar="ZONE", help="such as Atlantic/Faroe (UTC)")
    parser.add_argument("--after-records", action=argparse.BooleanOptionalAction, help="run when a record changed")
    parser.add_argument("--after-template", action=argparse.BooleanOptionalAction, help="run when the message changed")
    parser.add_argument("--tray", help="copy the newest message of this tray")
    parser.add_argument("--template", help="with --tray: the newest of this template")
    parser.add_argument("--seed", type=number_id, action="append", metavar="SEED", help="a seed; repeatable")
    parser.add_argument("--list", action="append", metavar="NAME", help="a seed list; repeatable")
    parser.add_argument(
        "--without-provider", action="append", metavar="PROVIDER", help="leave out its seeds; repeatable"
    )
    parser.add_argument(
        "--without-seed", type=number_id, action="append", metavar="SEED", help="leave it out; repeatable"
    )
    parser.add_argument("--drop-custom", action=argparse.BooleanOptionalAction,
                        help="leave out header fields such as X-Template")  # fmt: skip
    parser.add_argument("--wait-minutes", type=int, metavar="MINUTES",
                        help="a copy that was not found by then is missing (60)")  # fmt: skip
    parser.add_argument("--alert-share", metavar="PERCENT",
                        help="report providers with this share in spam or missing; off: none")  # fmt: skip
    parser.add_argument("--alert-copies", type=int, metavar="COUNT", help="and at least so many copies (2)")
    parser.add_argument("--alert-after", type=int, metavar="MINUTES", help="this long after the start (30)")


def _given(arguments: argparse.Namespace, before: Schedule | None) -> dict[str, Any]:
    """Return the settings that were given. What belongs together starts from what the schedule has."""
    plain = {
        "outlet": arguments.outlet, "after_records": arguments.after_records,
        "after_template": arguments.after_template, "tray": arguments.tray, "template": arguments.template,
        "seeds": arguments.seed, "lists": arguments.list, "without_providers": arguments.without_provider,
        "without_seeds": arguments.without_seed, "wait_minutes": arguments.wait_minutes,
        "keep_custom": None if arguments.drop_custom is None else not arguments.drop_custom,
    }  # fmt: skip
    found = {name: value for name, value in plain.items() if value is not None}
    rhythm = {
        "every": arguments.every, "hours": arguments.hour, "minute": arguments.minute, "weekdays": arguments.weekday,
        "month_days": arguments.month_day, "time_zone": arguments.time_zone,
    }  # fmt: skip
    if any(value is not None for value in rhythm.values()):
        found["rhythm"] = _rhythm(rhythm, before)
    alert = {"copies": arguments.alert_copies, "after_minutes": arguments.alert_after, "share": _share(arguments)}
    if arguments.alert_share == _OFF:
        found["alert"] = None
    elif any(value is not None for value in alert.values()):
        was = before.alert.model_dump() if before is not None and before.alert is not None else {}
        found["alert"] = ScheduleAlert.model_validate({**was, **{k: v for k, v in alert.items() if v is not None}})
    return found


def _rhythm(given: dict[str, Any], before: Schedule | None) -> Rhythm | None:
    if given["every"] == "never":
        return None
    was = before.rhythm.model_dump() if before is not None and before.rhythm is not None else {}
    merged = {**was, **{name: value for name, value in given.items() if value is not None}}
    if "every" not in merged:
        raise UsageError("--hour and the others need --every: hourly, daily, weekly or monthly")
    return Rhythm.model_validate(merged)


def _share(arguments: argparse.Namespace) -> float | None:
    """Read a share in percent. UsageError."""
    text = arguments.alert_share
    if text is None or text == _OFF:
        return None
    try:
        return float(text.rstrip("% ")) / 100
    except ValueError:
        raise UsageError(f"--alert-share: {text!r} is not a share. Write a number of percent, or off") from None


def list_schedules(session: Session) -> int:
    """List schedules."""
    session.output.items(
        session.arguments.format, session.client.placement.schedules(session.tenant()), Schedule,
        ("schedule", "runs", "on", "outlet", "next (UTC)", "last run", "alert", "problem"),
        lambda s: (s.name, s.when, "on" if s.enabled else "paused", s.outlet,
                   "" if s.next_at is None else f"{s.next_at:%Y-%m-%d %H:%M}", s.last_run or "", _alert(s), s.problem),
        right=(5,), empty="No schedules yet. Add one: rustgauge schedule add NAME FILE --outlet NAME --every weekly "
        "--weekday 1 --hour 9",
    )  # fmt: skip
    return 0


def _alert(found: Schedule) -> str:
    return "" if found.alert is None else f"from {100 * found.alert.share:g} %"


def _show(output: Output, found: Schedule) -> None:
    output.line(f"{found.name}{'' if found.enabled else ' (paused)'}")
    output.line(f"runs        {found.when}")
    if found.next_at is not None:
        output.line(f"next        {found.next_at:%Y-%m-%d %H:%M} UTC")
    if found.ran_at is not None:
        run = "" if found.last_run is None else f", run {found.last_run}"
        output.line(f"last        {found.ran_at:%Y-%m-%d %H:%M} UTC{run}")
    output.line(f"outlet      {found.outlet}, waits {found.wait_minutes} minutes")
    output.line(f"message     {_message(found)}")
    if found.address:
        output.line(f"            Mail another one to {found.address}, from anywhere.")
    chosen = [*(f"list {name}" for name in found.lists), *(f"seed {seed}" for seed in found.seeds)]
    left = [*found.without_providers, *(f"seed {seed}" for seed in found.without_seeds)]
    output.line(f"seeds       {', '.join(chosen) or 'all that are on'}{', without ' + ', '.join(left) if left else ''}")
    if found.alert is not None:
        output.line(
            f"alert       from {100 * found.alert.share:g} % of a provider's copies, at least {found.alert.copies}, in "
            f"spam or missing after {found.alert.after_minutes} minutes"
        )
    if found.problem:
        output.line(f"problem     {output.paint(found.problem, 'fault')}")


def _message(found: Schedule) -> str:
    if found.tray:
        of = f" of the template {found.template!r}" if found.template else ""
        return f"the newest{of} of the tray {found.tray}"
    return "handed in" if found.has_message else "none yet"


def _write(session: Session, found: Schedule) -> int:
    session.output.document(session.arguments.format, found, lambda: _show(session.output, found))
    return 0


def add(session: Session) -> int:
    """Add a schedule."""
    arguments = session.arguments
    given = _given(arguments, None)
    if "outlet" not in given:
        raise UsageError("A schedule needs --outlet")
    raw = read_octets(arguments.file, _MOST) if arguments.file else None
    new = NewSchedule(name=arguments.schedule, enabled=not arguments.off, **given)
    return _write(session, session.client.placement.add_schedule(session.tenant(), new, raw))


def show(session: Session) -> int:
    """Show a schedule."""
    return _write(session, session.client.placement.schedule(session.tenant(), session.arguments.schedule))


def update(session: Session) -> int:
    """Change a schedule."""
    arguments, placement = session.arguments, session.client.placement
    name = arguments.schedule
    raw = read_octets(arguments.file, _MOST) if arguments.file else None
    given = _given(arguments, placement.schedule(session.tenant(), name))
    found = placement.update_schedule(session.tenant(), name, ScheduleChange.model_validate(given))
    if raw is not None:
        found = placement.hand_in_to_schedule(session.tenant(), name, raw)
    return _write(session, found)


def pause(session: Session) -> int:
    """Pause a schedule."""
    return _turn(session, enabled=False)


def resume(session: Session) -> int:
    """Turn a schedule on again."""
    return _turn(session, enabled=True)


def _turn(session: Session, *, enabled: bool) -> int:
    name = session.arguments.schedule
    found = session.client.placement.update_schedule(session.tenant(), name, ScheduleChange(enabled=enabled))
    following = "" if found.next_at is None else f" Next run: {found.next_at:%Y-%m-%d %H:%M} UTC."
    session.output.say(f"{name} is {'on' if found.enabled else 'paused'}.{following}")
    return 0


def copy(session: Session) -> int:
    """Copy a schedule."""
    arguments = session.arguments
    return _write(session, session.client.placement.copy_schedule(
        session.tenant(), arguments.schedule, arguments.new_name
    ))  # fmt: skip


def run(session: Session) -> int:
    """Start a run of a schedule now."""
    made = session.client.placement.run_schedule(session.tenant(), session.arguments.schedule)
    session.output.say(f"Run {made.id} was started. See: rustgauge placement show {made.id}")
    return 0


def delete(session: Session) -> int:
    """Delete a schedule."""
    name = session.arguments.schedule
    if not session.confirm(f"Delete the schedule {name}?"):
        return 3
    session.client.placement.delete_schedule(session.tenant(), name)
    session.output.say(f"Deleted {name}.")
    return 0
