"""`rustgauge relay`: relays that mail leaves by, and what they want published."""

import argparse

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, nearest
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, checked, read_json
from rust_gauge.contract.relays import Relay, RelayDescription, RelayUsage

DEFAULT = "list"
EXAMPLES = (
    "relay list --tenant glasswort",
    "relay show driftline --tenant glasswort --format json",
    "relay set office-1 --own --host 192.0.2.10=mta1.skerry.example --tenant marram",
)

_PER = {"second": "a second", "hour": "an hour", "day": "a day"}


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_relays, "list relays, the records they require, and the domains that use them", TABLE)
    made = noun.add("show", show, "show the description of a relay", DOCUMENT)
    made.add_argument("name")
    made = noun.add("set", set_relay, "describe a relay; replaces the description there is", DOCUMENT)
    made.add_argument("name")
    made.add_argument("--file", help="the whole description as JSON, as `relay show --format json` prints it")
    made.add_argument("--own", action="store_true", help="it is an MTA of yours")
    made.add_argument("--host", action="append", default=[], metavar="IP[=HELO]", help="a sending IP; repeatable")
    made.add_argument("--include", metavar="NAME", help="name for include: in SPF")
    made.add_argument("--network", action="append", default=[], help="network to list in SPF; repeatable")
    made.add_argument("--dkim", action="append", default=[], metavar="SELECTOR=TARGET", help="a key by CNAME")
    made.add_argument("--dkim-txt", action="append", default=[], metavar="SELECTOR[=RECORD]", help="a key by TXT")
    made.add_argument("--return-path", metavar="LABEL=[TYPE:]TARGET", help="host for bounces (mx: or cname:)")
    made.add_argument("--tracking", metavar="LABEL=TARGET", help="host for tracking links")
    made.add_argument("--inbound", action="append", default=[], metavar="PRIORITY:HOST", help="host for inbound mail")
    made = noun.add("usage", usage, "show how far its limits are used; exit with 3 if one is used up", DOCUMENT)
    made.add_argument("name")
    made.add_argument("--period", type=int, default=7, metavar="DAYS",
                      help="of refusals that name too much mail, and of senders that are not proven (7)")  # fmt: skip
    made = noun.add("remove", remove, "remove the description of a relay; events stay")
    made.add_argument("name")
    confirm_option(made)


def list_relays(session: Session) -> int:
    """List relays, described or only seen in events."""
    session.output.items(
        session.arguments.format, session.client.relays.list(session.tenant()), Relay,
        ("relay", "kind", "requires", "limit", "state", "used by"), _row, empty="No relays yet.",
    )  # fmt: skip
    return 0


def _row(relay: Relay) -> tuple[object, ...]:
    kind = "own" if relay.own else "contracted" if relay.described else "not described"
    wants = [f"include:{relay.include}"] if relay.include else []
    wants += [host.ip for host in relay.hosts] + [f"{key.selector} ({key.type})" for key in relay.dkim]
    wants += [f"{r.label} ({r.type})" for r in (relay.return_path, relay.tracking) if r]
    limit = next((f"{limit.per_day:,} a day" for limit in relay.limits if limit.per_day), "")
    state = "restricted" if any(limit.restricted for limit in relay.limits) else ""
    return relay.name, kind, ", ".join(wants), limit, state, ", ".join(relay.domains)


def _find(session: Session, tenant: str) -> Relay:
    name = session.arguments.name
    there = session.client.relays.list(tenant)
    found = next((relay for relay in there if relay.name == name), None)
    if found is None:
        near = nearest(name, [relay.name for relay in there])
        raise UsageError(f"{tenant} has no relay {name!r}" + (f"; did you mean {near}?" if near else ""))
    return found


def show(session: Session) -> int:
    """Show a relay."""
    found = _find(session, session.tenant())
    session.output.json(found)
    return 0


def usage(session: Session) -> int:
    """Show how far the limits of a relay are used. Exit status 3 if one is used up."""
    arguments, output = session.arguments, session.output
    found = session.client.relays.usage(session.tenant(), arguments.name, days=arguments.period)
    output.document(arguments.format, found, lambda: _show_usage(output, found))
    return 3 if any(use.remaining == 0 for state in found.limits for use in state.uses) else 0


def _show_usage(output: Output, found: RelayUsage) -> None:
    if not found.limits:
        output.line(f"No limits of {found.relay} are described: rustgauge relay set {found.relay} --file FILE")
    rows: list[tuple[object, ...]] = []
    for state in found.limits:
        notes = [*(["restricted"] if state.restricted else []), *(["holds mail back"] if state.hold_back else [])]
        for use in state.uses:
            when = "" if use.reached_at is None else f"{use.reached_at:%Y-%m-%d %H:%M}"
            free = "" if use.free_at is None else f"{use.free_at:%Y-%m-%d %H:%M}"
            colour = "fault" if use.remaining == 0 else "sound" if use.used < 0.8 * use.limit else "risk"
            rows.append((state.region or "all", f"{use.limit:,} {_PER[use.per]}", f"{use.used:,}",
                         (f"{use.remaining:,}", colour), when, free, ", ".join(notes)))  # fmt: skip
    if rows:
        output.table(
            ("region", "limit", "used", "remaining", "reached at this pace (UTC)", "room again (UTC)", "state"), rows,
            right=(2, 3),
        )  # fmt: skip
    if found.hits:
        output.line()
        output.line(f"Refusals that name too much mail, last {found.days} days")
        output.table(
            ("provider", "replies", "newest hour (UTC)", "states", "used", "mail then", "most without", "reply"),
            [(f"{hit.label}{' (relay)' if hit.by_relay else ''}", hit.replies, f"{hit.last_at:%Y-%m-%d %H:%M}",
              "" if hit.stated_per is None else f"{hit.stated:,} {_PER[hit.stated_per]}",
              "" if hit.use is None else f"{hit.use.used:,}", hit.mail_then,
              hit.most_without, hit.reply[:80]) for hit in found.hits], right=(1, 4, 5, 6),
        )  # fmt: skip
    for each in found.unproven:
        output.line()
        output.line(output.paint(each.reply[:200], "fault"))
        output.line(f"  {each.replies:,} times, last on {each.last_day}. {each.remedy}")


def set_relay(session: Session) -> int:
    """Describe a relay."""
    arguments, tenant = session.arguments, session.tenant()
    words = _description(arguments)
    if words is None:
        raise UsageError("describe the relay with --own, --host, --include and so on, or with --file")
    description = checked(
        lambda: RelayDescription.model_validate(words), f"{arguments.file}: " if arguments.file else ""
    )
    made = session.client.relays.set(tenant, arguments.name, description)
    session.output.say(f"Saved {made.name}.")
    if arguments.format == "json":
        session.output.json(made)
    return 0


def remove(session: Session) -> int:
    """Remove a description."""
    tenant, name = session.tenant(), session.arguments.name
    if not session.confirm(f"Remove the description of {name}?"):
        return 3
    session.client.relays.delete(tenant, name)
    session.output.say(f"Removed the description of {name}.")
    return 0


def _description(arguments: argparse.Namespace) -> dict[str, object] | None:
    """What the options say; None when they say nothing."""
    if arguments.file:
        read = read_json(arguments.file)
        if not isinstance(read, dict):
            raise UsageError(f"{arguments.file} must hold a JSON object")
        # What `relay show` prints can be set again.
        return {key: value for key, value in read.items() if key in RelayDescription.model_fields}
    words: dict[str, object] = {}
    if arguments.own:
        words["own"] = True
    if arguments.host:
        words["hosts"] = [dict(zip(("ip", "helo"), text.partition("=")[::2], strict=True)) for text in arguments.host]
    if arguments.include:
        words["include"] = arguments.include
    if arguments.network:
        words["networks"] = arguments.network
    keys = [(text, "CNAME") for text in arguments.dkim] + [(text, "TXT") for text in arguments.dkim_txt]
    if keys:
        words["dkim"] = [
            {"selector": text.partition("=")[0], "type": kind, "value": text.partition("=")[2]} for text, kind in keys
        ]
    for name in ("return_path", "tracking"):
        if given := getattr(arguments, name):
            label, _, target = given.partition("=")
            kind, colon, value = target.partition(":")
            words[name] = {
                "label": label,
                "type": kind.upper() if colon else "CNAME",
                "value": value if colon else target,
            }
    if arguments.inbound:
        words["inbound"] = [
            {"priority": int(number) if number.isascii() and number.isdigit() else number, "host": host}
            for number, _, host in (text.partition(":") for text in arguments.inbound)
        ]
    return words or None
