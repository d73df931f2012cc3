"""`rustgauge token`: API tokens of your account."""

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id, positive
from rust_gauge.cli.session import Session
from rust_gauge.contract.session import Token

DEFAULT = "list"
EXAMPLES = ("token list", 'token add "nightly import" --tenant glasswort --expires-in-days 90')


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_tokens, "list tokens", TABLE)
    made = noun.add("add", add, "add a token; prints its secret (shown only once)", DOCUMENT)
    made.add_argument("name", help="what it is for")
    made.add_argument("--expires-in-days", type=positive, help="never, if not given")
    made = noun.add("remove", remove, "remove a token; it stops working at once")
    made.add_argument("token", type=number_id)
    confirm_option(made)


def list_tokens(session: Session) -> int:
    """List tokens."""
    session.output.items(
        session.arguments.format, session.client.tokens.list(), Token,
        ("token", "name", "tenant", "created", "last used", "expires"),
        lambda t: (t.id, t.name, t.tenant or "all", f"{t.created_at:%Y-%m-%d}",
                   f"{t.last_used_at:%Y-%m-%d}" if t.last_used_at else "never",
                   f"{t.expires_at:%Y-%m-%d}" if t.expires_at else "never"),
        right=(0,), empty="No tokens.",
    )  # fmt: skip
    return 0


def add(session: Session) -> int:
    """Add a token, for the tenant that --tenant names or for all of yours."""
    arguments = session.arguments
    made = session.client.tokens.add(arguments.name, tenant=arguments.tenant, expires_in_days=arguments.expires_in_days)
    session.output.document(arguments.format, made, lambda: session.output.line(made.secret))
    session.output.say(f"Added token {made.id}. The secret is shown only once; set RUSTGAUGE_TOKEN to it.")
    return 0


def remove(session: Session) -> int:
    """Remove a token."""
    id = session.arguments.token
    if not session.confirm(f"Remove token {id}? Programs that use it stop working."):
        return 3
    session.client.tokens.delete(id)
    session.output.say(f"Removed token {id}.")
    return 0
