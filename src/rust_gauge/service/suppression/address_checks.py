"""Checks of addresses: form, domain, kind, our own history, and where it is allowed a question to the mail host."""

import secrets
from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from datetime import datetime, timedelta
from typing import Any

from rust_gauge.contract.checks import AddressCheck, AddressCheckRequest, AddressWords, CheckFinding
from rust_gauge.core.dns import DnsProgram, MailboxAnswer, MailboxQuestion, gather
from rust_gauge.core.mailflow import NO_MAIL, UNRESOLVED, Kind
from rust_gauge.core.names import Address, address_key
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.suppression import State
from rust_gauge.core.suppression.checks import (
    ROLES,
    Check,
    DomainFacts,
    Found,
    Verdict,
    Weight,
    Words,
    check_domain,
    check_form,
    check_kind,
    domain_facts,
    verdict_of,
)
from rust_gauge.service.providers.lookup import ProviderLookup, providers_for, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.store import audits as store_settings
from rust_gauge.store import checks as store_checks
from rust_gauge.store import holding as store_holding
from rust_gauge.store import suppression as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.holding import Recipient

_SETTING = "address_words"
_LOOKED_BACK = timedelta(days=180)  # events older than this say little about an address today
_KEEP, _KEEP_OPEN = timedelta(days=1), timedelta(minutes=5)
_AT_ONCE = 128  # domains looked up side by side
_GONE = (Cause.NO_SUCH_MAILBOX, Cause.MAILBOX_DISABLED)
_USUAL_FOR = timedelta(minutes=10)  # how long what is usual for a tenant is remembered in the process
_MAILBOX_CAUSES = frozenset({Cause.NO_SUCH_MAILBOX, Cause.MAILBOX_DISABLED, Cause.MAILBOX_FULL})


def get_words(context: Context, tenant: TenantAccess) -> AddressWords:
    document = context.store.transaction(lambda c: store_settings.get_setting(c, tenant.id, _SETTING))
    return AddressWords.model_validate(document or {})


def put_words(context: Context, tenant: TenantAccess, words: AddressWords) -> AddressWords:
    now = context.clock()
    context.store.transaction(lambda c: store_settings.put_setting(c, tenant.id, _SETTING, words.model_dump(), now))
    return words


def words_of(context: Context, tenant_id: int, settings: AddressWords) -> Words:
    """The lists as the core wants them, with the domains that this tenant's mail usually goes to."""
    now = context.clock()
    known: tuple[datetime, tuple[str, ...]] | None = context.memory.get(("well-known domains", tenant_id))
    if known is None or not timedelta(0) <= now - known[0] < _USUAL_FOR:
        usual = context.store.transaction(lambda c: store_checks.usual_domains(c, tenant_id))
        known = context.memory[("well-known domains", tenant_id)] = (now, tuple(usual))
    return Words(
        (ROLES | frozenset(settings.roles)) - frozenset(settings.people), frozenset(settings.throw_away),
        frozenset(settings.parked), known[1],
    )  # fmt: skip


def facts_of(context: Context, domains: Iterable[str]) -> dict[str, DomainFacts]:
    """Return what DNS says of these domains; recent answers are cached."""
    now = context.clock()
    wanted = sorted(set(domains))
    found: dict[str, DomainFacts] = {}
    for name, (document, at) in context.store.transaction(lambda c: store_checks.facts(c, wanted)).items():
        facts = DomainFacts(document["takes_mail"], document["word"], document["detail"], tuple(document["hosts"]))
        if timedelta(0) <= now - at < (_KEEP_OPEN if facts.takes_mail is None else _KEEP):
            found[name] = facts
    missing = [name for name in wanted if name not in found]
    for start in range(0, len(missing), _AT_ONCE):
        part = missing[start : start + _AT_ONCE]
        new = dict(zip(part, context.resolver.run(gather(map(domain_facts, part))), strict=True))
        documents = {name: asdict(facts) for name, facts in new.items()}
        context.store.transaction(lambda c, documents=documents: store_checks.keep_facts(c, documents, now))  # type: ignore[misc]
        found |= new
    return found


def check(context: Context, tenant: TenantAccess, request: AddressCheckRequest) -> list[AddressCheck]:
    """Check addresses, in their order, as the contract has it."""
    return shown(context, own_checks(context, tenant, request))


def own_checks(context: Context, tenant: TenantAccess, request: AddressCheckRequest) -> list[Check]:
    """Check addresses, in their order, with what costs nothing."""
    settings = get_words(context, tenant)
    checks = look_at(context, tenant.id, request.addresses, settings)
    return _probed(context, checks, settings) if request.probe and settings.probe else checks


def shown(context: Context, checks: Sequence[Check]) -> list[AddressCheck]:
    """Return checks as the contract has them."""
    domains = {check.address.domain for check in checks if check.address is not None}
    providers = providers_for(context, domains)
    now = context.clock()
    return [show(check, providers, now) for check in checks]


def show(check: Check, providers: dict[str, tuple[int, str]], now: datetime) -> AddressCheck:
    """Return a check as the contract has it."""
    provider = providers.get(check.address.domain, (0, ""))[1] if check.address is not None else ""
    return AddressCheck(
        address=check.text, verdict=check.verdict.value,
        found=[CheckFinding(word=f.word, weight=f.weight.value, detail=f.detail) for f in check.found],
        suggestion=check.suggestion, provider="" if provider in (UNRESOLVED, NO_MAIL) else provider, checked_at=now,
    )  # fmt: skip


def look_at(context: Context, tenant_id: int, texts: Sequence[str], settings: AddressWords) -> list[Check]:
    """All but the probe."""
    words = words_of(context, tenant_id, settings)
    formed = [check_form(text) for text in texts]
    addresses = [address for address, _ in formed if address is not None]
    facts = facts_of(context, {address.domain for address in addresses})
    history = with_lookups(
        context, lambda lookup: context.unit(tenant_id, lambda unit: _histories(unit, lookup, addresses))
    )
    of_domain = {domain: check_domain(known, words) for domain, known in facts.items()}
    out = []
    for text, (address, form) in zip(texts, formed, strict=True):
        if address is None:
            out.append(Check(text, None, Verdict.BAD, (form,)))
            continue
        kind, suggestion = check_kind(address, words)
        found = [form, *of_domain[address.domain], *kind, *history.get(address, ())]
        if suggestion and any(finding.weight is Weight.FOR and finding.word == "delivered" for finding in found):
            found, suggestion = (
                [finding for finding in found if finding.word != "slip"],
                "",
            )  # it works: it was meant so
        out.append(Check(text, address, verdict_of(found), tuple(found), suggestion))
    return out


def _histories(unit: UnitOfWork, lookup: ProviderLookup, addresses: Sequence[Address]) -> dict[Address, list[Found]]:
    """Return what our own events and list say."""
    connection, tenant_id = unit.connection, unit.tenant_id
    since = unit.now - _LOOKED_BACK
    keys = {address: address_key(address) for address in addresses}
    events = store_holding.histories(connection, tenant_id, sorted(keys.values()), since)
    matching = matchings_of(unit)[0]
    known = lookup.of({address.domain for address in addresses}) if matching.same else {}
    domains = {domain: matching.domain_key(domain) for domain in {address.domain for address in addresses}}
    own = {
        address: (
            *matching.possible_keys(address, known.get(address.domain, (0, ""))[1]), domains[address.domain],
        )
        for address in addresses
    }  # fmt: skip
    rows = store.rows_of(connection, tenant_id, {key for keys in own.values() for key in keys})
    listed: dict[bytes, str] = {
        where.key: where.reason.meaning for where, row in rows.items()
        if row.state == State.HELD.number and (row.until is None or row.until > unit.now.replace(tzinfo=None))
    }  # fmt: skip
    out: dict[Address, list[Found]] = {}
    for address in addresses:
        found: list[Found] = []
        meaning = next((listed[key] for key in own[address] if key in listed), None)
        if meaning:
            found.append(Found("held", Weight.AGAINST, f"it is on the suppression list: {meaning}"))
        recipient = events.get(keys[address])
        if recipient is not None:
            found += _said(recipient)
        out[address] = found
    return out


def _said(recipient: Recipient) -> list[Found]:
    ordered = sorted(recipient.events)
    delivered = next((e.at for e in reversed(ordered) if e.kind is Kind.DELIVERED), None)
    bounced = next((e for e in reversed(ordered) if e.kind is Kind.BOUNCED), None)
    if bounced is not None and (delivered is None or bounced.at > delivered):
        weight = (
            Weight.AGAINST
            if bounced.permanence is Permanence.PERMANENT and bounced.cause in _MAILBOX_CAUSES
            else Weight.DOUBT
        )
        says = f"a message to it bounced on {bounced.at:%Y-%m-%d} ({str(bounced.cause).replace('_', ' ')})"
        return [Found("bounced", weight, says)]
    if delivered is not None:
        return [Found("delivered", Weight.FOR, f"a message to it was delivered on {delivered:%Y-%m-%d}")]
    return []


# Asking the mail host


def _probed(context: Context, checks: list[Check], settings: AddressWords) -> list[Check]:
    """Probe the addresses without findings: never more per provider and minute than allowed."""
    domains = {check.address.domain for check in checks if check.address is not None}
    facts, providers = facts_of(context, domains), providers_for(context, domains)
    chosen: dict[int, DnsProgram[Found]] = {}
    out = list(checks)
    for number, check in enumerate(checks):
        if check.address is None or check.verdict is Verdict.BAD:
            continue
        known = facts[check.address.domain]
        if not known.hosts:
            continue
        if not _may_probe(context, providers[check.address.domain][1], settings.probes_a_minute):
            says = "the query limit of its provider is reached for now"
            out[number] = _with(check, Found("not_probed", Weight.OPEN, says))
            continue
        chosen[number] = _probe(known.hosts[0], check.address)
    for number, found in zip(chosen, context.resolver.run(gather(chosen.values())), strict=True):
        out[number] = _with(checks[number], found)
    return out


def _with(check: Check, found: Found) -> Check:
    every = (*check.found, found)
    return Check(check.text, check.address, verdict_of(every), every, check.suggestion)


def _may_probe(context: Context, provider: str, a_minute: int) -> bool:
    """Counts in this process; a probe is two questions, one of them about a mailbox that nobody has."""
    asked: deque[datetime] = context.memory.setdefault(("probes", provider), deque())
    now = context.clock()
    while asked and now - asked[0] > timedelta(minutes=1):
        asked.popleft()
    if len(asked) >= a_minute:
        return False
    asked.append(now)
    return True


def _probe(host: str, address: Address) -> DnsProgram[Found]:
    """RCPT TO for the address, and for one that nobody can have: who takes both says nothing with either."""
    nobody = f"{secrets.token_hex(8)}@{address.domain}"
    answers: Any = yield (MailboxQuestion(host, str(address)), MailboxQuestion(host, nobody))
    answer: MailboxAnswer = answers[0]
    other: MailboxAnswer = answers[1]
    if answer.status == "refused":
        return Found("refused", Weight.AGAINST, f"its mail host rejected it: {answer.reply[:200]}")
    if answer.status == "taken" and other.status == "taken":
        return Found("catch_all", Weight.OPEN, "its mail host accepts every address, so nothing is known of this one")
    if answer.status == "taken":
        return Found("taken", Weight.FOR, "its mail host accepts it and rejects a non-existent address")
    return Found(
        "no_answer", Weight.OPEN, f"its mail host gave no clear answer: {(answer.reply or answer.detail)[:200]}"
    )
