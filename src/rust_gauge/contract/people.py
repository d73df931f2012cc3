"""People of a tenant, invitations, tenants, the installation, and the audit log."""

from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.session import Email, Role, TriedPassword

Slug = Annotated[str, StringConstraints(pattern=r"^[a-z0-9](?:[a-z0-9-]{0,38}[a-z0-9])?$")]
PersonName = Annotated[str, StringConstraints(min_length=1, max_length=120, strip_whitespace=True)]


class Member(Model):
    """A person who can see a tenant and can be assigned its items."""

    email: str
    name: str
    role: Role
    second_factor: bool = False


class RoleChange(Model):
    """A member's new role."""

    role: Role


class NewInvitation(Model):
    """Who is invited, and to which role."""

    email: Email = Field(examples=["ruan@skerry.example"])
    role: Role = "viewer"
    relay: str = Field("", max_length=60, description="Mail relay of the service settings; the first, if not given")


class Invitation(Model):
    """An invitation that was not accepted yet."""

    id: int
    email: str
    role: Literal["viewer", "operator", "admin", "owner"]
    invited_by: str
    created_at: UtcTime
    expires_at: UtcTime


class MadeInvitation(Invitation):
    """A new invitation. Without a mail relay, `link` is in this answer, to be passed on."""

    sent: bool = Field(description="A message with the link was sent")
    link: str = ""
    problem: str = Field("", description="Why no message was sent")


class InvitationSecret(Model):
    """What a link of an invitation carries behind its #."""

    secret: str = Field(min_length=10, max_length=200, examples=["q3Zr0vYpV7c2kqk0mT1yJw"])


class InvitationView(Model):
    """What an invitation is for."""

    email: str = Field(description="Empty in the link for the first owner, who chooses it")
    role: Literal["viewer", "operator", "admin", "owner"]
    tenant: str = ""
    tenant_name: str = ""
    invited_by: str
    expires_at: UtcTime
    has_account: bool = Field(description="The person has an account already, and accepts with its password")


class Acceptance(InvitationSecret):
    """The name and password of the new account; of an existing account its password (and code). `email` only where the
    invitation names none: that of the first owner.
    """

    email: str = Field("", max_length=254)
    name: str = Field("", max_length=120)
    password: TriedPassword
    code: str = Field("", max_length=40)


class NewTenant(Model):
    """A tenant to add. Whoever adds it becomes its admin."""

    slug: Slug = Field(examples=["glasswort"])
    name: PersonName = Field(examples=["Glasswort Theatre"])


class Tenant(Model):
    """A tenant of the installation."""

    slug: str
    name: str
    created_at: UtcTime
    second_factor: bool = Field(description="Its members need a second factor")
    members: int


class TenantSettings(Model):
    """Name of a tenant, and whether its members need a second factor."""

    name: PersonName
    second_factor: bool = False


class Person(Model):
    """An account of the installation."""

    email: str
    name: str
    is_owner: bool
    second_factor: bool
    created_at: UtcTime
    tenants: list[str]


class OwnerChange(Model):
    """Whether a person is an owner of the installation."""

    is_owner: bool


AssignmentKind = Literal["mail", "folder", "host"]


class NewAssignment(Model):
    """What belongs to a tenant: an address or @domain for bounces, a folder, or a host (host or host:port)."""

    kind: AssignmentKind
    value: str = Field(min_length=1, max_length=320, examples=["@bounce.glasswort.example"])
    tenant: Slug


class Assignment(NewAssignment):
    """An assignment, and who made it."""

    assigned_at: UtcTime
    assigned_by: str


class AuditEntry(Model):
    """Who did what to what. Secrets are hidden; addresses of recipients are digests."""

    id: int
    at: UtcTime
    tenant: str = ""
    account: str
    token: str = Field("", description="Id and name of the token, where a program did it")
    address: str = ""
    request_id: str = ""
    action: str = Field(examples=["set_suppression_policy"])
    subject: str = ""
    before: Any = None
    after: Any = None
    hash: str = Field(description="SHA-256 over this entry and the hash of the one before it")


class ChainCheck(Model):
    """Whether the audit log is complete and unchanged."""

    entries: int = Field(description="Entries from the first on that fit")
    intact: bool
    problem: str = ""
