"""Types of what the store writes: the columns of a row, for functions that add rows or change some of their columns.

A test compares these with the tables.
"""

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Any, TypeAlias, TypedDict

Document: TypeAlias = Mapping[str, Any]  # a JSON object, as the contract or the core writes it
CounterKey: TypeAlias = tuple[int | str | bytes | date, ...]  # the columns of a counter's key, in the table's order
Json: TypeAlias = Mapping[str, Any] | Sequence[Any]  # a document, as the contract or the core writes it


class FeedColumns(TypedDict, total=False):
    """Columns of `feed`."""

    id: int
    tenant_id: int
    name: str
    kind: str
    feed_key: str
    token_digest: bytes
    secret: str
    password: str
    source: Json
    mapping: Json | None
    defaults: Json
    position: Json
    paused: bool
    error: str
    created_at: datetime


class ReportShareColumns(TypedDict, total=False):
    """Columns of `report_share`."""

    id: int
    tenant_id: int
    token_digest: bytes
    title: str
    note: str
    page: bytes
    created_by: str
    created_at: datetime
    expires_at: datetime
    opened: int
    opened_at: datetime | None


class TrayColumns(TypedDict, total=False):
    """Columns of `tray`."""

    id: int
    tenant_id: int
    name: str
    title: str
    address_key: str
    smtp_user: str
    password_digest: bytes
    rotated_at: datetime
    keep_days: int
    keep_messages: int
    max_bytes: int
    sending_ip: str
    series_header: str
    receiver: Json
    created_at: datetime


class SeedColumns(TypedDict, total=False):
    """Columns of `seed`."""

    id: int
    tenant_id: int
    address: str
    provider: str
    folders: Json
    seen_folders: Json
    lists: Json
    note: str
    enabled: bool
    host: str
    port: int
    security: str
    login_user: str
    password: str
    checked_at: datetime | None
    problem: str
    problem_text: str
    problem_remedy: str
    created_at: datetime


class OutletColumns(TypedDict, total=False):
    """Columns of `outlet`."""

    id: int
    tenant_id: int
    name: str
    from_name: str
    from_address: str
    mail_from: str
    relay: str
    stream: str
    extra: Json
    host: str
    port: int
    security: str
    login_user: str
    password: str
    checked_at: datetime | None
    problem: str
    problem_text: str
    problem_remedy: str
    created_at: datetime


class PlacementRunColumns(TypedDict, total=False):
    """Columns of `placement_run`."""

    id: int
    tenant_id: int
    outlet_id: int | None
    outlet_name: str
    title: str
    address_key: str
    state: str
    keep_custom: bool
    plan: Json
    wait_minutes: int
    subject: str
    series: str
    header_from: str
    size: int
    mark: float | None
    error: str
    created_by: str
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    path_id: int | None
    schedule_id: int | None
    why: str


class PlacementScheduleColumns(TypedDict, total=False):
    """Columns of `placement_schedule`."""

    id: int
    tenant_id: int
    name: str
    outlet_id: int | None
    outlet_name: str
    enabled: bool
    address_key: str
    settings: Json
    digest: bytes | None
    message_id: int | None
    records_seen_at: datetime
    after_changes: bool
    next_at: datetime | None
    ran_at: datetime | None
    problem: str
    created_by: str
    created_at: datetime


class VerifierColumns(TypedDict, total=False):
    """Columns of `verifier`."""

    id: int
    tenant_id: int
    name: str
    place: int
    enabled: bool
    settings: Json
    secret: str
    price: int
    budget_day: int | None
    budget_month: int | None
    problem: str
    problem_at: datetime | None
    answered_at: datetime | None
    created_at: datetime


class WarmupPlanColumns(TypedDict, total=False):
    """Columns of `warmup_plan`."""

    id: int
    tenant_id: int
    name: str
    domain: str
    stream: str
    relay: str
    sending_ip: str
    move_from: str
    settings: Json
    starts_on: date
    judged_to: date
    state: str
    created_by: str
    created_at: datetime


class PlacementShareColumns(TypedDict, total=False):
    """Columns of `placement_share`."""

    id: int
    tenant_id: int
    run_id: int
    token_digest: bytes
    note: str
    created_by: str
    created_at: datetime
    expires_at: datetime
    opened: int
    opened_at: datetime | None


class PlacementCopyColumns(TypedDict, total=False):
    """Columns of `placement_copy`."""

    id: int
    tenant_id: int
    run_id: int
    seed_id: int | None
    address: str
    provider: str
    mark: str
    outcome: str
    folder: str
    reply: str
    problem: str
    sent_at: datetime | None
    arrived_at: datetime | None
    looked_at: datetime | None
    arrival: Json | None


class CaughtColumns(TypedDict, total=False):
    """Columns of `caught_message`."""

    id: int
    tenant_id: int
    tray_id: int
    arrived_at: datetime
    via: str
    mail_from: str
    helo: str
    client_ip: str
    tls: str
    recipients: Json
    subject: str
    header_from: str
    message_id: str
    series: str
    size: int
    state: str
    attempts: int
    claimed_at: datetime | None
    mark: float | None
    worst: str | None
    points: Json | None


class GateColumns(TypedDict, total=False):
    """Columns of `gate`."""

    id: int
    tenant_id: int
    name: str
    digest: bytes
    stream: str
    relay: str
    created_at: datetime
    last_used_at: datetime | None


class JobColumns(TypedDict, total=False):
    """Columns of `job`."""

    id: int
    tenant_id: int | None
    kind: str
    subject: int
    listed: bool
    name: str
    state: str
    waiting_key: str | None
    request: Json
    position: Json
    result: Json
    done: int
    total: int
    cancel_requested: bool
    attempts: int
    claim: int
    error: str
    created_by: str
    created_at: datetime
    run_after: datetime
    lease_until: datetime | None
    finished_at: datetime | None


class ProofColumns(TypedDict, total=False):
    """Columns of `proof`."""

    id: int
    tenant_id: int
    kind: str
    subject: str
    method: str
    sent_to: str
    token: str
    state: str
    tries: int
    sends: int
    code_digest: bytes | None
    link_digest: bytes | None
    created_at: datetime
    sent_at: datetime | None
    expires_at: datetime | None
    verified_at: datetime | None
    checked_at: datetime | None
    lost_at: datetime | None


class PublicationColumns(TypedDict, total=False):
    """Columns of `publication`."""

    id: int
    tenant_id: int
    domain_id: int
    zone: str
    state: str
    verified: bool
    changes: Json
    made_at: datetime
    made_by: str
    rolled_back_at: datetime | None


class AnnotationColumns(TypedDict, total=False):
    """Columns of `annotation`."""

    id: int
    tenant_id: int
    domain: str
    day: date
    text: str
    made_at: datetime
    made_by: str
    kind: str


class ReplyPatternColumns(TypedDict, total=False):
    """Columns of `reply_pattern`."""

    id: int
    tenant_id: int
    pattern_key: bytes
    reply_pattern: str
    example: str
    first_seen_at: datetime


class ErasureColumns(TypedDict, total=False):
    """Columns of `erasure`."""

    id: int
    tenant_id: int
    erased_at: datetime
    erased_by: str
    reason: str
    events: int
    others: int


class ShiftColumns(TypedDict, total=False):
    """Columns of `shift`."""

    id: int
    tenant_id: int
    what: str
    subject_id: int
    rate: str
    began_at: datetime
    found_at: datetime
    seen_at: datetime
    ended_at: datetime | None
    usual: float
    count: int
    total: int
    strength: float


class SuppressionStateColumns(TypedDict, total=False):
    """Columns of `suppression_state`."""

    tenant_id: int
    last_number: int
    matching: Json
    matching_before: Json | None
    secret: str
    pauses: Json


class WatchColumns(TypedDict, total=False):
    """Columns of `watch`."""

    id: int
    tenant_id: int
    domain_id: int
    state: str
    records: Json
    servers: Json
    sightings: Json
    rounds: int
    created_at: datetime
    looked_at: datetime | None
    next_at: datetime | None
    gives_up_at: datetime
    finished_at: datetime | None


class WebhookColumns(TypedDict, total=False):
    """Columns of `webhook`."""

    id: int
    tenant_id: int
    name: str
    url: str
    subjects: Json
    secret: str
    paused: bool
    created_at: datetime
    last_at: datetime | None
    last_response: str
    previous_secret: str
    previous_until: datetime | None


class WebhookCallColumns(TypedDict, total=False):
    """Columns of `webhook_call`."""

    id: int
    tenant_id: int
    webhook_id: int
    message_id: str
    subject: str
    body: str
    state: str
    attempts: int
    response: str
    created_at: datetime
    next_at: datetime | None
    finished_at: datetime | None


class NotificationColumns(TypedDict, total=False):
    """Columns of `notification`."""

    id: int
    tenant_id: int
    item_id: int
    channel: Json
    what: str
    title: str
    body: str
    state: str
    attempts: int
    response: str
    made_at: datetime
    next_at: datetime | None
    finished_at: datetime | None


class ReceiverReportColumns(TypedDict, total=False):
    """Columns of `receiver_report`."""

    id: int
    tenant_id: int
    kind: str
    digest: bytes
    receiver_id: int
    report_id: str
    domain: str
    domain_id: int | None
    begins_at: datetime
    ends_at: datetime
    arrived_at: datetime
    arrived_by: str
    feed_id: int | None
    authentic: str
    authentic_domain: str
    records: int
    left_out: int
    messages: int
    passed: int
    document: Json


class RejectedReportColumns(TypedDict, total=False):
    """Columns of `rejected_report`."""

    id: int
    tenant_id: int
    feed_id: int | None
    digest: bytes
    arrived_at: datetime
    arrived_by: str
    what: str
    why: str
    remedy: str
    size: int
    octets: bytes | None


class PolicyPathColumns(TypedDict, total=False):
    """Columns of `policy_path`."""

    domain_id: int
    tenant_id: int
    stage: str
    stage_since: date
    published: str
    settings: Json
    started_by: str
    started_at: datetime
    checked_at: datetime | None
    asked_at: datetime | None


class SourceDecisionColumns(TypedDict, total=False):
    """Columns of `source_decision`."""

    domain_id: int
    group_name: str
    tenant_id: int
    verdict: str
    relay: str
    note: str
    decided_by: str
    decided_at: datetime
