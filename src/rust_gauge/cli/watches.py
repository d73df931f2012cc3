"""`rustgauge watch`: how a change of records spreads over name servers and resolvers."""

import time

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session
from rust_gauge.contract.watches import Watch

_POLL = 2.0  # seconds between looks at a watch that runs
_MARKS = {
    "new": ("has it", "sound"),
    "old": ("old", "risk"),
    "nothing": ("nothing", "risk"),
    "failed": ("failed", "fault"),
}


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add(
        "watch", watch, "how a change of records spreads over name servers and resolvers", commands.brief
    )
    made.add_argument("domain")
    made.add_argument("--record", action="append", default=[], metavar="KEY",
                      help="only this record of the plan (as the JSON of plan names it); repeatable")  # fmt: skip
    made.add_argument("--wait", action="store_true", help="until everybody has it or the watch gives up")
    made.add_argument("--hours", type=positive, default=48, help="give up after so long (48)")
    made.add_argument("--list", action="store_true", help="the newest watches of the domain")
    made.add_argument("--id", type=positive, help="look at this watch")
    made.add_argument("--stop", action="store_true", help="stop it")


def watch(session: Session) -> int:
    """Start one, or look at or stop one. Exit status 3 while not everybody has the records."""
    arguments = session.arguments
    client = session.client.watches
    tenant = session.tenant(arguments.domain)
    if arguments.id is None:
        running = [watch for watch in client.list(tenant, arguments.domain) if watch.state == "running"]
        if arguments.list:
            rows = [
                (w.id, w.state, w.said, f"{w.created_at:%Y-%m-%d %H:%M}") for w in client.list(tenant, arguments.domain)
            ]
            form = arguments.format if arguments.format == "json" else "text"
            session.output.table(form, ("watch", "state", "how it stands", "started"), rows)
            return 0
        id = running[0].id if running and not arguments.record else client.start(
            tenant, arguments.domain, arguments.record, arguments.hours).id  # fmt: skip
    else:
        id = arguments.id
    if arguments.stop:
        session.output.line(f"watch {id}: {client.stop(tenant, id).state}")
        return 0
    seen = _wait(session, tenant, id) if arguments.wait else client.look(tenant, id)
    if arguments.format == "json":
        session.output.json(seen)
    else:
        show_watch(session.output, seen)
    return 0 if seen.state == "agreed" else 3


def _wait(session: Session, tenant: str, id: int) -> Watch:
    """Until it ends, telling what changes. Ctrl-C leaves it running, and says how to come back."""
    said = ""
    client = session.client.watches
    try:
        while True:
            seen = client.get(tenant, id)
            if seen.said != said:
                said = seen.said
                when = f"; it looks again at {seen.next_at:%H:%M:%S} UTC" if seen.next_at else ""
                session.output.say(f"{said}{when}")
            if seen.state != "running":
                return seen
            time.sleep(_POLL)
    except KeyboardInterrupt:
        session.output.say(f"The watch goes on. Look: rustgauge watch {seen.domain} --id {id} --wait; stop: --stop")
        raise


def show_watch(output: Output, seen: Watch) -> None:
    """Servers as rows, records as columns: who has what, and who will have it when."""
    colour = {"agreed": "sound", "gave_up": "fault"}.get(seen.state, "risk")
    output.line(f"watch {seen.id} of {output.paint(seen.domain, 'bold')}: {output.paint(seen.said, colour)}")
    for number, record in enumerate(seen.records, 1):
        output.line(f"  {number}  {record.name} {record.type}: {record.seen_by} of {record.asked}")
    held = {(sighting.server, sighting.key): sighting for sighting in seen.sightings}
    rows: list[list[object]] = []
    for server in seen.servers:
        cells: list[object] = [server.label, "zone" if server.own else "resolver"]
        for record in seen.records:
            found = held.get((server.label, record.key))
            if found is None:
                cells.append("")
                continue
            word, paint = _MARKS[found.holds]
            until = f" until {found.until:%H:%M:%S}" if found.until and found.holds in ("old", "nothing") else ""
            cells.append((word + until, paint))
        rows.append(cells)
    output.line()
    output.table("text", ("server", "kind", *(str(n) for n in range(1, len(seen.records) + 1))), rows)
