"""`rustgauge load` and `rustgauge trail`."""

from pathlib import Path

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.input_files import open_input, read_chunks
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.client import InvalidInputError
from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.events import IntakeResult

_SHOWN = 20  # rejected rows listed in the terminal; the counts cover all


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add(
        "load", load, "load events from a file: JSON lines, CSV, a log, mail that came back", commands.brief
    )
    made.add_argument(
        "file", help="a file, or - for standard input (JSON lines); with --feed also .csv, .log, .eml, .mbox"
    )
    made.add_argument("--feed", help="by this feed: with its mapping and its defaults")
    made = commands.add("trail", trail, "all events of a recipient or a message", commands.tables)
    made.add_argument("--recipient", help="an address")
    made.add_argument("--message", help="a message id")
    made.add_argument("--kind", action="append", help="only this kind; repeatable")
    made.add_argument("--cause", action="append", help="only this cause; repeatable")
    made.add_argument("--provider", help="only at this mailbox provider")
    for what in ("domain", "stream", "relay"):
        made.add_argument(f"--{what}", help=f"only mail of this {what}")
    made.add_argument("--ip", help="only from this sending address")
    made.add_argument("--reply", help="only where this text stands in the reply")
    made.add_argument("--limit", type=positive, default=200, help="the newest so many (200)")


class _Totals:
    """What became of the rows so far."""

    def __init__(self) -> None:
        self.stored = self.repeated = self.refused = 0
        self.refusals: list[ProblemError] = []

    def add(self, result: IntakeResult, first_line: int) -> None:
        self.stored += result.stored
        self.repeated += result.repeated
        self.refused += result.refused
        for refusal in result.refusals:
            line = (refusal.line or 1) + first_line - 1
            self.refusals.append(refusal.model_copy(update={"line": line}))

    def __str__(self) -> str:
        return f"{self.stored:,} stored, {self.repeated:,} were there already, {self.refused:,} refused"


def load(session: Session) -> int:
    """Exit status 3 when rows were refused (the others are stored)."""
    tenant, totals = session.tenant(), _Totals()
    feed, kind = session.arguments.feed, _kind_of(session.arguments.file)
    if kind != "application/x-ndjson" and not feed:
        raise UsageError(f"{session.arguments.file} is {kind}: name the feed that it belongs to with --feed")
    if feed and kind in ("message/rfc822", "application/mbox"):
        return _hand_whole(session, tenant, feed, kind)
    with open_input(session.arguments.file, check=kind != "text/plain") as (file, size):
        progress = Progress("Loading", size)
        try:
            head = file.readline() if kind == "text/csv" else b""
            for first_line, chunk in read_chunks(file, quoted=kind == "text/csv"):
                totals.add(_send(session, tenant, head + chunk, feed, kind), first_line)
                progress.advance(len(chunk), str(totals))
        except KeyboardInterrupt:
            progress.close()
            session.output.say(f"Stopped. So far: {totals}. Loading the file again goes on where this ended.")
            return 130
        finally:
            progress.close()
    if session.arguments.format == "json":
        counts = {"stored": totals.stored, "repeated": totals.repeated, "refused": totals.refused}
        session.output.json({**counts, "refusals": totals.refusals})
    else:
        for refusal in totals.refusals[:_SHOWN]:
            remedy = f". {refusal.remedy}" if refusal.remedy else ""
            field = f" {refusal.field}:" if refusal.field else ""
            session.output.say(f"line {refusal.line}:{field} {refusal.what}{remedy}")
        if totals.refused > _SHOWN:
            session.output.say(f"... and {totals.refused - _SHOWN:,} more refused rows")
        session.output.line(f"{totals}.")
    return 3 if totals.refused else 0


_KINDS = {".csv": "text/csv", ".eml": "message/rfc822", ".mbox": "application/mbox", ".log": "text/plain"}


def _kind_of(name: str) -> str:
    return _KINDS.get(Path(name).suffix.lower(), "application/x-ndjson")


def _hand_whole(session: Session, tenant: str, feed: str, kind: str) -> int:
    """Mail is handed over as one piece."""
    with open_input(session.arguments.file, check=False) as (file, _):
        done = session.client.feeds.hand(tenant, feed, file.read(), kind)
    session.output.line(f"{done.stored:,} stored, {done.repeated:,} were there already, {done.refused:,} refused.")
    return 3 if done.refused else 0


def _send(session: Session, tenant: str, chunk: bytes, feed: str | None, kind: str) -> IntakeResult:
    """One request; when all of its rows are refused that is a result too."""
    if feed:
        return session.client.feeds.hand(tenant, feed, chunk, kind)
    try:
        return session.client.events.load(tenant, chunk)
    except InvalidInputError as error:
        problem = error.problem
        if not problem.type.endswith("/nothing-stored"):
            raise
        n = problem.errors_total
        return IntakeResult(received=n, stored=0, repeated=0, refused=n, refusals=problem.errors)


def trail(session: Session) -> int:
    arguments = session.arguments
    parts = (arguments.domain, arguments.stream, arguments.relay, arguments.ip)
    if not any((arguments.recipient, arguments.message, arguments.kind, arguments.cause, arguments.reply, *parts)):
        raise UsageError("Whose trail? Give --recipient or --message, or what to look for: --kind, --cause, --reply")
    found = session.client.events.list(
        session.tenant(),
        recipient=arguments.recipient,
        message_id=arguments.message,
        kinds=arguments.kind,
        causes=arguments.cause,
        provider=arguments.provider,
        domain=arguments.domain,
        stream=arguments.stream,
        relay=arguments.relay,
        ip=arguments.ip,
        reply=arguments.reply,
    )
    events = []
    for event in found:
        events.append(event)
        if len(events) >= arguments.limit:
            break
    rows = [
        (
            f"{e.time:%Y-%m-%d %H:%M:%S}",
            e.kind,
            e.recipient,
            e.domain,
            e.stream,
            e.relay,
            e.cause if e.cause != "none" else "",
            e.diagnostic,
        )
        for e in reversed(events)
    ]
    columns = ("time (UTC)", "kind", "recipient", "domain", "stream", "relay", "cause", "reply")
    session.output.table(arguments.format, columns, rows)
    lacks = {f"{e.stream or 'mail'} of {e.domain}: {e.sender_lacks}" for e in events if e.sender_lacks}
    for said in sorted(lacks):
        session.output.say(said)
    return 0
