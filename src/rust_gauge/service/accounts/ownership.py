"""What belongs to one tenant: an address or a domain for bounces, a folder, a host. Nobody can read another's.

A tenant has what the owner assigned to it, and what it has verified (a domain). Whatever overlaps with something of
another tenant is refused: a whole domain with an address in it, a folder within another. Where there is only one
tenant, nobody can be harmed: what it uses becomes its own.
"""

from datetime import datetime
from pathlib import PurePosixPath

from sqlalchemy import Connection

from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import normalise_domain, parse_address
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import accounts, assignments, proofs
from rust_gauge.store.assignments import AssignmentRow

MAIL, FOLDER, HOST = "mail", "folder", "host"


def normal(kind: str, value: str) -> str:
    """Return how a thing is stored. ServiceProblem `invalid-request` where it cannot be one of its kind."""
    value = value.strip()
    if kind == MAIL:
        try:
            if value.startswith("@"):
                return "@" + normalise_domain(value[1:])
            address = parse_address(value)
            return f"{address.local.lower()}@{address.domain}"
        except (AddressError, DomainNameError) as error:
            raise ServiceProblem("invalid-request", f"value: {error}", remedy=error.remedy) from None
    if kind == FOLDER:
        if not value.startswith("/") or ".." in PurePosixPath(value).parts:
            raise ServiceProblem("invalid-request", f"value: {value[:200]!r} is not an absolute path")
        return str(PurePosixPath(value))
    host = value.lower()
    if not host or any(character.isspace() for character in host):
        raise ServiceProblem(
            "invalid-request", f"value: {value[:200]!r} is not a host", remedy="Expected host or host:port"
        )
    return host


def overlap(kind: str, one: str, other: str) -> bool:
    """Return whether two things are the same, or one is part of the other."""
    if kind == MAIL:
        (local, _, domain), (other_local, _, other_domain) = one.partition("@"), other.partition("@")
        return domain == other_domain and (not local or not other_local or local == other_local)
    if kind == FOLDER:
        a, b = PurePosixPath(one), PurePosixPath(other)
        return a == b or a.is_relative_to(b) or b.is_relative_to(a)
    return one == other or one.partition(":")[0] == other or other.partition(":")[0] == one


def covers(kind: str, owned: str, used: str) -> bool:
    """Return whether what is used is the owned thing or part of it."""
    if kind == MAIL:
        return owned == used or owned == f"@{used.partition('@')[2]}"
    if kind == FOLDER:
        return PurePosixPath(used).is_relative_to(PurePosixPath(owned))
    return owned in (used, used.partition(":")[0])


def require_free(connection: Connection, kind: str, value: str, tenant_id: int) -> list[AssignmentRow]:
    """ServiceProblem `already-there` when another tenant has it or a part of it. Returns this tenant's own of the kind.

    It is locked until the transaction ends, so that two tenants cannot take it at the same moment.
    """
    rows = assignments.list_assignments(connection, kind, lock=True)
    if any(row.tenant_id != tenant_id and overlap(kind, row.value, value) for row in rows):
        raise ServiceProblem(
            "already-there", f"{value} belongs to another tenant", remedy="Ask the owner of the installation"
        )
    return [row for row in rows if row.tenant_id == tenant_id]


def require_own(connection: Connection, tenant_id: int, kind: str, value: str, now: datetime, by: str) -> None:
    """Make sure that a tenant may use something. ServiceProblem `not-assigned` when it belongs to nobody yet."""
    value = normal(kind, value)
    own = require_free(connection, kind, value, tenant_id)
    if any(covers(kind, row.value, value) for row in own):
        return
    alone = accounts.tenant_ids(connection) == [tenant_id]
    if not alone and not (kind == MAIL and _has_verified(connection, tenant_id, value.partition("@")[2])):
        what = {MAIL: "verify its domain, or ask", FOLDER: "ask", HOST: "ask"}[kind]
        raise ServiceProblem(
            "not-assigned", f"{value} is not assigned to this tenant",
            remedy=f"{what[0].upper()}{what[1:]} the owner of the installation to assign it",
        )  # fmt: skip
    assignments.add_assignment(connection, kind, value, tenant_id, now, by)


def _has_verified(connection: Connection, tenant_id: int, domain: str) -> bool:
    """Return whether a tenant has verified a domain, or one above it."""
    verified = proofs.verified_domains(connection, tenant_id)
    return any(domain == name or domain.endswith("." + name) for name in verified)
