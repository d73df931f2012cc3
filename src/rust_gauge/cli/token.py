"""`rustgauge token`: API tokens of your account."""

import sys

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id, positive
from rust_gauge.cli.session import Session, read_secret
from rust_gauge.contract.session import Token

DEFAULT = "list"
EXAMPLES = (
    "token list",
    'token add "nightly import" --email isla@skerry.example --tenant glasswort --expires-in-days 90',
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_tokens, "list tokens", TABLE)
    made = noun.add("add", add, "add a token; prints its secret (shown only once)", DOCUMENT)
    made.add_argument("name", help="what it is for")
    made.add_argument("--email", required=True, help="your account: a token cannot create tokens")
    made.add_argument("--password-file", metavar="FILE", help="file with the password; - for stdin (asked for)")
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
    if arguments.password_file:
        password = read_secret(arguments.password_file)
    else:
        import getpass

        password = getpass.getpass(f"Password of {arguments.email}: ", stream=sys.stderr)
    from rust_gauge.client.synchronous.client import Client

    with Client(arguments.url) as client:
        client.sign_in(arguments.email, password)
        made = client.tokens.add(arguments.name, tenant=arguments.tenant, expires_in_days=arguments.expires_in_days)
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
