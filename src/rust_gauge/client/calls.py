"""Every call of the API as a value: method, path, what is sent and what comes back. Both clients carry them out."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from itertools import islice
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from rust_gauge.contract.audits import (
    Audit,
    AuditComparison,
    AuditSettings,
    AuditSummary,
    BatchRequest,
    BatchResult,
    FeedbackReport,
    HistoryEntry,
    MessageCheck,
    SpfTrial,
    SpfTrialRequest,
)
from rust_gauge.contract.checks import (
    AddressCheck,
    AddressCheckRequest,
    AddressWords,
    Gate,
    MadeGate,
    MailLinks,
    MailLinksRequest,
    NewGate,
    Unsubscribes,
)
from rust_gauge.contract.common import Page
from rust_gauge.contract.domains import Domain, DomainChange, NewDomain
from rust_gauge.contract.events import Event, IntakeResult
from rust_gauge.contract.feeds import (
    Feed,
    FeedChange,
    MadeFeed,
    MappingTrial,
    MappingTrialResult,
    NewFeed,
    RefusedRow,
    ReplayResult,
)
from rust_gauge.contract.flow import (
    Causes,
    Flow,
    FlowComparison,
    FlowDays,
    FlowNames,
    FlowSettings,
    Provider,
    ProviderChange,
    Shift,
    ShiftDetails,
    WordingRow,
)
from rust_gauge.contract.jobs import (
    ImportRequest,
    Job,
    JobStart,
    ListCheckRequest,
)
from rust_gauge.contract.plans import MadeKey, NewKey, Plan, PlanSettings
from rust_gauge.contract.proofs import NewProof, Proof, ProofCode, Sender
from rust_gauge.contract.publishing import (
    NewUpdateServer,
    Publication,
    UpdateServer,
    ZoneChange,
    ZoneChangeRequest,
)
from rust_gauge.contract.readings import (
    Ahead,
    AheadResult,
    Mark,
    Moved,
    NewMark,
    ReadingSeries,
    ReadingSettings,
    ReadingSettingsView,
    Room,
    Wall,
)
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData
from rust_gauge.contract.relays import Relay, RelayDescription
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesChange, RuleTrial, RuleTrialRequest
from rust_gauge.contract.session import MadeToken, NewToken, Token, Who
from rust_gauge.contract.suppression import (
    AddressStatus,
    ClearanceRequest,
    ClearanceResult,
    Decision,
    EntriesMade,
    EntryCount,
    Growth,
    Lift,
    Lifted,
    ListChanges,
    MatchingSettings,
    MatchingView,
    NewEntries,
    PolicyView,
    RehearsalRequest,
    SuppressionEntry,
    SuppressionPolicy,
)
from rust_gauge.contract.watches import Watch, WatchRequest, WatchSettings
from rust_gauge.contract.webhooks import MadeWebhook, NewWebhook, Webhook, WebhookCall, WebhookChange
from rust_gauge.contract.worklist import (
    AlertSettings,
    Brake,
    BrakeRelease,
    LineRow,
    Person,
    Report,
    Told,
    WorkAct,
    WorkItem,
    WorkItemDetails,
)

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Call(Generic[T]):
    """One request. `repeatable`: sending it twice does no more than sending it once."""

    method: str
    path: str
    result: TypeAdapter[T]
    query: Mapping[str, Any] = field(default_factory=dict)
    body: bytes | None = None
    content_type: str = "application/json"
    repeatable: bool = True

    def read(self, content: bytes) -> T:
        """Read a response's body. pydantic.ValidationError where it is not what was asked for."""
        return self.result.validate_json(content or b"null")


def _call(method: str, path: str, result: type[T], body: BaseModel | None = None, **query: Any) -> Call[T]:
    sent = body.model_dump_json(exclude_unset=True).encode() if body is not None else None
    chosen = {name: value for name, value in query.items() if value is not None}
    return Call(method, f"/api/v1{path}", TypeAdapter(result), chosen, sent, repeatable=method in ("GET", "DELETE"))


def _again(call: Call[T]) -> Call[T]:
    """Mark a POST that is safe to repeat."""
    return Call(call.method, call.path, call.result, call.query, call.body, call.content_type, True)


def batches_of(items: Iterable[str], size: int) -> Iterator[list[str]]:
    """Items by so many at a time, taken as they are needed."""
    source = iter(items)
    while batch := list(islice(source, size)):
        yield batch


def _domain(tenant: str, name: str) -> str:
    return f"/tenants/{quote(tenant, safe='')}/domains/{quote(name, safe='')}"


def _tenant(tenant: str, rest: str) -> str:
    return f"/tenants/{quote(tenant, safe='')}/{rest}"


def who() -> Call[Who]:
    return _call("GET", "/session", Who)


def list_tokens() -> Call[list[Token]]:
    return _call("GET", "/tokens", list[Token])


def make_token(new: NewToken) -> Call[MadeToken]:
    return _call("POST", "/tokens", MadeToken, new)


def drop_token(id: int) -> Call[None]:
    return _call("DELETE", f"/tokens/{id}", type(None))


def wall(days: int, tenant: str | None, subject: str, last: date | None) -> Call[Wall]:
    return _call("GET", "/wall", Wall, days=days, tenant=tenant, subject=subject, last=last and last.isoformat())


def list_domains(tenant: str, cursor: str | None) -> Call[Page[Domain]]:
    return _call("GET", _tenant(tenant, "domains"), Page[Domain], cursor=cursor)


def add_domain(tenant: str, new: NewDomain) -> Call[Domain]:
    return _call("POST", _tenant(tenant, "domains"), Domain, new)


def get_domain(tenant: str, name: str) -> Call[Domain]:
    return _call("GET", _domain(tenant, name), Domain)


def change_domain(tenant: str, name: str, change: DomainChange) -> Call[Domain]:
    return _again(_call("PATCH", _domain(tenant, name), Domain, change))


def forget_domain(tenant: str, name: str) -> Call[None]:
    return _call("DELETE", _domain(tenant, name), type(None))


def run_audit(tenant: str, name: str) -> Call[Audit]:
    return _call("POST", _domain(tenant, name) + "/audits", Audit)


def newest_audit(tenant: str, name: str) -> Call[Audit]:
    return _call("GET", _domain(tenant, name) + "/audits/newest", Audit)


def get_audit(tenant: str, name: str, id: int) -> Call[Audit]:
    return _call("GET", f"{_domain(tenant, name)}/audits/{id}", Audit)


def list_audits(tenant: str, name: str, cursor: str | None) -> Call[Page[AuditSummary]]:
    return _call("GET", _domain(tenant, name) + "/audits", Page[AuditSummary], cursor=cursor)


def compare_audits(tenant: str, name: str, before: int | None, after: int | None) -> Call[AuditComparison]:
    return _call("GET", _domain(tenant, name) + "/audits/compare", AuditComparison, before=before, after=after)


def list_history(tenant: str, name: str, cursor: str | None) -> Call[Page[HistoryEntry]]:
    return _call("GET", _domain(tenant, name) + "/history", Page[HistoryEntry], cursor=cursor)


def try_spf(tenant: str, request: SpfTrialRequest) -> Call[SpfTrial]:
    return _again(_call("POST", _tenant(tenant, "spf-trials"), SpfTrial, request))


def check_message(tenant: str, raw: bytes, ip: str, helo: str, mail_from: str) -> Call[MessageCheck]:
    query = {name: value for name, value in (("ip", ip), ("helo", helo), ("mail_from", mail_from)) if value}
    path = f"/api/v1{_tenant(tenant, 'message-checks')}"
    return Call("POST", path, TypeAdapter(MessageCheck), query, raw, "message/rfc822", True)


def read_feedback_report(tenant: str, octets: bytes) -> Call[FeedbackReport]:
    path = f"/api/v1{_tenant(tenant, 'feedback-reports')}"
    return Call("POST", path, TypeAdapter(FeedbackReport), {}, octets, "application/octet-stream", True)


def start_batch(tenant: str, request: BatchRequest) -> Call[Job]:
    return _call("POST", _tenant(tenant, "batches"), Job, request)


def list_batch_results(tenant: str, id: int, cursor: str | None) -> Call[Page[BatchResult]]:
    return _call("GET", _tenant(tenant, f"batches/{id}/results"), Page[BatchResult], cursor=cursor)


def get_audit_settings(tenant: str) -> Call[AuditSettings]:
    return _call("GET", _tenant(tenant, "audit-settings"), AuditSettings)


def put_audit_settings(tenant: str, settings: AuditSettings) -> Call[AuditSettings]:
    return _again(_call("PUT", _tenant(tenant, "audit-settings"), AuditSettings, settings))


def readings(
    tenant: str, name: str, subject: str, provider: str | None, first: date | None, last: date | None
) -> Call[ReadingSeries]:
    return _call(
        "GET", _tenant(tenant, "readings"), ReadingSeries, name=name, subject=subject, provider=provider, first=first,
        last=last,
    )  # fmt: skip


def moved(tenant: str, name: str, subject: str, provider: str | None, first: date, last: date) -> Call[Moved]:
    return _call(
        "GET", _tenant(tenant, "readings/moved"), Moved, name=name, subject=subject, provider=provider, first=first,
        last=last,
    )  # fmt: skip


def look_ahead(tenant: str, name: str, subject: str, provider: str | None, wanted: Ahead) -> Call[AheadResult]:
    path = _tenant(tenant, "readings/ahead")
    return _again(_call("POST", path, AheadResult, wanted, name=name, subject=subject, provider=provider))


def room(tenant: str, name: str, subject: str) -> Call[list[Room]]:
    return _call("GET", _tenant(tenant, "readings/room"), list[Room], name=name, subject=subject)


def get_reading_settings(tenant: str) -> Call[ReadingSettingsView]:
    return _call("GET", _tenant(tenant, "readings/settings"), ReadingSettingsView)


def put_reading_settings(tenant: str, settings: ReadingSettings) -> Call[ReadingSettingsView]:
    return _again(_call("PUT", _tenant(tenant, "readings/settings"), ReadingSettingsView, settings))


def drop_reading_settings(tenant: str) -> Call[ReadingSettingsView]:
    return _again(_call("DELETE", _tenant(tenant, "readings/settings"), ReadingSettingsView))


def list_worklist(
    tenant: str | None, state: Sequence[str] | None, assigned_to: str | None, on: date | None
) -> Call[list[WorkItem]]:
    day = on and on.isoformat()
    return _call("GET", "/worklist", list[WorkItem], tenant=tenant, state=state, assigned_to=assigned_to, on=day)


def get_work_item(tenant: str, id: int) -> Call[WorkItemDetails]:
    return _call("GET", _tenant(tenant, f"worklist/{id}"), WorkItemDetails)


def act_on_work_item(tenant: str, id: int, act: WorkAct) -> Call[WorkItemDetails]:
    return _call("POST", _tenant(tenant, f"worklist/{id}"), WorkItemDetails, act)


def look_for_work(tenant: str) -> Call[list[WorkItem]]:
    return _again(_call("POST", _tenant(tenant, "worklist-look"), list[WorkItem]))


def list_lines(tenant: str) -> Call[list[LineRow]]:
    return _call("GET", _tenant(tenant, "lines"), list[LineRow])


def get_alert_settings(tenant: str) -> Call[AlertSettings]:
    return _call("GET", _tenant(tenant, "alert-settings"), AlertSettings)


def put_alert_settings(tenant: str, settings: AlertSettings) -> Call[AlertSettings]:
    return _again(_call("PUT", _tenant(tenant, "alert-settings"), AlertSettings, settings))


def make_report(tenant: str, days: int) -> Call[Report]:
    return _call("GET", _tenant(tenant, "reports"), Report, days=days)


def send_report(tenant: str, days: int) -> Call[None]:
    return _call("POST", _tenant(tenant, "reports"), type(None), days=days)


def list_people(tenant: str) -> Call[list[Person]]:
    return _call("GET", _tenant(tenant, "people"), list[Person])


def list_told(tenant: str) -> Call[list[Told]]:
    return _call("GET", _tenant(tenant, "told"), list[Told])


def list_brakes(tenant: str) -> Call[list[Brake]]:
    return _call("GET", _tenant(tenant, "brakes"), list[Brake])


def put_brake(tenant: str, new: BrakeRelease) -> Call[list[Brake]]:
    return _again(_call("POST", _tenant(tenant, "brakes"), list[Brake], new))


def release_brake(tenant: str, release: BrakeRelease) -> Call[list[Brake]]:
    return _call("POST", _tenant(tenant, "brakes/releases"), list[Brake], release)


def list_marks(tenant: str, first: date | None, last: date | None, domain: str | None) -> Call[list[Mark]]:
    return _call("GET", _tenant(tenant, "marks"), list[Mark], first=first, last=last, domain=domain)


def add_mark(tenant: str, new: NewMark) -> Call[Mark]:
    return _call("POST", _tenant(tenant, "marks"), Mark, new)


def drop_mark(tenant: str, id: int) -> Call[None]:
    return _call("DELETE", _tenant(tenant, f"marks/{id}"), type(None))


def load_ndjson(tenant: str, lines: bytes) -> Call[IntakeResult]:
    path = f"/api/v1{_tenant(tenant, 'events')}"
    return Call("POST", path, TypeAdapter(IntakeResult), {}, lines, "application/x-ndjson", True)


def list_events(tenant: str, cursor: str | None, query: Mapping[str, Any]) -> Call[Page[Event]]:
    return _call("GET", _tenant(tenant, "events"), Page[Event], cursor=cursor, **query)


def flow(tenant: str, query: Mapping[str, Any]) -> Call[Flow]:
    return _call("GET", _tenant(tenant, "flow"), Flow, **query)


def flow_days(tenant: str, query: Mapping[str, Any]) -> Call[FlowDays]:
    return _call("GET", _tenant(tenant, "flow/days"), FlowDays, **query)


def causes(tenant: str, query: Mapping[str, Any]) -> Call[Causes]:
    return _call("GET", _tenant(tenant, "flow/causes"), Causes, **query)


def flow_names(tenant: str) -> Call[FlowNames]:
    return _call("GET", _tenant(tenant, "flow/names"), FlowNames)


def compare_flow(tenant: str, query: Mapping[str, Any]) -> Call[FlowComparison]:
    return _call("GET", _tenant(tenant, "flow/comparison"), FlowComparison, **query)


def wordings(tenant: str, query: Mapping[str, Any]) -> Call[list[WordingRow]]:
    return _call("GET", _tenant(tenant, "wordings"), list[WordingRow], **query)


def list_shifts(tenant: str, days: int) -> Call[list[Shift]]:
    return _call("GET", _tenant(tenant, "shifts"), list[Shift], days=days)


def get_shift(tenant: str, id: int) -> Call[ShiftDetails]:
    return _call("GET", _tenant(tenant, f"shifts/{id}"), ShiftDetails)


def get_flow_settings(tenant: str) -> Call[FlowSettings]:
    return _call("GET", _tenant(tenant, "flow-settings"), FlowSettings)


def put_flow_settings(tenant: str, settings: FlowSettings) -> Call[FlowSettings]:
    return _again(_call("PUT", _tenant(tenant, "flow-settings"), FlowSettings, settings))


def recipient_data(tenant: str, address: str) -> Call[RecipientData]:
    return _call("GET", _tenant(tenant, "recipient-data"), RecipientData, address=address)


def list_erasures(tenant: str) -> Call[list[Erasure]]:
    return _call("GET", _tenant(tenant, "erasures"), list[Erasure])


def erase(tenant: str, request: ErasureRequest) -> Call[Erasure]:
    return _call("POST", _tenant(tenant, "erasures"), Erasure, request)


def get_rules(tenant: str) -> Call[CauseRules]:
    return _call("GET", _tenant(tenant, "cause-rules"), CauseRules)


def shipped_rules(tenant: str) -> Call[list[OwnRule]]:
    return _call("GET", _tenant(tenant, "cause-rules/shipped"), list[OwnRule])


def put_rules(tenant: str, change: RulesChange) -> Call[CauseRules]:
    return _call("PUT", _tenant(tenant, "cause-rules"), CauseRules, change)


def try_rules(tenant: str, request: RuleTrialRequest) -> Call[RuleTrial]:
    return _again(_call("POST", _tenant(tenant, "cause-rules/trial"), RuleTrial, request))


def apply_rules(tenant: str) -> Call[CauseRules]:
    return _again(_call("POST", _tenant(tenant, "cause-rules/application"), CauseRules))


def stop_rules(tenant: str) -> Call[CauseRules]:
    return _call("DELETE", _tenant(tenant, "cause-rules/application"), CauseRules)


def list_providers(tenant: str) -> Call[list[Provider]]:
    return _call("GET", _tenant(tenant, "providers"), list[Provider])


def name_provider(tenant: str, provider: str, label: str) -> Call[Provider]:
    change = ProviderChange.model_construct(label=label)
    return _again(_call("PATCH", _tenant(tenant, f"providers/{quote(provider, safe='')}"), Provider, change))


def clearance(tenant: str, request: ClearanceRequest) -> Call[ClearanceResult]:
    return _again(_call("POST", _tenant(tenant, "clearance"), ClearanceResult, request))


def list_suppression(tenant: str, cursor: str | None, query: Mapping[str, Any]) -> Call[Page[SuppressionEntry]]:
    return _call("GET", _tenant(tenant, "suppression"), Page[SuppressionEntry], cursor=cursor, **query)


def count_suppression(tenant: str, query: Mapping[str, Any]) -> Call[EntryCount]:
    return _call("GET", _tenant(tenant, "suppression/count"), EntryCount, **query)


def add_suppression(tenant: str, new: NewEntries) -> Call[EntriesMade]:
    return _again(_call("POST", _tenant(tenant, "suppression"), EntriesMade, new))


def lift_suppression(tenant: str, lift: Lift) -> Call[Lifted]:
    return _call("POST", _tenant(tenant, "suppression/lifts"), Lifted, lift)


def decide_suppression(tenant: str, decision: Decision) -> Call[list[SuppressionEntry]]:
    return _again(_call("POST", _tenant(tenant, "suppression/decisions"), list[SuppressionEntry], decision))


def address_status(tenant: str, address: str) -> Call[AddressStatus]:
    return _call("GET", _tenant(tenant, "suppression/status"), AddressStatus, address=address)


def suppression_changes(tenant: str, after: int, limit: int, wait: float) -> Call[ListChanges]:
    path = _tenant(tenant, "suppression/changes")
    return _call("GET", path, ListChanges, after=after, limit=limit, wait=wait or None)


def suppression_growth(tenant: str, first: date | None, last: date | None) -> Call[Growth]:
    return _call("GET", _tenant(tenant, "suppression/growth"), Growth, first=first, last=last)


def get_suppression_policy(tenant: str) -> Call[PolicyView]:
    return _call("GET", _tenant(tenant, "suppression/policy"), PolicyView)


def put_suppression_policy(tenant: str, policy: SuppressionPolicy) -> Call[PolicyView]:
    return _again(_call("PUT", _tenant(tenant, "suppression/policy"), PolicyView, policy))


def drop_suppression_policy(tenant: str) -> Call[PolicyView]:
    return _call("DELETE", _tenant(tenant, "suppression/policy"), PolicyView)


def get_suppression_matching(tenant: str) -> Call[MatchingView]:
    return _call("GET", _tenant(tenant, "suppression/matching"), MatchingView)


def put_suppression_matching(tenant: str, settings: MatchingSettings) -> Call[MatchingView]:
    return _again(_call("PUT", _tenant(tenant, "suppression/matching"), MatchingView, settings))


def export_suppression(tenant: str, form: str, query: Mapping[str, Any]) -> tuple[str, dict[str, Any]]:
    """Path and query of a download."""
    chosen = {name: value for name, value in query.items() if value is not None}
    return f"/api/v1{_tenant(tenant, 'suppression/export')}", {**chosen, "format": form}


def start_import(tenant: str, request: ImportRequest) -> Call[Job]:
    return _call("POST", _tenant(tenant, "suppression/imports"), Job, request)


def start_list_check(tenant: str, request: ListCheckRequest) -> Call[Job]:
    return _call("POST", _tenant(tenant, "list-checks"), Job, request)


def start_policy_trial(tenant: str, request: RehearsalRequest) -> Call[Job]:
    return _call("POST", _tenant(tenant, "suppression/policy/trials"), Job, request)


def list_jobs(tenant: str, kind: str | None) -> Call[list[Job]]:
    return _call("GET", _tenant(tenant, "jobs"), list[Job], kind=kind)


def get_job(tenant: str, id: int) -> Call[Job]:
    return _call("GET", _tenant(tenant, f"jobs/{id}"), Job)


def put_job_piece(tenant: str, id: int, number: int, octets: bytes) -> Call[Job]:
    path = f"/api/v1{_tenant(tenant, f'jobs/{id}/pieces/{number}')}"
    return Call("PUT", path, TypeAdapter(Job), body=octets, content_type="application/octet-stream")


def run_job(tenant: str, id: int, start: JobStart) -> Call[Job]:
    return _again(_call("POST", _tenant(tenant, f"jobs/{id}/run"), Job, start))


def stop_job(tenant: str, id: int) -> Call[Job]:
    return _again(_call("POST", _tenant(tenant, f"jobs/{id}/stop"), Job))


def task_part(tenant: str, id: int, part: str) -> tuple[str, dict[str, Any]]:
    """Path and query of a download."""
    return f"/api/v1{_tenant(tenant, f'jobs/{id}/parts/{part}')}", {}


def check_addresses(tenant: str, request: AddressCheckRequest) -> Call[list[AddressCheck]]:
    return _again(_call("POST", _tenant(tenant, "address-checks"), list[AddressCheck], request))


def get_address_words(tenant: str) -> Call[AddressWords]:
    return _call("GET", _tenant(tenant, "address-words"), AddressWords)


def put_address_words(tenant: str, words: AddressWords) -> Call[AddressWords]:
    return _again(_call("PUT", _tenant(tenant, "address-words"), AddressWords, words))


def unsubscribe_links(tenant: str, request: MailLinksRequest) -> Call[list[MailLinks]]:
    return _again(_call("POST", _tenant(tenant, "unsubscribe-links"), list[MailLinks], request))


def unsubscribes(tenant: str, days: int) -> Call[Unsubscribes]:
    return _call("GET", _tenant(tenant, "unsubscribes"), Unsubscribes, days=days)


def list_gates(tenant: str) -> Call[list[Gate]]:
    return _call("GET", _tenant(tenant, "gates"), list[Gate])


def add_gate(tenant: str, new: NewGate) -> Call[MadeGate]:
    return _call("POST", _tenant(tenant, "gates"), MadeGate, new)


def drop_gate(tenant: str, id: int) -> Call[None]:
    return _call("DELETE", _tenant(tenant, f"gates/{id}"), type(None))


def list_relays(tenant: str) -> Call[list[Relay]]:
    return _call("GET", _tenant(tenant, "relays"), list[Relay])


def describe_relay(tenant: str, name: str, description: RelayDescription) -> Call[Relay]:
    return _again(_call("PUT", _tenant(tenant, f"relays/{quote(name, safe='')}"), Relay, description))


def forget_relay(tenant: str, name: str) -> Call[None]:
    return _call("DELETE", _tenant(tenant, f"relays/{quote(name, safe='')}"), type(None))


def get_plan(tenant: str, name: str) -> Call[Plan]:
    return _call("GET", _domain(tenant, name) + "/plan", Plan)


def check_plan(tenant: str, name: str) -> Call[Plan]:
    return _again(_call("POST", _domain(tenant, name) + "/plan/checks", Plan))


def put_plan_settings(tenant: str, name: str, settings: PlanSettings) -> Call[Plan]:
    return _again(_call("PUT", _domain(tenant, name) + "/plan/settings", Plan, settings))


def make_key(tenant: str, name: str, new: NewKey) -> Call[MadeKey]:
    return _call("POST", _domain(tenant, name) + "/plan/keys", MadeKey, new)


def start_watch(tenant: str, name: str, request: WatchRequest) -> Call[Watch]:
    return _call("POST", _domain(tenant, name) + "/watches", Watch, request)


def list_watches(tenant: str, name: str) -> Call[list[Watch]]:
    return _call("GET", _domain(tenant, name) + "/watches", list[Watch])


def get_watch(tenant: str, id: int) -> Call[Watch]:
    return _call("GET", _tenant(tenant, f"watches/{id}"), Watch)


def stop_watch(tenant: str, id: int) -> Call[Watch]:
    return _again(_call("POST", _tenant(tenant, f"watches/{id}/stop"), Watch))


def look_now(tenant: str, id: int) -> Call[Watch]:
    return _again(_call("POST", _tenant(tenant, f"watches/{id}/look"), Watch))


def get_watch_settings(tenant: str) -> Call[WatchSettings]:
    return _call("GET", _tenant(tenant, "watch-settings"), WatchSettings)


def put_watch_settings(tenant: str, settings: WatchSettings) -> Call[WatchSettings]:
    return _again(_call("PUT", _tenant(tenant, "watch-settings"), WatchSettings, settings))


def list_update_servers(tenant: str) -> Call[list[UpdateServer]]:
    return _call("GET", _tenant(tenant, "update-servers"), list[UpdateServer])


def put_update_server(tenant: str, zone: str, new: NewUpdateServer) -> Call[UpdateServer]:
    path = f"/api/v1{_tenant(tenant, f'update-servers/{quote(zone, safe=str())}')}"
    sent = new.model_dump(mode="json", exclude={"secret"}) | {"secret": new.secret.get_secret_value()}
    return Call("PUT", path, TypeAdapter(UpdateServer), {}, json.dumps(sent).encode(), repeatable=True)


def forget_update_server(tenant: str, zone: str) -> Call[None]:
    return _call("DELETE", _tenant(tenant, f"update-servers/{quote(zone, safe='')}"), type(None))


def show_change(tenant: str, name: str, request: ZoneChangeRequest) -> Call[ZoneChange]:
    return _again(_call("POST", _domain(tenant, name) + "/plan/changes", ZoneChange, request))


def apply_change(tenant: str, name: str, request: ZoneChangeRequest) -> Call[Publication]:
    return _call("POST", _domain(tenant, name) + "/publications", Publication, request)


def list_publications(tenant: str, name: str) -> Call[list[Publication]]:
    return _call("GET", _domain(tenant, name) + "/publications", list[Publication])


def roll_back(tenant: str, id: int) -> Call[Publication]:
    return _call("POST", _tenant(tenant, f"publications/{id}/roll-back"), Publication)


def start_proof(tenant: str, new: NewProof) -> Call[Proof]:
    return _call("POST", _tenant(tenant, "proofs"), Proof, new)


def list_proofs(tenant: str) -> Call[list[Proof]]:
    return _call("GET", _tenant(tenant, "proofs"), list[Proof])


def check_proof(tenant: str, id: int) -> Call[Proof]:
    return _again(_call("POST", _tenant(tenant, f"proofs/{id}/check"), Proof))


def give_code(tenant: str, id: int, code: ProofCode) -> Call[Proof]:
    return _call("POST", _tenant(tenant, f"proofs/{id}/code"), Proof, code)


def list_senders(tenant: str) -> Call[list[Sender]]:
    return _call("GET", _tenant(tenant, "senders"), list[Sender])


def list_webhooks(tenant: str) -> Call[list[Webhook]]:
    return _call("GET", _tenant(tenant, "webhooks"), list[Webhook])


def add_webhook(tenant: str, new: NewWebhook) -> Call[MadeWebhook]:
    return _call("POST", _tenant(tenant, "webhooks"), MadeWebhook, new)


def change_webhook(tenant: str, id: int, change: WebhookChange) -> Call[Webhook]:
    return _again(_call("PATCH", _tenant(tenant, f"webhooks/{id}"), Webhook, change))


def drop_webhook(tenant: str, id: int) -> Call[None]:
    return _call("DELETE", _tenant(tenant, f"webhooks/{id}"), type(None))


def test_webhook(tenant: str, id: int) -> Call[WebhookCall]:
    return _call("POST", _tenant(tenant, f"webhooks/{id}/test"), WebhookCall)


def list_webhook_calls(tenant: str, id: int, state: str | None, cursor: str | None) -> Call[Page[WebhookCall]]:
    return _call("GET", _tenant(tenant, f"webhooks/{id}/calls"), Page[WebhookCall], state=state, cursor=cursor)


def replay_webhook(tenant: str, id: int, call: str | None) -> Call[int]:
    return _again(_call("POST", _tenant(tenant, f"webhooks/{id}/replay"), int, call=call))


def _feed(tenant: str, name: str, rest: str = "") -> str:
    return _tenant(tenant, f"feeds/{quote(name, safe='')}{rest}")


def list_feeds(tenant: str) -> Call[list[Feed]]:
    return _call("GET", _tenant(tenant, "feeds"), list[Feed])


def add_feed(tenant: str, new: NewFeed) -> Call[MadeFeed]:
    return _call("POST", _tenant(tenant, "feeds"), MadeFeed, new)


def get_feed(tenant: str, name: str) -> Call[Feed]:
    return _call("GET", _feed(tenant, name), Feed)


def change_feed(tenant: str, name: str, change: FeedChange) -> Call[Feed]:
    return _again(_call("PATCH", _feed(tenant, name), Feed, change))


def drop_feed(tenant: str, name: str) -> Call[None]:
    return _call("DELETE", _feed(tenant, name), type(None))


def list_refused(tenant: str, name: str, cursor: str | None) -> Call[Page[RefusedRow]]:
    return _call("GET", _feed(tenant, name, "/refused"), Page[RefusedRow], cursor=cursor)


def replay_refused(tenant: str, name: str, id: int | None) -> Call[ReplayResult]:
    return _again(_call("POST", _feed(tenant, name, "/refused/replay"), ReplayResult, id=id))


def drop_refused(tenant: str, name: str) -> Call[int]:
    return _call("DELETE", _feed(tenant, name, "/refused"), int)


def try_mapping(tenant: str, trial: MappingTrial) -> Call[MappingTrialResult]:
    return _again(_call("POST", _tenant(tenant, "mapping-trials"), MappingTrialResult, trial))


def send_to_feed(key: str, body: bytes, content_type: str) -> Call[IntakeResult]:
    path = f"/api/v1/intake/{quote(key, safe='')}"
    return Call("POST", path, TypeAdapter(IntakeResult), {}, body, content_type, True)


def hand_to_feed(tenant: str, name: str, body: bytes, content_type: str) -> Call[IntakeResult]:
    path = f"/api/v1{_feed(tenant, name, '/events')}"
    return Call("POST", path, TypeAdapter(IntakeResult), {}, body, content_type, True)
