"""A record plan and its comparison with what is published, as the contract has it."""

from collections.abc import Mapping

from rust_gauge.contract import plans as c
from rust_gauge.core.recordplan import (
    Comparison,
    PlannedRecord,
    RecordPlan,
    SpfPlan,
    host_forms,
    value_forms,
    zone_line,
)


def plan_document(plan: RecordPlan, settings: c.PlanSettings, checks: Mapping[str, Comparison] | None = None) -> c.Plan:
    checks = checks or {}
    ours = [record for record in plan.records if not record.elsewhere]
    right = sum(1 for record in ours if record.key in checks and checks[record.key].state == "matches")
    return c.Plan(
        domain=plan.domain,
        zone=plan.zone,
        settings=settings,
        records=[record_document(record, checks.get(record.key)) for record in plan.records],
        spf=[_spf(spf_plan) for spf_plan in plan.spf],
        advice=[c.PlanAdvice(title=advice.title, why=advice.why) for advice in plan.advice],
        sts_policy=plan.sts_policy,
        servers=[],
        right=right,
        total=len(ours),
    )


def record_document(record: PlannedRecord, check: Comparison | None = None) -> c.PlanRecord:
    hosts, values = host_forms(record.name, record.zone), value_forms(record)
    return c.PlanRecord(
        key=record.key,
        purpose=str(record.purpose),
        name=record.name,
        type=record.rdtype,
        value=record.value,
        priority=record.priority,
        ttl=record.ttl,
        why=record.why,
        relay=record.relay,
        waits_for=record.waits_for,
        elsewhere=record.elsewhere,
        forms=c.RecordForms(
            host=hosts.relative,
            host_or_blank=hosts.relative_or_blank,
            host_full=hosts.full,
            host_with_dot=hosts.full_with_dot,
            value=values.plain,
            value_quoted=values.quoted,
            value_with_priority=values.with_priority,
            zone_line=zone_line(record),
        ),
        check=_check(check) if check else None,
    )


def _check(check: Comparison) -> c.RecordCheck:
    return c.RecordCheck.model_validate(
        {
            "state": str(check.state),
            "published": list(check.published),
            "causes": [
                {"key": cause.key, "text": cause.text, "column": cause.column, "length": cause.length}
                for cause in check.causes
            ],
            "pieces": [
                {"kind": piece.kind, "planned": piece.planned, "published": piece.published} for piece in check.pieces
            ],
            "found_at": check.found_at,
            "found_value": check.found_value,
            "lacking": list(check.lacking),
            "detail": check.detail,
        }
    )


def _spf(plan: SpfPlan) -> c.SpfMerge:
    return c.SpfMerge(
        name=plan.name,
        value=plan.value,
        lookups=plan.lookups,
        per_relay=[c.SpfShare(relay=relay, lookups=lookups) for relay, lookups in plan.per_relay],
        options=[
            c.SpfChoice.model_validate(
                {"way": o.way, "relay": o.relay, "saves": o.saves, "lookups_after": o.lookups_after, "price": o.price,
                 "value": o.value}
            )
            for o in plan.options
        ],
        problems=list(plan.problems),
    )  # fmt: skip
