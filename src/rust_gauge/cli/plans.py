"""`rustgauge plan` (what to publish, and what became of it); `relays`, `relay` and `stream`, from which it is made."""

import argparse
import json
from pathlib import Path

from pydantic import ValidationError

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.plans import Plan, PlanRecord, PlanSettings, RecordPiece, SpfWay
from rust_gauge.contract.relays import RelayDescription

COLOURS = {"matches": "sound", "spreading": "risk", "waiting": "dim", "unanswered": "dim"}
_COLUMNS = ("purpose", "host", "type", "priority", "ttl", "value", "state", "causes", "zone_line")


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("plan", plan, "all records that a domain ought to publish, and what became of them")
    made.add_argument("domain")
    made.add_argument("--format", choices=("text", "json", "csv", "zone"), default="text")
    made.add_argument("--no-check", action="store_true", help="only what to publish; look at nothing")
    made.add_argument("--host-form", choices=("host", "host_or_blank", "host_full", "host_with_dot"), default="host",
                      help="how hosts are written: in the zone (@ for itself), whole, with the last dot")  # fmt: skip
    made.add_argument("--stage", choices=("watch", "quarantine", "reject"), help="how strict the DMARC policy is")
    made.add_argument("--reports-to", metavar="ADDRESS", help="where aggregate reports go")
    made.add_argument("--spf", action="append", default=[], metavar="RELAY=WAY",
                      help="list, move, drop or include a relay in the SPF record; repeatable")  # fmt: skip
    made.add_argument("--spf-ending", choices=("~all", "-all"), help="how the SPF record ends")
    made.add_argument("--keep", action="append", default=[], metavar="TERM", help="keep this SPF term; repeatable")
    made.add_argument("--ttl", type=positive, help="seconds that resolvers may hold the records")
    made.add_argument("--mta-sts", choices=("off", "testing", "enforce"), help="plan an MTA-STS policy")
    made.add_argument("--mta-sts-host", metavar="HOST", help="the host that serves it")
    made.add_argument("--tls-reports-to", metavar="ADDRESS", help="where TLS reports go")
    made.add_argument("--key", metavar="SELECTOR", help="make a DKIM key; prints the private half, this once")
    made.add_argument("--key-kind", choices=("rsa2048", "ed25519"), default="rsa2048")
    commands.add("relays", list_relays, "relays, what they want published, who uses them", commands.tables)
    made = commands.add("relay", relay, "describe a relay, or show what is said of it")
    made.add_argument("name")
    made.add_argument("--own", action="store_true", help="an MTA of ours")
    made.add_argument("--host", action="append", default=[], metavar="IP[=HELO]", help="a sending address; repeatable")
    made.add_argument("--include", metavar="NAME", help="what goes behind include: in SPF")
    made.add_argument("--network", action="append", default=[], help="addresses to list in SPF; repeatable")
    made.add_argument("--dkim", action="append", default=[], metavar="SELECTOR=TARGET", help="a key by CNAME")
    made.add_argument("--dkim-txt", action="append", default=[], metavar="SELECTOR[=RECORD]", help="a key by TXT")
    made.add_argument("--return-path", metavar="LABEL=[TYPE:]TARGET", help="host for returned mail (mx: or cname:)")
    made.add_argument("--tracking", metavar="LABEL=TARGET", help="host for counted links")
    made.add_argument("--inbound", action="append", default=[], metavar="PRIORITY:HOST", help="takes in mail")
    made.add_argument("--file", help="the whole description as JSON, with limits and lines")
    made.add_argument("--forget", action="store_true", help="forget what was said of it")
    made = commands.add("stream", stream, "say how one kind of mail of a domain is sent")
    made.add_argument("domain")
    made.add_argument("name", help="such as newsletter")
    made.add_argument("--relay", action="append", default=[], help="carries it; repeatable")
    made.add_argument("--envelope", default="", help="domain of MAIL FROM")
    made.add_argument("--dkim-domain", default="", help="d= of its signatures")
    made.add_argument("--selector", default="", help="s= of its signatures")
    made.add_argument("--helo", default="", help="the name that it greets with")
    made.add_argument("--ip", action="append", default=[], help="an address that it comes from; repeatable")
    made.add_argument("--forget", action="store_true", help="take the stream out")


def plan(session: Session) -> int:
    """Exit status 3 when something of it is not published as planned."""
    arguments, output = session.arguments, session.output
    tenant = session.tenant(arguments.domain)
    client = session.client.plans
    if arguments.key:
        return _key(session, tenant)
    changed = _chosen(arguments, client.get(tenant, arguments.domain).settings)
    if changed is not None:
        client.choose(tenant, arguments.domain, changed)
    done = client.get(tenant, arguments.domain) if arguments.no_check else client.check(tenant, arguments.domain)
    if arguments.format == "json":
        output.json(done)
    elif arguments.format == "zone":
        for line in zone_fragment(done):
            output.line(line)
    elif arguments.format == "csv":
        output.table("csv", _COLUMNS, [_row(record) for record in done.records])
    else:
        show_plan(output, done, arguments.host_form)
    return 0 if arguments.no_check or done.right == done.total else 3


def _chosen(arguments: argparse.Namespace, now: PlanSettings) -> PlanSettings | None:
    """The settings with what the words change; None when they change nothing."""
    names = ("stage", "reports_to", "spf_ending", "ttl", "mta_sts", "mta_sts_host", "tls_reports_to")
    given = {name: getattr(arguments, name) for name in names if getattr(arguments, name) is not None}
    if given.get("mta_sts") == "off":
        given["mta_sts"] = ""
    ways = {spf_way.relay: spf_way.way for spf_way in now.spf_ways}
    for text in arguments.spf:
        relay, equals, way = text.rpartition("=")
        if not equals or way not in ("list", "move", "drop", "include"):
            raise UsageError(f"--spf {text}: write RELAY=list, move, drop or include")
        ways.pop(relay, None)
        if way != "include":
            ways[relay] = way
        given["spf_ways"] = [SpfWay(relay=name, way=chosen) for name, chosen in ways.items()]
    if arguments.keep:
        given["keep_terms"] = list(dict.fromkeys([*now.keep_terms, *arguments.keep]))
    return now.model_copy(update=given) if given else None


def _key(session: Session, tenant: str) -> int:
    arguments, output = session.arguments, session.output
    made = session.client.plans.make_key(tenant, arguments.domain, arguments.key, arguments.key_kind)
    if arguments.format == "json":
        output.json(made)
        return 0
    output.say(f"{made.name}: the public half is in the plan now. The private half follows, this once; it is not kept:")
    output.line(made.private_key.rstrip("\n"))
    return 0


def zone_fragment(done: Plan) -> list[str]:
    """The plan as lines of a zone file; what cannot be published yet, or not here, as comments."""
    lines = [f"; {done.domain}: {plural(done.total, 'record')} for the zone {done.zone}"]
    for record in done.records:
        off = "; " if record.elsewhere or record.waits_for else ""
        lines.append(f"; {record.why}" + (f" - waits for {record.waits_for}" if record.waits_for else ""))
        lines.append(off + record.forms.zone_line)
    return lines


def _row(record: PlanRecord) -> tuple[object, ...]:
    state = record.check.state if record.check else ""
    causes = "; ".join(cause.text for cause in record.check.causes) if record.check else ""
    host, line = record.forms.host_full, record.forms.zone_line
    return (record.purpose, host, record.type, record.priority, record.ttl, record.value, state, causes, line)


def show_plan(output: Output, done: Plan, host_form: str = "host") -> None:
    """For people: the merged SPF and its price, each record with its state, advice."""
    said = f"{done.right} of {plural(done.total, 'record')} published as planned" if done.checked_at else "not compared"
    output.line(f"{output.paint(done.domain, 'bold')} in the zone {done.zone}: {said}")
    for merged in done.spf:
        if merged.lookups > 10:
            output.line(output.paint(f"SPF of {merged.name} needs {merged.lookups} of 10 look-ups. Ways out:", "fault"))
            for option in merged.options[:6]:
                output.line(f"  --spf {option.relay}={option.way}: {option.lookups_after} look-ups; {option.price}")
        for problem in merged.problems:
            output.line(output.paint(f"SPF of {merged.name}: {problem}", "risk"))
    for record in done.records:
        _show_record(output, record, host_form)
    for advice in done.advice:
        output.line()
        output.line(output.paint(advice.title, "bold"))
        output.line(f"    {advice.why}")


def _show_record(output: Output, record: PlanRecord, host_form: str) -> None:
    check = record.check
    state = check.state if check else "planned"
    host = getattr(record.forms, host_form)
    priority = f" priority {record.priority}" if record.priority is not None else ""
    output.line()
    where = output.paint(" (not in your zone)", "dim") if record.elsewhere else ""
    colour = COLOURS.get(state, "fault" if check else "dim")
    output.line(f"{output.paint(f'{state:>10}', colour)}  "
                f"{output.paint(host or '(empty)', 'bold')}  {record.type}{priority}  TTL {record.ttl}"
                + where)  # fmt: skip
    nothing = f"(waits for {record.waits_for})" if record.waits_for else "."
    taken = check.published[0] if check and record.waits_for and check.state == "matches" and check.published else ""
    output.line(f"{'':12}{record.value or taken or output.paint(nothing, 'dim')}")
    output.line(output.paint(f"{'':12}{record.why}", "dim"))
    if check is None:
        return
    if check.detail:
        output.line(f"{'':12}{check.detail}")
    if check.found_at:
        output.line(f"{'':12}found at {output.paint(check.found_at, 'bold')}: {check.found_value[:200]}")
    if check.state not in ("matches", "missing"):
        for value in check.published:
            output.line(f"{'':12}published: {value}")
        if any(piece.kind != "same" for piece in check.pieces):
            output.line(f"{'':12}{shown_pieces(output, check.pieces)}")
    for cause in check.causes:
        at = f" (character {cause.column})" if cause.column else ""
        output.line(f"{'':12}{output.paint('→', 'risk')} {cause.text}{at}")


def shown_pieces(output: Output, pieces: list[RecordPiece]) -> str:
    """The comparison on one line: {-only planned-} and {+only published+}; long stretches that agree are shortened."""
    out = []
    for piece in pieces:
        if piece.kind == "same":
            text = piece.planned
            out.append(text if len(text) <= 40 else f"{text[:16]} … {text[-16:]}")
            continue
        if piece.planned:
            out.append(output.paint(f"{{-{_short(piece.planned)}-}}", "sound"))
        if piece.published:
            out.append(output.paint(f"{{+{_short(piece.published)}+}}", "fault"))
    return "".join(out)


def _short(text: str) -> str:
    return text if len(text) <= 60 else f"{text[:40]} … {text[-16:]}"


# What a plan is made from


def list_relays(session: Session) -> int:
    rows = []
    for relay in session.client.relays.list(session.tenant()):
        kind = "own" if relay.own else "contracted" if relay.described else "not described"
        wants = [f"include:{relay.include}"] if relay.include else []
        wants += [host.ip for host in relay.hosts] + [f"{key.selector} ({key.type})" for key in relay.dkim]
        wants += [f"{r.label} ({r.type})" for r in (relay.return_path, relay.tracking) if r]
        limit = next((f"{limit.per_day:,} a day" for limit in relay.limits if limit.per_day), "")
        trial = "trial" if any(limit.trial for limit in relay.limits) else ""
        rows.append((relay.name, kind, ", ".join(wants), limit, trial, ", ".join(relay.domains)))
    session.output.table(session.arguments.format, ("relay", "kind", "wants", "limit", "state", "used by"), rows)
    return 0


def relay(session: Session) -> int:
    """Describe a relay, or show what is said of it."""
    arguments, output = session.arguments, session.output
    tenant = session.tenant()
    if arguments.forget:
        session.client.relays.forget(tenant, arguments.name)
        output.line(f"Nothing is said of {arguments.name} any more")
        return 0
    words = _relay_words(arguments)
    if words is not None:
        try:
            description = RelayDescription.model_validate(words)
        except ValidationError as error:
            first = error.errors()[0]
            raise UsageError(f"{'.'.join(map(str, first['loc']))}: {first['msg']}") from None
        output.json(session.client.relays.describe(tenant, arguments.name, description))
        return 0
    found = next((relay for relay in session.client.relays.list(tenant) if relay.name == arguments.name), None)
    if found is None:
        raise UsageError(f"There is no relay {arguments.name}. Describe it with --own, --host, --include ... or --file")
    output.json(found)
    return 0


def _relay_words(arguments: argparse.Namespace) -> dict[str, object] | None:
    if arguments.file:
        try:
            read = json.loads(Path(arguments.file).read_text("utf-8"))
        except (OSError, ValueError) as error:
            raise UsageError(f"{arguments.file} cannot be read: {error}") from None
        if not isinstance(read, dict):
            raise UsageError(f"{arguments.file} is no description: a JSON object is wanted")
        return read
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
            {"priority": text.partition(":")[0], "host": text.partition(":")[2]} for text in arguments.inbound
        ]
    return words or None


def stream(session: Session) -> int:
    """Say how one kind of mail of a domain is sent; others stay."""
    arguments = session.arguments
    tenant = session.tenant(arguments.domain)
    domain = session.client.domains.get(tenant, arguments.domain)
    others = [stream_path for stream_path in domain.streams if stream_path.name != arguments.name]
    if arguments.forget:
        changed = others
    else:
        relays = arguments.relay
        try:
            made = StreamPath(
                name=arguments.name,
                envelope=arguments.envelope,
                dkim_domain=arguments.dkim_domain,
                selector=arguments.selector,
                relay=relays[0] if relays else "",
                relays=relays[1:],
                helo=arguments.helo,
                ips=arguments.ip,
            )
        except ValidationError as error:
            first = error.errors()[0]
            raise UsageError(f"{'.'.join(map(str, first['loc']))}: {first['msg']}") from None
        changed = [*others, made]
    session.client.domains.change(tenant, arguments.domain, DomainChange(streams=changed))
    session.output.line(f"{arguments.domain} has {plural(len(changed), 'stream')}: "
                        + ", ".join(stream_path.name for stream_path in changed))  # fmt: skip
    return 0
