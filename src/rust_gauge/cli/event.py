"""`rustgauge event` and `rustgauge trail`: import events from files, and search them."""

import time
from datetime import UTC, datetime, timedelta
from itertools import islice
from pathlib import Path
from typing import Any

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import open_input, read_chunks
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, day, positive
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session
from rust_gauge.client.errors import InvalidInputError
from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.events import Event, IntakeResult

DEFAULT = "list"
EXAMPLES = (
    "trail --reply 'over quota' --limit 10 --tenant glasswort",
    "event list --kind bounced --cause mailbox_full --limit 20 --tenant glasswort",
    "event import var/demo/postcards.ndjson --tenant copperline",
)
_SHOWN = 20  # rejected rows listed in the terminal; the counts cover all
_POLL = 2.0  # seconds between requests of --follow
_OVERLAP = timedelta(minutes=10)  # events may arrive this much later than they happened
_KINDS = {".csv": "text/csv", ".eml": "message/rfc822", ".mbox": "application/mbox", ".log": "text/plain"}


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("import", import_events, "import events from NDJSON, CSV, an MTA log, or bounce mail", DOCUMENT)
    made.add_argument("file", help="a file; - for NDJSON on standard input; .csv, .log, .eml, .mbox need --feed")
    made.add_argument("--feed", help="use the mapping and defaults of this feed")
    made = noun.add("trail", trail, "show all events of a recipient or message, oldest first", TABLE)
    made.add_argument("subject", nargs="?", metavar="ADDRESS", help="a recipient")
    made.add_argument("--message", help="a message id")
    _search_options(made)
    made = noun.add("list", list_events, "search events, newest first", TABLE)
    made.add_argument("--recipient", help="an address")
    made.add_argument("--message", help="a message id")
    _search_options(made)


def _search_options(parser: Any) -> None:
    parser.add_argument("--kind", action="append", help="only events of this kind; repeatable")
    parser.add_argument("--cause", action="append", help="only events with this cause; repeatable")
    parser.add_argument("--provider", help="only at this mailbox provider")
    for what in ("domain", "stream", "relay"):
        parser.add_argument(f"--{what}", help=f"only mail of this {what}")
    parser.add_argument("--ip", help="only from this sending IP")
    parser.add_argument("--reply", help="only replies that contain this text, whatever its case")
    parser.add_argument("--since", type=day, metavar="DAY", help="from this day on (UTC)")
    parser.add_argument("--until", type=day, metavar="DAY", help="up to this day (UTC)")
    parser.add_argument("--limit", type=positive, default=200, help="the newest so many (200)")
    parser.add_argument("--follow", action="store_true", help="wait for new events")


class _Totals:
    """What became of the rows so far."""

    def __init__(self) -> None:
        self.stored = self.duplicates = self.rejected = 0
        self.rejections: list[ProblemError] = []

    def add(self, result: IntakeResult, first_line: int) -> None:
        self.stored += result.stored
        self.duplicates += result.duplicates
        self.rejected += result.rejected
        for rejection in result.rejections:
            line = (rejection.line or 1) + first_line - 1
            self.rejections.append(rejection.model_copy(update={"line": line}))

    def __str__(self) -> str:
        return f"{self.stored:,} stored, {self.duplicates:,} duplicates, {self.rejected:,} rejected"


def import_events(session: Session) -> int:
    """Import events. Exit status 3 when rows were rejected; the others are stored."""
    arguments, output = session.arguments, session.output
    tenant, totals = session.tenant(), _Totals()
    feed, kind = arguments.feed, _KINDS.get(Path(arguments.file).suffix.lower(), "application/x-ndjson")
    if kind != "application/x-ndjson" and not feed:
        raise UsageError(f"{arguments.file} is {kind}: name the feed that it belongs to with --feed")
    if feed and kind in ("message/rfc822", "application/mbox"):
        with open_input(arguments.file, check=False) as (file, _):
            totals.add(session.client.feeds.send_to(tenant, feed, file.read(), kind), 1)
        return _reported(session, totals)
    with open_input(arguments.file, check=kind != "text/plain") as (file, size):
        progress = Progress("Importing", size, output.err)
        try:
            head = file.readline() if kind == "text/csv" else b""
            for first_line, chunk in read_chunks(file, quoted=kind == "text/csv"):
                totals.add(_send(session, tenant, head + chunk, feed, kind), first_line)
                progress.advance(len(chunk), str(totals))
        except KeyboardInterrupt:
            progress.close()
            output.say(f"Stopped: {totals}. Import the file again to continue; duplicates are not counted twice.")
            return 130
        finally:
            progress.close()
    return _reported(session, totals)


def _reported(session: Session, totals: _Totals) -> int:
    output = session.output
    if session.arguments.format == "json":
        output.json({
            "stored": totals.stored, "duplicates": totals.duplicates, "rejected": totals.rejected,
            "rejections": totals.rejections,
        })  # fmt: skip
    else:
        for rejection in totals.rejections[:_SHOWN]:
            remedy = f". {rejection.remedy}" if rejection.remedy else ""
            field = f" {rejection.field}:" if rejection.field else ""
            output.say(f"line {rejection.line}:{field} {rejection.what}{remedy}")
        if totals.rejected > _SHOWN:
            output.say(f"... and {totals.rejected - _SHOWN:,} more rejected rows")
        output.say(f"{totals}.")
    return 3 if totals.rejected else 0


def _send(session: Session, tenant: str, chunk: bytes, feed: str | None, kind: str) -> IntakeResult:
    """Send one request; that all of its rows are rejected is a result, too."""
    if feed:
        return session.client.feeds.send_to(tenant, feed, chunk, kind)
    try:
        return session.client.events.load(tenant, chunk)
    except InvalidInputError as error:
        problem = error.problem
        if not problem.type.endswith("/nothing-stored"):
            raise
        n = problem.errors_total
        return IntakeResult(received=n, stored=0, duplicates=0, rejected=n, rejections=problem.errors)


def trail(session: Session) -> int:
    """Show the trail of a recipient or message."""
    arguments = session.arguments
    arguments.recipient = arguments.subject
    asked = (arguments.recipient, arguments.message, arguments.kind, arguments.cause, arguments.reply,
             arguments.domain, arguments.stream, arguments.relay, arguments.ip, arguments.provider)  # fmt: skip
    if not any(asked):
        raise UsageError("name an address or a message id, or what to search for: --kind, --cause, --domain ...")
    return _listed(session, oldest_first=True)


def list_events(session: Session) -> int:
    """Search events."""
    return _listed(session, oldest_first=False)


def _listed(session: Session, *, oldest_first: bool) -> int:
    arguments, output = session.arguments, session.output
    tenant, query = session.tenant(arguments.domain), _query(arguments)
    found = list(islice(session.client.events.list(tenant, **query), arguments.limit))
    if oldest_first or arguments.follow:
        found.reverse()
    columns = ("time (UTC)", "kind", "recipient", "domain", "stream", "relay", "cause", "reply")
    output.items(
        arguments.format,
        found,
        Event,
        columns,
        _row,
        empty="No stored event matches. `rustgauge flow show` counts mail whose events were deleted, too.",
    )
    for text in sorted({f"{e.stream or 'mail'} of {e.domain}: {e.sender_lacks}" for e in found if e.sender_lacks}):
        output.say(text)
    if arguments.follow:
        _follow(session, tenant, query, found)
    return 0


def _query(arguments: Any) -> dict[str, Any]:
    def start(of: Any) -> datetime | None:
        return datetime(of.year, of.month, of.day, tzinfo=UTC) if of else None

    until = start(arguments.until)
    return {
        "recipient": arguments.recipient, "kinds": arguments.kind,
        "message_id": arguments.message and arguments.message.strip("<>"),
        "causes": arguments.cause, "provider": arguments.provider, "domain": arguments.domain,
        "stream": arguments.stream, "relay": arguments.relay, "ip": arguments.ip, "reply": arguments.reply,
        "since": start(arguments.since), "until": until + timedelta(days=1) if until else None,
    }  # fmt: skip


def _follow(session: Session, tenant: str, query: dict[str, Any], known: list[Event]) -> None:
    """Print events as they arrive, each once, until Ctrl-C."""
    seen = {event.model_dump_json() for event in known}
    since = datetime.now(UTC) - _OVERLAP
    while True:
        time.sleep(_POLL)
        new = []
        for event in session.client.events.list(tenant, **{**query, "since": since, "until": None}):
            key = event.model_dump_json()
            if key not in seen:
                seen.add(key)
                new.append(event)
        for event in reversed(new):
            if session.arguments.format == "text":
                session.output.line(
                    "  ".join(str(cell[0] if isinstance(cell, tuple) else cell) for cell in _row(event))
                )
            else:
                session.output.ndjson(event)
        session.output.out.flush()
        since = max(since, datetime.now(UTC) - 2 * _OVERLAP)


def _row(event: Event) -> tuple[object, ...]:
    return (
        f"{event.time:%Y-%m-%d %H:%M:%S}", event.kind, event.recipient, event.domain, event.stream, event.relay,
        event.cause.replace("_", " ") if event.cause != "none" else "", event.diagnostic,
    )  # fmt: skip
