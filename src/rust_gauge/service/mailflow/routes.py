"""Mail flow under /api/v1: per provider, causes, reply patterns, the tenant's rules, comparison of two parts."""

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
    reply: Annotated[
        str,
        Query(
            max_length=200,
            description="Text in the reply, whatever its case. Refusals are found by words over all kept events; "
            "other replies, and parts of words, among the newest million events of forty days",
        ),
    ] = "",
    since: Moment | None = None,
    until: Moment | None = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[Event]:
    """List events, newest first: the trail of a recipient or a message, or the latest events."""
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
    """Return mail flow per mailbox provider and the period before; the last seven days if no dates are given. Filters:
    domain, stream, relay, sending address, campaign or tag.
    """
    return flow.get_flow(context, tenant, query)


@router.get("/tenants/{tenant}/flow/days", tags=["flow"], operation_id="get_flow_days")
def get_flow_days(context: Ctx, tenant: Tenant, query: Asked) -> FlowDays:
    """Return mail flow by day, for plots."""
    return flow.show_days(context, tenant, query)


@router.get("/tenants/{tenant}/flow/causes", tags=["flow"], operation_id="get_causes")
def get_causes(context: Ctx, tenant: Tenant, query: Asked) -> Causes:
    """List causes of bounces and delays by day and provider, with a sample reply of each and whether it is new."""
    return flow.get_causes(context, tenant, query)


@router.get("/tenants/{tenant}/flow/names", tags=["flow"], operation_id="list_flow_names")
def list_flow_names(context: Ctx, tenant: Tenant) -> FlowNames:
    """List the streams, relays, sending addresses, campaigns and tags that events name."""
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
    """Compare two parts of the mail: each rate, and the difference with its interval or the statement that the data
    cannot tell.
    """
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
    """List reply patterns (replies grouped by their fixed part), the most frequent first."""
    return Page(items=flow.list_reply_patterns(context, tenant, first, last, cause, limit))


@router.get("/tenants/{tenant}/cause-rules", tags=["flow"], operation_id="get_cause_rules")
def get_cause_rules(context: Ctx, tenant: Tenant) -> CauseRules:
    """Return the tenant's own rules, which apply before the built-in ones, and how many past events they have
    classified.
    """
    return rules.get_rules(context, tenant)


@router.get("/tenants/{tenant}/cause-rules/built-in", tags=["flow"], operation_id="list_built_in_rules")
def list_built_in_rules(tenant: Tenant) -> Page[OwnRule]:
    """List the built-in rules in their order. The tenant's own rules apply before them."""
    return Page(items=rules.built_in(tenant))


@router.put("/tenants/{tenant}/cause-rules", tags=["flow"], operation_id="set_cause_rules")
def set_cause_rules(context: Ctx, tenant: Tenant, principal: Asker, body: RulesChange) -> CauseRules:
    """Replace the tenant's rules. They are refused when one is invalid or does not match its own examples."""
    return rules.put_rules(context, tenant, body, principal.name)


@router.post("/tenants/{tenant}/cause-rules/backtests", tags=["flow"], operation_id="backtest_cause_rules")
def backtest_cause_rules(context: Ctx, tenant: Tenant, body: RulesBacktestRequest) -> RulesBacktest:
    """Try rules on past events (dry run). Nothing is changed."""
    return rules.backtest_rules(context, tenant, body)


@router.post("/tenants/{tenant}/cause-rules/application", tags=["flow"], operation_id="apply_cause_rules")
def apply_cause_rules(context: Ctx, tenant: Tenant, principal: Asker) -> CauseRules:
    """Classify past events again with the present rules: a job; all counters follow."""
    return rules.apply_rules(context, tenant, principal.name)


@router.delete("/tenants/{tenant}/cause-rules/application", tags=["flow"], operation_id="cancel_cause_rules")
def cancel_cause_rules(context: Ctx, tenant: Tenant) -> CauseRules:
    """Stop that job after the piece in progress."""
    return rules.stop_applying(context, tenant)


@router.get("/tenants/{tenant}/shifts", tags=["flow"], operation_id="list_shifts")
def list_shifts(
    context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=800, description="Days to look back")] = 7
) -> Page[Shift]:
    """List shifts (sudden rises of a rate at one provider or relay), newest first."""
    return Page(items=shifts.list_shifts(context, tenant, days))


Id = Annotated[int, Path(ge=1, le=2**63)]


@router.get("/tenants/{tenant}/shifts/{id}", tags=["flow"], operation_id="get_shift")
def get_shift(context: Ctx, tenant: Tenant, id: Id) -> ShiftDetails:
    """Return a shift with its causes, its sources and some of its events."""
    return shifts.show_shift(context, tenant, id)


@router.get("/tenants/{tenant}/flow-settings", tags=["flow"], operation_id="get_flow_settings")
def get_flow_settings(context: Ctx, tenant: Tenant) -> FlowSettings:
    """Return the retention of events and the rate of false shifts that is accepted."""
    return retention.get_settings(context, tenant.id)


@router.put("/tenants/{tenant}/flow-settings", tags=["flow"], operation_id="set_flow_settings")
def set_flow_settings(context: Ctx, tenant: Tenant, body: FlowSettings) -> FlowSettings:
    """Change retention. Events that are too old are deleted within about a minute."""
    return retention.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/recipient-data", tags=["flow"], operation_id="get_recipient_data")
def get_recipient_data(context: Ctx, tenant: Tenant, address: Annotated[str, Query(max_length=1000)]) -> RecipientData:
    """Return all stored data about one recipient."""
    return recipient_data.get_recipient_data(context, tenant, address)


@router.get("/tenants/{tenant}/erasures", tags=["flow"], operation_id="list_erasures")
def list_erasures(context: Ctx, tenant: Tenant) -> Page[Erasure]:
    """List erasures: when and by whom, not whose data."""
    return Page(items=recipient_data.list_erasures(context, tenant))


@router.post("/tenants/{tenant}/erasures", tags=["flow"], status_code=201, operation_id="erase_recipient")
def erase_recipient(context: Ctx, tenant: Tenant, principal: Asker, body: ErasureRequest) -> Erasure:
    """Erase a recipient from events, suppression entries, replies and rejected rows. Counters are unchanged. This
    cannot be undone.
    """
    return recipient_data.erase(context, tenant, body, principal.name)
