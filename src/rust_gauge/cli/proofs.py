"""`rustgauge prove` (that a domain or an address is yours) and `senders` (what mail is sent as: proven, aligned)."""

from rust_gauge.cli.commands import Commands
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session, UsageError
from rust_gauge.contract.proofs import Proof


def register(commands: Commands) -> None:
    """Add these commands to the parser."""
    made = commands.add("prove", prove, "that a domain or a sender address is yours", commands.brief)
    made.add_argument("subject", nargs="?", help="a domain or an address; without it all proofs")
    made.add_argument(
        "--by", choices=("record", "postmaster", "abuse", "mail"), help="how (record, or mail for addresses)"
    )
    made.add_argument("--relay", default="", help="carries the message")
    made.add_argument("--code", help="the code of the message")
    commands.add("senders", senders, "what mail is sent as: proven or not, aligned or not", commands.tables)


def prove(session: Session) -> int:
    """Exit status 3 while it is not proven."""
    arguments, output = session.arguments, session.output
    client = session.client.proofs
    tenant = session.tenant(arguments.subject if arguments.subject and "@" not in arguments.subject else None)
    if arguments.subject is None:
        rows = [(p.subject, p.way, (p.state, "sound" if p.state == "proven" else "risk"), p.sent_to or p.record_name)
                for p in client.list(tenant)]  # fmt: skip
        output.table("text", ("subject", "way", "state", "where"), rows)
        return 0
    way = arguments.by or ("mail" if "@" in arguments.subject else "record")
    known = next((p for p in client.list(tenant) if p.subject == arguments.subject.lower() and p.way == way), None)
    if arguments.code:
        if known is None:
            raise UsageError(f"No message was sent to prove {arguments.subject}: leave out --code to have one sent")
        done = client.give_code(tenant, known.id, arguments.code)
    elif way == "record" and known is not None:
        done = client.check(tenant, known.id)
    elif way == "record":
        done = client.check(tenant, client.start(tenant, arguments.subject).id)
    else:
        done = client.start(tenant, arguments.subject, way, arguments.relay)
    if arguments.format == "json":
        output.json(done)
    else:
        show_proof(output, done)
    return 0 if done.state == "proven" else 3


def show_proof(output: Output, done: Proof) -> None:
    output.line(f"{output.paint(done.subject, 'bold')}: {output.paint(done.state, _colour(done))}")
    if done.state == "proven":
        return
    if done.record:
        output.line(f'  publish  {done.record_name}. IN TXT "{done.record}"')
        output.line(f"  and look again: rustgauge prove {done.subject}")
    else:
        output.line(f"  a code was sent to {done.sent_to}; it holds for 24 hours and {done.tries_left} tries")
        by = "" if done.way == "mail" else f" --by {done.way}"
        output.line(f"  give it: rustgauge prove {done.subject}{by} --code ...")


def _colour(done: Proof) -> str:
    return {"proven": "sound", "lost": "fault"}.get(done.state, "risk")


def senders(session: Session) -> int:
    """Exit status 3 when one is not proven or not aligned."""
    found = session.client.proofs.senders(session.tenant())
    words = {True: ("yes", "sound"), False: ("no", "fault"), None: ("not known", "dim")}
    rows = [(s.domain, s.stream, ", ".join(s.relays), words[s.proven], words[s.aligned], s.said) for s in found]
    columns = ("domain", "stream", "relays", "proven", "aligned", "what is missing")
    session.output.table(session.arguments.format, columns, rows)
    return 0 if all(s.proven and s.aligned is not False for s in found) else 3
