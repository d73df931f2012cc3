"""`rustgauge tour`: the first five minutes on the demo, one command after the other, with a line on each."""

import io
import shlex
import sys
from dataclasses import dataclass
from pathlib import Path

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import Noun, positive
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session

DEFAULT = "run"
EXAMPLES = ("tour", "tour --pause", "tour --lines 40")
_NEEDS = "copperline"  # a tenant of the demo
_ZONE = Path("var/demo/zones/copperline.example.zone")
_EVENTS = Path("var/demo/postcards.ndjson")


@dataclass(frozen=True, slots=True)
class _Stop:
    """A stop of the tour: why, and the command."""

    why: str
    command: str


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("run", run, "walk through the demo: what is wrong, why, and what to do", ("text",))
    made.add_argument("--pause", action="store_true", help="wait for Enter between two commands")
    made.add_argument("--lines", type=positive, default=14, help="at most so many lines of each answer (14)")


def run(session: Session) -> int:
    """Walk through the demo. The commands read; only the fix of two SPF records changes a zone file of the demo."""
    output, arguments = session.output, session.arguments
    if _NEEDS not in [tenant.slug for tenant in session.client.who().tenants]:
        raise UsageError("the tour needs the demo: start it with `rustgauged demo`")
    for number, stop in enumerate(_stops(), 1):
        if number > 1 and arguments.pause:
            output.say("Enter: next, Ctrl-C: end")
            sys.stdin.readline()
        output.line()
        output.line(f"{number}. {stop.why}")
        output.line(f"$ rustgauge {stop.command}")
        _show(stop.command, arguments.url, output, arguments.lines)
        if stop.command.startswith("audit copperline") and _fix():
            output.line()
            output.line("   The two SPF records were merged into one in the demo's zone file. Audited again:")
            output.line(f"$ rustgauge {stop.command}")
            _show(stop.command, arguments.url, output, 1)
    output.line()
    output.line("That is the tour. `rustgauge` lists all commands; the console has the same, with search at the key /.")
    return 0


def _stops() -> list[_Stop]:
    events = [_Stop("Events come in by file, feed or API; a bad line spoils only itself.",
                    f"event import {_EVENTS} --tenant copperline")] if _EVENTS.exists() else []  # fmt: skip
    return [
        _Stop("Where do all domains stand, at which mailbox provider?", "wall"),
        _Stop("What is worth doing first?", "worklist"),
        _Stop("What is wrong with one domain, down to the record to publish?", "audit copperline.example"),
        *events,
        _Stop("Why does mail bounce, and where?", "flow causes --tenant glasswort"),
        _Stop("Whose mail was that? Replies are searched by their words.",
              'trail --reply "over quota" --tenant glasswort --limit 5'),
        _Stop("Which rates changed suddenly?", "flow shifts --tenant halyard"),
        _Stop("Who sends as this domain, by what receivers report?", "dmarc thornfieldseeds.example"),
        _Stop("What would p=reject do?", "dmarc rehearse thornfieldseeds.example"),
        _Stop("Which records should a new subdomain publish, and what was pasted wrongly?",
              "plan boxoffice.glasswort.example"),
        _Stop("What is a reading made of?", "reading news.glasswort.example"),
        _Stop("May these addresses be mailed?", "clearance visitor@tidepost.example nobody --tenant copperline"),
        _Stop("Where is something by that name?", "search catalogue"),
    ]  # fmt: skip


def _show(command: str, url: str, output: Output, most: int) -> None:
    """Run a command as the terminal would, and show the beginning of its answer."""
    from rust_gauge.cli.main import main

    answer = io.StringIO()
    main(["--url", url, *shlex.split(command)], Output(answer, answer))
    lines = answer.getvalue().rstrip().splitlines()
    for line in lines[:most]:
        output.line(f"   {line}")
    if len(lines) > most > 1:
        output.line(f"   ... {len(lines) - most} more lines")


def _fix() -> bool:
    """Merge the demo's two SPF records, where its zone file is here and still has both."""
    try:
        lines = _ZONE.read_text().splitlines(keepends=True)
    except OSError:
        return False
    kept = [line for line in lines if '"v=spf1 include:spf.cobble' not in line]
    if len(kept) == len(lines):
        return False
    one = '"v=spf1 ip4:192.0.2.40/29 ~all"'
    _ZONE.write_text("".join(kept).replace(one, '"v=spf1 ip4:192.0.2.40/29 include:spf.cobble.example ~all"'))
    return True
