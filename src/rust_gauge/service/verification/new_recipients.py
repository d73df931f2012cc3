"""Recipients as they come in: by the API, by an address that a form posts to, by a file. Checked by the worker."""

import json
import secrets
from collections.abc import Sequence
from datetime import UTC
from functools import partial
from hashlib import blake2b

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.checks import AddressCheck
from rust_gauge.contract.common import Page, ProblemError
from rust_gauge.contract.verification import (
    Accepted,
    NewRecipient,
    NewRecipients,
    NewRecipientSource,
    RecipientSource,
)
from rust_gauge.core.errors import AddressError
from rust_gauge.core.mailflow.mapping import FieldRule, Mapping, MappingError
from rust_gauge.core.names import address_key, parse_address
from rust_gauge.core.roles import Role
from rust_gauge.core.suppression.checks import Check, Verdict
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.providers.lookup import providers_for
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.suppression.address_checks import get_words, look_at, show
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.service.verification.checking import OPEN_WORD, verify
from rust_gauge.service.verification.verifiers import get_settings
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import jobs
from rust_gauge.store import verification as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job
from rust_gauge.store.verification import NewRecipientRow, SourceRow

log = structlog.get_logger()
KIND = "new_recipients"
SUBJECT = "recipient.checked"  # of webhooks
_PREFIX = "new-"
_MOST_SOURCES = 50
_MOST_IN_ONE = 1000  # addresses in what is posted
_PIECE = 200  # recipients that are checked together


def take(context: Context, tenant: TenantAccess, new: NewRecipients) -> Accepted:
    """Take recipients in, to be checked in a moment. Those that wait already are not taken twice."""
    return _take(context, tenant.id, new.addresses, new.source)


def _take(context: Context, tenant_id: int, texts: Sequence[str], source: str) -> Accepted:
    now = context.clock()
    rows = {}
    for text in texts:
        try:
            address = parse_address(text)
            rows[address_key(address)] = str(address)
        except AddressError:  # it is checked all the same, and found to be none
            rows[_key_of(text)] = text[:320]

    def write(connection: Connection) -> int:
        count = store.add_recipients(connection, tenant_id, list(rows.items()), source, now)
        if count:
            jobs.enqueue(connection, KIND, tenant_id, 0, now)
        return count

    count = context.store.transaction(write)
    return Accepted(accepted=count, known=len(texts) - count)


def _key_of(text: str) -> bytes:
    return blake2b(text.encode("utf-8", "surrogatepass"), digest_size=16).digest()


def run_checks(context: Context, job: Job) -> None:
    """The job: check what waits. Where budgets are used up and the tenant wants to wait, it is asked again later."""
    tenant_id = job.tenant_id
    waits = get_settings(context, tenant_id).when_spent == "wait"
    tenant = TenantAccess(tenant_id, "", "", Role.VIEWER)
    words = get_words(context, tenant)
    hidden = context.unit(tenant_id, lambda unit: bool(matchings_of(unit)[0].secret))
    after = 0
    while True:
        rows = context.store.transaction(
            lambda c, after=after: store.waiting_recipients(c, tenant_id, after, _PIECE)  # type: ignore[misc]
        )
        if not rows:
            return
        after = rows[-1].id
        alive = partial(_renew, context, job)
        checks = verify(context, tenant_id, look_at(context, tenant_id, [row.address for row in rows], words), alive)
        done = [
            (row, check)
            for row, check in zip(rows, checks, strict=True)
            if not (waits and any(found.word == OPEN_WORD for found in check.found))
        ]
        _store(context, tenant_id, done, hidden=hidden)
        _renew(context, job)


def _renew(context: Context, job: Job) -> None:
    context.store.transaction(lambda c: jobs.renew(c, job, context.clock()))


def _store(context: Context, tenant_id: int, done: Sequence[tuple[NewRecipientRow, Check]], *, hidden: bool) -> None:
    now = context.clock()
    domains = {check.address.domain for _, check in done if check.address is not None}
    providers = providers_for(context, domains)

    def write(connection: Connection) -> None:
        tell = webhooks.is_wanted(connection, tenant_id, SUBJECT)
        for row, check in done:
            shown = show(check, providers, now)
            document = shown.model_dump(mode="json")
            if tell:
                webhooks.tell(connection, tenant_id, SUBJECT, {**document, "source": row.source}, now)
            if hidden:
                document["address"] = ""
            store.set_checked(connection, row.id, check.verdict, document, now, hide=hidden)

    context.store.transaction(write)


def ask_for_waiting(context: Context) -> None:
    """Once an hour: what waits for a budget is asked again."""
    now = context.clock()
    hour = now.replace(minute=0, second=0, microsecond=0)
    if context.memory.get(KIND) == hour:
        return
    context.memory[KIND] = hour

    def write(connection: Connection) -> None:
        for tenant_id in store.tenants_with_waiting(connection):
            jobs.enqueue(connection, KIND, tenant_id, 0, now)

    context.store.transaction(write)


def list_recipients(
    context: Context, tenant: TenantAccess, verdict: str | None, cursor: str | None, limit: int
) -> Page[NewRecipient]:
    """Return recipients that came in, newest first."""
    position = read_cursor("new recipients", cursor, int)
    before = position[0] if position else None
    wanted = Verdict(verdict) if verdict else None
    rows = context.store.transaction(lambda c: store.list_recipients(c, tenant.id, wanted, before, limit + 1))
    following = write_cursor("new recipients", rows[limit - 1].id) if len(rows) > limit else None
    return Page(items=[_shown(row) for row in rows[:limit]], next=following)


def _shown(row: NewRecipientRow) -> NewRecipient:
    return NewRecipient(
        id=row.id, address=row.address or f"#{row.address_key.hex()}", source=row.source, came_at=row.came_at,
        checked_at=row.checked_at, verdict=row.verdict.value if row.verdict is not None else None,
        check=AddressCheck.model_validate(row.found) if row.found else None,
    )  # fmt: skip


# Sources


def add_source(context: Context, tenant: TenantAccess, new: NewRecipientSource) -> RecipientSource:
    """Add a source. ServiceProblem for a path that is none."""
    try:
        _mapping(new.path)
    except MappingError as error:
        what = str(error)
        raise ServiceProblem(
            "invalid-request", what, remedy=error.remedy,
            errors=[ProblemError(field="path", what=what, remedy=error.remedy)],
        ) from None  # fmt: skip
    now = context.clock()

    def write(connection: Connection) -> None:
        if len(store.list_sources(connection, tenant.id)) >= _MOST_SOURCES:
            raise ServiceProblem("too-large", f"{_MOST_SOURCES} sources exist, the limit", remedy="Delete some")
        store.add_source(connection, tenant.id, new.name, _PREFIX + secrets.token_urlsafe(18), new.path, now)

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The source {new.name} already exists", remedy="Choose another name"
        ) from None
    return next(each for each in list_sources(context, tenant) if each.name == new.name)


def list_sources(context: Context, tenant: TenantAccess) -> list[RecipientSource]:
    """Return sources by name."""
    return [
        RecipientSource(
            name=row.name, key=row.source_key, path=row.path, created_at=row.created_at.replace(tzinfo=UTC),
            last_at=row.last_at,
        )
        for row in context.store.transaction(lambda c: store.list_sources(c, tenant.id))
    ]  # fmt: skip


def delete_source(context: Context, tenant: TenantAccess, name: str) -> None:
    """Delete a source: nothing comes in by its address any more."""
    rows = context.store.transaction(lambda c: store.list_sources(c, tenant.id))
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "source of new recipients", name, [row.name for row in rows])
    context.store.transaction(lambda c: store.delete_source(c, found.id))


def receive(context: Context, key: str, octets: bytes) -> Accepted:
    """Take what a form posted to the address of a source. ServiceProblem for an unknown key, and what is not JSON."""
    source = context.store.transaction(lambda c: store.source_by_key(c, key[:60]))
    if source is None:
        raise ServiceProblem("not-found", "No source of new recipients has this address")
    texts = _addresses_in(source, octets)
    now = context.clock()
    context.store.transaction(lambda c: store.touch_source(c, source.id, now))
    return _take(context, source.tenant_id, texts, source.name)


def _addresses_in(source: SourceRow, octets: bytes) -> list[str]:
    try:
        document = json.loads(octets)
        rows = list(_mapping(source.path).apply(document))
    except (ValueError, RecursionError):
        raise ServiceProblem("invalid-request", "The body is not JSON") from None
    except MappingError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    texts = [value for row in rows if isinstance(value := row.values.get("address"), str)]
    if not texts:
        raise ServiceProblem(
            "invalid-request", f"{source.path} finds no address in the body", remedy="Check the source's path"
        )
    return texts[:_MOST_IN_ONE]


def _mapping(path: str) -> Mapping:
    return Mapping({"address": FieldRule(path="@")}, (), "$", path)
