"""`rustgauge stream`: kinds of mail of a domain, and streams that are paused."""

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import TABLE, Noun, confirm_option, nearest, reason_option
from rust_gauge.cli.output import plural
from rust_gauge.cli.session import Session, checked
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.worklist import StreamPause, StreamPauseChange

DEFAULT = "list"
EXAMPLES = (
    "stream list news.glasswort.example",
    "stream set news.glasswort.example newsletter --relay driftline --selector d1",
    "stream paused --tenant glasswort",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("list", list_streams, "list the streams of a domain", TABLE)
    made.add_argument("domain")
    made = noun.add("set", set_stream, "describe how one kind of mail of a domain is sent")
    made.add_argument("domain")
    made.add_argument("name", help="such as newsletter")
    made.add_argument("--header-from", default="", help="domain in From (the domain itself)")
    made.add_argument("--relay", action="append", default=[], help="a relay that carries it; repeatable")
    made.add_argument("--envelope", default="", help="domain of MAIL FROM")
    made.add_argument("--dkim-domain", default="", help="d= of the signatures")
    made.add_argument("--selector", default="", help="s= of the signatures")
    made.add_argument("--helo", default="", help="HELO name")
    made.add_argument("--ip", action="append", default=[], help="a sending IP; repeatable")
    made = noun.add("remove", remove, "remove a stream from a domain; events stay")
    made.add_argument("domain")
    made.add_argument("name")
    confirm_option(made)
    noun.add("paused", paused, "list paused streams", TABLE)
    for verb, run, help in (
        ("pause", pause, "pause a stream: clearance holds all of its mail"),
        ("resume", resume, "resume a paused stream"),
    ):
        made = noun.add(verb, run, help)
        made.add_argument("name")
        made.add_argument("--relay", default="", help="only over this relay (any)")
        reason_option(made, "recorded, and shown to whoever asks for clearance")


def list_streams(session: Session) -> int:
    """List streams."""
    arguments = session.arguments
    domain = session.client.domains.get(session.tenant(arguments.domain), arguments.domain)
    session.output.items(
        arguments.format, domain.streams, StreamPath,
        ("stream", "From", "envelope", "d=", "s=", "relays", "HELO", "IPs"),
        lambda s: (s.name, s.header_from or domain.name, s.envelope, s.dkim_domain, s.selector,
                   " ".join([s.relay, *s.relays]).strip(), s.helo, " ".join(s.ips)),
        empty=f"No streams described. Describe one: rustgauge stream set {domain.name} NAME --relay RELAY",
    )  # fmt: skip
    return 0


def set_stream(session: Session) -> int:
    """Describe a stream; the others stay."""
    arguments = session.arguments
    tenant = session.tenant(arguments.domain)
    domain = session.client.domains.get(tenant, arguments.domain)
    relays = arguments.relay
    made = checked(
        lambda: StreamPath(
            name=arguments.name, header_from=arguments.header_from, envelope=arguments.envelope,
            dkim_domain=arguments.dkim_domain, selector=arguments.selector, relay=relays[0] if relays else "",
            relays=relays[1:], helo=arguments.helo, ips=arguments.ip,
        )
    )  # fmt: skip
    streams = [*(stream for stream in domain.streams if stream.name != made.name), made]
    session.client.domains.update(tenant, arguments.domain, DomainChange(streams=streams))
    session.output.say(f"Saved {made.name}. {domain.name} has {plural(len(streams), 'stream')}.")
    return 0


def remove(session: Session) -> int:
    """Remove a stream."""
    arguments = session.arguments
    tenant = session.tenant(arguments.domain)
    there = session.client.domains.get(tenant, arguments.domain).streams
    left = [stream for stream in there if stream.name != arguments.name]
    if len(left) == len(there):
        near = nearest(arguments.name, [stream.name for stream in there])
        raise UsageError(
            f"{arguments.domain} has no stream {arguments.name!r}" + (f"; did you mean {near}?" if near else "")
        )
    if not session.confirm(f"Remove the stream {arguments.name} from {arguments.domain}?"):
        return 3
    session.client.domains.update(tenant, arguments.domain, DomainChange(streams=left))
    session.output.say(f"Removed {arguments.name}.")
    return 0


def paused(session: Session) -> int:
    """List paused streams. Exit status 3 when there is one."""
    found = session.client.worklist.pauses(session.tenant())
    session.output.items(
        session.arguments.format, found, StreamPause, ("stream", "relay", "since (UTC)", "paused by", "reason"),
        lambda p: (p.stream, p.relay or "any", f"{p.since:%Y-%m-%d %H:%M}", p.by or "a stop line", p.why),
        empty="No stream is paused.",
    )  # fmt: skip
    return 3 if found else 0


def pause(session: Session) -> int:
    """Pause a stream over a relay, or over any."""
    arguments = session.arguments
    change = StreamPauseChange(stream=arguments.name, relay=arguments.relay, why=arguments.reason)
    session.client.worklist.pause_stream(session.tenant(), change)
    session.output.say(f"Paused {arguments.name}. Resume it: rustgauge stream resume {arguments.name} --reason TEXT")
    return 0


def resume(session: Session) -> int:
    """Resume a stream."""
    arguments = session.arguments
    change = StreamPauseChange(stream=arguments.name, relay=arguments.relay, why=arguments.reason)
    session.client.worklist.resume_stream(session.tenant(), change)
    session.output.say(f"Resumed {arguments.name}.")
    return 0
