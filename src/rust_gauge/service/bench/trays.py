"""Trays: adding, changing and deleting them, and how to send to them."""

import hashlib
import re
import secrets
from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.bench import MadeTray, NewTray, ReceiverRule, Tray, TrayChange, TrayConnection
from rust_gauge.contract.common import ProblemError
from rust_gauge.core.bench import Rule, parse_reply
from rust_gauge.core.bench.receiver import Does
from rust_gauge.core.errors import InputError
from rust_gauge.core.names import parse_ip
from rust_gauge.service.bench.connection import snippets
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import caught, trays
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.trays import TrayContent, TrayRow

PASSWORD_PREFIX = "rgb_"  # noqa: S105 - what passwords of trays begin with
_MOST = 100  # trays of a tenant
_FIELD_NAME = re.compile(r"[!-9;-~]{1,80}")  # RFC 5322 §2.2
_ATTEMPTS_FOR = timedelta(days=2)
TRAY_OCTETS = 2 * 2**30  # that one tray holds at most


def add_tray(context: Context, tenant: TenantAccess, new: NewTray) -> MadeTray:
    """Add a tray. Its password is in this answer only."""
    _check(new.sending_ip, new.series_header, new.receiver)
    password, now = _new_password(), context.clock()

    def write(connection: Connection) -> None:
        if len(trays.list_trays(connection, tenant.id)) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} trays exist, the limit", remedy="Delete some")
        trays.add_tray(
            connection, tenant_id=tenant.id, name=new.name, title=new.title.strip(),
            address_key=f"{new.name}-{secrets.token_hex(5)}", smtp_user=f"tray-{secrets.token_hex(6)}",
            password_digest=digest_of(password), rotated_at=now, keep_days=new.keep_days,
            keep_messages=new.keep_messages, max_bytes=new.max_bytes, sending_ip=new.sending_ip,
            series_header=new.series_header, receiver=[rule.model_dump() for rule in new.receiver], created_at=now,
        )  # fmt: skip

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The tray {new.name} already exists", remedy="Choose another name"
        ) from None
    return MadeTray(password=password, **get_tray(context, tenant, new.name).model_dump())


def list_trays(context: Context, tenant: TenantAccess) -> list[Tray]:
    """Return a tenant's trays by name."""

    def read(connection: Connection) -> tuple[list[TrayRow], dict[int, TrayContent]]:
        rows = trays.list_trays(connection, tenant.id)
        return rows, trays.contents_of(connection, [row.id for row in rows])

    rows, contents = context.store.transaction(read)
    return [_shown(context.settings, row, contents.get(row.id)) for row in rows]


def find_tray(context: Context, tenant: TenantAccess, name: str) -> TrayRow:
    """Return a tray. ServiceProblem `not-found`, with the name that is most like it."""
    rows = context.store.transaction(lambda c: trays.list_trays(c, tenant.id))
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "tray", name, [row.name for row in rows], remedy="Add the tray first")
    return found


def get_tray(context: Context, tenant: TenantAccess, name: str) -> Tray:
    """Return a tray and how much is in it."""
    row = find_tray(context, tenant, name)
    contents = context.store.transaction(lambda c: trays.contents_of(c, [row.id]))
    return _shown(context.settings, row, contents.get(row.id))


def update_tray(context: Context, tenant: TenantAccess, name: str, change: TrayChange) -> Tray:
    """Change settings of a tray; what is left out stays."""
    row = find_tray(context, tenant, name)
    _check(change.sending_ip or "", change.series_header or "", change.receiver or [])
    values: dict[str, Any] = {key: value for key, value in change.model_dump().items() if value is not None}
    if values:
        context.store.transaction(lambda c: trays.update_tray(c, row.id, **values))
    return get_tray(context, tenant, name)


def rotate_password(context: Context, tenant: TenantAccess, name: str) -> MadeTray:
    """Give a tray a new SMTP password. The one before is refused from now on."""
    row, password, now = find_tray(context, tenant, name), _new_password(), context.clock()
    context.store.transaction(
        lambda c: trays.update_tray(c, row.id, password_digest=digest_of(password), rotated_at=now)
    )
    return MadeTray(password=password, **get_tray(context, tenant, name).model_dump())


def delete_tray(context: Context, tenant: TenantAccess, name: str) -> None:
    """Delete a tray and its messages, some at a time."""
    row = find_tray(context, tenant, name)
    empty_tray(context, row)
    context.store.transaction(lambda c: trays.delete_tray(c, row.id))


def empty_tray(context: Context, row: TrayRow) -> int:
    """Delete all messages of a tray, and return how many."""
    deleted = 0
    while count := context.store.transaction(lambda c: caught.delete_messages(c, row.id)):
        deleted += count
    return deleted


def connection_of(context: Context, tenant: TenantAccess, name: str) -> TrayConnection:
    """Return how to send to a tray, as settings to copy."""
    row, settings = find_tray(context, tenant, name), context.settings
    listens = bool(settings.bench_port)
    host = settings.bench_name if listens else ""
    certificate = ""
    own = own_certificate(settings)
    if listens and settings.tls_cert_file is None and own.exists():
        certificate = own.read_text("ascii")
    return TrayConnection(
        host=host, starttls_port=settings.bench_port, tls_port=settings.bench_tls_port, smtp_user=row.smtp_user,
        certificate=certificate,
        snippets=snippets(host, settings.bench_port, row.smtp_user, bool(certificate)) if listens else [],
    )  # fmt: skip


def own_certificate(settings: Settings) -> Path:
    """Return where the certificate is that the bench makes for itself when none is set."""
    return settings.var_dir / "bench" / "certificate.pem"


def rules_of(row: TrayRow) -> tuple[Rule, ...]:
    """Return how a tray answers, as the core has it."""
    rules = (ReceiverRule.model_validate(each) for each in row.receiver)
    return tuple(
        Rule(rule.recipients, Does(rule.action), rule.reply, rule.stage == "data", rule.seconds) for rule in rules
    )


def address_of(settings: Settings, row: TrayRow) -> str:
    """Return the address of a tray for mail from outside; empty where there is no bench domain."""
    return f"{row.address_key}@{settings.bench_domain}" if settings.bench_domain and settings.bench_port else ""


def digest_of(password: str) -> bytes:
    """Return what is stored of a password: it has 192 random bits, so that a plain hash is enough."""
    return hashlib.sha256(password.encode("utf-8", "surrogatepass")).digest()


def _new_password() -> str:
    return PASSWORD_PREFIX + secrets.token_urlsafe(24)


def forget_old(context: Context) -> None:
    """Delete what trays need not keep: the worker calls this from time to time."""
    now = context.clock()
    context.store.transaction(lambda c: trays.forget_attempts(c, now - _ATTEMPTS_FOR))
    for row in context.store.transaction(trays.list_trays):
        trim(context, row)


def trim(context: Context, row: TrayRow) -> None:
    """Delete messages of a tray that are too old, too many or too large together."""
    before = context.clock() - timedelta(days=row.keep_days)

    def step(connection: Connection) -> int:
        ids = caught.superfluous(connection, row.id, before, row.keep_messages, TRAY_OCTETS)
        return caught.delete_messages(connection, row.id, ids) if ids else 0

    while context.store.transaction(step):
        pass


def _check(ip: str, header: str, rules: Sequence[ReceiverRule]) -> None:
    """ServiceProblem `invalid-request` for settings that cannot work, all of them at once."""
    errors: list[ProblemError] = []
    if ip:
        try:
            parse_ip(ip)
        except InputError as error:
            errors.append(ProblemError(field="sending_ip", what=str(error), remedy=error.remedy))
    if header and not _FIELD_NAME.fullmatch(header):
        errors.append(
            ProblemError(field="series_header", what=f"{header!r} is not the name of a header field",
                         remedy="Write it without a colon, such as X-Template")
        )  # fmt: skip
    for number, rule in enumerate(rules):
        errors += _problems_of(rule, f"receiver.{number}")
    if errors:
        raise ServiceProblem("invalid-request", errors[0].what, remedy=errors[0].remedy, errors=errors)


def _problems_of(rule: ReceiverRule, field: str) -> list[ProblemError]:
    errors = []
    if rule.reply:
        try:
            parse_reply(rule.reply)
        except InputError as error:
            errors.append(ProblemError(field=f"{field}.reply", what=str(error), remedy=error.remedy))
    if rule.action in ("delay", "slow") and not 0 < rule.seconds <= 120:
        what = f"{rule.action} needs `seconds` from 0 to 120, not {rule.seconds:g}"
        errors.append(ProblemError(field=f"{field}.seconds", what=what, remedy="Clients give up after some minutes"))
    if rule.action == "greylist" and rule.seconds <= 0:
        errors.append(
            ProblemError(field=f"{field}.seconds", what="greylist needs `seconds` until mail is accepted",
                         remedy="300 is common")
        )  # fmt: skip
    return errors


def _shown(settings: Settings, row: TrayRow, content: TrayContent | None) -> Tray:
    return Tray(
        name=row.name, title=row.title, address=address_of(settings, row), smtp_user=row.smtp_user,
        rotated_at=row.rotated_at, keep_days=row.keep_days, keep_messages=row.keep_messages, max_bytes=row.max_bytes,
        sending_ip=row.sending_ip, series_header=row.series_header,
        receiver=[ReceiverRule.model_validate(each) for each in row.receiver], created_at=row.created_at,
        messages=content.messages if content else 0, octets=content.octets if content else 0,
    )  # fmt: skip
