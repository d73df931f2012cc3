"""`rustgauge clearance` and `rustgauge suppression`."""

import sys
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session, UsageError

_BATCH = 5000


def clearance(session: Session) -> int:
    """Exit status 3 when an address is held."""
    arguments = session.arguments
    tenant, held, asked = session.tenant(), 0, 0
    rows: list[tuple[object, ...]] = []
    source = _addresses(arguments.address, arguments.file)
    progress = Progress("Checking", 0)
    while batch := list(islice(source, _BATCH)):
        result = session.client.suppression.clearance(tenant, batch, stream=arguments.stream)
        asked, held = asked + len(batch), held + result.held
        progress.advance(len(batch), f"{asked:,} addresses, {held:,} held")
        for a in result.answers:
            if a.verdict == "held" or not arguments.only_held:
                since = f"{a.since:%Y-%m-%d}" if a.since else ""
                rows.append((a.address, (a.verdict, a.verdict), a.reason.replace("_", " "), since, a.why))
    progress.close()
    if not asked:
        raise UsageError("No addresses. Name them, or a file with one a line, or - for standard input with --file")
    session.output.table(arguments.format, ("address", "verdict", "reason", "since", "why"), rows)
    if arguments.format == "text":
        session.output.say(f"{asked - held:,} clear, {held:,} held.")
    return 3 if held else 0


def _addresses(named: list[str], file: str | None) -> Iterator[str]:
    yield from named
    if file is None:
        return
    try:
        stream = sys.stdin if file == "-" else Path(file).open(encoding="utf-8-sig")  # noqa: SIM115 - see with
        with stream:
            for line in stream:
                if line.strip():
                    yield line.strip()
    except OSError as error:
        raise UsageError(f"{file} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise UsageError(f"{file} is not UTF-8 (octet {error.start + 1}); convert it first") from None


def suppression(session: Session) -> int:
    rows = [
        (
            entry.address,
            entry.reason.replace("_", " "),
            f"{entry.since:%Y-%m-%d %H:%M}",
            entry.times,
            entry.made_by,
            entry.evidence[0].diagnostic if entry.evidence else "",
        )
        for entry in islice(session.client.suppression.list(session.tenant()), session.arguments.limit)
    ]
    columns = ("address", "reason", "since (UTC)", "times", "made by", "evidence")
    session.output.table(session.arguments.format, columns, rows, right=(3,))
    return 0
