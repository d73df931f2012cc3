"""`rustgauge clearance`: may these addresses be mailed? For single addresses, pipes, files, and MTAs at a gate."""

import csv
from collections import Counter
from contextlib import ExitStack
from itertools import islice
from pathlib import Path
from typing import Any

from rust_gauge.cli import jobs_wait
from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import read_addresses
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, nearest, pair
from rust_gauge.cli.output import percent
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, checked, write_bytes
from rust_gauge.contract.checks import Gate, NewGate
from rust_gauge.contract.common import spreadsheet_cell
from rust_gauge.contract.jobs import ListCheckRequest
from rust_gauge.contract.suppression import ClearanceAnswer, ClearanceResult, Sending

DEFAULT = "check"
EXAMPLES = (
    "clearance kim@tidepost.example lee@kestrelbox.example --tenant glasswort",
    "clearance check --file addresses.txt --stream newsletter --format ndjson --tenant glasswort",
    "clearance check-list contacts.csv --stream newsletter --clear-to clear.csv --tenant glasswort",
)
_BATCH = 20_000  # addresses in one request, well below what the service accepts


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("check", check, "may these addresses be mailed?", TABLE)
    made.add_argument("address", nargs="*")
    made.add_argument("--file", help="a file with one address per line; - for standard input")
    _question_options(made)
    made.add_argument("--only-held", action="store_true", help="leave out clear addresses")
    made = noun.add("split", split, "split a CSV file into clear and held rows")
    made.add_argument("file")
    made.add_argument("--column", help="the column of the addresses")
    made.add_argument("--clear-to", metavar="FILE", help="file for clear rows (NAME.clear.csv)")
    made.add_argument("--held-to", metavar="FILE", help="file for held rows (NAME.held.csv)")
    _question_options(made)
    made = noun.add("check-list", check_list, "check a list before a send: holds, doubts, expected bounces", TABLE)
    made.add_argument("file")
    made.add_argument("--stream", help="for mail of this stream")
    made.add_argument("--column", action="append", type=pair, default=[], metavar="FIELD=COLUMN",
                      help="such as address=E-Mail")  # fmt: skip
    made.add_argument("--no-address-checks", action="store_true", help="only ask the suppression list")
    made.add_argument(
        "--verify", action="store_true", help="ask verifiers about addresses without a verdict (costs money)"
    )
    for part in ("clear", "held", "doubtful"):
        made.add_argument(f"--{part}-to", metavar="FILE", help=f"file for {part} rows")
    noun.add("gates", gates, "list gates: MTAs that ask about each recipient", TABLE)
    made = noun.add("add-gate", add_gate, "add a gate for an MTA; prints its key (shown only once)", DOCUMENT)
    made.add_argument("name")
    made.add_argument("--stream", default="", help="the stream of its mail")
    made.add_argument("--relay", default="", help="the relay that it is")
    made = noun.add("remove-gate", remove_gate, "remove a gate")
    made.add_argument("name")
    confirm_option(made)


def _question_options(parser: Any) -> None:
    parser.add_argument("--stream", help="for mail of this stream")
    parser.add_argument("--domain", help="for mail of this sending domain")
    parser.add_argument("--relay", help="for mail over this relay")
    parser.add_argument("--sending-ip", help="for mail from this address, for warm-up plans")
    parser.add_argument("--count-as-withheld", action="store_true", help="count held addresses as withheld mail")
    parser.add_argument("--campaign", help="with --count-as-withheld: the campaign")


class _Before:
    """What earlier requests about the same list cleared. The service counts by itself what decides what is sent."""

    def __init__(self) -> None:
        self._clear = 0
        self._by_provider: Counter[str] = Counter()

    def asked(self) -> dict[str, Any]:
        """Return it as parts of the next request."""
        return {"cleared_before": self._clear, "cleared_by_provider": self._by_provider}

    def add(self, result: ClearanceResult, sending: Sending | None) -> None:
        """Add what one more request cleared."""
        if sending is None:
            self._clear += result.clear
            self._by_provider.update(result.cleared_by_provider)


def check(session: Session) -> int:
    """Check addresses. Exit status 3 when one is held, or has to wait."""
    arguments, output = session.arguments, session.output
    tenant, held, later, asked, clear, before = session.tenant(), 0, 0, 0, 0, _Before()
    answers: list[ClearanceAnswer] = []
    source = read_addresses(arguments.address, arguments.file)
    progress = Progress("Checking", 0, output.err)
    while batch := list(islice(source, _BATCH)):
        question = _question(arguments)
        result = session.client.suppression.clearance(tenant, batch, **before.asked(), **question)
        before.add(result, question["sending"])
        asked, held, later, clear = (
            asked + len(batch), held + result.held, later + result.later, clear + result.clear,
        )  # fmt: skip
        progress.advance(len(batch), f"{asked:,} addresses, {held:,} held")
        shown = [a for a in result.answers if a.verdict != "clear" or not arguments.only_held]
        if arguments.format == "ndjson":  # as it comes, so that millions can pass through a pipe
            for answer in shown:
                output.ndjson(answer)
        else:
            answers += shown
    progress.close()
    if not asked:
        raise UsageError("name addresses, or a file with --file; - is standard input")
    if arguments.format != "ndjson":
        output.items(arguments.format, answers, ClearanceAnswer, ("address", "verdict", "reason", "since", "why"), _row)
    if arguments.format == "text":
        waiting = f", {later:,} later" if later else ""
        output.say(f"{clear:,} clear, {held:,} held{waiting}.")
    return 3 if held or later else 0


def _row(answer: ClearanceAnswer) -> tuple[object, ...]:
    since = f"{answer.since:%Y-%m-%d}" if answer.since else ""
    return answer.address, (answer.verdict, answer.verdict), answer.reason.replace("_", " "), since, _why(answer)


def _why(answer: ClearanceAnswer) -> str:
    if answer.verdict == "later" and answer.not_before is not None:
        return f"not before {answer.not_before:%Y-%m-%d %H:%M} UTC: {answer.why}"
    if answer.not_before is not None:
        return f"better not before {answer.not_before:%Y-%m-%d %H:%M} UTC: {answer.why}"
    if answer.verdict == "clear" and answer.elsewhere:
        return "held for other mail: " + ", ".join(f"{e.scope} {e.scope_name}" for e in answer.elsewhere)
    return answer.why


def _question(arguments: Any) -> dict[str, Any]:
    sending = None
    if arguments.count_as_withheld:
        if arguments.domain is None:
            raise UsageError("--count-as-withheld needs --domain, the domain that would have sent")
        sending = Sending(domain=arguments.domain, campaign=arguments.campaign or "")
    return {
        "stream": arguments.stream, "domain": arguments.domain, "relay": arguments.relay,
        "sending_ip": arguments.sending_ip, "sending": sending,
    }  # fmt: skip


def split(session: Session) -> int:
    """Split a CSV file: rows that may be mailed, and rows that may not, with the reason as columns."""
    arguments = session.arguments
    path = Path(arguments.file)
    clear_path = Path(arguments.clear_to or path.with_suffix(".clear.csv"))
    held_path = Path(arguments.held_to or path.with_suffix(".held.csv"))
    tenant, clear, held, before = session.tenant(), 0, 0, _Before()
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
            progress = Progress("Splitting", 0, session.output.err)
            while batch := list(islice(rows, _BATCH)):
                texts = [row[column] if column < len(row) else "" for row in batch]
                question = _question(arguments)
                result = session.client.suppression.clearance(tenant, texts, **before.asked(), **question)
                before.add(result, question["sending"])
                for row, answer in zip(batch, result.answers, strict=True):
                    if answer.verdict == "clear":
                        clear_file.writerow(row)
                    else:
                        since = f"{answer.since:%Y-%m-%dT%H:%M:%SZ}" if answer.since else ""
                        held_file.writerow([*row, answer.reason, spreadsheet_cell(answer.why), since])
                clear, held = clear + result.clear, held + result.held + result.later
                progress.advance(len(batch), f"{clear:,} clear, {held:,} held")
            progress.close()
    except OSError as error:
        raise UsageError(f"{error.filename} cannot be opened: {error.strerror}") from None
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
        raise UsageError(f"there is no column {wanted!r}; columns: {', '.join(header)}")
    for name in ("address", "email", "e-mail", "mail", "recipient", "email_address"):
        if name in names:
            return names.index(name)
    if len(names) == 1:
        return 0
    raise UsageError(f"name the column of the addresses with --column; columns: {', '.join(header)}")


def check_list(session: Session) -> int:
    """Check a list as a job. Exit status 3 when rows are held."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    values = {
        "name": Path(arguments.file).name, "stream": arguments.stream,
        "check_addresses": not arguments.no_address_checks, "verify": arguments.verify,
        "layout": {"columns": dict(arguments.column)},
    }  # fmt: skip
    request = checked(lambda: ListCheckRequest.model_validate(values))
    job = jobs_wait.send_file(session, session.client.jobs.start_list_check(tenant, request), arguments.file)
    found = jobs_wait.run(session, job, "Checking").result
    counts = found.get("counts", {})
    columns = ("provider", "rows", "held", "doubtful", "would_bounce", "rate")
    rows = [
        (name, n.get("rows", 0), n.get("held", 0), n.get("doubtful", 0), n.get("would_bounce", 0),
         _rate(n, arguments.format))
        for name, n in sorted(found.get("by_provider", {}).items(), key=lambda one: -one[1].get("rows", 0))
    ]  # fmt: skip
    output.rows(arguments.format, columns, rows, right=(1, 2, 3, 4, 5))
    if arguments.format == "text":
        total = counts.get("rows", 0)
        output.say(
            f"{total:,} rows: {counts.get('clear', 0):,} clear, {counts.get('held', 0):,} held, "
            f"{counts.get('doubtful', 0):,} doubtful."
        )
        why = Counter(found.get("why", {})) + Counter(found.get("doubts", {}))
        for word, n in why.most_common():
            output.say(f"  {word.replace('_', ' ')}: {n:,}")
    for part, path in (("clear", arguments.clear_to), ("held", arguments.held_to), ("doubtful", arguments.doubtful_to)):
        if path and counts.get(part):
            write_bytes(path, session.client.jobs.part(tenant, job.id, part))
            output.say(f"{path}: the {part} rows.")
    return 3 if counts.get("held") else 0


def _rate(counts: dict[str, int], form: str) -> object:
    rate = counts.get("would_bounce", 0) / counts["rows"] if counts.get("rows") else None
    return percent(rate) if form == "text" else rate


def gates(session: Session) -> int:
    """List gates."""
    session.output.items(
        session.arguments.format, session.client.addresses.gates(session.tenant()), Gate,
        ("gate", "stream", "relay", "last used (UTC)"),
        lambda g: (g.name, g.stream or "any", g.relay or "any",
                   f"{g.last_used_at:%Y-%m-%d %H:%M}" if g.last_used_at else "never"),
        empty="No gates yet. Add one: rustgauge clearance add-gate NAME",
    )  # fmt: skip
    return 0


def add_gate(session: Session) -> int:
    """Add a gate."""
    arguments, output = session.arguments, session.output
    new = checked(lambda: NewGate(name=arguments.name, stream=arguments.stream, relay=arguments.relay))
    made = session.client.addresses.add_gate(session.tenant(), new)
    output.say("Add this to smtpd_recipient_restrictions; the key is shown only once:")
    output.document(arguments.format, made, lambda: output.line(made.line))
    return 0


def remove_gate(session: Session) -> int:
    """Remove a gate."""
    tenant, name = session.tenant(), session.arguments.name
    there = session.client.addresses.gates(tenant)
    found = next((gate for gate in there if gate.name == name), None)
    if found is None:
        near = nearest(name, [gate.name for gate in there])
        raise UsageError(f"there is no gate {name!r}" + (f"; did you mean {near}?" if near else ""))
    if not session.confirm(f"Remove the gate {name}? The MTA's mail is then deferred until its configuration changes."):
        return 3
    session.client.addresses.delete_gate(tenant, found.id)
    session.output.say(f"Removed the gate {name}.")
    return 0
