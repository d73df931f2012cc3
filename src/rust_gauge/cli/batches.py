"""`rustgauge batch`: audits of many domains from a file, as a job of the service with progress, stop and resume."""

import sys
import time
from pathlib import Path

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import plural
from rust_gauge.cli.session import Session, UsageError

_POLL = 1.0  # seconds between looks at a batch that runs


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("batch", batch, "audit many domains from a file, one name a line", commands.tables)
    made.add_argument("file", nargs="?", help="a file, or - for standard input; without it the batches there are")
    made.add_argument("--selector", action="append", default=[], help="a DKIM selector to look for; repeatable")
    made.add_argument("--id", type=positive, help="look at this batch")
    made.add_argument("--stop", action="store_true", help="with --id: stop it")
    made.add_argument("--resume", action="store_true", help="with --id: go on where it stopped")
    made.add_argument("--no-wait", action="store_true", help="only start it")


def batch(session: Session) -> int:
    """Start one, or look at, stop or go on with one. Exit status 3 when a domain has a fault."""
    arguments = session.arguments
    client = session.client
    tenant = session.tenant()
    if arguments.id is None and arguments.file is None:
        batches = client.jobs.list(tenant, kind="batch")
        rows = [(b.id, b.state, b.done, b.total, f"{b.created_at:%Y-%m-%d %H:%M}") for b in batches]
        session.output.table(arguments.format, ("batch", "state", "done", "total", "started"), rows, right=(2, 3))
        return 0
    if arguments.id is None:
        made = client.audits.start_batch(tenant, _names(arguments.file), arguments.selector)
    elif arguments.stop:
        made = client.jobs.stop(tenant, arguments.id)
    elif arguments.resume:
        made = client.jobs.run(tenant, arguments.id)
    else:
        made = client.jobs.get(tenant, arguments.id)
    if arguments.stop or arguments.no_wait:
        session.output.line(f"batch {made.id}: {made.state}, {made.done:,} of {made.total:,}")
        return 0
    _wait(session, tenant, made.id)
    return _show(session, tenant, made.id)


def _names(file: str) -> list[str]:
    try:
        text = sys.stdin.read() if file == "-" else Path(file).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{file} cannot be read: {error}") from None
    names = [line.split("#")[0].split(",")[0].strip() for line in text.splitlines()]
    found = [name for name in names if name]
    if not found:
        raise UsageError(f"{file} holds no names; write one a line")
    return found


def _wait(session: Session, tenant: str, id: int) -> None:
    """Until it ends. Ctrl-C leaves it running, and says how to come back."""
    shown = session.output.err.isatty()
    try:
        while True:
            now = session.client.jobs.get(tenant, id)
            if shown:
                share = now.done / max(1, now.total)
                bar = "█" * round(share * 30)
                print(f"\r{bar:30} {now.done:,} of {now.total:,} ", end="", file=session.output.err, flush=True)
            if now.state not in ("waiting", "running"):
                break
            time.sleep(_POLL)
    except KeyboardInterrupt:
        session.output.say(f"\nBatch {id} goes on. Look: rustgauge batch --id {id}; stop: --id {id} --stop")
        raise
    if shown:
        session.output.say("")
    if now.state != "done":
        session.output.say(f"Batch {id} is {now.state} after {now.done:,} of {now.total:,}. {now.error}")


def _show(session: Session, tenant: str, id: int) -> int:
    form = session.arguments.format
    rows: list[tuple[object, ...]] = []
    faults = 0
    for result in session.client.audits.batch_results(tenant, id):
        faults += bool(result.faults)
        level = "fault" if result.faults else "risk" if result.risks else "sound"
        counts = f"{plural(result.faults, 'fault')}, {plural(result.risks, 'risk')}"
        said = "not audited" if result.problem else counts
        first = result.problem or (result.findings[0].title if result.findings else "nothing wrong was found")
        if form == "text":
            rows.append((result.name, (said, level), first))
        else:
            rows += [(result.name, f.level, f.rule, f.title, f.record, result.problem) for f in result.findings] or [
                (result.name, "", "", "", None, result.problem)
            ]
    long = ("domain", "level", "rule", "title", "record", "problem")
    columns = ("domain", "audit", "first") if form == "text" else long
    session.output.table(form, columns, rows)
    return 3 if faults else 0
