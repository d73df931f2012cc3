"""`rustgauge placement`: send copies of a message to seeds, and see where they land."""

import argparse
import itertools
import time
from collections.abc import Mapping

from rust_gauge.cli.assay_view import show_assay
from rust_gauge.cli.input_files import read_octets
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, days_chosen, number_id, period_options
from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session
from rust_gauge.contract.flow import Rate
from rust_gauge.contract.placement import (
    CopyOutcome,
    NewRun,
    NewShare,
    PlacementCopy,
    PlacementHistory,
    PlacementRun,
    ProviderHistory,
    ProviderPlacement,
    RunSummary,
    Share,
)

DEFAULT = "list"
EXAMPLES = (
    "placement run newsletter.eml --outlet driftline --wait --tenant marram",
    "placement run --outlet driftline --tray booking-staging --message 12 --tenant marram",
    "placement show 7 --tenant marram",
)
_MOST = 10 * 1024 * 1024  # octets of a message
_POLL = 1.0  # seconds
_OPEN: tuple[CopyOutcome, ...] = ("queued", "sent")
_WORDS = {"not_sent": "not sent", "unread": "seed not read", "sent": "not found yet", "queued": "not sent yet"}
_BAD = ("spam", "missing", "refused")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_runs, "list runs, newest first", TABLE)
    made.add_argument("--limit", type=int, default=50, metavar="COUNT", help="how many at most (50)")
    made = noun.add("run", run, "send copies to seeds; without a message it is awaited by mail", DOCUMENT)
    made.add_argument("file", nargs="?", help="the message; - for standard input")
    made.add_argument("--outlet", required=True, help="how copies go out, from `outlet list`")
    made.add_argument("--title", default="", help="what people call the run")
    made.add_argument(
        "--seed", type=number_id, action="append", default=[], help="a seed; repeatable (all that are on)"
    )
    made.add_argument("--list", action="append", default=[], metavar="NAME", help="a seed list; repeatable")
    made.add_argument("--tray", default="", help="with --message: a caught message")
    made.add_argument("--message", type=number_id, help="its number, from `tray messages`")
    made.add_argument("--drop-custom", action="store_true", help="leave out header fields such as X-Template")
    made.add_argument("--wait-minutes", type=int, default=60, metavar="MINUTES",
                      help="a copy that was not found by then is missing (60)")  # fmt: skip
    made.add_argument(
        "--wait", action="store_true", help="until the run ends; exit with 3 if a copy is not in the inbox"
    )
    made = noun.add("history", history, "placement over time by provider, and the day it turned", DOCUMENT)
    period_options(made, 90)
    made.add_argument("--outlet", default="", help="runs through this outlet only")
    made = noun.add("show", show, "show a run: providers, and where each copy landed", DOCUMENT)
    _run(made)
    made = noun.add("wait", wait, "wait until a run ends; exit with 3 if a copy is not in the inbox", DOCUMENT)
    _run(made)
    made = noun.add("assay", assay, "show the assay of a run's message", DOCUMENT)
    _run(made)
    made = noun.add("share", share, "make a link to a run that needs no account", DOCUMENT)
    _run(made)
    made.add_argument("--valid-days", type=int, default=14, metavar="DAYS", help="how long it is valid (14)")
    made.add_argument("--note", default="", help="whom it is for")
    made = noun.add("shares", shares, "list the links to a run", TABLE)
    _run(made)
    made = noun.add("unshare", unshare, "revoke a link: it opens nothing any more")
    _run(made)
    made.add_argument("link", metavar="LINK", type=number_id, help="number of the link, from `placement shares`")
    made = noun.add("cancel", cancel, "stop a run: nothing more is sent or looked for")
    _run(made)
    made = noun.add("delete", delete, "delete a run with its copies")
    _run(made)
    confirm_option(made)


def _run(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run_id", metavar="RUN", type=number_id, help="number of the run, from `placement list`")


def list_runs(session: Session) -> int:
    """List runs."""
    found = itertools.islice(session.client.placement.runs(session.tenant()), session.arguments.limit)
    session.output.items(
        session.arguments.format, found, RunSummary,
        ("run", "started (UTC)", "state", "outlet", "inbox", "spam", "lost", "open", "subject"),
        lambda r: (r.id, f"{r.started_at or r.created_at:%Y-%m-%d %H:%M}", r.state, r.outlet, r.copies.get("inbox", 0),
                   r.copies.get("spam", 0), r.copies.get("missing", 0) + r.copies.get("refused", 0),
                   sum(r.copies.get(each, 0) for each in _OPEN), r.title or r.subject),
        right=(0, 4, 5, 6, 7), empty="No runs yet. Start one: rustgauge placement run FILE --outlet NAME",
    )  # fmt: skip
    return 0


def run(session: Session) -> int:
    """Start a run. With --wait exit status 3 if a copy is not in the inbox."""
    arguments, output = session.arguments, session.output
    raw = read_octets(arguments.file, _MOST) if arguments.file else None
    new = NewRun(
        outlet=arguments.outlet, title=arguments.title, seeds=arguments.seed, lists=arguments.list,
        tray=arguments.tray, message=arguments.message, keep_custom=not arguments.drop_custom,
        wait_minutes=arguments.wait_minutes,
    )  # fmt: skip
    made = session.client.placement.start(session.tenant(), new, raw)
    if made.address:
        output.say(f"Mail the message to {made.address}, from anywhere.")
    if arguments.wait:
        return _wait(session, made)
    output.document(arguments.format, made, lambda: _show(output, made))
    return 0


def history(session: Session) -> int:
    """Show placement over time. Exit status 3 if it turned for the worse somewhere."""
    arguments, output = session.arguments, session.output
    days, last = days_chosen(arguments)
    found = session.client.placement.history(session.tenant(), last=last, days=days, outlet=arguments.outlet)
    output.document(arguments.format, found, lambda: _show_history(output, found))
    return 3 if any(each.turn is not None and each.turn.worse for each in found.providers) else 0


def _show_history(output: Output, found: PlacementHistory) -> None:
    through = f" through {found.outlet}" if found.outlet else ""
    output.line(f"{plural(found.runs, 'run')}{through}, {found.first} to {found.last}")
    output.table(("provider", found.by + "s", "inbox", "spam", "lost", "turned", "reading"),
                 [_line(each) for each in found.providers], right=(1, 2, 3, 4, 6))  # fmt: skip
    for each in found.providers:
        if each.turn is None:
            continue
        turn = each.turn
        output.line()
        way = "for the worse" if turn.worse else "for the better"
        output.line(f"{each.label} turned {way} between {turn.last_before:%Y-%m-%d %H:%M} and "
                    f"{turn.at:%Y-%m-%d %H:%M} UTC")  # fmt: skip
        output.line(f"  in the inbox: {_share(turn.before)} before, {_share(turn.after)} since")
        output.line(output.paint(f"  chance shows as much in {100 * turn.chance:.1f} % of shuffled series", "dim"))
        for change in turn.changes:
            output.line(f"  {change.day} {change.kind}: {change.text}")
        if not turn.changes:
            output.line("  Nothing else that is known here changed then.")


def _line(each: ProviderHistory) -> tuple[object, ...]:
    judged = sum(point.judged for point in each.points)
    inbox, spam, lost = (sum(getattr(point, name) for point in each.points) for name in ("inbox", "spam", "lost"))
    turned = "" if each.turn is None else f"{each.turn.at:%Y-%m-%d}"
    colour = "fault" if each.turn is not None and each.turn.worse else "sound"
    reading = f"{each.readings[-1].value:.0f}" if each.readings else ""
    return each.label, len(each.points), f"{inbox} of {judged}", spam, lost, (turned, colour), reading


def show(session: Session) -> int:
    """Show a run."""
    found = session.client.placement.run(session.tenant(), session.arguments.run_id)
    session.output.document(session.arguments.format, found, lambda: _show(session.output, found))
    return 0


def wait(session: Session) -> int:
    """Wait for a run. Exit status 3 if a copy is not in the inbox."""
    return _wait(session, session.client.placement.run(session.tenant(), session.arguments.run_id))


def _wait(session: Session, found: PlacementRun) -> int:
    """Wait until a run ends, and show it. Ctrl-C leaves it running."""
    output, total = session.output, len(found.results)
    progress = Progress("Copies", total, output.err)
    try:
        while found.state in ("awaiting", "running"):
            progress.advance(total - sum(found.copies.get(each, 0) for each in _OPEN) - progress.done)
            time.sleep(_POLL)
            found = session.client.placement.run(session.tenant(), found.id)
    except KeyboardInterrupt:
        progress.close()
        output.say(f"Run {found.id} continues. See: rustgauge placement show {found.id}")
        raise
    progress.close()
    output.document(session.arguments.format, found, lambda: _show(output, found))
    return 0 if all(copy.outcome == "inbox" for copy in found.results) else 3


def assay(session: Session) -> int:
    """Show the assay of a run's message."""
    found = session.client.placement.assay(session.tenant(), session.arguments.run_id)
    session.output.document(session.arguments.format, found, lambda: show_assay(session.output, found))
    return 0


def share(session: Session) -> int:
    """Make a link to a run."""
    arguments, output = session.arguments, session.output
    new = NewShare(days=arguments.valid_days, note=arguments.note)
    made = session.client.placement.share(session.tenant(), arguments.run_id, new)

    def show_link() -> None:
        output.line(made.url)
        output.say(
            f"Valid until {made.expires_at:%Y-%m-%d %H:%M} UTC. It is shown only now; whoever has it sees the run."
        )

    output.document(arguments.format, made, show_link)
    return 0


def shares(session: Session) -> int:
    """List the links to a run."""
    session.output.items(
        session.arguments.format, session.client.placement.shares(session.tenant(), session.arguments.run_id), Share,
        ("link", "made (UTC)", "by", "valid until", "opened", "note"),
        lambda s: (s.id, f"{s.created_at:%Y-%m-%d %H:%M}", s.created_by, f"{s.expires_at:%Y-%m-%d %H:%M}", s.opened,
                   s.note),
        right=(0, 4), empty="No links to this run.",
    )  # fmt: skip
    return 0


def unshare(session: Session) -> int:
    """Revoke a link."""
    session.client.placement.delete_share(session.tenant(), session.arguments.run_id, session.arguments.link)
    session.output.say(f"Link {session.arguments.link} opens nothing any more.")
    return 0


def cancel(session: Session) -> int:
    """Stop a run."""
    found = session.client.placement.cancel(session.tenant(), session.arguments.run_id)
    session.output.say(f"Run {found.id} is {found.state}.")
    return 0


def delete(session: Session) -> int:
    """Delete a run."""
    id = session.arguments.run_id
    if not session.confirm(f"Delete run {id} and its copies?"):
        return 3
    session.client.placement.delete_run(session.tenant(), id)
    session.output.say(f"Deleted run {id}.")
    return 0


def _show(output: Output, found: PlacementRun) -> None:
    output.line(f"run {found.id} · {found.title or found.subject or '(no message yet)'} · {found.state}")
    if found.address:
        output.line(f"awaits its message at {found.address}")
    started = "" if found.started_at is None else f", started {found.started_at:%Y-%m-%d %H:%M:%S} UTC"
    copies = "1 copy" if len(found.results) == 1 else f"{len(found.results)} copies"
    output.line(f"outlet {found.outlet}, {copies}{started}, waits {plural(found.wait_minutes, 'minute')}")
    if found.schedule:
        output.line(f"schedule {found.schedule}, {found.why}")
    if found.mark is not None:
        output.line(f"mark of the message {found.mark:g} of 100: see `rustgauge placement assay {found.id}`")
    if found.error:
        output.line(output.paint(found.error, "fault"))
    if found.providers:
        output.table(("provider", "copies", "inbox", "95 % of mail between", "spam", "lost", "other"),
                     [_provider(each) for each in found.providers], right=(1, 2, 3, 4, 5, 6))  # fmt: skip
    output.line()
    output.table(
        ("seed", "provider", "landed", "after", "checked there", "what changed, or why"),
        [_copy(copy) for copy in found.results], right=(3,),
    )  # fmt: skip


def _provider(each: ProviderPlacement) -> tuple[object, ...]:
    total = sum(each.copies.values())
    lost = each.copies.get("missing", 0) + each.copies.get("refused", 0)
    spam = each.copies.get("spam", 0)
    rest = total - each.copies.get("inbox", 0) - spam - lost
    return each.label, total, _share(each.inbox), _interval(each.inbox), spam, lost, rest


def _share(rate: Rate | None) -> str:
    return "" if rate is None else f"{rate.count} of {rate.total}"


def _interval(rate: Rate | None) -> str:
    return "not known" if rate is None else f"{100 * rate.low:.0f} and {100 * rate.high:.0f} %"


def _copy(copy: PlacementCopy) -> tuple[object, ...]:
    landed = copy.label or _WORDS.get(copy.outcome, copy.outcome)
    colour = "fault" if copy.outcome in _BAD else "sound" if copy.outcome == "inbox" else "dim"
    after = "" if copy.seconds is None else f"{copy.seconds:.0f} s"
    results: Mapping[str, str] = {each.method: each.result for each in copy.verified}
    checked = " ".join(f"{name}={results[name]}" for name in ("spf", "dkim", "dmarc", "arc") if name in results)
    told = copy.problem or ", ".join(dict.fromkeys(change.where for change in copy.changes))
    return copy.address, copy.provider, (landed, colour), after, checked, told
