"""`rustgauge outlet`: ways by which copies of a message go out to seeds."""

import argparse
from typing import Any

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option
from rust_gauge.cli.output import Output
from rust_gauge.cli.seed import show_problem
from rust_gauge.cli.session import Session, read_secret
from rust_gauge.contract.placement import NewOutlet, Outlet, OutletChange, OutletField

DEFAULT = "list"
EXAMPLES = (
    "outlet list --tenant marram",
    "outlet add driftline --host smtp.driftline.example --user ferries --password-file - "
    "--mail-from bounce@marramferries.example --tenant marram",
    "outlet check driftline --tenant marram",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_outlets, "list outlets", TABLE)
    made = noun.add("add", add, "add an outlet, and test it; nothing is sent", DOCUMENT)
    made.add_argument("outlet", metavar="OUTLET", help="its name: a-z, 0-9 and hyphens")
    _settings(made)
    made = noun.add("show", show, "show an outlet", DOCUMENT)
    _outlet(made)
    made = noun.add("update", update, "change an outlet, and test it; what is not given stays", DOCUMENT)
    _outlet(made)
    _settings(made)
    made = noun.add("check", check, "test an outlet now; exit with 3 if it does not work", DOCUMENT)
    _outlet(made)
    made = noun.add("delete", delete, "delete an outlet; its runs stay")
    _outlet(made)
    confirm_option(made)


def _outlet(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("outlet", metavar="OUTLET", help="name of the outlet, from `outlet list`")


def _settings(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--host", help="SMTP server")
    parser.add_argument("--port", type=int, help="its port (587)")
    parser.add_argument("--security", choices=("starttls", "tls", "none"),
                        help="none only for hosts that the service names (starttls)")  # fmt: skip
    parser.add_argument("--user", help="user to sign in; without it nobody signs in")
    parser.add_argument("--password-file", metavar="FILE", help="file with the password; - for standard input")
    parser.add_argument("--mail-from", metavar="ADDRESS", help="envelope sender")
    parser.add_argument("--from-name", metavar="NAME", help="display name of From")
    parser.add_argument("--from-address", metavar="ADDRESS", help="From address (that of the message)")
    parser.add_argument("--relay", help="relay that this stands for")
    parser.add_argument("--stream", help="stream that this stands for")
    parser.add_argument("--field", action="append", metavar="NAME:VALUE",
                        help="header field that copies get; repeatable, replaces the others")  # fmt: skip


def _given(arguments: argparse.Namespace) -> dict[str, Any]:
    names = ("host", "port", "security", "user", "mail_from", "from_name", "from_address", "relay", "stream")
    found: dict[str, Any] = {name: getattr(arguments, name) for name in names if getattr(arguments, name) is not None}
    if arguments.password_file:
        found["password"] = read_secret(arguments.password_file)
    if arguments.field:
        found["extra"] = [_field(each) for each in arguments.field]
    return found


def _field(text: str) -> OutletField:
    name, colon, value = text.partition(":")
    if not colon or not name.strip():
        raise UsageError(f"{text!r} is not a header field. Write NAME:VALUE")
    return OutletField(name=name.strip(), value=value.strip())


def list_outlets(session: Session) -> int:
    """List outlets."""
    session.output.items(
        session.arguments.format, session.client.placement.outlets(session.tenant()), Outlet,
        ("outlet", "host", "port", "security", "relay", "stream", "envelope sender", "problem"),
        lambda o: (o.name, o.host, o.port, o.security, o.relay, o.stream, o.mail_from,
                   o.problem.what if o.problem else ""),
        right=(2,), empty="No outlets yet. Add one: rustgauge outlet add NAME --host SMTP_HOST --mail-from ADDRESS",
    )  # fmt: skip
    return 0


def _show(output: Output, outlet: Outlet) -> None:
    stands = " ".join(part for part in (outlet.relay, outlet.stream) if part)
    output.line(f"{outlet.name}{f' · {stands}' if stands else ''}")
    user = f"{outlet.user} at " if outlet.user else ""
    output.line(
        f"server      {user}{outlet.host} port {outlet.port}, {outlet.security.upper().replace('NONE', 'no TLS')}"
    )
    output.line(f"envelope    {outlet.mail_from}")
    name = f"{outlet.from_name} " if outlet.from_name else ""
    output.line(
        f"From        {name}<{outlet.from_address}>" if outlet.from_address else "From        the message's own"
    )
    for field in outlet.extra:
        output.line(f"field       {field.name}: {field.value}")
    show_problem(output, outlet.problem, "works")


def _write(session: Session, outlet: Outlet) -> int:
    session.output.document(session.arguments.format, outlet, lambda: _show(session.output, outlet))
    return 3 if outlet.problem else 0


def add(session: Session) -> int:
    """Add an outlet. Exit status 3 if it does not work."""
    given = _given(session.arguments)
    if "host" not in given or "mail_from" not in given:
        raise UsageError("An outlet needs --host and --mail-from")
    new = NewOutlet(name=session.arguments.outlet, **given)
    return _write(session, session.client.placement.add_outlet(session.tenant(), new))


def show(session: Session) -> int:
    """Show an outlet."""
    _write(session, session.client.placement.outlet(session.tenant(), session.arguments.outlet))
    return 0


def update(session: Session) -> int:
    """Change an outlet. Exit status 3 if it does not work."""
    change = OutletChange.model_validate(_given(session.arguments))
    return _write(session, session.client.placement.update_outlet(session.tenant(), session.arguments.outlet, change))


def check(session: Session) -> int:
    """Test an outlet. Exit status 3 if it does not work."""
    return _write(session, session.client.placement.check_outlet(session.tenant(), session.arguments.outlet))


def delete(session: Session) -> int:
    """Delete an outlet."""
    name = session.arguments.outlet
    if not session.confirm(f"Delete the outlet {name}?"):
        return 3
    session.client.placement.delete_outlet(session.tenant(), name)
    session.output.say(f"Deleted the outlet {name}.")
    return 0
