"""`rustgauge warmup`: ceilings that grow for a new sender, what was sent today, and lists cut to fit."""

import argparse
from pathlib import Path
from typing import Any

from rust_gauge.cli import jobs_wait
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import (
    DOCUMENT,
    TABLE,
    Noun,
    confirm_option,
    day,
    pair,
    period_chosen,
    period_options,
    reason_option,
)
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, checked, write_bytes
from rust_gauge.contract.warmup import (
    ListCutRequest,
    NewWarmupPlan,
    WarmupDay,
    WarmupOverrule,
    WarmupPlan,
    WarmupPlanChange,
    WarmupShare,
    WarmupTiming,
    WarmupTrack,
)

DEFAULT = "today"
EXAMPLES = (
    "warmup --tenant halyard",
    "warmup add spring --domain news.halyard.example --start 50 --target 5000 --steps 21 --tenant halyard",
    "warmup cut clinic-notices patients.csv --engagement last_opened --into portions --tenant halyard",
)
_PREVIEWED = 5000  # messages a day, where no target is named
_TURNS = {"start": "begun", "next": "goes on", "wait": "waits", "back": "stepped back", "set": "set by a person"}


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("today", today, "ceilings of today and what was sent, by plan and provider", TABLE)
    noun.add("list", list_plans, "list plans, by name", TABLE)
    _name(noun.add("show", show, "show a plan and how far it is", DOCUMENT))
    made = noun.add("add", add, "add a plan", DOCUMENT)
    _name(made)
    made.add_argument("--domain", default="", help="for mail of this sending domain")
    made.add_argument("--stream", default="", help="for mail of this stream")
    made.add_argument("--relay", default="", help="for mail by this relay")
    made.add_argument("--sending-ip", default="", help="for mail from this address")
    made.add_argument("--move-from", default="", metavar="RELAY", help="the relay that the mail moves away from")
    made.add_argument("--share", type=pair, action="append", default=[], metavar="PROVIDER=PERCENT",
                      help="a provider with ceilings of its own; repeatable (by the mail of 28 days)")  # fmt: skip
    made.add_argument("--skip", action="store_true", help="leave a step out where all rates are certainly good")
    made.add_argument("--only-watch", action="store_true", help="clearance does not hold back beyond a ceiling")
    _steps(made)
    _timing(made)
    made = noun.add("preview", preview, "show the steps that settings would make (to 5,000 a day)", TABLE)
    _steps(made)
    _timing(made)
    made = noun.add("update", update, "change a plan; what is not given stays", DOCUMENT)
    _name(made)
    _steps(made)
    made.add_argument("--hold-back", action=argparse.BooleanOptionalAction, help="clearance answers later, or not")
    made.add_argument(
        "--skip", action=argparse.BooleanOptionalAction, help="leave a step out where all is well, or not"
    )
    _name(noun.add("pause", pause, "take no step until it is resumed; ceilings stay"))
    _name(noun.add("resume", resume, "go on with a paused plan"))
    made = noun.add("overrule", overrule, "set the step of a provider, or of all, from today on", DOCUMENT)
    _name(made)
    made.add_argument("step", type=int, metavar="STEP", help="the step, from 1 on")
    made.add_argument("--provider", default="", help="only there")
    reason_option(made, "why")
    made = noun.add("days", days, "the course of a plan, day by day", TABLE)
    _name(made)
    period_options(made, 60)
    made = noun.add("delete", delete, "delete a plan with its course")
    _name(made)
    confirm_option(made)
    made = noun.add("cut", cut, "cut a list into portions that fit a plan", TABLE)
    _name(made)
    made.add_argument("file")
    made.add_argument("--engagement", default="", metavar="COLUMN",
                      help="date or number, the newest or largest first (opens and clicks of 180 days)")  # fmt: skip
    made.add_argument("--column", action="append", type=pair, default=[], metavar="FIELD=COLUMN",
                      help="such as address=E-Mail")  # fmt: skip
    made.add_argument("--by-day", action="store_true", help="one portion for a day (for each hour)")
    made.add_argument("--starts-on", type=day, metavar="DAY", help="first day (today)")
    made.add_argument("--into", metavar="FOLDER", help="write the portions and the calendars there")


def _name(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("plan", metavar="PLAN", help="name of the plan")


def _steps(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--shape", choices=("even", "careful", "straight", "custom"),
                        help="same factor daily (even), slower at first, same number more, or --ceiling")  # fmt: skip
    parser.add_argument("--start", type=int, metavar="COUNT", help="messages on the first day (50)")
    parser.add_argument("--target", type=int, metavar="COUNT", help="messages a day at the end")
    parser.add_argument("--steps", type=int, metavar="COUNT", help="number of steps, one a day at best (28)")
    parser.add_argument("--ceiling", type=int, action="append", metavar="COUNT",
                        help="messages a day at the next step, for the shape custom; repeatable")  # fmt: skip
    parser.add_argument("--hour", type=int, action="append", metavar="HOUR",
                        help="an hour in which mail goes out, 0 to 23; repeatable (8 to 19)")  # fmt: skip
    parser.add_argument("--time-zone", metavar="ZONE", help="of the hours, such as Atlantic/Faroe (UTC)")


def _timing(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--starts-on", type=day, metavar="DAY", help="first day (today)")
    parser.add_argument("--ends-on", type=day, metavar="DAY", help="day of the last step, instead of --steps")


def _given(arguments: argparse.Namespace, *, timing: bool) -> dict[str, Any]:
    found = {
        "shape": arguments.shape or ("custom" if arguments.ceiling else None), "start": arguments.start,
        "target": arguments.target, "days": arguments.steps, "ceilings": arguments.ceiling, "hours": arguments.hour,
        "time_zone": arguments.time_zone,
    }  # fmt: skip
    if timing:
        found |= {"starts_on": arguments.starts_on, "ends_on": arguments.ends_on}
    return {name: value for name, value in found.items() if value is not None}


def today(session: Session) -> int:
    """Show today's ceilings. Exit status 3 when one is passed."""
    plans, output = session.client.warmup.list(session.tenant()), session.output
    going = [plan for plan in plans if plan.state in ("running", "paused")]
    rows = [
        (plan.name, each.label, f"{each.step} of {len(plan.steps)}", each.per_day, each.sent, each.per_hour,
         (turn_of(each, plan), "risk" if each.turn in ("wait", "back") else "clear"), each.why)
        for plan in going for each in plan.tracks
    ]  # fmt: skip
    columns = ("plan", "provider", "step", "per day", "sent today", "per hour", "step came by", "why")
    if session.arguments.format == "text" and not rows:
        output.say("No plan is under way. Add one: rustgauge warmup add NAME --domain DOMAIN --target COUNT")
        return 0
    output.rows(session.arguments.format, columns, rows, right=(3, 4, 5))
    passed = [(plan, each) for plan in going for each in plan.tracks if each.sent > each.per_day]
    for plan, each in passed:
        over = each.sent - each.per_day
        output.say(f"{plan.name}: {each.label} got {each.sent:,} messages today, {over:,} over the ceiling.")
    return 3 if passed else 0


def turn_of(track: WarmupTrack, plan: WarmupPlan) -> str:
    """How the step came about; the last step has none to go on to."""
    return "last step" if track.turn == "next" and track.step == len(plan.steps) else _TURNS[track.turn]


def list_plans(session: Session) -> int:
    """List plans."""
    session.output.items(
        session.arguments.format, session.client.warmup.list(session.tenant()), WarmupPlan,
        ("plan", "mail", "state", "per day", "sent today", "target", "begins", "last step"),
        lambda p: (p.name, _mail(p), p.state, p.per_day, p.sent, p.steps[-1], p.starts_on, p.ends_on),
        right=(3, 4, 5), empty="No plans yet. Add one: rustgauge warmup add NAME --domain DOMAIN --target COUNT",
    )  # fmt: skip
    return 0


def _mail(plan: WarmupPlan) -> str:
    parts = (plan.domain, plan.stream and f"stream {plan.stream}", plan.relay and f"relay {plan.relay}",
             plan.sending_ip)  # fmt: skip
    return ", ".join(part for part in parts if part)


def _write(session: Session, found: WarmupPlan) -> int:
    session.output.document(session.arguments.format, found, lambda: _show(session.output, found))
    return 0


def _show(output: Output, plan: WarmupPlan) -> None:
    output.line(f"{plan.name} ({plan.state})")
    output.line(f"mail        {_mail(plan)}{f', moving from {plan.move_from}' if plan.move_from else ''}")
    output.line(f"steps       {len(plan.steps)}, {plan.steps[0]:,} to {plan.steps[-1]:,} messages a day, {plan.shape}")
    output.line(f"days        {plan.starts_on} to {plan.ends_on} if nothing is held back from now on")
    hours = ", ".join(map(str, plan.hours)) if len(plan.hours) < 24 else "all"
    output.line(f"hours       {hours} ({plan.time_zone})")
    held = "answers later beyond a ceiling" if plan.hold_back else "does not hold back"
    output.line(f"clearance   {held}")
    output.line(f"today       {plan.sent:,} of {plan.per_day:,} messages")
    output.line()
    output.table(
        ("provider", "share", "step", "since", "per day", "sent today", "per hour", "sent this hour", "why"),
        [
            (each.label, f"{100 * each.share:.3g} %", each.step, each.since, f"{each.per_day:,}", f"{each.sent:,}",
             f"{each.per_hour:,}", f"{each.sent_this_hour:,}",
             each.why + (f" ({each.decided_by})" if each.decided_by else ""))
            for each in plan.tracks
        ],
        right=(1, 2, 4, 5, 6, 7),
    )  # fmt: skip


def show(session: Session) -> int:
    """Show a plan."""
    return _write(session, session.client.warmup.get(session.tenant(), session.arguments.plan))


def add(session: Session) -> int:
    """Add a plan."""
    arguments = session.arguments
    values = {
        "name": arguments.plan, "domain": arguments.domain, "stream": arguments.stream, "relay": arguments.relay,
        "sending_ip": arguments.sending_ip, "move_from": arguments.move_from,
        "hold_back": not arguments.only_watch, "skip": arguments.skip,
        "shares": [_share(*each) for each in arguments.share], **_given(arguments, timing=True),
    }  # fmt: skip
    new = checked(lambda: NewWarmupPlan.model_validate(values))
    return _write(session, session.client.warmup.add(session.tenant(), new))


def _share(provider: str, text: str) -> WarmupShare:
    try:
        return WarmupShare(provider=provider, share=float(text.rstrip("% ")) / 100)
    except ValueError:
        raise UsageError(f"--share: {text!r} is not a share. Write a number of percent above 0") from None


def preview(session: Session) -> int:
    """Show the steps that settings would make."""
    given = _given(session.arguments, timing=True)
    if given.get("shape") != "custom":
        given.setdefault("target", _PREVIEWED)
    settings = checked(lambda: WarmupTiming.model_validate(given))
    found = session.client.warmup.preview(session.tenant(), settings)
    rows = [(n, per_day, per_hour) for n, (per_day, per_hour) in
            enumerate(zip(found.steps, found.per_hour, strict=True), 1)]  # fmt: skip
    session.output.rows(session.arguments.format, ("step", "per_day", "per_hour"), rows, right=(0, 1, 2))
    if session.arguments.format == "text":
        session.output.say(f"{found.starts_on} to {found.ends_on}, if nothing is held back.")
    return 0


def update(session: Session) -> int:
    """Change a plan."""
    arguments = session.arguments
    values = {**_given(arguments, timing=False)}
    for name in ("hold_back", "skip"):
        if getattr(arguments, name) is not None:
            values[name] = getattr(arguments, name)
    change = checked(lambda: WarmupPlanChange.model_validate(values))
    return _write(session, session.client.warmup.update(session.tenant(), arguments.plan, change))


def pause(session: Session) -> int:
    """Pause a plan."""
    return _turn(session, paused=True)


def resume(session: Session) -> int:
    """Resume a plan."""
    return _turn(session, paused=False)


def _turn(session: Session, *, paused: bool) -> int:
    name = session.arguments.plan
    found = session.client.warmup.update(session.tenant(), name, WarmupPlanChange(paused=paused))
    session.output.say(f"{name} is {found.state}; today's ceiling is {found.per_day:,} messages.")
    return 0


def overrule(session: Session) -> int:
    """Set a step."""
    arguments = session.arguments
    body = checked(lambda: WarmupOverrule(step=arguments.step, provider=arguments.provider, reason=arguments.reason))
    return _write(session, session.client.warmup.overrule(session.tenant(), arguments.plan, body))


def days(session: Session) -> int:
    """Show the course of a plan."""
    arguments = session.arguments
    first, last = period_chosen(arguments)
    found = session.client.warmup.days(session.tenant(), arguments.plan, first=first, last=last)
    session.output.items(
        arguments.format, found.days, WarmupDay,
        ("day", "provider", "step", "per day", "sent", "deferred", "refused", "invalid", "complaints", "spam", "why"),
        lambda d: (d.day, d.label, d.step, f"{d.per_day:,}", f"{d.sent:,}", f"{d.deferred:,}", f"{d.refused:,}",
                   f"{d.invalid:,}", "" if d.complaints is None else f"{d.complaints:,}",
                   f"{d.aside} of {d.copies}" if d.copies else "", d.why),
        right=(2, 3, 4, 5, 6, 7, 8, 9), empty="The plan has not begun.",
    )  # fmt: skip
    return 0


def delete(session: Session) -> int:
    """Delete a plan."""
    name = session.arguments.plan
    if not session.confirm(f"Delete the plan {name} with its course? Nothing is held back by it any more."):
        return 3
    session.client.warmup.delete(session.tenant(), name)
    session.output.say(f"Deleted {name}.")
    return 0


def cut(session: Session) -> int:
    """Cut a list as a job."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    values = {
        "plan": arguments.plan, "name": Path(arguments.file).name, "engagement": arguments.engagement,
        "portions": "day" if arguments.by_day else "hour", "starts_on": arguments.starts_on,
        "layout": {"columns": dict(arguments.column)},
    }  # fmt: skip
    request = checked(lambda: ListCutRequest.model_validate(values))
    job = jobs_wait.send_file(session, session.client.warmup.start_cut(tenant, request), arguments.file)
    job = jobs_wait.run(session, job, "Cutting")
    found, counts = job.result, job.result["counts"]
    rows = [
        (portion["at"][:16].replace("T", " "), portion["file"], portion["messages"],
         ", ".join(f"{name} {n:,}" for name, n in portion["by_provider"].items()))
        for portion in found["portions"]
    ]  # fmt: skip
    output.rows(arguments.format, ("at (UTC)", "file", "messages", "by provider"), rows, right=(2,))
    if arguments.format == "text":
        number = {name: counts.get(name, 0) for name in ("rows", "cut", "removed", "left")}
        output.say(
            f"{number['rows']:,} rows: {number['cut']:,} in {len(rows):,} portions up to {found['last']}, "
            f"{number['removed']:,} removed, {number['left']:,} left over. Portions hold if the plan goes on each day; "
            "cut what is left again when it was held back."
        )
    if arguments.into:
        _write_parts(session, job.id, found["portions"], sorted(job.parts), Path(arguments.into))
    return 0


def _write_parts(session: Session, job: int, portions: list[dict[str, Any]], parts: list[str], folder: Path) -> None:
    names = {portion["part"]: portion["file"] for portion in portions} | {"icalendar": "calendar.ics"}
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise UsageError(f"{folder} cannot be made: {error.strerror}") from None
    for part in parts:
        target = folder / names.get(part, f"{part}.csv")
        write_bytes(str(target), session.client.jobs.part(session.tenant(), job, part))
    session.output.say(f"{folder}: {len(parts):,} files.")
