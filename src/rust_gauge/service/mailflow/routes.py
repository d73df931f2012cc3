"""Mail flow under /api/v1: per provider, causes, reply patterns, rules of one's own, two parts beside each other."""

from typing import Annotated

from fastapi import Depends, Path, Query

from rust_gauge.contract.common import Day, Moment, Page
from rust_gauge.contract.events import Cause, Event, Kind
from rust_gauge.contract.flow import (
    Causes,
    Flow,
    FlowComparison,
    FlowDays,
    FlowNames,
    FlowSettings,
    ReplyPattern,
    Shift,
    ShiftDetails,
)
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesBacktest, RulesBacktestRequest, RulesChange
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import Cursor, Limit
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.mailflow import events, flow, recipient_data, retention, rules, shifts
from rust_gauge.service.mailflow.flow import FlowQuery

router = api_router()


@router.get("/tenants/{tenant}/events", tags=["events"], operation_id="list_events")
def list_events(
    context: Ctx,
    tenant: Tenant,
    recipient: Annotated[str | None, Query(max_length=400)] = None,
    message_id: Annotated[str | None, Query(max_length=255)] = None,
    domain: Annotated[str | None, Query(max_length=1000)] = None,
    kind: Annotated[list[Kind] | None, Query()] = None,
    provider: Annotated[
        str | None, Query(max_length=253, description="Mailbox provider: registered domain of its MX")
    ] = None,
    stream: Annotated[str | None, Query(max_length=60)] = None,
    relay: Annotated[str | None, Query(max_length=60)] = None,
    ip: Annotated[str, Query(max_length=45, description="Sending address")] = "",
    cause: Annotated[list[Cause] | None, Query()] = None,
    reply: Annotated[str, Query(max_length=200, description="Text in the reply")] = "",
    since: Moment | None = None,
    until: Moment | None = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[Event]:
    """Events, newest first: the trail of a recipient or a message, or what happened lately."""
    return events.list_events(
        context,
        tenant,
        recipient=recipient,
        message_id=message_id,
        domain=domain,
        kinds=kind or [],
        provider=provider,
        stream=stream,
        relay=relay,
        ip=ip,
        causes=cause or [],
        reply=reply,
        since=since,
        until=until,
        cursor=cursor,
        limit=limit,
    )


First = Annotated[Day | None, Query(description="First day, UTC")]


Last = Annotated[Day | None, Query(description="Last day, UTC")]


_Domain = Annotated[str | None, Query(max_length=1000)]


_Name = Annotated[str | None, Query(max_length=60)]


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


@router.get("/tenants/{tenant}/flow", tags=["flow"], operation_id="get_flow")
def get_flow(context: Ctx, tenant: Tenant, query: Asked) -> Flow:
    """Mail flow per mailbox provider beside the period before; the last seven days if no dates are given.

    For a domain, stream, relay, or for a sending address, campaign or tag.
    """
    return flow.get_flow(context, tenant, query)


@router.get("/tenants/{tenant}/flow/days", tags=["flow"], operation_id="get_flow_days")
def get_flow_days(context: Ctx, tenant: Tenant, query: Asked) -> FlowDays:
    """The same day by day, for plots."""
    return flow.show_days(context, tenant, query)


@router.get("/tenants/{tenant}/flow/causes", tags=["flow"], operation_id="get_causes")
def get_causes(context: Ctx, tenant: Tenant, query: Asked) -> Causes:
    """Causes of bounces and delays day by day, per provider, with a reply of each and what is new."""
    return flow.get_causes(context, tenant, query)


@router.get("/tenants/{tenant}/flow/names", tags=["flow"], operation_id="list_flow_names")
def list_flow_names(context: Ctx, tenant: Tenant) -> FlowNames:
    """Streams, relays, sending addresses, campaigns and tags that mail is known of."""
    return flow.list_names(context, tenant)


@router.get("/tenants/{tenant}/flow/comparison", tags=["flow"], operation_id="compare_flow")
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


@router.get("/tenants/{tenant}/reply-patterns", tags=["flow"], operation_id="list_reply_patterns")
def list_reply_patterns(
    context: Ctx,
    tenant: Tenant,
    first: First = None,
    last: Last = None,
    cause: Annotated[
        Cause | None, Query(description="Only these causes; `unclassified` for replies that no rule matches")
    ] = None,
    limit: Limit = 200,
) -> Page[ReplyPattern]:
    """Replies grouped by their fixed part, the most frequent first."""
    return Page(items=flow.list_reply_patterns(context, tenant, first, last, cause, limit))


@router.get("/tenants/{tenant}/cause-rules", tags=["flow"], operation_id="get_cause_rules")
def get_cause_rules(context: Ctx, tenant: Tenant) -> CauseRules:
    """The tenant's own rules, asked before those that are shipped, and how far the past is judged by them."""
    return rules.get_rules(context, tenant)


@router.get("/tenants/{tenant}/cause-rules/shipped", tags=["flow"], operation_id="list_shipped_rules")
def list_shipped_rules(tenant: Tenant) -> Page[OwnRule]:
    """The rules that come with the service, in their order; a tenant's own are asked before them."""
    return Page(items=rules.shipped(tenant))


@router.put("/tenants/{tenant}/cause-rules", tags=["flow"], operation_id="set_cause_rules")
def set_cause_rules(context: Ctx, tenant: Tenant, principal: Asker, body: RulesChange) -> CauseRules:
    """Keep rules. Refused when one cannot be used or does not decide its own examples."""
    return rules.put_rules(context, tenant, body, principal.name)


@router.post("/tenants/{tenant}/cause-rules/backtests", tags=["flow"], operation_id="backtest_cause_rules")
def backtest_cause_rules(context: Ctx, tenant: Tenant, body: RulesBacktestRequest) -> RulesBacktest:
    """What these rules would have made of the past. Nothing is changed."""
    return rules.backtest_rules(context, tenant, body)


@router.post("/tenants/{tenant}/cause-rules/application", tags=["flow"], operation_id="apply_cause_rules")
def apply_cause_rules(context: Ctx, tenant: Tenant, principal: Asker) -> CauseRules:
    """Judge the past by the rules as they are: a job, with every counter following."""
    return rules.apply_rules(context, tenant, principal.name)


@router.delete("/tenants/{tenant}/cause-rules/application", tags=["flow"], operation_id="cancel_cause_rules")
def cancel_cause_rules(context: Ctx, tenant: Tenant) -> CauseRules:
    """Stop judging the past after the piece that is under way."""
    return rules.stop_applying(context, tenant)


@router.get("/tenants/{tenant}/shifts", tags=["flow"], operation_id="list_shifts")
def list_shifts(
    context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=800, description="Days to look back")] = 7
) -> Page[Shift]:
    """Sudden rises of a rate at one provider or relay, the newest first."""
    return Page(items=shifts.list_shifts(context, tenant, days))


Id = Annotated[int, Path(ge=1, le=2**63)]


@router.get("/tenants/{tenant}/shifts/{id}", tags=["flow"], operation_id="get_shift")
def get_shift(context: Ctx, tenant: Tenant, id: Id) -> ShiftDetails:
    """A shift with its causes, where it came from, and some of its events."""
    return shifts.show_shift(context, tenant, id)


@router.get("/tenants/{tenant}/flow-settings", tags=["flow"], operation_id="get_flow_settings")
def get_flow_settings(context: Ctx, tenant: Tenant) -> FlowSettings:
    """How long events are kept, and how often a shift may be reported that is none."""
    return retention.get_settings(context, tenant.id)


@router.put("/tenants/{tenant}/flow-settings", tags=["flow"], operation_id="set_flow_settings")
def set_flow_settings(context: Ctx, tenant: Tenant, body: FlowSettings) -> FlowSettings:
    """Change them. Events that are too old by them are dropped within a minute or so."""
    return retention.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/recipient-data", tags=["flow"], operation_id="get_recipient_data")
def get_recipient_data(context: Ctx, tenant: Tenant, address: Annotated[str, Query(max_length=1000)]) -> RecipientData:
    """All that is kept of one recipient."""
    return recipient_data.get_recipient_data(context, tenant, address)


@router.get("/tenants/{tenant}/erasures", tags=["flow"], operation_id="list_erasures")
def list_erasures(context: Ctx, tenant: Tenant) -> Page[Erasure]:
    """That people were erased; not who."""
    return Page(items=recipient_data.list_erasures(context, tenant))


@router.post("/tenants/{tenant}/erasures", tags=["flow"], status_code=201, operation_id="erase_recipient")
def erase_recipient(context: Ctx, tenant: Tenant, principal: Asker, body: ErasureRequest) -> Erasure:
    """Take a recipient out of events, entries, replies and refused rows. Counters stay as they are. It is for good."""
    return recipient_data.erase(context, tenant, body, principal.name)
