"""`rustgauge plan`: records that a domain should publish, their state, publishing by dynamic update (RFC 2136)."""

import argparse

from pydantic import SecretStr

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id, positive
from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.plan_view import COLUMNS, row_of, show_plan, zone_fragment
from rust_gauge.cli.session import Session, checked, read_secret, write_bytes
from rust_gauge.contract.plans import PlanSettings, SpfWay, StsServing
from rust_gauge.contract.publishing import NewUpdateServer, Publication, RrsetChange, UpdateServer

DEFAULT = "show"
EXAMPLES = (
    "plan boxoffice.glasswort.example",
    "plan show copperline.example --format zone",
    "plan set news.glasswort.example --stage quarantine",
)
_HOST_FORMS = ("host", "host_or_blank", "host_full", "host_with_dot")


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("show", show, "show the plan of a domain, compared with DNS", ("text", "json", "csv", "zone"))
    made.add_argument("domain")
    made.add_argument("--no-check", action="store_true", help="do not compare it with DNS")
    made.add_argument("--host-form", choices=_HOST_FORMS, default="host",
                      help="form of host names: in the zone (@ for the zone), full, with a final dot")  # fmt: skip
    made = noun.add("set", set_plan, "change the settings of a plan, and show it", DOCUMENT)
    made.add_argument("domain")
    made.add_argument("--stage", choices=("watch", "quarantine", "reject"), help="how strict the DMARC policy is")
    made.add_argument("--reports-to", metavar="ADDRESS", help="address for DMARC aggregate reports")
    made.add_argument("--spf", action="append", default=[], metavar="RELAY=WAY",
                      help="list, move, drop or include a relay in the SPF record; repeatable")  # fmt: skip
    made.add_argument("--spf-ending", choices=("~all", "-all"), help="how the SPF record ends")
    made.add_argument("--keep", action="append", default=[], metavar="TERM", help="keep this SPF term; repeatable")
    made.add_argument("--ttl", type=positive, help="TTL of the records, in seconds")
    made.add_argument("--mta-sts", choices=("off", "testing", "enforce"), help="mode of the MTA-STS policy")
    made.add_argument("--mta-sts-host", metavar="HOST", help="the host that serves the MTA-STS policy")
    made.add_argument("--tls-reports-to", metavar="ADDRESS", help="address for TLS reports")
    made = noun.add("sts", sts, "the MTA-STS policy that is served, and the steps to the planned one", DOCUMENT)
    made.add_argument("domain")
    made.add_argument("--serve", action="store_true", help="serve the policy of the next step, under a new id")
    made.add_argument("--file", metavar="FILE", help="write the planned policy there, to serve it elsewhere")
    made = noun.add("add-key", add_key, "create a DKIM key; prints the private half (shown only once)", DOCUMENT)
    made.add_argument("domain")
    made.add_argument("selector")
    made.add_argument("--kind", choices=("rsa2048", "ed25519"), default="rsa2048", help="type of the key (rsa2048)")
    made.add_argument("--replace", action="store_true", help="replace the key that the plan has at this selector")
    made = noun.add("publish", publish, "publish the plan by dynamic update; shows the change first", DOCUMENT)
    made.add_argument("domain")
    made.add_argument("--record", action="append", default=[], metavar="KEY", help="only this record; repeatable")
    confirm_option(made)
    made = noun.add("publications", publications, "list the changes that were published", TABLE)
    made.add_argument("domain")
    made = noun.add("rollback", rollback, "undo a published change", DOCUMENT)
    made.add_argument("publication", type=number_id)
    confirm_option(made)
    noun.add("servers", servers, "list the servers that accept dynamic updates", TABLE)
    made = noun.add("set-server", set_server, "set the server and TSIG key for a zone")
    made.add_argument("zone")
    made.add_argument("--address", required=True, help="IP or IP:port of the primary server")
    made.add_argument("--key-name", required=True, help="name of the TSIG key")
    made.add_argument(
        "--algorithm",
        choices=("hmac-sha256", "hmac-sha384", "hmac-sha512"),
        default="hmac-sha256",
        help="algorithm of the TSIG key (hmac-sha256)",
    )
    made.add_argument("--secret-file", required=True, help="file with the secret in base64; - for standard input")
    made.add_argument(
        "--overlap-hours", type=int, default=0, help="how long the key before is tried when this one is refused (0)"
    )
    made = noun.add("remove-server", remove_server, "remove the server and TSIG key of a zone")
    made.add_argument("zone")
    confirm_option(made)


def show(session: Session) -> int:
    """Show a plan. Exit status 3 when a record is not published as planned."""
    arguments = session.arguments
    tenant, client = session.tenant(arguments.domain), session.client.plans
    done = client.get(tenant, arguments.domain) if arguments.no_check else client.check(tenant, arguments.domain)
    output = session.output
    if arguments.format == "json":
        output.json(done)
    elif arguments.format == "zone":
        for line in zone_fragment(done):
            output.line(line)
    elif arguments.format == "csv":
        output.rows("csv", COLUMNS, [row_of(record) for record in done.records])
    else:
        show_plan(output, done, arguments.host_form)
    return 0 if arguments.no_check or done.right == done.total else 3


def set_plan(session: Session) -> int:
    """Change settings; those that are not given stay."""
    arguments = session.arguments
    tenant, client = session.tenant(arguments.domain), session.client.plans
    wanted = _chosen(arguments, client.get(tenant, arguments.domain).settings)
    if wanted is None:
        raise UsageError("name a setting to change; see rustgauge plan set --help")
    client.set_settings(tenant, arguments.domain, wanted)
    session.output.say("Saved.")
    done = client.check(tenant, arguments.domain)
    session.output.document(arguments.format, done, lambda: show_plan(session.output, done))
    return 0 if done.right == done.total else 3


def _chosen(arguments: argparse.Namespace, now: PlanSettings) -> PlanSettings | None:
    """The settings with what the options change; None when they change nothing."""
    names = ("stage", "reports_to", "spf_ending", "ttl", "mta_sts", "mta_sts_host", "tls_reports_to")
    given = {name: getattr(arguments, name) for name in names if getattr(arguments, name) is not None}
    if given.get("mta_sts") == "off":
        given["mta_sts"] = ""
    ways = {spf_way.relay: spf_way.way for spf_way in now.spf_ways}
    for text in arguments.spf:
        relay, equals, way = text.rpartition("=")
        if not equals or way not in ("list", "move", "drop", "include"):
            raise UsageError(f"--spf {text!r}: write RELAY=list, RELAY=move, RELAY=drop or RELAY=include")
        ways.pop(relay, None)
        if way != "include":
            ways[relay] = way
        given["spf_ways"] = [SpfWay(relay=name, way=chosen) for name, chosen in ways.items()]
    if arguments.keep:
        given["keep_terms"] = list(dict.fromkeys([*now.keep_terms, *arguments.keep]))
    return now.model_copy(update=given) if given else None


def add_key(session: Session) -> int:
    """Create a key; its public half goes into the plan."""
    arguments, output = session.arguments, session.output
    made = session.client.plans.add_key(
        session.tenant(arguments.domain), arguments.domain, arguments.selector, arguments.kind,
        replace=arguments.replace,
    )  # fmt: skip

    def text() -> None:
        output.say(f"{made.name}: the public key is in the plan. The private key follows; it is not stored:")
        output.line(made.private_key.rstrip("\n"))

    output.document(arguments.format, made, text)
    return 0


def publish(session: Session) -> int:
    """Publish. Exit status 3 when it was not confirmed, not verified, or something prevents it."""
    arguments, output = session.arguments, session.output
    tenant, client = session.tenant(arguments.domain), session.client.publishing
    shown = client.preview(tenant, arguments.domain, arguments.record)
    for change in shown.changes:
        _show_rrset(output, change)
    for obstacle in shown.obstacles:
        output.say(output.paint(f"cannot: {obstacle}", "fault"))
    if not shown.changes:
        output.say(f"The zone {shown.zone} already has all of these records.")
        return 3 if shown.obstacles else 0
    if not session.confirm(f"Make {plural(len(shown.changes), 'change')} at {shown.server}?"):
        return 3
    done = client.apply(tenant, arguments.domain, shown.digest, arguments.record)
    output.document(arguments.format, done, lambda: _show_publication(output, done))
    return 0 if done.verified and not shown.obstacles else 3


def _show_publication(output: Output, done: Publication) -> None:
    how = "rolled back" if done.state == "rolled_back" else "published and verified" if done.verified else (
        "sent; the server does not return it yet")  # fmt: skip
    output.line(f"publication {done.id} in {done.zone}: {how}")
    if done.state == "applied":
        output.line(f"  to undo it: rustgauge plan rollback {done.id}")


def _show_rrset(output: Output, change: RrsetChange) -> None:
    """A set of records: what is removed and what is added."""
    output.line(output.paint(f"{change.name} {change.type}", "bold"))
    for value in change.before:
        if value not in change.after:
            output.line(output.paint(f"  - {change.before_ttl} {value}", "fault"))
    for value in change.after:
        mark, colour = ("+", "sound") if value not in change.before else (" ", "dim")
        output.line(output.paint(f"  {mark} {change.ttl} {value}", colour))


def publications(session: Session) -> int:
    """List published changes, newest first."""
    name = session.arguments.domain
    session.output.items(
        session.arguments.format, session.client.publishing.list(session.tenant(name), name), Publication,
        ("publication", "state", "verified", "record sets", "made (UTC)", "by"),
        lambda p: (p.id, p.state.replace("_", " "), "yes" if p.verified else "no", len(p.changes),
                   f"{p.made_at:%Y-%m-%d %H:%M}", p.made_by),
        right=(0, 3), empty="Nothing was published yet.",
    )  # fmt: skip
    return 0


def rollback(session: Session) -> int:
    """Undo a published change."""
    arguments = session.arguments
    if not session.confirm(f"Undo publication {arguments.publication}?"):
        return 3
    done = session.client.publishing.roll_back(session.tenant(), arguments.publication)
    session.output.document(arguments.format, done, lambda: _show_publication(session.output, done))
    return 0


def servers(session: Session) -> int:
    """List update servers. Secrets are never shown."""
    session.output.items(
        session.arguments.format, session.client.publishing.servers(session.tenant()), UpdateServer,
        ("zone", "server", "key", "algorithm"), lambda s: (s.zone, s.address, s.key_name, s.algorithm),
        empty="No update servers. Add one: rustgauge plan set-server ZONE ...",
    )  # fmt: skip
    return 0


def set_server(session: Session) -> int:
    """Set the server of a zone. The secret is read from a file, never from the command line."""
    arguments = session.arguments
    new = checked(
        lambda: NewUpdateServer(
            address=arguments.address, key_name=arguments.key_name, algorithm=arguments.algorithm,
            secret=SecretStr(read_secret(arguments.secret_file)), overlap_hours=arguments.overlap_hours,
        )
    )  # fmt: skip
    made = session.client.publishing.set_server(session.tenant(), arguments.zone, new)
    session.output.say(f"Saved: {made.zone} is updated at {made.address} with the key {made.key_name}.")
    return 0


def remove_server(session: Session) -> int:
    """Remove the server and key of a zone."""
    zone = session.arguments.zone
    if not session.confirm(f"Remove the update server and key of {zone}?"):
        return 3
    session.client.publishing.delete_server(session.tenant(), zone)
    session.output.say(f"Removed the update server of {zone}.")
    return 0


def sts(session: Session) -> int:
    """Show the MTA-STS policy that is served; serve the next one. Exit status 3 where steps are left."""
    arguments, output = session.arguments, session.output
    tenant, client = session.tenant(arguments.domain), session.client.plans
    found = client.serve_sts_policy(tenant, arguments.domain) if arguments.serve else None
    found = found or client.sts_policy(tenant, arguments.domain)
    if arguments.file:
        write_bytes(arguments.file, [found.planned.encode()])
    output.document(arguments.format, found, lambda: _show_sts(session, found))
    return 3 if found.steps or (found.planned and not found.served) else 0


def _show_sts(session: Session, found: StsServing) -> None:
    output = session.output
    if not found.planned:
        output.line(f"{found.domain} has no MTA-STS policy in its plan.")
        output.line(f"Add one: rustgauge plan set {found.domain} --mta-sts testing")
        return
    served = f"Served for {found.host}, id {found.id}:"
    output.line(served if found.served else f"Nothing is served for {found.host} yet. Planned:")
    for line in (found.served or found.planned).splitlines():
        output.line(f"  {line}")
    for number, step in enumerate(found.steps, 1):
        wait = f"; then wait {step.seconds // 3600:,} hours" if step.seconds else ""
        output.line(f"{number}. {step.title}{wait}")
        output.line(f"   {step.why}")
