"""`rustgauge installation`: what an owner manages: tenants, people, and what belongs to which tenant."""

from rust_gauge.cli.member import list_invitations, show_invitation
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id
from rust_gauge.cli.session import Session
from rust_gauge.contract.people import Assignment, Person, Tenant

DEFAULT = "tenants"
EXAMPLES = (
    "installation tenants",
    "installation people",
    "installation assign mail @bounce.glasswort.example --tenant glasswort",
)
_KINDS = ("mail", "folder", "host")


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("tenants", tenants, "list all tenants", TABLE)
    made = noun.add("add-tenant", add_tenant, "add a tenant; you become its admin", DOCUMENT)
    made.add_argument("slug", help="short name, used in URLs")
    made.add_argument("--name", help="name; the slug, if not given")
    noun.add("people", people, "list all accounts", TABLE)
    made = noun.add("invite-owner", invite_owner, "invite somebody to own the installation", DOCUMENT)
    made.add_argument("email", help="their address")
    made.add_argument("--relay", default="", help="mail relay of the service settings (the first)")
    noun.add("invitations", invitations, "list invitations of owners that were not accepted yet", TABLE)
    made = noun.add("withdraw", withdraw, "withdraw an invitation")
    made.add_argument("invitation", type=number_id, help="number of the invitation")
    for verb, help, run in (
        ("make-owner", "make somebody an owner", make_owner),
        ("end-ownership", "make somebody no longer an owner", end_ownership),
        ("remove-person", "delete an account with its sessions and tokens", remove_person),
        ("reset-second-factor", "turn off the second factor of somebody who has lost it", reset_second_factor),
    ):
        made = noun.add(verb, run, help)
        made.add_argument("email", help="address of the account")
        if run in (remove_person, reset_second_factor):
            confirm_option(made)
    made = noun.add("remove-tenant", remove_tenant, "delete a tenant with all its data")
    made.add_argument("slug", help="its short name, from `installation tenants`")
    confirm_option(made)
    noun.add("assignments", assignments, "list what belongs to which tenant", TABLE)
    made = noun.add("assign", assign, "assign an address, a domain, a folder or a host to a tenant (--tenant)")
    made.add_argument("kind", choices=_KINDS, help="mail, folder or host")
    made.add_argument("value", help="an address, @domain, a path, host or host:port")
    made = noun.add("unassign", unassign, "take an assignment back; feeds that use it stop receiving")
    made.add_argument("kind", choices=_KINDS, help="mail, folder or host")
    made.add_argument("value", help="as `assignments` lists it")
    confirm_option(made)


def tenants(session: Session) -> int:
    """List tenants."""
    session.output.items(
        session.arguments.format, session.client.installation.tenants(), Tenant,
        ("tenant", "name", "members", "second factor", "created"),
        lambda t: (t.slug, t.name, t.members, "required" if t.second_factor else "optional",
                   f"{t.created_at:%Y-%m-%d}"),
        right=(2,), empty="No tenants.",
    )  # fmt: skip
    return 0


def remove_tenant(session: Session) -> int:
    """Delete a tenant."""
    slug = session.arguments.slug
    if not session.confirm(f"Delete {slug} with its events, lists, readings and settings?"):
        return 3
    session.client.installation.delete_tenant(slug)
    session.output.say(f"Closed {slug}; its data are being deleted.")
    return 0


def add_tenant(session: Session) -> int:
    """Add a tenant."""
    arguments = session.arguments
    made = session.client.installation.add_tenant(arguments.slug, arguments.name or arguments.slug)
    session.output.document(arguments.format, made, lambda: session.output.line(made.slug))
    session.output.say(f"Added {made.name}. You are its admin.")
    return 0


def people(session: Session) -> int:
    """List accounts."""
    session.output.items(
        session.arguments.format, session.client.installation.people(), Person,
        ("email", "name", "owner", "second factor", "tenants", "created"),
        lambda p: (p.email, p.name, "yes" if p.is_owner else "", "on" if p.second_factor else "off",
                   ", ".join(p.tenants), f"{p.created_at:%Y-%m-%d}"),
    )  # fmt: skip
    return 0


def invite_owner(session: Session) -> int:
    """Invite an owner."""
    show_invitation(session, session.client.installation.invite(session.arguments.email, relay=session.arguments.relay))
    return 0


def invitations(session: Session) -> int:
    """List invitations."""
    list_invitations(session, session.client.installation.invitations())
    return 0


def withdraw(session: Session) -> int:
    """Withdraw an invitation."""
    session.client.installation.withdraw(session.arguments.invitation)
    session.output.say(f"Withdrew invitation {session.arguments.invitation}.")
    return 0


def make_owner(session: Session) -> int:
    """Make an owner."""
    person = session.client.installation.change_owner(session.arguments.email, True)
    session.output.say(f"{person.email} is an owner now.")
    return 0


def end_ownership(session: Session) -> int:
    """Make somebody no longer an owner."""
    person = session.client.installation.change_owner(session.arguments.email, False)
    session.output.say(f"{person.email} is no longer an owner.")
    return 0


def remove_person(session: Session) -> int:
    """Delete an account."""
    email = session.arguments.email
    if not session.confirm(f"Delete the account {email} with its sessions and tokens?"):
        return 3
    session.client.installation.delete_person(email)
    session.output.say(f"Deleted {email}.")
    return 0


def reset_second_factor(session: Session) -> int:
    """Turn off somebody's second factor."""
    email = session.arguments.email
    if not session.confirm(f"Turn off the second factor of {email}? Make sure that it is them who ask."):
        return 3
    session.client.installation.reset_second_factor(email)
    session.output.say(f"The second factor of {email} is off.")
    return 0


def assignments(session: Session) -> int:
    """List assignments."""
    session.output.items(
        session.arguments.format, session.client.installation.assignments(), Assignment,
        ("kind", "value", "tenant", "since", "assigned by"),
        lambda a: (a.kind, a.value, a.tenant, f"{a.assigned_at:%Y-%m-%d}", a.assigned_by), empty="Nothing is assigned.",
    )  # fmt: skip
    return 0


def assign(session: Session) -> int:
    """Assign something."""
    arguments = session.arguments
    made = session.client.installation.assign(arguments.kind, arguments.value, session.tenant())
    session.output.say(f"{made.value} belongs to {made.tenant} now.")
    return 0


def unassign(session: Session) -> int:
    """Take an assignment back."""
    arguments = session.arguments
    if not session.confirm(f"Take {arguments.value} back? Feeds that use it stop receiving."):
        return 3
    session.client.installation.unassign(arguments.kind, arguments.value)
    session.output.say(f"{arguments.value} belongs to nobody now.")
    return 0
