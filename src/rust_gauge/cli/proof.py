"""`rustgauge proof`: prove that a domain or a sender address is yours; senders that are not verified or not aligned."""

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun
from rust_gauge.cli.output import Output
from rust_gauge.cli.session import Session
from rust_gauge.contract.proofs import Proof, Sender

DEFAULT = "list"
EXAMPLES = (
    "proof list --tenant glasswort",
    "proof start boxoffice.glasswort.example",
    "proof senders --tenant glasswort",
)
_METHODS = ("record", "postmaster", "abuse", "mail")


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_proofs, "list proofs", TABLE)
    made = noun.add("start", start, "start a proof: by a TXT record, or by a code sent by email", DOCUMENT)
    made.add_argument("subject", help="a domain or an address")
    made.add_argument("--method", choices=_METHODS, help="record for domains (default), mail for addresses")
    made.add_argument("--relay", default="", help="the relay that carries the message")
    made = noun.add("recheck", recheck, "look up the TXT record again", DOCUMENT)
    made.add_argument("subject", help="a domain")
    made = noun.add("confirm", confirm, "enter the code from the message", DOCUMENT)
    made.add_argument("subject", help="a domain or an address")
    made.add_argument("code")
    noun.add("senders", senders, "list the domains that mail is sent as: verified or not, aligned or not", TABLE)


def list_proofs(session: Session) -> int:
    """List proofs."""
    session.output.items(
        session.arguments.format, session.client.proofs.list(session.tenant()), Proof,
        ("subject", "method", "state", "where"),
        lambda p: (p.subject, p.method, (p.state, _colour(p)), p.sent_to or p.record_name),
        empty="No proofs yet. Start one: rustgauge proof start DOMAIN",
    )  # fmt: skip
    return 0


def start(session: Session) -> int:
    """Start a proof, or recheck the one there is. Exit status 3 while it is not verified."""
    arguments = session.arguments
    tenant, client = _tenant(session), session.client.proofs
    method = arguments.method or ("mail" if "@" in arguments.subject else "record")
    if method == "record":
        known = _find(session, tenant, "record")
        done = client.recheck(tenant, (known or client.start(tenant, arguments.subject, "record", "")).id)
    else:
        done = client.start(tenant, arguments.subject, method, arguments.relay)
    return _shown(session, done)


def recheck(session: Session) -> int:
    """Look up the record again. Exit status 3 while it is not verified."""
    tenant = _tenant(session)
    known = _find(session, tenant, "record")
    if known is None:
        raise UsageError(f"no proof of {session.arguments.subject} by record: rustgauge proof start ...")
    return _shown(session, session.client.proofs.recheck(tenant, known.id))


def confirm(session: Session) -> int:
    """Enter a code. Exit status 3 when it is not the right one."""
    arguments, tenant = session.arguments, _tenant(session)
    known = _find(session, tenant, "mail", "postmaster", "abuse")
    if known is None:
        raise UsageError(f"no message was sent to verify {arguments.subject}: rustgauge proof start ...")
    return _shown(session, session.client.proofs.confirm(tenant, known.id, arguments.code))


def _tenant(session: Session) -> str:
    subject = session.arguments.subject
    return session.tenant(subject if "@" not in subject else None)


def _find(session: Session, tenant: str, *methods: str) -> Proof | None:
    subject = session.arguments.subject.lower()
    there = session.client.proofs.list(tenant)
    return next((proof for proof in there if proof.subject == subject and proof.method in methods), None)


def _shown(session: Session, done: Proof) -> int:
    session.output.document(session.arguments.format, done, lambda: show_proof(session.output, done))
    return 0 if done.state == "verified" else 3


def show_proof(output: Output, done: Proof) -> None:
    """Show a proof, and what to do next."""
    output.line(f"{output.paint(done.subject, 'bold')}: {output.paint(done.state, _colour(done))}")
    if done.state == "verified":
        return
    if done.record:
        output.line(f'  publish:  {done.record_name}. IN TXT "{done.record}"')
        output.line(f"  then run: rustgauge proof recheck {done.subject}")
    else:
        output.line(f"  A code was sent to {done.sent_to}. It is valid for 24 hours; {done.tries_left} attempts left.")
        output.line(f"  enter it: rustgauge proof confirm {done.subject} CODE")


def _colour(done: Proof) -> str:
    return {"verified": "sound", "lost": "fault"}.get(done.state, "risk")


def senders(session: Session) -> int:
    """List senders. Exit status 3 when one is not verified or not aligned."""
    found = session.client.proofs.senders(session.tenant())
    words = {True: ("yes", "sound"), False: ("no", "fault"), None: ("not measured", "dim")}
    session.output.items(
        session.arguments.format, found, Sender,
        ("domain", "stream", "relays", "verified", "aligned", "what is missing"),
        lambda s: (s.domain, s.stream, ", ".join(s.relays), words[s.verified], words[s.aligned], s.summary),
    )  # fmt: skip
    return 0 if all(s.verified and s.aligned is not False for s in found) else 3
