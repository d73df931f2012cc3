"""Outlets: ways by which copies go out. Each is tested when it is saved, and on request, without sending anything."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.placement import NewOutlet, Outlet, OutletChange, OutletField
from rust_gauge.core.errors import InputError
from rust_gauge.core.placement import ExtraField
from rust_gauge.gateways.destination import DestinationError
from rust_gauge.gateways.outlet_out import OutletAccess, OutletError, OutletSession, outlet_session
from rust_gauge.service.placement.access import check_access, checked_address, destination_of, problem_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.store import seeds as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.columns import OutletColumns
from rust_gauge.store.seeds import OutletRow

_MOST = 50  # outlets of a tenant


def add_outlet(context: Context, tenant: TenantAccess, new: NewOutlet) -> Outlet:
    """Add an outlet, and test it. One that does not work is saved all the same, with the reason."""
    check_access(context, new.host, new.port, new.security, new.password)
    mail_from = checked_address("mail_from", new.mail_from)
    from_address = checked_address("from_address", new.from_address) if new.from_address else ""
    _check_fields(new.extra)

    def write(connection: Connection) -> None:
        if len(store.list_outlets(connection, tenant.id)) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} outlets exist, the limit", remedy="Delete some")
        store.add_outlet(
            connection, tenant_id=tenant.id, name=new.name, from_name=new.from_name.strip(),
            from_address=from_address, mail_from=mail_from, relay=new.relay.strip(), stream=new.stream.strip(),
            extra=[each.model_dump() for each in new.extra], host=new.host, port=new.port, security=new.security,
            login_user=new.user, password=encrypt(context.settings, new.password) if new.password else "",
            checked_at=None, problem="", problem_text="", problem_remedy="", created_at=context.clock(),
        )  # fmt: skip

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The outlet {new.name} already exists", remedy="Choose another name"
        ) from None
    return check_outlet(context, tenant, new.name)


def list_outlets(context: Context, tenant: TenantAccess) -> list[Outlet]:
    """Return a tenant's outlets by name."""
    return [shown(row) for row in context.store.transaction(lambda c: store.list_outlets(c, tenant.id))]


def find_outlet(context: Context, tenant: TenantAccess, name: str) -> OutletRow:
    """Return the row of an outlet. ServiceProblem `not-found`, with the name that is most like it."""
    rows = context.store.transaction(lambda c: store.list_outlets(c, tenant.id))
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "outlet", name, [row.name for row in rows], remedy="Add the outlet first")
    return found


def get_outlet(context: Context, tenant: TenantAccess, name: str) -> Outlet:
    """Return an outlet. ServiceProblem `not-found`."""
    return shown(find_outlet(context, tenant, name))


def update_outlet(context: Context, tenant: TenantAccess, name: str, change: OutletChange) -> Outlet:
    """Change settings of an outlet; what is left out stays. It is tested again."""
    row = find_outlet(context, tenant, name)
    given: dict[str, Any] = {key: value for key, value in change.model_dump().items() if value is not None}
    if given.keys() & {"host", "port", "security"}:
        merged: dict[str, Any] = {"host": row.host, "port": row.port, "security": row.security, **given}
        check_access(context, merged["host"], merged["port"], merged["security"], row.password)
        if given.get("host", row.host) != row.host and row.password and "password" not in given:
            raise ServiceProblem(
                "invalid-request", "Another host needs the password again",
                remedy="Send `password` with it: a stored one goes nowhere but to the host it was entered for",
            )  # fmt: skip
    for field in ("mail_from", "from_address"):
        if given.get(field):
            given[field] = checked_address(field, given[field])
    _check_fields(change.extra or [])
    if "user" in given:
        given["login_user"] = given.pop("user")
    if given.get("password"):
        given["password"] = encrypt(context.settings, given["password"])
    if given:
        context.store.transaction(lambda c: store.update_outlet(c, row.id, **given))
    return check_outlet(context, tenant, name)


def delete_outlet(context: Context, tenant: TenantAccess, name: str) -> None:
    """Delete an outlet. Runs that went through it stay."""
    row = find_outlet(context, tenant, name)
    context.store.transaction(lambda c: store.delete_outlet(c, row.id))


def check_outlet(context: Context, tenant: TenantAccess, name: str) -> Outlet:
    """Sign in, and see whether the envelope sender is taken; nothing is sent. Store what came of it, and return it."""
    row = find_outlet(context, tenant, name)
    problem: OutletError | DestinationError | None = None
    try:
        with opened(context, row) as session:
            session.try_sender(row.mail_from)
    except (OutletError, DestinationError) as error:
        problem = error
    write_check(context, row, problem)
    return get_outlet(context, tenant, name)


def write_check(context: Context, row: OutletRow, problem: OutletError | DestinationError | None) -> None:
    """Store what came of signing in."""
    values: OutletColumns = {"checked_at": context.clock(), "problem": "", "problem_text": "", "problem_remedy": ""}
    if problem is not None:
        values["problem"] = problem.kind if isinstance(problem, OutletError) else "unreachable"
        values["problem_text"], values["problem_remedy"] = str(problem)[:1000], problem.remedy[:500]
    context.store.transaction(lambda c: store.update_outlet(c, row.id, **values))


@contextmanager
def opened(context: Context, row: OutletRow) -> Iterator[OutletSession]:
    """Sign in to an outlet. OutletError, DestinationError."""
    settings = context.settings
    access = OutletAccess(
        row.security, row.login_user, decrypt(settings, row.password) if row.password else "",
        urlsplit(settings.public_url).hostname or "localhost", str(settings.tls_ca_file or ""),
    )  # fmt: skip
    with outlet_session(access, destination_of(context, row)) as session:
        yield session


def fields_of(row: OutletRow) -> tuple[ExtraField, ...]:
    """Return the header fields that copies get."""
    return tuple(ExtraField(each["name"], each["value"]) for each in row.extra)


def _check_fields(fields: Sequence[OutletField]) -> None:
    errors = []
    for number, field in enumerate(fields):
        try:
            ExtraField(field.name, field.value)
        except InputError as error:
            errors.append(ProblemError(field=f"extra.{number}", what=str(error), remedy=error.remedy))
    if errors:
        raise ServiceProblem("invalid-request", errors[0].what, remedy=errors[0].remedy, errors=errors)


def shown(row: OutletRow) -> Outlet:
    """Return an outlet as the contract has it."""
    return Outlet(
        name=row.name, host=row.host, port=row.port, security=row.security, user=row.login_user,
        from_name=row.from_name, from_address=row.from_address, mail_from=row.mail_from, relay=row.relay,
        stream=row.stream, extra=[OutletField.model_validate(each) for each in row.extra], checked_at=row.checked_at,
        problem=problem_of(row), created_at=row.created_at,
    )  # fmt: skip
