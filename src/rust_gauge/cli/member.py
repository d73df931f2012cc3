"""`rustgauge member`: people of a tenant, their roles, and invitations."""

from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id
from rust_gauge.cli.session import Session
from rust_gauge.contract.people import Invitation, MadeInvitation, Member
from rust_gauge.contract.session import Role

DEFAULT = "list"
EXAMPLES = (
    "member list --tenant glasswort",
    "member invite ruan@skerry.example --role operator --tenant glasswort",
    "member invitations --tenant glasswort",
)
ROLES = ("viewer", "operator", "admin")


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_members, "list the members of a tenant, with their roles", TABLE)
    made = noun.add("invite", invite, "invite somebody by mail, with a link that works once", DOCUMENT)
    made.add_argument("email", help="their address")
    made.add_argument("--role", choices=ROLES, default="viewer", help="viewer, operator or admin (viewer)")
    made.add_argument("--relay", default="", help="mail relay of the service settings (the first)")
    noun.add("invitations", invitations, "list invitations that were not accepted yet", TABLE)
    made = noun.add("withdraw", withdraw, "withdraw an invitation: its link stops working")
    made.add_argument("invitation", type=number_id, help="number of the invitation, from `member invitations`")
    made = noun.add("role", role, "give a member another role")
    made.add_argument("email", help="address of the member")
    made.add_argument("role", choices=ROLES, help="viewer, operator or admin")
    made = noun.add("remove", remove, "take a member's access to the tenant away")
    made.add_argument("email", help="address of the member")
    confirm_option(made)


def list_members(session: Session) -> int:
    """List members."""
    session.output.items(
        session.arguments.format, session.client.people.list(session.tenant()), Member,
        ("email", "name", "role", "second factor"),
        lambda m: (m.email, m.name, m.role, "on" if m.second_factor else "off"),
    )  # fmt: skip
    return 0


def invite(session: Session) -> int:
    """Invite somebody."""
    arguments = session.arguments
    chosen: Role = arguments.role
    made = session.client.people.invite(session.tenant(), arguments.email, chosen, relay=arguments.relay)
    show_invitation(session, made)
    return 0


def show_invitation(session: Session, made: MadeInvitation) -> None:
    """Say whether a message was sent, and else print the link."""
    session.output.document(
        session.arguments.format, made, lambda: session.output.line(made.link) if made.link else None
    )
    if made.sent:
        session.output.say(
            f"Invited {made.email}: the message was sent. The link is valid until {made.expires_at:%Y-%m-%d}."
        )
    else:
        session.output.say(f"No message was sent ({made.problem}). Pass the link on; it works once.")


def invitations(session: Session) -> int:
    """List invitations."""
    list_invitations(session, session.client.people.invitations(session.tenant()))
    return 0


def list_invitations(session: Session, found: "list[Invitation] | object") -> None:
    """Print invitations."""
    session.output.items(
        session.arguments.format, found, Invitation,  # type: ignore[arg-type]
        ("invitation", "email", "role", "invited by", "created", "valid until"),
        lambda i: (i.id, i.email, i.role, i.invited_by, f"{i.created_at:%Y-%m-%d}", f"{i.expires_at:%Y-%m-%d}"),
        right=(0,), empty="No invitations.",
    )  # fmt: skip


def withdraw(session: Session) -> int:
    """Withdraw an invitation."""
    session.client.people.withdraw(session.tenant(), session.arguments.invitation)
    session.output.say(f"Withdrew invitation {session.arguments.invitation}.")
    return 0


def role(session: Session) -> int:
    """Change a role."""
    arguments = session.arguments
    changed = session.client.people.change_role(session.tenant(), arguments.email, arguments.role)
    session.output.say(f"{changed.email} is {changed.role} now.")
    return 0


def remove(session: Session) -> int:
    """Remove a member."""
    arguments, tenant = session.arguments, session.tenant()
    if not session.confirm(f"Remove {arguments.email} from {tenant}?"):
        return 3
    session.client.people.remove(tenant, arguments.email)
    session.output.say(f"Removed {arguments.email} from {tenant}.")
    return 0
