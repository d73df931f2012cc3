"""The examination of a message for a tenant, with what the tenant's settings and its other data say about it."""

from datetime import datetime

from sqlalchemy import Connection

from rust_gauge.contract.assays import Assay, AssayRuleView, AssaySettings
from rust_gauge.contract.common import ProblemError
from rust_gauge.core.assay import Examined, Message, RuleSet, SenderHistory, Sending, built_in, examine
from rust_gauge.core.assay.examine import weak_words
from rust_gauge.core.assay.own import OwnRule
from rust_gauge.core.errors import InputError
from rust_gauge.core.message import header_from_domain
from rust_gauge.core.names import parse_ip
from rust_gauge.documents.assays import assay_document
from rust_gauge.service.assays import learning
from rust_gauge.service.domains import audits
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import audits as store_audits
from rust_gauge.store import providers, readings
from rust_gauge.store import tables as t
from rust_gauge.store.accounts import TenantAccess

_SETTING = "assay"
WITHIN = 2.5  # seconds for everything that is asked of others; what has no answer by then is not checked


def assay_message(context: Context, tenant: TenantAccess, raw: bytes, ip: str, helo: str, mail_from: str) -> Assay:
    """Examine a message; nothing of it is stored.

    ServiceProblem `invalid-request` when it cannot be examined, or `ip` is not an address.
    """
    try:
        sending = Sending(str(parse_ip(ip)) if ip else "", helo, mail_from)
        return assay_document(examined(context, tenant.id, raw, sending, context.clock()))
    except InputError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None


def examined(
    context: Context,
    tenant_id: int | None,
    raw: bytes,
    sending: Sending,
    now: datetime,
    *,
    fresh: bool = True,
    within: float = WITHIN,
) -> Examined:
    """Examine a message as a tenant does; without one, by the rules as they ship. InputError when that cannot be."""
    if tenant_id is None:
        return context.resolver.run(examine(raw, sending=sending, now=now), fresh=fresh, within=within)
    settings = _settings_of(context, tenant_id)
    words = (weak_words() | {word.lower() for word in settings.words_added}) - {
        word.lower() for word in settings.words_removed
    }
    program = examine(
        raw, sending=sending, now=now, lists=audits.lists_of(context, tenant_id), rules=_rules(settings), words=words,
        history=_history(context, tenant_id, raw, sending), follow=settings.follow_links,
        open_unsubscribe=settings.open_unsubscribe, model=learning.model_of(context, tenant_id), own=_own(settings),
    )  # fmt: skip
    return context.resolver.run(program, fresh=fresh, within=within)


def _history(context: Context, tenant_id: int, raw: bytes, sending: Sending) -> SenderHistory | None:
    """Return what the tenant's own mail says of the sender; None for a tenant without any mail."""
    domain, _ = header_from_domain(Message(raw).mail.all("From"))
    if not domain:
        return None

    def read(connection: Connection) -> SenderHistory | None:
        if not readings.newest_overall(connection, tenant_id, 1):
            return None
        of_domain = readings.standings(connection, tenant_id, 1, domain)
        of_ip = readings.standings(connection, tenant_id, 4, sending.ip) if sending.ip else []
        names = {**providers.names_by_id(connection), **providers.labels(connection, tenant_id)}
        at_providers = {
            names[each.provider_id]: each.tenths / 10
            for each in of_domain
            if each.provider_id != t.ALL_PROVIDERS and each.provider_id in names and each.tenths >= 0
        }
        return SenderHistory(
            domain, min((each.first_day for each in of_domain), default=None), sending.ip,
            min((each.first_day for each in of_ip), default=None), at_providers,
        )  # fmt: skip

    return context.store.transaction(read)


# Settings


def _settings_of(context: Context, tenant_id: int) -> AssaySettings:
    kept = context.store.transaction(lambda c: store_audits.get_setting(c, tenant_id, _SETTING))
    return AssaySettings() if kept is None else AssaySettings.model_validate(kept)


def _rules(settings: AssaySettings) -> RuleSet:
    """Return the rules as they count for a tenant. A rule that no longer ships is passed over."""
    known = {rule.key for rule in built_in().rules}
    changes = {
        name: {key: value for key, value in change.model_dump().items() if value is not None}
        for name, change in settings.rules.items()
        if name in known
    }
    return built_in().adjusted(changes)


def _own(settings: AssaySettings) -> list[OwnRule]:
    return [
        OwnRule(
            each.rule, each.where, each.pattern, each.level, each.points, each.title, each.header, each.absent,
            each.remedy,
        )
        for each in settings.own_rules
    ]  # fmt: skip


def get_settings(context: Context, tenant: TenantAccess) -> AssaySettings:
    """Return how a tenant adjusts the examination."""
    return _settings_of(context, tenant.id)


def put_settings(context: Context, tenant: TenantAccess, settings: AssaySettings) -> AssaySettings:
    """Store how a tenant adjusts the examination. ServiceProblem `invalid-request` for unknown rules, all at once."""
    known = {rule.key for rule in built_in().rules}
    errors = [
        ProblemError(field=f"rules.{name}", what=f"{name[:80]} is not a rule", remedy="See the list of rules")
        for name in settings.rules
        if name not in known
    ]
    for number, own in enumerate(_own(settings)):
        try:
            own.compiled()
        except InputError as error:
            field = f"own_rules.{number}.{error.field}"
            errors.append(ProblemError(field=field, what=str(error), remedy=error.remedy))
    names = [each.rule for each in settings.own_rules]
    if len(names) != len({*names}):
        errors.append(ProblemError(field="own_rules", what="Two own rules have the same name", remedy="Rename one"))
    if errors:
        raise ServiceProblem("invalid-request", errors[0].what, remedy=errors[0].remedy, errors=errors)
    now = context.clock()
    document = settings.model_dump(mode="json")
    context.store.transaction(lambda c: store_audits.put_setting(c, tenant.id, _SETTING, document, now))
    return get_settings(context, tenant)


def list_rules(context: Context, tenant: TenantAccess) -> list[AssayRuleView]:
    """Return every rule as it ships and as it counts for the tenant."""
    settings = _settings_of(context, tenant.id)
    own = _own(settings)
    counted = {rule.key: rule for rule in _rules(settings).extended(each.as_rule() for each in own).rules}
    return [
        AssayRuleView(
            rule=rule.key, group=rule.group, level=counted[rule.key].level.value, points=counted[rule.key].points,
            off=counted[rule.key].off, shipped_level=rule.level.value, shipped_points=rule.points, title=rule.title,
            effect=rule.effect, remedy=rule.remedy, reference=rule.reference,
        )
        for rule in built_in().extended(each.as_rule() for each in own).rules
    ]  # fmt: skip
