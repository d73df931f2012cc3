"""Seeds: mailboxes of the tenant's own at providers. Each is signed in to when it is saved, and on request."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.placement import NewSeed, Seed, SeedChange, SeedFolder
from rust_gauge.core.names import parse_address
from rust_gauge.gateways.destination import DestinationError
from rust_gauge.gateways.seed_mailbox import SeedError, SeedMailbox, seed_mailbox
from rust_gauge.service.placement.access import check_access, checked_address, destination_of, problem_of
from rust_gauge.service.providers.lookup import providers_for
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.store import seeds as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.columns import SeedColumns
from rust_gauge.store.seeds import SeedRow

_MOST = 500  # seeds of a tenant
FULL = 0.95  # of a mailbox's quota


def add_seed(context: Context, tenant: TenantAccess, new: NewSeed) -> Seed:
    """Add a seed, and sign in to it once. One that cannot be read is saved all the same, with the reason."""
    address = checked_address("address", new.address)
    check_access(context, new.host, new.port, new.security, new.password)
    provider = new.provider.strip() or _provider_of(context, address)

    def write(connection: Connection) -> int:
        if len(store.list_seeds(connection, tenant.id)) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} seeds exist, the limit", remedy="Delete some")
        return store.add_seed(
            connection, tenant_id=tenant.id, address=address, provider=provider, folders=_dumped(new.folders),
            seen_folders=[], lists=sorted(set(new.lists)), note=new.note.strip(), enabled=new.enabled, host=new.host,
            port=new.port, security=new.security, login_user=new.user or address,
            password=encrypt(context.settings, new.password), checked_at=None, problem="", problem_text="",
            problem_remedy="", created_at=context.clock(),
        )  # fmt: skip

    try:
        id = context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem("already-there", f"{address} is a seed already", remedy="Change that one") from None
    return check_seed(context, tenant, id)


def list_seeds(context: Context, tenant: TenantAccess) -> list[Seed]:
    """Return a tenant's seeds, by provider and address."""
    return [shown(row) for row in context.store.transaction(lambda c: store.list_seeds(c, tenant.id))]


def get_seed(context: Context, tenant: TenantAccess, id: int) -> Seed:
    """Return a seed. ServiceProblem `not-found`."""
    return shown(find_seed(context, tenant, id))


def find_seed(context: Context, tenant: TenantAccess, id: int) -> SeedRow:
    """Return the row of a seed. ServiceProblem `not-found`."""
    row = context.store.transaction(lambda c: store.get_seed(c, tenant.id, id))
    if row is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no seed {id}", remedy="List the seeds")
    return row


def update_seed(context: Context, tenant: TenantAccess, id: int, change: SeedChange) -> Seed:
    """Change settings of a seed; what is left out stays. It is signed in to again where that may differ."""
    row = find_seed(context, tenant, id)
    given: dict[str, Any] = {key: value for key, value in change.model_dump().items() if value is not None}
    if "lists" in given:
        given["lists"] = sorted(set(given["lists"]))
    if "user" in given:
        given["login_user"] = given.pop("user") or row.address
    if given.keys() & {"host", "port", "security"}:
        merged: dict[str, Any] = {"host": row.host, "port": row.port, "security": row.security, **given}
        check_access(context, merged["host"], merged["port"], merged["security"], "kept")
        if given.get("host", row.host) != row.host and "password" not in given:
            raise ServiceProblem(
                "invalid-request", "Another host needs the password again",
                remedy="Send `password` with it: a stored one goes nowhere but to the host it was entered for",
            )  # fmt: skip
    if "password" in given:
        given["password"] = encrypt(context.settings, given["password"])
    if given:
        context.store.transaction(lambda c: store.update_seed(c, row.id, **given))
    if given.keys() - {"note", "lists", "provider", "enabled"}:
        return check_seed(context, tenant, id)
    return get_seed(context, tenant, id)


def delete_seed(context: Context, tenant: TenantAccess, id: int) -> None:
    """Delete a seed. Copies that went there stay in their runs."""
    row = find_seed(context, tenant, id)
    context.store.transaction(lambda c: store.delete_seed(c, row.id))


def check_seed(context: Context, tenant: TenantAccess, id: int) -> Seed:
    """Sign in to a seed, and see whether its folders are there. What came of it is stored, and returned."""
    row = find_seed(context, tenant, id)
    write_check(context, row, *_checked(context, row))
    return get_seed(context, tenant, id)


def write_check(
    context: Context, row: SeedRow, problem: SeedError | DestinationError | None, folders: Sequence[str] | None
) -> None:
    """Store what came of signing in; `folders` None: they were not asked for."""
    values: SeedColumns = {"checked_at": context.clock(), "problem": "", "problem_text": "", "problem_remedy": ""}
    if problem is not None:
        values["problem"] = problem.kind if isinstance(problem, SeedError) else "unreachable"
        values["problem_text"], values["problem_remedy"] = str(problem)[:1000], problem.remedy[:500]
    if folders is not None:
        values["seen_folders"] = list(folders)
    context.store.transaction(lambda c: store.update_seed(c, row.id, **values))


@contextmanager
def opened(context: Context, row: SeedRow) -> Iterator[SeedMailbox]:
    """Sign in to a seed. SeedError, DestinationError."""
    password = decrypt(context.settings, row.password)
    ca_file = str(context.settings.tls_ca_file or "")
    there = destination_of(context, row)
    with seed_mailbox(there, row.security, row.login_user, password, ca_file=ca_file) as mailbox:
        yield mailbox


def _checked(context: Context, row: SeedRow) -> tuple[SeedError | DestinationError | None, list[str] | None]:
    folders = None
    try:
        with opened(context, row) as mailbox:
            folders = mailbox.folders()
            _check_folders(mailbox, row, folders)
    except (SeedError, DestinationError) as error:
        return error, folders
    return None, folders


def _check_folders(mailbox: SeedMailbox, row: SeedRow, there: Sequence[str]) -> None:
    known = {_name(each) for each in there}
    missing = [each["folder"] for each in row.folders if _name(each["folder"]) not in known]
    if missing:
        raise SeedError(
            "folder", f"The mailbox has no folder {', '.join(missing)}", why=f"it has {', '.join(there[:30])}"[:500],
            remedy="Choose folders from those that there are",
        )  # fmt: skip
    used = mailbox.used()
    if used is not None and used >= FULL:
        raise SeedError(
            "full", f"The mailbox is {100 * used:.0f} % full", why="copies will be refused",
            remedy="Delete old messages there",
        )  # fmt: skip


def _name(folder: str) -> str:
    """INBOX alone may be written in any case (RFC 9051 §5.1)."""
    return "INBOX" if folder.upper() == "INBOX" else folder


def _provider_of(context: Context, address: str) -> str:
    domain = str(parse_address(address).domain)
    return providers_for(context, [domain])[domain][1]


def _dumped(folders: Sequence[SeedFolder]) -> list[dict[str, str]]:
    return [each.model_dump() for each in folders]


def shown(row: SeedRow) -> Seed:
    """Return a seed as the contract has it."""
    return Seed(
        id=row.id, address=row.address, provider=row.provider, host=row.host, port=row.port, security=row.security,
        user=row.login_user, folders=[SeedFolder.model_validate(each) for each in row.folders], lists=row.lists,
        note=row.note, enabled=row.enabled, checked_at=row.checked_at, problem=problem_of(row),
        seen_folders=row.seen_folders, created_at=row.created_at,
    )  # fmt: skip
