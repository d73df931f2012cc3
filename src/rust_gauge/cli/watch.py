"""`rustgauge watch`: propagation of a record change over name servers and resolvers."""

import time

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, number_id, positive
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, read_model
from rust_gauge.contract.watches import Watch, WatchSettings

DEFAULT = "start"
EXAMPLES = (
    "watch boxoffice.glasswort.example",
    "watch show 1 --tenant glasswort",
    "watch list boxoffice.glasswort.example",
)
_POLL = 2.0  # seconds between requests while a watch runs
_HOLDS = {
    "new": ("has it", "sound"),
    "old": ("old value", "risk"),
    "nothing": ("nothing", "risk"),
    "failed": ("no answer", "fault"),
}


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("start", start, "watch until all servers have the records of a domain's plan", DOCUMENT)
    made.add_argument("domain")
    made.add_argument("--record", action="append", default=[], metavar="KEY",
                      help="only this record; `plan show --format json` has the keys; repeatable")  # fmt: skip
    made.add_argument("--wait", action="store_true", help="wait until the watch ends")
    made.add_argument("--hours", type=positive, default=48, help="give up after this many hours (48)")
    made = noun.add("list", list_watches, "list the watches of a domain, newest first", TABLE)
    made.add_argument("domain")
    made = noun.add("show", show, "show a watch", DOCUMENT)
    made.add_argument("watch", type=number_id)
    made.add_argument("--wait", action="store_true", help="wait until the watch ends")
    made = noun.add("recheck", recheck, "ask all servers now", DOCUMENT)
    made.add_argument("watch", type=number_id)
    made = noun.add("cancel", cancel, "cancel a watch")
    made.add_argument("watch", type=number_id)
    made = noun.add("settings", settings, "show which resolvers watches ask, or set them", DOCUMENT)
    made.add_argument("--set", metavar="FILE", help="set them from a JSON file, as --format json prints them")


def start(session: Session) -> int:
    """Start a watch, or show the one that runs. Exit status 3 while not all servers have the records."""
    arguments = session.arguments
    tenant, client = session.tenant(arguments.domain), session.client.watches
    running = [watch for watch in client.list(tenant, arguments.domain) if watch.state == "running"]
    made = running[0] if running and not arguments.record else client.start(
        tenant, arguments.domain, arguments.record, arguments.hours)  # fmt: skip
    seen = _wait(session, tenant, made.id) if arguments.wait else client.recheck(tenant, made.id)
    return _shown(session, seen)


def _shown(session: Session, seen: Watch) -> int:
    session.output.document(session.arguments.format, seen, lambda: show_watch(session.output, seen))
    return 0 if seen.state == "agreed" else 3


def list_watches(session: Session) -> int:
    """List watches."""
    name = session.arguments.domain
    session.output.items(
        session.arguments.format, session.client.watches.list(session.tenant(name), name), Watch,
        ("watch", "state", "summary", "started (UTC)"),
        lambda w: (w.id, w.state.replace("_", " "), w.summary, f"{w.created_at:%Y-%m-%d %H:%M}"),
        right=(0,), empty=f"No watches yet. Start one: rustgauge watch {name}",
    )  # fmt: skip
    return 0


def show(session: Session) -> int:
    """Show a watch. Exit status 3 while not all servers have the records."""
    arguments, tenant = session.arguments, session.tenant()
    if arguments.wait:
        return _shown(session, _wait(session, tenant, arguments.watch))
    return _shown(session, session.client.watches.get(tenant, arguments.watch))


def recheck(session: Session) -> int:
    """Ask all servers now."""
    return _shown(session, session.client.watches.recheck(session.tenant(), session.arguments.watch))


def cancel(session: Session) -> int:
    """Cancel a watch."""
    id = session.arguments.watch
    state = session.client.watches.cancel(session.tenant(), id).state
    session.output.say(f"Watch {id} is {state.replace('_', ' ')}.")
    return 0


def settings(session: Session) -> int:
    """Show or set the resolvers that watches ask."""
    arguments, tenant, output = session.arguments, session.tenant(), session.output
    client = session.client.watches
    if arguments.set:
        client.set_settings(tenant, read_model(arguments.set, WatchSettings, "rustgauge watch settings --format json"))
        output.say("Saved.")
    found = client.settings(tenant)

    def text() -> None:
        rows = [(r.label, r.address, "this tenant") for r in found.resolvers]
        rows += [(name.partition("=")[0], name.partition("=")[2], "the service") for name in found.given]
        output.table(("resolver", "address", "set by"), rows)

    output.document(arguments.format, found, text)
    return 0


def _wait(session: Session, tenant: str, id: int) -> Watch:
    """Wait until it ends, and say what changes. Ctrl-C leaves it running."""
    summary, client = "", session.client.watches
    try:
        while True:
            seen = client.get(tenant, id)
            if seen.summary != summary:
                summary = seen.summary
                when = f"; next check at {seen.next_at:%H:%M:%S} UTC" if seen.next_at else ""
                session.output.say(f"{summary}{when}")
            if seen.state != "running":
                return seen
            time.sleep(_POLL)
    except KeyboardInterrupt:
        session.output.say(f"Watch {id} continues. See: rustgauge watch show {id} --wait")
        raise


def show_watch(output: Output, seen: Watch) -> None:
    """Show servers as rows and records as columns: who has what, and until when an old answer is held."""
    colour = {"agreed": "sound", "gave_up": "fault"}.get(seen.state, "risk")
    output.line(f"watch {seen.id} of {output.paint(seen.domain, 'bold')}: {output.paint(seen.summary, colour)}")
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
            word, paint = _HOLDS[found.holds]
            until = f" until {found.until:%H:%M:%S}" if found.until and found.holds in ("old", "nothing") else ""
            cells.append((word + until, paint))
        rows.append(cells)
    output.line()
    output.table(("server", "kind", *(str(n) for n in range(1, len(seen.records) + 1))), rows)
