"""A tenant's policy, and how its list compares addresses. Both are read within the transaction that uses them."""

from typing import Any

import orjson
from sqlalchemy import Connection

from rust_gauge.contract.suppression import (
    MatchingSettings,
    MatchingView,
    PolicyRule,
    PolicyView,
    ProposalSettings,
    SuppressionPolicy,
)
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.suppression import (
    DEFAULT_POLICY,
    Act,
    Matching,
    Policy,
    PolicyError,
    Proposals,
    Reason,
    Rule,
    SameMailbox,
    Scope,
)
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import annotations, suppression_state
from rust_gauge.store import audits as store_settings
from rust_gauge.store.accounts import TenantAccess

_POLICY = "suppression_policy"


# The policy


def policy_of(unit: UnitOfWork) -> Policy:
    """Return the policy that holds."""
    document = store_settings.get_setting(unit.connection, unit.tenant_id, _POLICY)
    if document is None:
        return DEFAULT_POLICY
    # A rule costs some time to check, and a tenant's policy seldom changes.
    digest = orjson.dumps(document, option=orjson.OPT_SORT_KEYS)
    known = unit.memory.get(("policy", unit.tenant_id))
    if known is None or known[0] != digest:
        policy = core_policy(SuppressionPolicy.model_validate(document["policy"]))
        known = unit.memory[("policy", unit.tenant_id)] = (digest, policy)
    found: Policy = known[1]
    return found


def core_policy(policy: SuppressionPolicy) -> Policy:
    """The contract's policy as the core's. ServiceProblem `invalid-request` where a rule cannot be meant."""
    names: set[str] = set()
    rules = []
    for number, rule in enumerate(policy.rules):
        if rule.name in names:
            raise ServiceProblem("invalid-request", f"rules.{number}: two rules are named {rule.name}")
        names.add(rule.name)
        try:
            rules.append(_core_rule(rule))
        except PolicyError as error:
            raise ServiceProblem("invalid-request", f"rules.{number}: {error.what}", remedy=error.remedy) from None
        except ValueError as error:
            raise ServiceProblem("invalid-request", f"rules.{number}: {error}") from None
    return Policy(tuple(rules), Proposals(**policy.proposals.model_dump()))


def _core_rule(rule: PolicyRule) -> Rule:
    return Rule(
        rule.name, Act(rule.act), tuple(Kind(kind) for kind in rule.kinds),
        tuple(Cause(cause) for cause in rule.causes),
        Permanence(rule.permanence) if rule.permanence else None, tuple(rule.streams),
        tuple(provider.lower() for provider in rule.providers), Reason(rule.reason), Scope(rule.scope),
        rule.whole_domain, rule.times, rule.over_days, rule.within_days, rule.for_days, rule.longer, rule.longest_days,
        rule.ends_with_delivery, tuple(rule.wait_hours),
    )  # fmt: skip


def shown_policy(policy: Policy) -> SuppressionPolicy:
    """The core's policy as the contract's."""
    rules = [
        PolicyRule(
            name=rule.name, act=str(rule.act), kinds=[str(kind) for kind in rule.kinds],
            causes=[str(cause) for cause in rule.causes], permanence=str(rule.permanence or ""),
            streams=list(rule.streams), providers=list(rule.providers), reason=str(rule.reason), scope=str(rule.scope),
            whole_domain=rule.whole_domain, times=rule.times, over_days=rule.over_days, within_days=rule.within_days,
            for_days=rule.for_days, longer=rule.longer, longest_days=rule.longest_days,
            ends_with_delivery=rule.ends_with_delivery, wait_hours=list(rule.wait_hours),
        )
        for rule in policy.rules
    ]  # fmt: skip
    p = policy.proposals
    proposals = ProposalSettings(
        no_life_sends=p.no_life_sends, no_life_days=p.no_life_days, role_addresses=p.role_addresses,
        revived_after_days=p.revived_after_days,
    )  # fmt: skip
    return SuppressionPolicy(rules=rules, proposals=proposals)


def get_policy(context: Context, tenant: TenantAccess) -> PolicyView:
    document = context.store.transaction(lambda c: store_settings.get_setting(c, tenant.id, _POLICY))
    if document is None:
        return PolicyView(policy=shown_policy(DEFAULT_POLICY), is_default=True)
    return PolicyView(
        policy=SuppressionPolicy.model_validate(document["policy"]), is_default=False,
        changed_at=document["changed_at"], changed_by=document["changed_by"],
    )  # fmt: skip


def put_policy(context: Context, tenant: TenantAccess, policy: SuppressionPolicy | None, by: str) -> PolicyView:
    """Store a policy; None restores the default. It applies to events from now on."""
    now = context.clock()
    document: dict[str, Any] | None = None
    if policy is not None:
        core_policy(policy)
        document = {"policy": policy.model_dump(), "changed_at": now.isoformat(), "changed_by": by}

    def write(connection: Connection) -> None:
        suppression_state.lock(connection, tenant.id)
        if document is None:
            store_settings.drop_setting(connection, tenant.id, _POLICY)
        else:
            store_settings.put_setting(connection, tenant.id, _POLICY, document, now)
        annotations.annotate_policy(connection, tenant.id, now, by, "suppression policy changed")

    context.store.transaction(write)
    return get_policy(context, tenant)


# Comparing addresses


def matching_from(settings: Settings, document: dict[str, Any], secret: str) -> Matching:
    """Return how addresses are compared, from what is stored."""
    found = MatchingSettings.model_validate(document or {})
    same = tuple(
        SameMailbox(same_mailbox.provider.lower(), same_mailbox.tag_after, same_mailbox.without_dots)
        for same_mailbox in found.same
    )
    key = bytes.fromhex(decrypt(settings, secret)) if found.digests_only else b""
    return Matching(found.fold_case, same, key)


def matchings_of(unit: UnitOfWork) -> tuple[Matching, ...]:
    """Return how addresses are compared now; a second way while the list is being rewritten."""
    return list_state(unit)[0]


def list_state(unit: UnitOfWork) -> tuple[tuple[Matching, ...], list[dict[str, Any]]]:
    """Return how addresses are compared, and the stream pauses: each a stream, a relay (or any), since when and why."""
    matching, before, secret, pauses = suppression_state.matching_of(unit.connection, unit.tenant_id)
    held = orjson.loads(pauses) if pauses != "[]" else []
    if matching == "{}" and before is None:
        return (_USUAL,), held
    now = matching_from(unit.settings, orjson.loads(matching), secret)
    if before is None:
        return (now,), held
    return (now, matching_from(unit.settings, orjson.loads(before), secret)), held


_USUAL = Matching()


def get_matching(context: Context, tenant: TenantAccess) -> MatchingView:
    row = context.store.transaction(lambda c: suppression_state.get_state(c, tenant.id))
    settings = MatchingSettings.model_validate(row.matching or {})
    key = decrypt(context.settings, row.secret) if settings.digests_only else ""
    return MatchingView(settings=settings, changing=row.matching_before is not None, key=key)
