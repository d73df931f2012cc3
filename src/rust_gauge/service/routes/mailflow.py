"""Mail flow under /api/v1: per provider, causes, wordings, rules of one's own, two parts beside each other."""

from typing import Annotated

from fastapi import APIRouter, Depends, Path, Query

from rust_gauge.contract.common import Day
from rust_gauge.contract.events import Cause
from rust_gauge.contract.flow import (
    Causes,
    Flow,
    FlowComparison,
    FlowDays,
    FlowNames,
    FlowSettings,
    Shift,
    ShiftDetails,
    WordingRow,
)
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesChange, RuleTrial, RuleTrialRequest
from rust_gauge.service import flow, retention, rules, shifts
from rust_gauge.service.flow import FlowQuery
from rust_gauge.service.routes.access import Asker, Ctx, Tenant
from rust_gauge.service.routes.api import Limit, problems

router = APIRouter(prefix="/api/v1/tenants/{tenant}", tags=["flow"], responses=problems)  # type: ignore[arg-type]
_Domain = Annotated[str | None, Query(max_length=1000)]
_Name = Annotated[str | None, Query(max_length=60)]
Id = Annotated[int, Path(ge=1, le=2**63)]
First = Annotated[Day | None, Query(description="First day, UTC")]
Last = Annotated[Day | None, Query(description="Last day, UTC")]


def _query(
    domain: _Domain = None,
    stream: _Name = None,
    relay: _Name = None,
    ip: _Name = None,
    campaign: _Name = None,
    tag: _Name = None,
    first: First = None,
    last: Last = None,
) -> FlowQuery:
    return FlowQuery(domain or None, stream, relay, ip or None, campaign or None, tag or None, first, last)


Asked = Annotated[FlowQuery, Depends(_query)]


@router.get("/flow", operation_id="show_flow")
def show_flow(context: Ctx, tenant: Tenant, query: Asked) -> Flow:
    """Mail flow per mailbox provider beside the period before; the last seven days if no dates are given.

    For a domain, stream, relay, or for a sending address, campaign or tag.
    """
    return flow.show_flow(context, tenant, query)


@router.get("/flow/days", operation_id="show_flow_days")
def show_flow_days(context: Ctx, tenant: Tenant, query: Asked) -> FlowDays:
    """The same day by day, for plots."""
    return flow.show_days(context, tenant, query)


@router.get("/flow/causes", operation_id="show_causes")
def show_causes(context: Ctx, tenant: Tenant, query: Asked) -> Causes:
    """Causes of bounces and delays day by day, per provider, with a reply of each and what is new."""
    return flow.show_causes(context, tenant, query)


@router.get("/flow/names", operation_id="list_flow_names")
def list_flow_names(context: Ctx, tenant: Tenant) -> FlowNames:
    """Streams, relays, sending addresses, campaigns and tags that mail is known of."""
    return flow.list_names(context, tenant)


@router.get("/flow/comparison", operation_id="compare_flow")
def compare_flow(
    context: Ctx,
    tenant: Tenant,
    query: Asked,
    other_domain: _Domain = None,
    other_stream: _Name = None,
    other_relay: _Name = None,
    other_ip: _Name = None,
    other_campaign: _Name = None,
    other_tag: _Name = None,
) -> FlowComparison:
    """Two parts of the mail beside each other: each rate, the difference with its interval, or that nobody can tell."""
    other = FlowQuery(
        other_domain, other_stream, other_relay, other_ip, other_campaign, other_tag, query.first, query.last
    )
    return flow.compare(context, tenant, query, other)


@router.get("/wordings", operation_id="list_wordings")
def list_wordings(
    context: Ctx,
    tenant: Tenant,
    first: First = None,
    last: Last = None,
    cause: Annotated[Cause | None, Query(description="Only these; `unclassified` for those that no rule knows")] = None,
    limit: Limit = 200,
) -> list[WordingRow]:
    """Replies grouped by their fixed part, the most frequent first."""
    return flow.list_wordings(context, tenant, first, last, cause, limit)


@router.get("/cause-rules", operation_id="get_cause_rules")
def get_cause_rules(context: Ctx, tenant: Tenant) -> CauseRules:
    """The tenant's own rules, asked before those that are shipped, and how far the past is judged by them."""
    return rules.get_rules(context, tenant)


@router.get("/cause-rules/shipped", operation_id="list_shipped_rules")
def list_shipped_rules(tenant: Tenant) -> list[OwnRule]:
    """The rules that come with the service, in their order; a tenant's own are asked before them."""
    return rules.shipped(tenant)


@router.put("/cause-rules", operation_id="put_cause_rules")
def put_cause_rules(context: Ctx, tenant: Tenant, principal: Asker, body: RulesChange) -> CauseRules:
    """Keep rules. Refused when one cannot be used or does not decide its own examples."""
    return rules.put_rules(context, tenant, body, principal.name)


@router.post("/cause-rules/trial", operation_id="try_cause_rules")
def try_cause_rules(context: Ctx, tenant: Tenant, body: RuleTrialRequest) -> RuleTrial:
    """What these rules would have made of the past. Nothing is changed."""
    return rules.try_rules(context, tenant, body)


@router.post("/cause-rules/application", operation_id="apply_cause_rules")
def apply_cause_rules(context: Ctx, tenant: Tenant) -> CauseRules:
    """Judge the past by the rules as they are: a job, with every counter following."""
    return rules.apply_rules(context, tenant)


@router.delete("/cause-rules/application", operation_id="stop_cause_rules")
def stop_cause_rules(context: Ctx, tenant: Tenant) -> CauseRules:
    """Stop judging the past after the piece that is under way."""
    return rules.stop_applying(context, tenant)


@router.get("/shifts", operation_id="list_shifts")
def list_shifts(
    context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=800, description="How far back")] = 7
) -> list[Shift]:
    """Sudden rises of a rate at one provider or relay, the newest first."""
    return shifts.list_shifts(context, tenant, days)


@router.get("/shifts/{id}", operation_id="get_shift")
def get_shift(context: Ctx, tenant: Tenant, id: Id) -> ShiftDetails:
    """A shift with its causes, where it came from, and some of its events."""
    return shifts.show_shift(context, tenant, id)


@router.get("/flow-settings", operation_id="get_flow_settings")
def get_flow_settings(context: Ctx, tenant: Tenant) -> FlowSettings:
    """How long events are kept, and how often a shift may be reported that is none."""
    return retention.get_settings(context, tenant.id)


@router.put("/flow-settings", operation_id="put_flow_settings")
def put_flow_settings(context: Ctx, tenant: Tenant, body: FlowSettings) -> FlowSettings:
    """Change them. Events that are too old by them are dropped within a minute or so."""
    return retention.put_settings(context, tenant, body)


@router.get("/recipient-data", operation_id="get_recipient_data")
def get_recipient_data(context: Ctx, tenant: Tenant, address: Annotated[str, Query(max_length=1000)]) -> RecipientData:
    """All that is kept of one recipient."""
    return retention.recipient_data(context, tenant, address)


@router.get("/erasures", operation_id="list_erasures")
def list_erasures(context: Ctx, tenant: Tenant) -> list[Erasure]:
    """That people were erased; not who."""
    return retention.list_erasures(context, tenant)


@router.post("/erasures", status_code=201, operation_id="erase_recipient")
def erase_recipient(context: Ctx, tenant: Tenant, principal: Asker, body: ErasureRequest) -> Erasure:
    """Take a recipient out of events, entries, replies and refused rows. Counters stay as they are. It is for good."""
    return retention.erase(context, tenant, body, principal.name)
