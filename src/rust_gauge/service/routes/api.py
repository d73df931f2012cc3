"""All of /api/v1. Thin: what a route does is in the service module of the same name."""

from typing import Annotated

from fastapi import APIRouter, Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.audits import (
    Audit,
    AuditComparison,
    AuditSettings,
    AuditSummary,
    Batch,
    BatchRequest,
    BatchResult,
    FeedbackReport,
    HistoryEntry,
    MessageCheck,
    SpfTrial,
    SpfTrialRequest,
)
from rust_gauge.contract.common import Moment, Page, Problem
from rust_gauge.contract.domains import Domain, DomainChange, NewDomain
from rust_gauge.contract.events import Cause, Event, IntakeResult, Kind
from rust_gauge.contract.flow import Provider, ProviderChange
from rust_gauge.contract.plans import MadeKey, NewKey, Plan, PlanSettings
from rust_gauge.contract.proofs import NewProof, Proof, ProofCode, Sender
from rust_gauge.contract.publishing import (
    NewUpdateServer,
    Publication,
    UpdateServer,
    ZoneChange,
    ZoneChangeRequest,
)
from rust_gauge.contract.relays import Relay, RelayDescription, RelayName
from rust_gauge.contract.session import MadeToken, NewToken, SignIn, Token, Who
from rust_gauge.contract.watches import Watch, WatchRequest, WatchSettings
from rust_gauge.service import (
    accounts,
    audits,
    batches,
    domains,
    events,
    intake,
    plans,
    proofs,
    providers,
    publishing,
    relays,
    watches,
)
from rust_gauge.service.routes.access import COOKIE, Asker, Ctx, Tenant, check_same_site
from rust_gauge.service.unpack import unpack_body

problems = {
    code: {"model": Problem, "content": {"application/problem+json": {}}, "description": "What is wrong, as RFC 9457"}
    for code in (401, 404, 422)
}
router = APIRouter(prefix="/api/v1", responses=problems)  # type: ignore[arg-type]

Cursor = Annotated[str | None, Query(max_length=500, description="`next` of the page before")]
Limit = Annotated[int, Query(ge=1, le=1000)]
Name = Annotated[str, Path(max_length=1000, description="A domain name")]


# Session and tokens


@router.post("/session", tags=["session"], operation_id="sign_in")
def sign_in(context: Ctx, request: Request, response: Response, body: SignIn) -> Who:
    """Sign in as a person; the session comes as a cookie."""
    check_same_site(request)
    secret, principal = accounts.sign_in(context, body.email, body.password.get_secret_value())
    response.set_cookie(
        COOKIE,
        secret,
        max_age=context.settings.session_hours * 3600,
        httponly=True,
        samesite="strict",
        secure=context.settings.public_url.startswith("https://"),
        path="/",
    )
    return accounts.describe(principal)


@router.get("/session", tags=["session"], operation_id="who_am_i")
def who_am_i(principal: Asker) -> Who:
    """Who is asking, and which tenants they may see."""
    return accounts.describe(principal)


@router.delete("/session", tags=["session"], status_code=204, operation_id="sign_out")
def sign_out(context: Ctx, principal: Asker, request: Request, response: Response) -> None:
    """End the session."""
    accounts.sign_out(context, request.cookies.get(COOKIE, ""))
    response.delete_cookie(COOKIE, path="/")


@router.get("/tokens", tags=["session"], operation_id="list_tokens")
def list_tokens(context: Ctx, principal: Asker) -> list[Token]:
    """The asker's tokens, without their secrets."""
    return accounts.list_tokens(context, principal)


@router.post("/tokens", tags=["session"], status_code=201, operation_id="make_token")
def make_token(context: Ctx, principal: Asker, body: NewToken) -> MadeToken:
    """Make a token for a program. Its secret is shown this once."""
    return accounts.make_token(context, principal, body)


@router.delete("/tokens/{id}", tags=["session"], status_code=204, operation_id="drop_token")
def drop_token(context: Ctx, principal: Asker, id: int) -> None:
    """Make a token worthless."""
    accounts.drop_token(context, principal, id)


# Domains and audits


@router.get("/tenants/{tenant}/domains", tags=["domains"], operation_id="list_domains")
def list_domains(context: Ctx, tenant: Tenant, cursor: Cursor = None, limit: Limit = 100) -> Page[Domain]:
    """A tenant's sending domains by name, with the summary of each one's newest audit."""
    return domains.list_domains(context, tenant, cursor, limit)


@router.post("/tenants/{tenant}/domains", tags=["domains"], status_code=201, operation_id="add_domain")
def add_domain(context: Ctx, tenant: Tenant, body: NewDomain) -> Domain:
    """Watch a domain."""
    return domains.add_domain(context, tenant, body)


@router.get("/tenants/{tenant}/domains/{name}", tags=["domains"], operation_id="get_domain")
def get_domain(context: Ctx, tenant: Tenant, name: Name) -> Domain:
    """One domain."""
    return domains.show_domain(tenant, domains.find_domain(context, tenant, name))


@router.patch("/tenants/{tenant}/domains/{name}", tags=["domains"], operation_id="change_domain")
def change_domain(context: Ctx, tenant: Tenant, name: Name, body: DomainChange) -> Domain:
    """Change a domain's settings."""
    return domains.change_domain(context, tenant, name, body)


@router.delete("/tenants/{tenant}/domains/{name}", tags=["domains"], status_code=204, operation_id="forget_domain")
def forget_domain(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Stop watching a domain; what is known of it stays."""
    domains.forget_domain(context, tenant, name)


@router.post("/tenants/{tenant}/domains/{name}/audits", tags=["audits"], status_code=201, operation_id="run_audit")
def run_audit(context: Ctx, tenant: Tenant, name: Name) -> Audit:
    """Audit a domain now."""
    return audits.run_audit(context, tenant, name)


@router.get("/tenants/{tenant}/domains/{name}/audits", tags=["audits"], operation_id="list_audits")
def list_audits(
    context: Ctx, tenant: Tenant, name: Name, cursor: Cursor = None, limit: Limit = 50
) -> Page[AuditSummary]:
    """A domain's audits, newest first."""
    return audits.list_audits(context, tenant, name, cursor, limit)


@router.get("/tenants/{tenant}/domains/{name}/audits/newest", tags=["audits"], operation_id="newest_audit")
def newest_audit(context: Ctx, tenant: Tenant, name: Name) -> Audit:
    """A domain's newest audit."""
    return audits.get_audit(context, tenant, name, None)


@router.get("/tenants/{tenant}/domains/{name}/audits/compare", tags=["audits"], operation_id="compare_audits")
def compare_audits(
    context: Ctx,
    tenant: Tenant,
    name: Name,
    before: Annotated[int | None, Query(ge=1, description="The earlier one; else the one before `after`")] = None,
    after: Annotated[int | None, Query(ge=1, description="The later one; else the newest")] = None,
) -> AuditComparison:
    """Two audits of a domain beside each other: records, findings, check-list."""
    return audits.compare_audits(context, tenant, name, before, after)


@router.get("/tenants/{tenant}/domains/{name}/audits/{id}", tags=["audits"], operation_id="get_audit")
def get_audit(context: Ctx, tenant: Tenant, name: Name, id: Annotated[int, Path(ge=1)]) -> Audit:
    """One audit."""
    return audits.get_audit(context, tenant, name, id)


@router.get("/tenants/{tenant}/domains/{name}/history", tags=["audits"], operation_id="list_history")
def list_history(
    context: Ctx, tenant: Tenant, name: Name, cursor: Cursor = None, limit: Limit = 100
) -> Page[HistoryEntry]:
    """What changed at a domain, newest first: records, findings that appeared or went."""
    return audits.list_history(context, tenant, name, cursor, limit)


@router.post("/tenants/{tenant}/spf-trials", tags=["audits"], operation_id="try_spf")
def try_spf(context: Ctx, tenant: Tenant, body: SpfTrialRequest) -> SpfTrial:
    """Would a message from this address pass SPF? With a record, before it is published."""
    return audits.try_spf(context, body)


@router.post(
    "/tenants/{tenant}/message-checks",
    tags=["audits"],
    operation_id="check_message",
    openapi_extra={
        "requestBody": {"required": True, "content": {"message/rfc822": {"schema": {"type": "string"}}}},
    },
)
async def check_message(
    context: Ctx,
    tenant: Tenant,
    request: Request,
    ip: Annotated[str, Query(max_length=45, description="The address that it came from")] = "",
    helo: Annotated[str, Query(max_length=1000, description="The name that it greeted with")] = "",
    mail_from: Annotated[str, Query(max_length=400, description="Its envelope sender")] = "",
) -> MessageCheck:
    """SPF, DKIM and DMARC of a message as it was captured, with the reason for each result.

    Nothing of it is kept but the selectors that sign for the tenant's own domains: audits look at their keys from then.
    """
    body = await request.body()
    return await run_in_threadpool(audits.check_message, context, tenant, body, ip, helo, mail_from)


@router.post(
    "/tenants/{tenant}/feedback-reports",
    tags=["audits"],
    operation_id="read_feedback_report",
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        },
    },
)
async def read_feedback_report(context: Ctx, tenant: Tenant, request: Request) -> FeedbackReport:
    """What an aggregate report (RFC 7489) says: XML, gzip, zip, or the message that carried it.

    Nothing of it is kept but the selectors that sign for the tenant's own domains: audits look at their keys from then.
    """
    body = await request.body()
    return await run_in_threadpool(audits.read_feedback_report, context, tenant, body)


@router.post("/tenants/{tenant}/batches", tags=["audits"], status_code=202, operation_id="start_batch")
def start_batch(context: Ctx, tenant: Tenant, body: BatchRequest) -> Batch:
    """Audit many domains as a job; none of them has to be watched."""
    return batches.start_batch(context, tenant, body)


@router.get("/tenants/{tenant}/batches", tags=["audits"], operation_id="list_batches")
def list_batches(context: Ctx, tenant: Tenant) -> list[Batch]:
    """The newest batches."""
    return batches.list_batches(context, tenant)


@router.get("/tenants/{tenant}/batches/{id}", tags=["audits"], operation_id="get_batch")
def get_batch(context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1)]) -> Batch:
    """How far a batch is."""
    return batches.get_batch(context, tenant, id)


@router.post("/tenants/{tenant}/batches/{id}/cancel", tags=["audits"], operation_id="cancel_batch")
def cancel_batch(context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1)]) -> Batch:
    """Stop a batch; what is done stays."""
    return batches.cancel_batch(context, tenant, id)


@router.post("/tenants/{tenant}/batches/{id}/resume", tags=["audits"], operation_id="resume_batch")
def resume_batch(context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1)]) -> Batch:
    """Go on with a batch that was stopped or failed."""
    return batches.resume_batch(context, tenant, id)


@router.get("/tenants/{tenant}/batches/{id}/results", tags=["audits"], operation_id="list_batch_results")
def list_batch_results(
    context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1)], cursor: Cursor = None, limit: Limit = 100
) -> Page[BatchResult]:
    """Results in the order of the names."""
    return batches.list_results(context, tenant, id, cursor, limit)


@router.get("/tenants/{tenant}/audit-settings", tags=["audits"], operation_id="get_audit_settings")
def get_audit_settings(context: Ctx, tenant: Tenant) -> AuditSettings:
    """What the tenant's audits look at: DNS lists, usual selectors, requirements for bulk mail."""
    return audits.get_settings(context, tenant)


@router.put("/tenants/{tenant}/audit-settings", tags=["audits"], operation_id="put_audit_settings")
def put_audit_settings(context: Ctx, tenant: Tenant, body: AuditSettings) -> AuditSettings:
    """Replace what the tenant's audits look at."""
    return audits.put_settings(context, tenant, body)


# Events and flow

_EXAMPLE = (
    '{"kind": "bounced", "time": "2026-11-20T08:00:04Z", "domain": "news.glasswort.example", '
    '"recipient": "someone@tidepost.example", "stream": "newsletter", "relay": "driftline", '
    '"message_id": "a1@news.glasswort.example", "reply_code": 550, "enhanced_code": "5.1.1", '
    '"diagnostic": "550 5.1.1 no such mailbox"}\n'
)


@router.post(
    "/tenants/{tenant}/events",
    tags=["events"],
    operation_id="load_events",
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {
                "application/x-ndjson": {"schema": {"type": "string"}, "example": _EXAMPLE},
                "application/json": {"schema": {"type": "array", "items": {"$ref": "#/components/schemas/NewEvent"}}},
            },
        }
    },
)
async def load_events(context: Ctx, tenant: Tenant, request: Request) -> IntakeResult:
    """Take events in: one JSON object a line, or a JSON array.

    Safe to repeat: what is there already counts once. Good rows are stored beside bad ones; the answer names each
    refused row's line, field and reason. When no row is good, nothing is stored and the answer is a problem.
    """
    packed = await request.body()
    encoding = request.headers.get("content-encoding", "")
    body = await run_in_threadpool(unpack_body, packed, encoding, context.settings.max_unpacked_bytes)
    rows = await run_in_threadpool(
        intake.split_body, body, request.headers.get("content-type", ""), context.settings.max_event_rows
    )
    return await run_in_threadpool(intake.take_in, context, tenant, rows)


@router.get("/tenants/{tenant}/events", tags=["events"], operation_id="list_events")
def list_events(
    context: Ctx,
    tenant: Tenant,
    recipient: Annotated[str | None, Query(max_length=400)] = None,
    message_id: Annotated[str | None, Query(max_length=255)] = None,
    domain: Annotated[str | None, Query(max_length=1000)] = None,
    kind: Annotated[list[Kind] | None, Query()] = None,
    provider: Annotated[str | None, Query(max_length=253, description="Registered domain of its MX")] = None,
    stream: Annotated[str | None, Query(max_length=60)] = None,
    relay: Annotated[str | None, Query(max_length=60)] = None,
    ip: Annotated[str, Query(max_length=45, description="Sending address")] = "",
    cause: Annotated[list[Cause] | None, Query()] = None,
    reply: Annotated[str, Query(max_length=200, description="Text that stands in the reply")] = "",
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


@router.get("/tenants/{tenant}/providers", tags=["flow"], operation_id="list_providers")
def list_providers(context: Ctx, tenant: Tenant) -> list[Provider]:
    """The mailbox providers that a tenant's mail goes to."""
    return providers.list_providers(context, tenant)


@router.patch("/tenants/{tenant}/providers/{provider}", tags=["flow"], operation_id="name_provider")
def name_provider(
    context: Ctx, tenant: Tenant, provider: Annotated[str, Path(max_length=253)], body: ProviderChange
) -> Provider:
    """Give a provider a name of one's own."""
    return providers.name_provider(context, tenant, provider, body.label)


# Relays and record plans


@router.get("/tenants/{tenant}/relays", tags=["plans"], operation_id="list_relays")
def list_relays(context: Ctx, tenant: Tenant) -> list[Relay]:
    """Relays that were described, named by a stream, or seen in events."""
    return relays.list_relays(context, tenant)


@router.put("/tenants/{tenant}/relays/{relay}", tags=["plans"], operation_id="describe_relay")
def describe_relay(context: Ctx, tenant: Tenant, relay: RelayName, body: RelayDescription) -> Relay:
    """Say what a relay is, what it wants published, and what it allows."""
    return relays.describe_relay(context, tenant, relay, body)


@router.delete("/tenants/{tenant}/relays/{relay}", tags=["plans"], status_code=204, operation_id="forget_relay")
def forget_relay(context: Ctx, tenant: Tenant, relay: RelayName) -> None:
    """Forget what was said of a relay."""
    relays.forget_relay(context, tenant, relay)


@router.get("/tenants/{tenant}/domains/{name}/plan", tags=["plans"], operation_id="get_plan")
def get_plan(context: Ctx, tenant: Tenant, name: Name) -> Plan:
    """All records that the domain ought to publish, in every form."""
    return plans.get_plan(context, tenant, name)


@router.post("/tenants/{tenant}/domains/{name}/plan/checks", tags=["plans"], operation_id="check_plan")
def check_plan(context: Ctx, tenant: Tenant, name: Name) -> Plan:
    """The plan beside what the zone's own name servers give now: states, causes, and where a record went."""
    return plans.check_plan(context, tenant, name)


@router.put("/tenants/{tenant}/domains/{name}/plan/settings", tags=["plans"], operation_id="put_plan_settings")
def put_plan_settings(context: Ctx, tenant: Tenant, name: Name, body: PlanSettings) -> Plan:
    """Choose the stage of DMARC, where reports go, the ways out of too many look-ups."""
    return plans.put_settings(context, tenant, name, body)


@router.post("/tenants/{tenant}/domains/{name}/plan/keys", tags=["plans"], status_code=201, operation_id="make_key")
def make_key(context: Ctx, tenant: Tenant, name: Name, body: NewKey) -> MadeKey:
    """Make a DKIM key for a selector. The private half is in this answer and is not kept."""
    return plans.make_key(context, tenant, name, body)


# Watches of propagation


@router.post("/tenants/{tenant}/domains/{name}/watches", tags=["watches"], status_code=201, operation_id="start_watch")
def start_watch(context: Ctx, tenant: Tenant, name: Name, body: WatchRequest) -> Watch:
    """Watch records of the plan at the zone's name servers and at resolvers, until they all have them."""
    return watches.start_watch(context, tenant, name, body)


@router.get("/tenants/{tenant}/domains/{name}/watches", tags=["watches"], operation_id="list_watches")
def list_watches(context: Ctx, tenant: Tenant, name: Name) -> list[Watch]:
    """The newest watches of a domain."""
    return watches.list_watches(context, tenant, name)


@router.get("/tenants/{tenant}/watches/{id}", tags=["watches"], operation_id="get_watch")
def get_watch(context: Ctx, tenant: Tenant, id: int) -> Watch:
    """Who has the records, who has not, and when all will at the latest."""
    return watches.get_watch(context, tenant, id)


@router.post("/tenants/{tenant}/watches/{id}/stop", tags=["watches"], operation_id="stop_watch")
def stop_watch(context: Ctx, tenant: Tenant, id: int) -> Watch:
    """Stop a watch; what it saw stays."""
    return watches.stop_watch(context, tenant, id)


@router.post("/tenants/{tenant}/watches/{id}/look", tags=["watches"], operation_id="look_now")
def look_now(context: Ctx, tenant: Tenant, id: int) -> Watch:
    """Look now in place of at the next time."""
    return watches.look_now(context, tenant, id)


@router.get("/tenants/{tenant}/watch-settings", tags=["watches"], operation_id="get_watch_settings")
def get_watch_settings(context: Ctx, tenant: Tenant) -> WatchSettings:
    """Whom watches ask."""
    return watches.get_settings(context, tenant)


@router.put("/tenants/{tenant}/watch-settings", tags=["watches"], operation_id="put_watch_settings")
def put_watch_settings(context: Ctx, tenant: Tenant, body: WatchSettings) -> WatchSettings:
    """Choose resolvers that watches ask beside those of the service; public addresses only."""
    return watches.put_settings(context, tenant, body)


# Publishing by dynamic update

Zone = Annotated[str, Path(max_length=253, description="The zone that is changed")]


@router.get("/tenants/{tenant}/update-servers", tags=["publishing"], operation_id="list_update_servers")
def list_update_servers(context: Ctx, tenant: Tenant) -> list[UpdateServer]:
    """Where zones are changed by dynamic update; secrets are not shown."""
    return publishing.list_servers(context, tenant)


@router.put("/tenants/{tenant}/update-servers/{zone}", tags=["publishing"], operation_id="put_update_server")
def put_update_server(context: Ctx, tenant: Tenant, zone: Zone, body: NewUpdateServer) -> UpdateServer:
    """Keep the primary server of a zone and the TSIG key that may change it (RFC 2136, RFC 8945)."""
    return publishing.put_server(context, tenant, zone, body)


@router.delete(
    "/tenants/{tenant}/update-servers/{zone}", tags=["publishing"], status_code=204, operation_id="forget_update_server"
)
def forget_update_server(context: Ctx, tenant: Tenant, zone: Zone) -> None:
    """Forget a server and its key."""
    publishing.forget_server(context, tenant, zone)


@router.post("/tenants/{tenant}/domains/{name}/plan/changes", tags=["publishing"], operation_id="show_change")
def show_change(context: Ctx, tenant: Tenant, name: Name, body: ZoneChangeRequest) -> ZoneChange:
    """Exactly what publishing the plan would change in the zone. Nothing is changed."""
    return publishing.show_change(context, tenant, name, body)


@router.post(
    "/tenants/{tenant}/domains/{name}/publications", tags=["publishing"], status_code=201, operation_id="apply_change"
)
def apply_change(context: Ctx, tenant: Tenant, name: Name, principal: Asker, body: ZoneChangeRequest) -> Publication:
    """Make the change that was shown, all of it or nothing, and look whether it is there."""
    return publishing.apply_change(context, tenant, name, body, principal.email)


@router.get("/tenants/{tenant}/domains/{name}/publications", tags=["publishing"], operation_id="list_publications")
def list_publications(context: Ctx, tenant: Tenant, name: Name) -> list[Publication]:
    """Changes that were made for a domain, newest first."""
    return publishing.list_publications(context, tenant, name)


@router.post("/tenants/{tenant}/publications/{id}/roll-back", tags=["publishing"], operation_id="roll_back")
def roll_back(context: Ctx, tenant: Tenant, id: int, principal: Asker) -> Publication:
    """Put everything back as it was before a change, if nobody changed it since."""
    return publishing.roll_back(context, tenant, id, principal.email)


# Proofs


@router.post("/tenants/{tenant}/proofs", tags=["proofs"], status_code=201, operation_id="start_proof")
def start_proof(context: Ctx, tenant: Tenant, body: NewProof) -> Proof:
    """Begin to prove a domain (by a record or a message) or a sender address (by a message)."""
    return proofs.start_proof(context, tenant, body)


@router.get("/tenants/{tenant}/proofs", tags=["proofs"], operation_id="list_proofs")
def list_proofs(context: Ctx, tenant: Tenant) -> list[Proof]:
    """Proofs of a tenant, and how they stand."""
    return proofs.list_proofs(context, tenant)


@router.post("/tenants/{tenant}/proofs/{id}/check", tags=["proofs"], operation_id="check_proof")
def check_proof(context: Ctx, tenant: Tenant, id: int) -> Proof:
    """Look for the record now."""
    return proofs.check_record(context, tenant, id)


@router.post("/tenants/{tenant}/proofs/{id}/code", tags=["proofs"], operation_id="give_code")
def give_code(context: Ctx, tenant: Tenant, id: int, body: ProofCode) -> Proof:
    """The code of the message; five tries."""
    return proofs.give_code(context, tenant, id, body.code)


@router.get("/tenants/{tenant}/senders", tags=["proofs"], operation_id="list_senders")
def list_senders(context: Ctx, tenant: Tenant) -> list[Sender]:
    """Every domain that mail is sent as, stream by stream: proven or not, aligned or not."""
    return proofs.list_senders(context, tenant)
