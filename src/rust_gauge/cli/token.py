"""`rustgauge token`: API tokens of your account."""

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id, positive
from rust_gauge.cli.session import Session
from rust_gauge.cli.signing_in import person_options, signed_in
from rust_gauge.contract.tokens import Token

DEFAULT = "list"
EXAMPLES = (
    "token list",
    'token add "nightly import" --email isla@skerry.example --tenant glasswort --scope events:write',
    "token rotate 1 --overlap-hours 48",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_tokens, "list tokens; a token sees itself only", TABLE)
    made = noun.add("add", add, "add a token; prints its secret (shown only once)", DOCUMENT)
    made.add_argument("name", help="what it is for")
    help = "limit it to a capability, such as flow:read (repeatable; everything, if not given)"
    made.add_argument("--scope", action="append", default=[], metavar="NAME:read|write", help=help)
    made.add_argument(
        "--network", action="append", default=[], metavar="CIDR", help="limit it to a network (repeatable)"
    )
    made.add_argument("--expires-in-days", type=positive, default=90, help="90, if not given")
    made.add_argument("--never-expires", action="store_true", help="no end date")
    person_options(made)
    made = noun.add("rotate", rotate, "give a token a new secret; the one before stays valid for a while", DOCUMENT)
    made.add_argument("token", type=number_id)
    made.add_argument("--overlap-hours", type=int, default=24, help="how long the secret before stays valid (24)")
    made.add_argument("--expires-in-days", type=positive, default=90, help="90, if not given")
    made = noun.add("remove", remove, "remove a token; it stops working at once")
    made.add_argument("token", type=number_id)
    confirm_option(made)


def list_tokens(session: Session) -> int:
    """List tokens."""
    session.output.items(
        session.arguments.format, session.client.tokens.list(), Token,
        ("token", "name", "tenants", "scopes", "networks", "created", "last used", "from", "expires"),
        lambda t: (t.id, t.name, ", ".join(t.tenants) or "all", ", ".join(t.scopes) or "everything",
                   ", ".join(t.networks) or "any", f"{t.created_at:%Y-%m-%d}",
                   f"{t.last_used_at:%Y-%m-%d}" if t.last_used_at else "never", t.last_used_address,
                   f"{t.expires_at:%Y-%m-%d}" if t.expires_at else "never"),
        right=(0,), empty="No tokens.",
    )  # fmt: skip
    return 0


def add(session: Session) -> int:
    """Add a token, for the tenant that --tenant names or for all of yours."""
    arguments = session.arguments
    days = None if arguments.never_expires else arguments.expires_in_days
    tenants = [arguments.tenant] if arguments.tenant else []
    with signed_in(session) as client:
        made = client.tokens.add(
            arguments.name, tenants=tenants, scopes=arguments.scope, networks=arguments.network, expires_in_days=days
        )
    session.output.document(arguments.format, made, lambda: session.output.line(made.secret))
    session.output.say(f"Added token {made.id}. The secret is shown only once; set RUSTGAUGE_TOKEN to it.")
    return 0


def rotate(session: Session) -> int:
    """Rotate a token, with itself or another token of the account's."""
    arguments = session.arguments
    made = session.client.tokens.rotate(
        arguments.token, overlap_hours=arguments.overlap_hours, expires_in_days=arguments.expires_in_days
    )
    session.output.document(arguments.format, made, lambda: session.output.line(made.secret))
    until = f"{made.previous_until:%Y-%m-%d %H:%M} UTC" if made.previous_until else "now"
    session.output.say(f"Rotated token {made.id}. The secret before is valid until {until}.")
    return 0


def remove(session: Session) -> int:
    """Remove a token."""
    id = session.arguments.token
    if not session.confirm(f"Remove token {id}? Programs that use it stop working."):
        return 3
    session.client.tokens.delete(id)
    session.output.say(f"Removed token {id}.")
    return 0
