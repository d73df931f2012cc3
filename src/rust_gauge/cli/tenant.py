"""`rustgauge tenant`: the tenants that you have access to, and their members."""

from rust_gauge.cli.nouns import TABLE, Noun
from rust_gauge.cli.session import Session
from rust_gauge.contract.session import TenantRef
from rust_gauge.contract.worklist import Member

DEFAULT = "list"
EXAMPLES = ("tenant list", "tenant members --tenant glasswort")


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_tenants, "list your tenants, with your role in each", TABLE)
    noun.add("members", members, "list the members of a tenant", TABLE)


def list_tenants(session: Session) -> int:
    """List tenants."""
    session.output.items(
        session.arguments.format, session.client.who().tenants, TenantRef, ("tenant", "name", "your role"),
        lambda t: (t.slug, t.name, t.role), empty="No tenants. Ask an admin for a membership.",
    )  # fmt: skip
    return 0


def members(session: Session) -> int:
    """List members."""
    session.output.items(
        session.arguments.format, session.client.worklist.members(session.tenant()), Member, ("email", "name", "role"),
        lambda m: (m.email, m.name, m.role),
    )  # fmt: skip
    return 0
