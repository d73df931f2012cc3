"""Rules of a tenant's own: kept, tried on the past, and applied to it as a job.

A load is judged by the rules that hold when it is counted (`store.intake` compares versions under the lock). So once
the job has gone through all days, every refusal is judged by the newest rules.
"""

import time
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import partial
from typing import Any

import structlog
from pydantic import ValidationError
from sqlalchemy import Connection

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.rules import (
    CauseRules,
    OwnRule,
    RejudgedPattern,
    RuleApplication,
    RulesBacktest,
    RulesBacktestRequest,
    RulesChange,
)
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.event import judge_again, permanence_of
from rust_gauge.core.replies import (
    Cause,
    CauseRule,
    Classified,
    Classifier,
    Permanence,
    RuleError,
    RuleSet,
    built_in_classifier,
    built_in_rules,
    failures,
    own_rules,
)
from rust_gauge.core.replies.reply_pattern import reply_pattern_of
from rust_gauge.core.suppression import Act, Policy
from rust_gauge.service.mailflow.retention import kept_since
from rust_gauge.service.providers.providers import columns_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import period_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression import holding
from rust_gauge.service.suppression.policy import policy_of
from rust_gauge.store import annotations, jobs, rejudge
from rust_gauge.store import audits as store_settings
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.intake import lock_counters, rules_version
from rust_gauge.store.jobs import Job
from rust_gauge.store.rejudge import RefusalRow, WordingOfProvider

log = structlog.get_logger()
KIND = "rules"
_SETTING = "cause_rules"
_SHOWN = 500  # groups of replies; the totals cover all
_READINGS_AFTER = timedelta(minutes=1)  # once for all pieces of a domain's days
_LONGEST_TRIAL = 20  # seconds
_LOOKED_AT = timedelta(days=90)  # reply patterns that new rules are held against for their speed


@dataclass(frozen=True, slots=True)
class TenantRules:
    """What classifies a tenant's rejections."""

    version: int
    classifier: Classifier


def rules_of(context: Context, tenant_id: int) -> TenantRules:
    def read(connection: Connection) -> tuple[int, Any]:
        return rules_version(connection, tenant_id), store_settings.get_setting(connection, tenant_id, _SETTING)

    version, document = context.store.transaction(read)
    rules = []
    for rule in (document or {}).get("rules", []):
        try:
            rules.append(_core_rule(OwnRule.model_validate(rule)))
        except (RuleError, ValidationError) as error:  # stored by a version that allowed it: the others hold
            log.warning("rule_left_out", rule=rule.get("name"), tenant=tenant_id, error=str(error)[:300])
    return TenantRules(version, Classifier(own_rules(rules, time.thread_time)) if rules else built_in_classifier())


def _core_rule(rule: OwnRule) -> CauseRule:
    return CauseRule(
        rule.name, Cause(rule.cause), tuple(rule.words), rule.pattern, rule.unless, rule.code, rule.enhanced,
        rule.provider, Permanence(rule.permanence) if rule.permanence else None, tuple(rule.fits),
        tuple(rule.fits_not), tuple(rule.says),
    )  # fmt: skip


def get_rules(context: Context, tenant: TenantAccess) -> CauseRules:
    def read(connection: Connection) -> CauseRules:
        document = store_settings.get_setting(connection, tenant.id, _SETTING) or {}
        newest = jobs.newest_of(connection, tenant.id, KIND)
        return CauseRules(
            version=rules_version(connection, tenant.id), changed_at=document.get("changed_at"),
            changed_by=document.get("changed_by", ""), rules=document.get("rules", []),
            application=_application(newest),
        )  # fmt: skip

    return context.store.transaction(read)


def built_in(tenant: TenantAccess) -> list[OwnRule]:
    """The rules that come with the service, asked after a tenant's own."""
    return [
        OwnRule(
            name=rule.name, cause=str(rule.cause), says=list(rule.says), words=list(rule.words),
            pattern=rule.pattern, unless=rule.unless,
            code=rule.code, enhanced=rule.enhanced, provider=rule.provider, permanence=str(rule.permanence or ""),
            fits=list(rule.fits), fits_not=list(rule.fits_not),
        )
        for rule in built_in_rules().rules
    ]  # fmt: skip


def _application(job: Job | None) -> RuleApplication | None:
    if job is None:
        return None
    return RuleApplication.model_validate(
        {
            "job": job.id, "rules_version": job.request["rules_version"], "state": job.state, "days_done": job.done,
            "days": job.total, "error": job.error, "asked_at": job.created_at, "finished_at": job.finished_at,
            **{name: job.result.get(name, 0) for name in ("judged", "changed", "entries_made", "entries_lifted")},
        }
    )  # fmt: skip


def _own(rules: Sequence[OwnRule]) -> tuple[list[CauseRule], RuleSet]:
    """As the core has them. ServiceProblem that names each rule that cannot be used."""
    made, errors = [], []
    for number, rule in enumerate(rules):
        try:
            made.append(_core_rule(rule))
            own_rules([made[-1]], time.thread_time)
        except RuleError as error:
            what = f"{error.what} ({error.why})" if error.why else error.what
            errors.append(ProblemError(field=f"rules.{number}", what=what, remedy=error.remedy))
    try:
        if not errors:
            return made, own_rules(made, time.thread_time)
    except RuleError as error:
        errors.append(ProblemError(field="rules", what=error.what, remedy=error.remedy))
    raise ServiceProblem("invalid-request", errors[0].what, remedy="Nothing was changed", errors=errors)


def put_rules(context: Context, tenant: TenantAccess, change: RulesChange, by: str) -> CauseRules:
    """Store rules. ServiceProblem if one is invalid, takes too long, or does not match its own examples."""
    made, ruleset = _own(change.rules)
    today = context.clock().date()
    problems = _problems(made, ruleset, _past(context, tenant, today - _LOOKED_AT, today))
    if problems:
        errors = [ProblemError(field="rules", what=what) for what in problems]
        raise ServiceProblem("invalid-request", problems[0], remedy="Nothing was changed", errors=errors)
    now = context.clock()
    document = {
        "rules": [rule.model_dump() for rule in change.rules], "changed_at": now.isoformat(), "changed_by": by,
    }  # fmt: skip

    def write(unit: UnitOfWork) -> None:
        connection = unit.connection
        if lock_counters(connection, tenant.id) != change.version:
            raise ServiceProblem(
                "changed-meanwhile", "The rules have changed since you loaded them", remedy="Reload the rules"
            )
        store_settings.put_setting(connection, tenant.id, _SETTING, document, now)
        annotations.annotate_policy(connection, tenant.id, now, by, "the cause rules changed")
        rejudge.raise_rules_version(connection, tenant.id)
        if change.apply:
            _ask(unit)

    context.unit(tenant.id, write, by=by)
    return get_rules(context, tenant)


def _problems(made: Sequence[CauseRule], ruleset: RuleSet, past: Sequence[WordingOfProvider]) -> list[str]:
    problems = failures(made, ruleset)
    classifier = Classifier(ruleset)
    end = time.monotonic() + _LONGEST_TRIAL
    for row in past:
        classifier.classify(row.reply_pattern, provider=row.provider)
        if time.monotonic() > end:
            return [
                *problems,
                "The rules take too long together. Add words to rules: patterns are tried only on replies with one of "
                "the words",
            ]
    slow = [
        f"{name}: its pattern takes too long, for example because of nested repetitions" for name in ruleset.slow_rules
    ]
    return slow + problems


def _past(context: Context, tenant: TenantAccess, first: date, last: date) -> list[WordingOfProvider]:
    return context.store.transaction(lambda c: rejudge.wordings_by_provider(c, tenant.id, first, last))


def backtest_rules(context: Context, tenant: TenantAccess, request: RulesBacktestRequest) -> RulesBacktest:
    """Return what these rules would have done with past events, by the counters of reply patterns."""
    made, ruleset = _own(request.rules)
    first, last = period_of(context, request.days, request.last)
    past = _past(context, tenant, first, last)
    columns = context.store.transaction(lambda c: columns_of(c, tenant.id, last))
    policy = context.unit(tenant.id, policy_of)
    classifier = Classifier(ruleset)
    decided: Counter[str] = Counter()
    rows: dict[tuple[Any, ...], RejudgedPattern] = {}
    judged = changed = frees = holds = 0
    end = time.monotonic() + _LONGEST_TRIAL
    judgements = []
    for row in past:
        if time.monotonic() > end:
            break  # `problems` says so
        judgements.append((row, classifier.classify(row.reply_pattern, provider=row.provider)))
    bounces = _bounces_to_be_final(context, tenant, first, last, judgements)
    for row, found in judgements:
        cause, permanence, n = Cause.from_number(row.cause), Permanence.from_number(row.permanence), int(row.n)
        judged += n
        if found.rule.startswith(ruleset.prefix):
            decided[found.rule.removeprefix(ruleset.prefix)] += n
        final = n if permanence is Permanence.PERMANENT else min(n, bounces.get((row.id, row.provider_id), 0))
        # A delay stays transient whatever a rule says; so only bounces can become permanent.
        for new, count in ((permanence_of(Kind.BOUNCED, found.permanence), final), (permanence, n - final)):
            if not count or (found.cause, new) == (cause, permanence):
                continue
            changed += count
            before, after = (_holds(policy, *verdict) for verdict in ((cause, permanence), (found.cause, new)))
            frees += count if before and not after else 0
            holds += count if after and not before else 0
            key = (row.reply_pattern, cause, permanence, found.cause, new, found.rule)
            label = columns.label(columns.place(row.provider_id))
            there = rows.get(key)
            if there is None:
                rows[key] = RejudgedPattern(
                    pattern=row.reply_pattern, example=row.example, count=count, providers=[label], cause=str(cause),
                    permanence=str(permanence), new_cause=str(found.cause), new_permanence=str(new),
                    new_rule=found.rule,
                )  # fmt: skip
            else:
                there.count += count
                there.providers = sorted({*there.providers, label})
    return RulesBacktest(
        first_day=first,
        last_day=last,
        patterns=len({row.reply_pattern for row in past}),
        judged=judged,
        changed=changed,
        frees=frees,
        holds=holds,
        rows=sorted(rows.values(), key=lambda row: -row.count)[:_SHOWN],
        decided={rule.name: decided[rule.name] for rule in made},
        problems=_problems(made, ruleset, past),
    )


def _holds(policy: Policy, cause: Cause, permanence: Permanence) -> bool:
    """Return whether one bounce of this kind holds its address at once."""
    rule = policy.rule_for(Kind.BOUNCED, cause, permanence)
    return rule is not None and rule.at_once and rule.act is Act.HOLD


def _bounces_to_be_final(
    context: Context,
    tenant: TenantAccess,
    first: date,
    last: date,
    judgements: list[tuple[WordingOfProvider, Classified]],
) -> dict[tuple[int, int], int]:
    """Return how many transient ones are bounces that a rule would make permanent: counters cannot tell."""
    ids = {
        row.id
        for row, found in judgements
        if found.permanence is Permanence.PERMANENT and row.permanence == Permanence.TRANSIENT.number
    }
    if not ids:
        return {}
    return context.store.transaction(lambda c: rejudge.transient_bounces(c, tenant.id, first, last, sorted(ids)))


# Applying them to the past


def apply_rules(context: Context, tenant: TenantAccess, by: str) -> CauseRules:
    """Judge the past by the rules as they are; what is judged by them already does not change."""
    context.unit(tenant.id, _ask, by=by)
    return get_rules(context, tenant)


def _ask(unit: UnitOfWork) -> None:
    """Add a job, in place of one for older rules."""
    connection, tenant_id, now = unit.connection, unit.tenant_id, unit.now
    lock_counters(connection, tenant_id)
    _stop(connection, tenant_id, now)
    request = {"rules_version": rules_version(connection, tenant_id)}
    jobs.add(connection, KIND, tenant_id, now, name="re-classification", request=request, created_by=unit.by)


def _stop(connection: Connection, tenant_id: int, now: datetime) -> None:
    newest = jobs.newest_of(connection, tenant_id, KIND, lock=True)
    if newest is not None:
        jobs.request_cancel(connection, newest, now)


def stop_applying(context: Context, tenant: TenantAccess) -> CauseRules:
    """Stop after the piece that is under way. What is judged stays so."""
    context.store.transaction(lambda c: _stop(c, tenant.id, context.clock()))
    return get_rules(context, tenant)


def run_application(context: Context, job: Job) -> None:
    """The job: all days that have refusals, the newest first. CancelRequested when newer rules are to be applied."""
    rules = rules_of(context, job.tenant_id)
    days = context.store.transaction(lambda c: rejudge.refusal_days(c, job.tenant_id))
    counts: Counter[str] = Counter()
    context.store.transaction(partial(jobs.advance, job=job, now=context.clock(), done=0, total=len(days), result={}))
    for number, day in enumerate(days, 1):
        after = None
        while True:
            done = context.unit(
                job.tenant_id, partial(_piece, job=job, rules=rules, day=day, after=after, before=counts)
            )
            counts, after = done.counts, done.after
            if after is None:
                break
        context.store.transaction(partial(jobs.advance, job=job, now=context.clock(), done=number))


@dataclass(frozen=True, slots=True)
class _Done:
    """The start of the next piece of a day, None at its end; and what was counted so far."""

    after: tuple[datetime, bytes] | None
    counts: Counter[str]


def _piece(
    unit: UnitOfWork, job: Job, rules: TenantRules, day: date, after: tuple[datetime, bytes] | None,
    before: Counter[str],
) -> _Done:  # fmt: skip
    """One transaction: events, counters, suppression entries, and how far it is."""
    connection, now = unit.connection, unit.now
    if lock_counters(connection, job.tenant_id) != rules.version:
        raise jobs.CancelRequested

    def judge(refusal: RefusalRow) -> rejudge.Verdict | None:
        # By the reply pattern, as everything else: replies that were kept before codes were in it have them beside it.
        reply_pattern = reply_pattern_of(
            refusal.reply_pattern or refusal.diagnostic, refusal.reply_code, refusal.enhanced_code
        )
        found = rules.classifier.classify(reply_pattern, provider=refusal.provider)
        kind, permanence = Kind.from_number(refusal.kind), Permanence.from_number(refusal.permanence)
        return judge_again(kind, permanence, refusal.cause_rule, found)

    done = rejudge.rejudge(connection, job.tenant_id, day, after, judge)
    made, lifted = _follow(unit, done)
    counts = Counter(before)
    counts.update(judged=done.looked_at, changed=len(done.changed), entries_made=made, entries_lifted=lifted)
    jobs.advance(connection, job, now, result=dict(counts))
    for domain_id in sorted({row.domain_id for row, _ in done.changed}):
        jobs.enqueue(connection, "readings", job.tenant_id, domain_id, now, at=now + _READINGS_AFTER)
    return _Done(done.after, counts)


def _follow(unit: UnitOfWork, done: rejudge.Judged) -> tuple[int, int]:
    """Suppression entries follow: made where a refusal speaks against its address now, withdrawn where none does."""
    keys = sorted({bytes(row.recipient_key) for row, _ in done.changed})
    return holding.settle(unit, keys, kept_since(unit.connection, unit.tenant_id, unit.now))
