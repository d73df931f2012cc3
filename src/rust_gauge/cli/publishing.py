"""`rustgauge publish` (a plan by dynamic update, RFC 2136) and `update-server` (where a zone is changed)."""

import sys
from pathlib import Path

from pydantic import SecretStr

from rust_gauge.cli.commands import Commands, positive
from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.publishing import NewUpdateServer, Publication, RrsetChange


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("publish", publish, "publish a plan by dynamic update: shows the change, asks, applies it")
    made.add_argument("domain")
    made.add_argument("--record", action="append", default=[], metavar="KEY", help="only this record; repeatable")
    made.add_argument("--yes", action="store_true", help="apply it without asking")
    made.add_argument("--list", action="store_true", help="changes that were made")
    made.add_argument("--roll-back", type=positive, metavar="NUMBER", help="take this change back")
    made = commands.add("update-server", update_server, "where a zone is changed, and with which TSIG key")
    made.add_argument("zone", nargs="?", help="without it the servers that are kept")
    made.add_argument("--address", help="address or address:port of the primary server")
    made.add_argument("--key-name", help="the key's name")
    made.add_argument("--algorithm", choices=("hmac-sha256", "hmac-sha384", "hmac-sha512"), default="hmac-sha256")
    made.add_argument("--secret-file", help="holds the secret in base64; - for standard input")
    made.add_argument("--forget", action="store_true", help="forget the server and its key")


def publish(session: Session) -> int:
    """Exit status 3 when the change was not confirmed, not verified, or something stands in its way."""
    arguments, output = session.arguments, session.output
    client = session.client.publishing
    tenant = session.tenant(arguments.domain)
    if arguments.list:
        rows = [(p.id, p.state, "yes" if p.verified else "no", len(p.changes), f"{p.made_at:%Y-%m-%d %H:%M}", p.made_by)
                for p in client.list(tenant, arguments.domain)]  # fmt: skip
        output.table("text", ("change", "state", "verified", "sets", "made", "by"), rows, right=(3,))
        return 0
    if arguments.roll_back is not None:
        _tell(output, client.roll_back(tenant, arguments.roll_back))
        return 0
    shown = client.show(tenant, arguments.domain, arguments.record)
    for change in shown.changes:
        show_rrset(output, change)
    for obstacle in shown.obstacles:
        output.line(output.paint(f"cannot: {obstacle}", "fault"))
    if not shown.changes:
        output.line(f"The zone {shown.zone} holds all of it already")
        return 3 if shown.obstacles else 0
    if not arguments.yes and not _confirmed(f"Make {plural(len(shown.changes), 'change')} at {shown.server}? [y/N] "):
        output.say("Nothing was changed")
        return 3
    done = client.apply(tenant, arguments.domain, shown.digest, arguments.record)
    _tell(output, done)
    return 0 if done.verified and not shown.obstacles else 3


def _confirmed(question: str) -> bool:
    if not sys.stdin.isatty():
        raise UsageError("Nobody is there to ask: confirm with --yes")
    return input(question).strip().lower() in ("y", "yes")


def _tell(output: Output, done: Publication) -> None:
    how = "taken back" if done.state == "rolled_back" else "published; the server gives it" if done.verified else (
        "sent; the server does not give it yet")  # fmt: skip
    output.line(f"change {done.id} in {done.zone}: {how}")
    if done.state == "applied":
        output.line(f"  take it back: rustgauge publish {done.domain} --roll-back {done.id}")


def show_rrset(output: Output, change: RrsetChange) -> None:
    """One set of records, what goes and what comes."""
    output.line(output.paint(f"{change.name} {change.type}", "bold"))
    for value in change.before:
        if value not in change.after:
            output.line(output.paint(f"  - {change.before_ttl} {value}", "fault"))
    for value in change.after:
        mark, colour = ("+", "sound") if value not in change.before else (" ", "dim")
        output.line(output.paint(f"  {mark} {change.ttl} {value}", colour))


def update_server(session: Session) -> int:
    """Keep, list or forget. The secret is read from a file, never from the words of a command."""
    arguments, output = session.arguments, session.output
    client = session.client.publishing
    tenant = session.tenant()
    if arguments.zone is None:
        rows = [(s.zone, s.address, s.key_name, s.algorithm) for s in client.servers(tenant)]
        output.table("text", ("zone", "server", "key", "algorithm"), rows)
        return 0
    if arguments.forget:
        client.forget_server(tenant, arguments.zone)
        output.line(f"The key for {arguments.zone} is forgotten")
        return 0
    if not (arguments.address and arguments.key_name and arguments.secret_file):
        raise UsageError("Give --address, --key-name and --secret-file")
    try:
        name = arguments.secret_file
        secret = sys.stdin.readline() if name == "-" else Path(name).read_text("ascii")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{arguments.secret_file} cannot be read: {error}") from None
    new = NewUpdateServer(
        address=arguments.address, key_name=arguments.key_name, algorithm=arguments.algorithm,
        secret=SecretStr(secret.strip()),
    )  # fmt: skip
    kept = client.put_server(tenant, arguments.zone, new)
    output.line(f"{kept.zone} is changed at {kept.address} with the key {kept.key_name}")
    return 0
