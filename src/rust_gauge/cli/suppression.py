"""`rustgauge clearance`, `suppression`, `hold`, `lift`, `address`, `changes`: who may be mailed, and why not."""

import csv
import sys
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from itertools import islice
from pathlib import Path
from typing import IO, Any

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.input_files import read_addresses
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.common import spreadsheet_cell
from rust_gauge.contract.suppression import ClearanceAnswer, Lift, NewEntries, Sending, SuppressionEntry

_BATCH = 20_000  # addresses in one request, well below what the service accepts


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("clearance", clearance, "may these addresses be mailed?", commands.tables)
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with an address a line, or - for standard input")
    made.add_argument("--stream", help="for mail of this stream")
    made.add_argument("--domain", help="for mail of this sending domain")
    made.add_argument("--relay", help="for mail over this relay")
    made.add_argument("--only-held", action="store_true", help="leave out the clear ones")
    made.add_argument("--split", metavar="CSV", help="cut this CSV file in two: clear, and held with the reason")
    made.add_argument("--column", help="with --split: the column that holds the addresses")
    made.add_argument("--clear-to", metavar="FILE", help="with --split: where the clear rows go")
    made.add_argument("--held-to", metavar="FILE", help="with --split: where the held rows go")
    made.add_argument("--count-as-withheld", action="store_true", help="those held will not be sent: count them so")
    made.add_argument("--campaign", help="with --count-as-withheld: the campaign")
    made = commands.add("suppression", suppression, "the suppression list, what changed last first", commands.tables)
    made.add_argument("text", nargs="?", default="", help="beginning of an address, or of a domain behind @")
    made.add_argument("--address", help="only this address")
    made.add_argument("--reason", action="append", help="only for this reason; repeatable")
    made.add_argument("--state", action="append", choices=("held", "proposed", "resting", "ended"))
    made.add_argument("--provider", help="only at this mailbox provider")
    made.add_argument("--stream", help="only from mail of this stream")
    made.add_argument("--ends-within", type=positive, metavar="DAYS", help="only what ends within so many days")
    made.add_argument("--came-back", action="store_true", help="only what came back")
    made.add_argument("--limit", type=positive, default=100, help="so many entries (100)")
    made = commands.add("suppression-export", export, "the whole suppression list as a file")
    made.add_argument("out", help="the file; - for standard output")
    made.add_argument("--form", choices=("csv", "ndjson"), default="csv")
    made = commands.add("hold", hold, "put addresses, or @domains, on the suppression list")
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with an address a line, or - for standard input")
    made.add_argument("--reason", default="by_hand", help="by_hand unless you know better")
    made.add_argument("--stream", help="only for mail of this stream")
    made.add_argument("--domain", help="only for mail of this sending domain")
    made.add_argument("--days", type=positive, help="for so many days; without it for good")
    made.add_argument("--note", help="why, in your words")
    made = commands.add("lift", lift, "take an address off the suppression list")
    made.add_argument("address")
    made.add_argument("--why", required=True, help="why; kept with the address")
    made.add_argument("--despite-complaint", action="store_true", help="its owner complained, and wants mail again")
    made = commands.add("address", address, "one address: what holds it, and all that happened to it", commands.tables)
    made.add_argument("address")
    made = commands.add("changes", changes, "changes of the suppression list as NDJSON")
    made.add_argument("--after", type=int, default=0, help="the number of the last change that you know")
    made.add_argument("--follow", action="store_true", help="go on as they come")


def clearance(session: Session) -> int:
    """Exit status 3 when an address is held."""
    arguments = session.arguments
    if arguments.split is not None:
        return _split(session)
    tenant, held, asked = session.tenant(), 0, 0
    rows: list[tuple[object, ...]] = []
    source = read_addresses(arguments.address, arguments.file)
    progress = Progress("Checking", 0)
    while batch := list(islice(source, _BATCH)):
        result = session.client.suppression.clearance(tenant, batch, **_question(arguments))
        asked, held = asked + len(batch), held + result.held
        progress.advance(len(batch), f"{asked:,} addresses, {held:,} held")
        if arguments.format == "ndjson":  # as it comes, so that millions can pass through a pipe
            for a in result.answers:
                if a.verdict == "held" or not arguments.only_held:
                    session.output.say(a.model_dump_json(exclude_defaults=True))
            continue
        for a in result.answers:
            if a.verdict == "held" or not arguments.only_held:
                since = f"{a.since:%Y-%m-%d}" if a.since else ""
                rows.append((a.address, (a.verdict, a.verdict), a.reason.replace("_", " "), since, _why(a)))
    progress.close()
    if not asked:
        raise UsageError("No addresses. Name them, or a file with one a line, or - for standard input with --file")
    if arguments.format == "ndjson":
        return 3 if held else 0
    session.output.table(arguments.format, ("address", "verdict", "reason", "since", "why"), rows)
    if arguments.format == "text":
        session.output.say(f"{asked - held:,} clear, {held:,} held.")
    return 3 if held else 0


def _why(answer: ClearanceAnswer) -> str:
    if answer.not_before is not None:
        return f"better not before {answer.not_before:%Y-%m-%d %H:%M} UTC: {answer.why}"
    if answer.verdict == "clear" and answer.elsewhere:
        return "held elsewhere: " + ", ".join(
            f"{held_elsewhere.reach} {held_elsewhere.reach_name}" for held_elsewhere in answer.elsewhere
        )
    return answer.why


def _question(arguments: Any) -> dict[str, Any]:
    sending = None
    if arguments.count_as_withheld:
        if arguments.domain is None:
            raise UsageError("--count-as-withheld needs --domain, the domain that would have sent")
        sending = Sending(domain=arguments.domain, campaign=arguments.campaign or "")
    return {
        "stream": arguments.stream, "domain": arguments.domain, "relay": arguments.relay, "sending": sending,
    }  # fmt: skip


def _split(session: Session) -> int:
    """A CSV file in two: those that may be mailed, and those that may not with the reason as columns."""
    arguments = session.arguments
    path = Path(arguments.split)
    clear_path = Path(arguments.clear_to or path.with_suffix(".clear.csv"))
    held_path = Path(arguments.held_to or path.with_suffix(".held.csv"))
    tenant, clear, held = session.tenant(), 0, 0
    try:
        with ExitStack() as stack:
            source = stack.enter_context(path.open(encoding="utf-8-sig", newline=""))
            rows = csv.reader(source)
            header = next(rows, None)
            if header is None:
                raise UsageError(f"{path} is empty")
            column = _column(header, arguments.column)
            clear_file = csv.writer(stack.enter_context(clear_path.open("w", encoding="utf-8", newline="")))
            held_file = csv.writer(stack.enter_context(held_path.open("w", encoding="utf-8", newline="")))
            clear_file.writerow(header)
            held_file.writerow([*header, "held_reason", "held_why", "held_since"])
            progress = Progress("Splitting", 0)
            while batch := list(islice(rows, _BATCH)):
                texts = [row[column] if column < len(row) else "" for row in batch]
                result = session.client.suppression.clearance(tenant, texts, **_question(arguments))
                for row, answer in zip(batch, result.answers, strict=True):
                    if answer.verdict == "clear":
                        clear_file.writerow(row)
                    else:
                        since = f"{answer.since:%Y-%m-%dT%H:%M:%SZ}" if answer.since else ""
                        held_file.writerow([*row, answer.reason, spreadsheet_cell(answer.why), since])
                clear, held = clear + result.clear, held + result.held
                progress.advance(len(batch), f"{clear:,} clear, {held:,} held")
            progress.close()
    except OSError as error:
        raise UsageError(f"{error.filename} cannot be used: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise UsageError(f"{path} is not UTF-8 (octet {error.start + 1}); convert it first") from None
    except csv.Error as error:
        raise UsageError(f"{path} cannot be read as CSV: {error}") from None
    session.output.say(f"{clear:,} clear in {clear_path}, {held:,} held in {held_path}.")
    return 3 if held else 0


def _column(header: list[str], wanted: str | None) -> int:
    names = [name.strip().lower() for name in header]
    if wanted is not None:
        if wanted.lower() in names:
            return names.index(wanted.lower())
        raise UsageError(f"There is no column {wanted}. There are: {', '.join(header)}")
    for name in ("address", "email", "e-mail", "mail", "recipient", "email_address"):
        if name in names:
            return names.index(name)
    if len(names) == 1:
        return 0
    raise UsageError(f"Which column holds the addresses? Name it with --column. There are: {', '.join(header)}")


# The list


def suppression(session: Session) -> int:
    arguments = session.arguments
    query: dict[str, Any] = {
        "text": arguments.text or None, "address": arguments.address, "reason": arguments.reason or None,
        "state": arguments.state or None, "provider": arguments.provider, "stream": arguments.stream,
        "ends_within_days": arguments.ends_within, "came_back": arguments.came_back or None,
    }  # fmt: skip
    rows = [
        (
            entry.address or f"({entry.address_key[:12]}…)",
            entry.reason.replace("_", " "),
            _reaches(entry),
            entry.state,
            f"{entry.since:%Y-%m-%d %H:%M}",
            f"{entry.until:%Y-%m-%d}" if entry.until else "",
            entry.times,
            entry.made_by,
            entry.note or (entry.evidence[0].diagnostic if entry.evidence else ""),
        )
        for entry in islice(session.client.suppression.list(session.tenant(), **query), arguments.limit)
    ]
    columns = ("address", "reason", "reach", "state", "since (UTC)", "until", "times", "by", "note")
    session.output.table(arguments.format, columns, rows, right=(6,))
    return 0


def _reaches(entry: SuppressionEntry) -> str:
    return "all mail" if entry.reach == "tenant" else f"{entry.reach} {entry.reach_name}"


def hold(session: Session) -> int:
    """Exit status 3 when something was no address."""
    arguments = session.arguments
    texts = list(read_addresses(arguments.address, arguments.file))
    if not texts:
        raise UsageError("No addresses. Name them, or a file with one a line with --file")
    until = datetime.now(UTC) + timedelta(days=arguments.days) if arguments.days else None
    reach, name = ("stream", arguments.stream) if arguments.stream else ("tenant", "")
    if arguments.domain:
        reach, name = "domain", arguments.domain
    changed = standing = refused = 0
    for start in range(0, len(texts), 10_000):
        new = NewEntries(
            addresses=texts[start : start + 10_000], reason=arguments.reason, reach=reach, reach_name=name,
            until=until, note=arguments.note or "",
        )  # fmt: skip
        made = session.client.suppression.hold(session.tenant(), new)
        changed, standing, refused = changed + made.changed, standing + made.standing, refused + len(made.refused)
        for refused_address in made.refused:
            session.output.say(f"{refused_address.text}: {refused_address.why}")
    session.output.say(f"{changed:,} held, {standing:,} stood already, {refused:,} are no addresses.")
    return 3 if refused else 0


def lift(session: Session) -> int:
    arguments = session.arguments
    request = Lift(address=arguments.address, why=arguments.why, despite_complaint=arguments.despite_complaint)
    for entry in session.client.suppression.lift(session.tenant(), request).entries:
        session.output.say(f"Lifted: {arguments.address}, {entry.reason.replace('_', ' ')}, {_reaches(entry)}")
    return 0


def address(session: Session) -> int:
    """Exit status 3 when it is held."""
    arguments = session.arguments
    status = session.client.suppression.status(session.tenant(), arguments.address)
    if arguments.format == "text":
        session.output.say(f"{status.address}: {status.verdict}" + (f", {status.why}" if status.why else ""))
    rows = [
        (
            f"{change.at:%Y-%m-%d %H:%M}", change.change.replace("_", " "), change.reason.replace("_", " "),
            "all mail" if change.reach == "tenant" else f"{change.reach} {change.reach_name}",
            f"{change.until:%Y-%m-%d}" if change.until else "", change.by, change.note,
        )
        for change in status.history
    ]  # fmt: skip
    session.output.table(arguments.format, ("at (UTC)", "what", "reason", "reach", "until", "by", "note"), rows)
    return 3 if status.verdict == "held" else 0


def changes(session: Session) -> int:
    """NDJSON, one change a line. With --follow it waits for more until it is stopped."""
    arguments = session.arguments
    after, tenant = arguments.after, session.tenant()
    while True:
        page = session.client.suppression.changes(tenant, after=after, wait=20 if arguments.follow else 0)
        for item in page.items:
            session.output.say(item.model_dump_json(exclude_defaults=True))
        sys.stdout.flush()
        after = page.last
        if not page.more and not arguments.follow:
            return 0


def export(session: Session) -> int:
    """The list as a file; `-` writes to standard output."""
    arguments = session.arguments
    target: IO[bytes]
    with ExitStack() as stack:
        try:
            to_file = arguments.out != "-"
            target = stack.enter_context(Path(arguments.out).open("wb")) if to_file else sys.stdout.buffer
        except OSError as error:
            raise UsageError(f"{arguments.out} cannot be written: {error.strerror}") from None
        progress, size = Progress("Exporting", 0), 0
        for piece in session.client.suppression.export(session.tenant(), form=arguments.form):
            target.write(piece)
            size += len(piece)
            progress.advance(0, f"{size:,} octets")
        progress.close()
    return 0
