"""`rustgauge worklist`: what to do next, and what people do with an item."""

from argparse import ArgumentParser
from datetime import UTC, datetime, timedelta

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, day, number_id, number_ids, reason_option
from rust_gauge.cli.output import percent
from rust_gauge.cli.session import Session
from rust_gauge.contract.worklist import LineRow, WorkAct, WorkActsDone, WorkItem, WorkItemDetails

DEFAULT = "list"
EXAMPLES = (
    "worklist",
    "worklist list --tenant glasswort --format json",
    "worklist lines --tenant glasswort",
)
COLOURS = {"stop": "seized", "fix": "corroded", "investigate": "tarnished", "info": "dim"}
_STATES = ("waiting", "open", "acknowledged", "snoozed", "resolved")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_items, "list items, worst level first, then by affected mail", TABLE)
    made.add_argument("--state", action="append", choices=_STATES, help="only items in this state; repeatable")
    made.add_argument("--assigned-to", metavar="EMAIL", help="only items assigned to this person")
    made.add_argument("--on", type=day, metavar="DAY", help="as it was on this day")
    made = noun.add("show", show, "show an item: evidence, remedy, history", DOCUMENT)
    made.add_argument("item", type=number_id)
    made = noun.add("acknowledge", acknowledge, "acknowledge items; notifications stop", DOCUMENT)
    _items(made)
    made = noun.add("assign", assign, "assign items", DOCUMENT)
    made.add_argument("item", type=number_ids, help="a number, or several: 12,15")
    made.add_argument("email", nargs="?", default="", help="leave out to unassign")
    made = noun.add("comment", comment, "comment on items", DOCUMENT)
    made.add_argument("item", type=number_ids, help="a number, or several: 12,15")
    made.add_argument("text")
    made = noun.add("snooze", snooze, "snooze items", DOCUMENT)
    _items(made)
    made.add_argument("--days", type=float, default=7.0, help="for this many days (7)")
    reason_option(made, "recorded with the item")
    made = noun.add("reopen", reopen, "end the acknowledgement or snooze of items", DOCUMENT)
    _items(made)
    made = noun.add("undo", undo, "undo your last acknowledge, assign, snooze or reopen", DOCUMENT)
    _items(made)
    made = noun.add("recheck", recheck, "check again now; resolves the item if it is fixed", DOCUMENT)
    _items(made)
    noun.add("detect", detect, "search for new problems now", TABLE)
    noun.add("lines", lines, "bounce and complaint rates against their lines", TABLE)


def _items(parser: ArgumentParser) -> None:
    parser.add_argument("item", type=number_ids, nargs="+", help="one or more numbers")


_HEADS = ("item", "tenant", "level", "state", "since", "messages/week", "what", "assigned to")


def list_items(session: Session) -> int:
    """List items. Exit status 3 when one has to be fixed."""
    arguments = session.arguments
    found = session.client.worklist.list(
        tenant=arguments.tenant, state=arguments.state, assigned_to=arguments.assigned_to, on=arguments.on
    )
    return _listed(session, found)


def detect(session: Session) -> int:
    """Search for problems of a tenant now. Exit status 3 when something has to be fixed."""
    return _listed(session, session.client.worklist.detect(session.tenant()))


def _listed(session: Session, found: list[WorkItem]) -> int:
    session.output.items(
        session.arguments.format, found, WorkItem, _HEADS,
        lambda item: (
            item.id, item.tenant, (item.level, COLOURS[item.level]), item.state, f"{item.since:%Y-%m-%d}",
            f"{item.mail:,}", item.title + (f" (returned {item.returns}×)" if item.returns else ""), item.assigned_to,
        ),
        right=(0, 5), empty="Nothing to do.",
    )  # fmt: skip
    return 3 if any(item.level in ("stop", "fix") and item.state != "resolved" for item in found) else 0


def show(session: Session) -> int:
    """Show an item. Exit status 3 while it is not resolved."""
    return _shown(session, session.client.worklist.get(session.tenant(), session.arguments.item))


def acknowledge(session: Session) -> int:
    """Acknowledge items."""
    return _act(session, WorkAct(act="acknowledge"))


def assign(session: Session) -> int:
    """Assign items to a member of the tenant."""
    return _act(session, WorkAct(act="assign", to=session.arguments.email))


def comment(session: Session) -> int:
    """Comment on items."""
    return _act(session, WorkAct(act="comment", text=session.arguments.text))


def snooze(session: Session) -> int:
    """Snooze items."""
    arguments = session.arguments
    until = datetime.now(UTC) + timedelta(days=arguments.days)
    return _act(session, WorkAct(act="snooze", until=until, text=arguments.reason))


def reopen(session: Session) -> int:
    """End the acknowledgement or the snooze of items."""
    return _act(session, WorkAct(act="reopen"))


def undo(session: Session) -> int:
    """Undo one's own last action."""
    return _act(session, WorkAct(act="undo"))


def recheck(session: Session) -> int:
    """Measure items again."""
    return _act(session, WorkAct(act="recheck"))


def _act(session: Session, act: WorkAct) -> int:
    """Act on one item, which is then shown, or on several. Exit status 3 while one of them is not resolved."""
    given = session.arguments.item
    ids = [id for each in given for id in (each if isinstance(each, tuple) else (each,))]
    tenant = session.tenant()
    if len(ids) == 1:
        return _shown(session, session.client.worklist.act(tenant, ids[0], act))
    done = session.client.worklist.act_on_all(tenant, ids, act)
    session.output.document(session.arguments.format, done, lambda: _show_done(session, done, act, len(set(ids))))
    return 3 if done.problems or any(item.state != "resolved" for item in done.changed) else 0


def _show_done(session: Session, done: WorkActsDone, act: WorkAct, asked: int) -> None:
    output = session.output
    output.line(f"{act.act}: {len(done.changed)} of {asked} items")
    output.table(
        ("item", "state", "what", "assigned to"),
        [(item.id, item.state, item.title, item.assigned_to) for item in done.changed],
        right=(0,),
    )
    for problem in done.problems:
        output.line(f"{output.paint('not done', 'corroded')}: {problem.what}. {problem.remedy}")


def _shown(session: Session, item: WorkItemDetails) -> int:
    session.output.document(session.arguments.format, item, lambda: _show(session, item))
    return 0 if item.state == "resolved" else 3


def _show(session: Session, item: WorkItemDetails) -> None:
    output = session.output
    until = f" until {item.until:%Y-%m-%d %H:%M} UTC" if item.state == "snoozed" and item.until else ""
    output.line(f"{output.paint(item.level, COLOURS[item.level])}  {output.paint(item.title, 'bold')}  "
                f"({item.state}{until})")  # fmt: skip
    output.line(item.text)
    for line in item.evidence:
        output.line(f"  | {line}")
    if item.remedy:
        output.line(f"Remedy: {item.remedy}")
    if item.record:
        output.line(f"Publish:\n{item.record}")
    output.line()
    rows = [(f"{step.at:%Y-%m-%d %H:%M}", step.what.replace("_", " "), step.by, step.text) for step in item.steps]
    output.table(("when (UTC)", "what", "by", "text"), rows)


def lines(session: Session) -> int:
    """Show rates and lines. Exit status 3 when a line is crossed."""
    found = session.client.worklist.lines(session.tenant())
    crossed = {"stop": "seized", "watch": "tarnished"}
    session.output.items(
        session.arguments.format, found, LineRow,
        ("subject", "name", "rate of", "events (7 days)", "mail", "rate", "estimate", "watch line", "stop line",
         "P(watch)", "P(stop)", "crossed", "next"),
        lambda r: (
            r.subject, r.name, r.rate, f"{r.events:,}", f"{r.mail:,}", "" if r.value is None else percent(r.value),
            percent(r.estimate), percent(r.watch), percent(r.stop), f"{r.watch_chance * 100:.0f} %",
            f"{r.stop_chance * 100:.0f} %",
            (r.crossed or "", crossed.get(r.crossed, "dim")), f"{r.next} on {r.next_on}" if r.next else "",
        ),
        right=range(3, 11), empty="No mail to measure rates of.",
    )  # fmt: skip
    return 3 if any(line.crossed for line in found) else 0
