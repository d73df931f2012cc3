"""The synchronous client. Lists are iterators that fetch page after page as they are used.

Made from `asynchronous` by tools/sync_client.py: change that one.
"""

import builtins
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime
from types import TracebackType
from typing import Any, TypeVar

import httpx

from rust_gauge import __version__
from rust_gauge.client import calls
from rust_gauge.client.calls import Call, batches_of
from rust_gauge.client.errors import ServiceUnreachable, error_of
from rust_gauge.client.retries import ATTEMPTS, pause_before, worth_repeating
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
    FeedMapping,
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
    Subject,
    Wall,
)
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData
from rust_gauge.contract.relays import Relay, RelayDescription
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesChange, RuleTrial, RuleTrialRequest
from rust_gauge.contract.session import MadeToken, NewToken, Token, Who
from rust_gauge.contract.suppression import (
    AddressStatus,
    ClearanceAnswer,
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
    Sending,
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


class Client:
    """A connection to one service. `transport` is for tests.

    Requests that are safe to repeat are tried up to four times when the service is away or busy.
    """

    def __init__(
        self,
        url: str,
        *,
        token: str = "",
        timeout: float = 60.0,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        headers = {"User-Agent": f"rust-gauge-client/{__version__}", "Accept": "application/json"}
        if token:
            headers["Authorization"] = f"Bearer {token}"
        self._http = httpx.Client(base_url=url.rstrip("/"), headers=headers, timeout=timeout, transport=transport)
        self.tokens = Tokens(self)
        self.domains = Domains(self)
        self.audits = Audits(self)
        self.events = Events(self)
        self.flow = FlowReader(self)
        self.suppression = Suppression(self)
        self.jobs = Jobs(self)
        self.addresses = Addresses(self)
        self.readings = Readings(self)
        self.worklist = Worklist(self)
        self.relays = Relays(self)
        self.plans = Plans(self)
        self.watches = Watches(self)
        self.publishing = Publishing(self)
        self.proofs = Proofs(self)
        self.webhooks = Webhooks(self)
        self.feeds = Feeds(self)
        self.cause_rules = CauseRulesPart(self)
        self.recipients = Recipients(self)

    def __enter__(self) -> "Client":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections that are kept open."""
        self._http.close()

    def who(self) -> Who:
        """Who the token stands for, and which tenants it may see."""
        return self.send(calls.who())

    def send(self, call: Call[T]) -> T:
        """Carry out a call. ServiceUnreachable, or the ProblemResponse that fits."""
        headers = {"Content-Type": call.content_type} if call.body is not None else {}
        for attempt in range(1, ATTEMPTS + 1):
            response = None
            try:
                response = self._http.request(
                    call.method, call.path, params=call.query, content=call.body, headers=headers
                )
            except httpx.HTTPError as error:
                # Nothing was sent when the connection failed, so that much is always safe to repeat.
                safe = call.repeatable or isinstance(error, httpx.ConnectError)
                if attempt == ATTEMPTS or not safe:
                    raise self._unreachable(error) from error
            else:
                if response.is_success:
                    return call.read(response.content)
                if attempt == ATTEMPTS or not call.repeatable or not worth_repeating(response):
                    raise error_of(response)
            time.sleep(pause_before(attempt, response))
        raise AssertionError("the last attempt returns or raises")

    def _unreachable(self, error: httpx.HTTPError) -> ServiceUnreachable:
        return ServiceUnreachable(f"{self._http.base_url} does not answer: {str(error) or type(error).__name__}")

    def download(self, path: str, query: Mapping[str, Any]) -> Iterator[bytes]:
        """Yield a long answer piece by piece as it comes; repeat the request while nothing of it has come.

        ServiceUnreachable when it ends in the middle: what came so far is not all.
        """
        for attempt in range(1, ATTEMPTS + 1):
            response, begun = None, False
            try:
                with self._http.stream("GET", path, params=query) as response:
                    if response.is_success:
                        for piece in response.iter_bytes():
                            begun = True
                            yield piece
                        return
                    response.read()
                    if attempt == ATTEMPTS or not worth_repeating(response):
                        raise error_of(response)
            except httpx.HTTPError as error:
                if attempt == ATTEMPTS or begun:
                    raise self._unreachable(error) from error
            time.sleep(pause_before(attempt, response))

    def pages(self, page: Callable[[str | None], Call[Page[T]]]) -> Iterator[T]:
        """All items of a paged list."""
        cursor = None
        while True:
            got = self.send(page(cursor))
            yield from got.items
            cursor = got.next
            if cursor is None:
                return


class _Part:
    """A group of calls."""

    def __init__(self, client: Client) -> None:
        self._client = client


class Tokens(_Part):
    """Tokens for programs."""

    def list(self) -> Sequence[Token]:
        """Return the tokens of your account."""
        return self._client.send(calls.list_tokens())

    def make(self, name: str, *, tenant: str | None = None, expires_in_days: int | None = None) -> MadeToken:
        """Create a token; its `secret` is in this answer only."""
        new = NewToken.model_construct(name=name, tenant=tenant, expires_in_days=expires_in_days)
        return self._client.send(calls.make_token(new))

    def drop(self, id: int) -> None:
        """Delete a token: it stops working at once."""
        self._client.send(calls.drop_token(id))


class Domains(_Part):
    """Sending domains."""

    def list(self, tenant: str) -> Iterator[Domain]:
        """Yield the tenant's sending domains by name."""
        return self._client.pages(lambda cursor: calls.list_domains(tenant, cursor))

    def get(self, tenant: str, name: str) -> Domain:
        """NotFoundError if the tenant has no such domain."""
        return self._client.send(calls.get_domain(tenant, name))

    def add(self, tenant: str, name: str, *, selectors: Sequence[str] = ()) -> Domain:
        """AlreadyThereError if it is watched, InvalidInputError if it is no domain name."""
        # Not validated here, so that the reason comes from one place: the service.
        new = NewDomain.model_construct(name=name, selectors=[*selectors])
        return self._client.send(calls.add_domain(tenant, new))

    def change(self, tenant: str, name: str, change: DomainChange) -> Domain:
        """Change settings of a domain; what is left out stays."""
        return self._client.send(calls.change_domain(tenant, name, change))

    def forget(self, tenant: str, name: str) -> None:
        """Stop watching it; what is known of it stays."""
        self._client.send(calls.forget_domain(tenant, name))


class Audits(_Part):
    """Audits of a domain."""

    def run(self, tenant: str, domain: str) -> Audit:
        """Audit `domain` now. NotFoundError if it isn't watched: add it with `client.domains.add`."""
        return self._client.send(calls.run_audit(tenant, domain))

    def newest(self, tenant: str, domain: str) -> Audit:
        """Return the newest audit of a domain. NotFoundError before the first one."""
        return self._client.send(calls.newest_audit(tenant, domain))

    def get(self, tenant: str, domain: str, id: int) -> Audit:
        """Return one audit. NotFoundError."""
        return self._client.send(calls.get_audit(tenant, domain, id))

    def list(self, tenant: str, domain: str) -> Iterator[AuditSummary]:
        """Newest first."""
        return self._client.pages(lambda cursor: calls.list_audits(tenant, domain, cursor))

    def compare(
        self, tenant: str, domain: str, *, before: int | None = None, after: int | None = None
    ) -> AuditComparison:
        """Two audits beside each other; without numbers the newest two. NotFoundError when there are not two."""
        return self._client.send(calls.compare_audits(tenant, domain, before, after))

    def history(self, tenant: str, domain: str) -> Iterator[HistoryEntry]:
        """Yield what changed between audits, newest first."""
        return self._client.pages(lambda cursor: calls.list_history(tenant, domain, cursor))

    def try_spf(
        self, tenant: str, ip: str, *, mail_from: str = "", helo: str = "", record: str | None = None
    ) -> SpfTrial:
        """Would a message from `ip` pass SPF? `record` is tried in place of what the envelope domain publishes."""
        request = SpfTrialRequest.model_construct(ip=ip, mail_from=mail_from, helo=helo, record=record)
        return self._client.send(calls.try_spf(tenant, request))

    def check_message(
        self, tenant: str, raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = ""
    ) -> MessageCheck:
        """SPF, DKIM and DMARC of a message as it was captured. Without `ip` SPF is left out."""
        return self._client.send(calls.check_message(tenant, raw, ip, helo, mail_from))

    def read_feedback_report(self, tenant: str, octets: bytes) -> FeedbackReport:
        """Read an aggregate report; its selectors are looked at by audits from now on."""
        return self._client.send(calls.read_feedback_report(tenant, octets))

    def start_batch(self, tenant: str, names: Sequence[str], selectors: Sequence[str] = ()) -> Job:
        """Audit many domains as a job."""
        request = BatchRequest.model_construct(names=[*names], selectors=[*selectors])
        return self._client.send(calls.start_batch(tenant, request))

    def batch_results(self, tenant: str, id: int) -> Iterator[BatchResult]:
        """In the order of the names."""
        return self._client.pages(lambda cursor: calls.list_batch_results(tenant, id, cursor))

    def settings(self, tenant: str) -> AuditSettings:
        """Return what the tenant's audits look at."""
        return self._client.send(calls.get_audit_settings(tenant))

    def set_settings(self, tenant: str, settings: AuditSettings) -> AuditSettings:
        """Replace them."""
        return self._client.send(calls.put_audit_settings(tenant, settings))


class Events(_Part):
    """Events in and out."""

    def load(self, tenant: str, lines: bytes) -> IntakeResult:
        """Load NDJSON, a piece that fits into one request. Safe to repeat.

        InvalidInputError when nothing of it could be stored; `problem.errors` says why, by line.
        """
        return self._client.send(calls.load_ndjson(tenant, lines))

    def list(
        self,
        tenant: str,
        *,
        recipient: str | None = None,
        message_id: str | None = None,
        domain: str | None = None,
        kinds: Sequence[str] | None = None,
        causes: Sequence[str] | None = None,
        provider: str | None = None,
        stream: str | None = None,
        relay: str | None = None,
        ip: str | None = None,
        reply: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> Iterator[Event]:
        """Events, newest first; a recipient's or a message's are its trail."""
        query: dict[str, Any] = {
            "recipient": recipient,
            "message_id": message_id,
            "domain": domain,
            "kind": [*kinds] if kinds else None,
            "cause": [*causes] if causes else None,
            "provider": provider,
            "stream": stream,
            "relay": relay,
            "ip": ip,
            "reply": reply,
            "since": since.isoformat() if since else None,
            "until": until.isoformat() if until else None,
        }
        return self._client.pages(lambda cursor: calls.list_events(tenant, cursor, query))


class FlowReader(_Part):
    """Mail flow per provider."""

    def show(self, tenant: str, **query: Any) -> Flow:
        """Whole days, UTC; the last seven without `first` and `last` (dates).

        By `domain`, `stream`, `relay`; or by one of `ip`, `campaign`, `tag`, alone or with a domain.
        """
        return self._client.send(calls.flow(tenant, query))

    def days(self, tenant: str, **query: Any) -> FlowDays:
        """Return the same counts day by day; `query` as for `show`."""
        return self._client.send(calls.flow_days(tenant, query))

    def causes(self, tenant: str, **query: Any) -> Causes:
        """Causes of bounces and delays day by day, per provider. Chosen as in `show`."""
        return self._client.send(calls.causes(tenant, query))

    def names(self, tenant: str) -> FlowNames:
        """Return the names that mail can be told apart by."""
        return self._client.send(calls.flow_names(tenant))

    def compare(self, tenant: str, **query: Any) -> FlowComparison:
        """Two parts of the mail: one chosen as in `show`, the other by `other_domain`, `other_campaign` and so on."""
        return self._client.send(calls.compare_flow(tenant, query))

    def wordings(self, tenant: str, **query: Any) -> Sequence[WordingRow]:
        """Return replies grouped by their fixed part; `cause`, `first`, `last`, `limit`."""
        return self._client.send(calls.wordings(tenant, query))

    def providers(self, tenant: str) -> Sequence[Provider]:
        """Return the mailbox providers that the tenant's mail went to."""
        return self._client.send(calls.list_providers(tenant))

    def name_provider(self, tenant: str, provider: str, label: str) -> Provider:
        """Call a provider by a name of one's own; an empty one takes it back. NotFoundError if no mail went there."""
        return self._client.send(calls.name_provider(tenant, provider, label))

    def shifts(self, tenant: str, *, days: int = 7) -> Sequence[Shift]:
        """Sudden rises of a rate at one provider or relay, the newest first."""
        return self._client.send(calls.list_shifts(tenant, days))

    def shift(self, tenant: str, id: int) -> ShiftDetails:
        """Return a shift with its causes, where it came from, and some of its events. NotFoundError."""
        return self._client.send(calls.get_shift(tenant, id))

    def settings(self, tenant: str) -> FlowSettings:
        """How long events are kept, and how often a shift may be reported that is none."""
        return self._client.send(calls.get_flow_settings(tenant))

    def change_settings(self, tenant: str, settings: FlowSettings) -> FlowSettings:
        """Replace what counts as a shift, and how long events are stored."""
        return self._client.send(calls.put_flow_settings(tenant, settings))


class Recipients(_Part):
    """What is kept of one person."""

    def data(self, tenant: str, address: str) -> RecipientData:
        """Events, entries and their history, refused rows. InvalidInputError if it is no address."""
        return self._client.send(calls.recipient_data(tenant, address))

    def erase(self, tenant: str, request: ErasureRequest) -> Erasure:
        """Take a recipient out of everything, for good. Counters stay as they are."""
        return self._client.send(calls.erase(tenant, request))

    def erasures(self, tenant: str) -> Sequence[Erasure]:
        """Return which erasures were made, when and by whom; not of whom."""
        return self._client.send(calls.list_erasures(tenant))


class CauseRulesPart(_Part):
    """Rules of a tenant's own that find the cause of a refusal."""

    def get(self, tenant: str) -> CauseRules:
        """Return the rules in their order, and how far the past is judged by them."""
        return self._client.send(calls.get_rules(tenant))

    def shipped(self, tenant: str) -> Sequence[OwnRule]:
        """Return the rules that come with the service, asked after a tenant's own."""
        return self._client.send(calls.shipped_rules(tenant))

    def put(self, tenant: str, change: RulesChange) -> CauseRules:
        """Keep rules. InvalidInputError names what cannot be used; 409 when somebody changed them meanwhile."""
        return self._client.send(calls.put_rules(tenant, change))

    def rehearse(self, tenant: str, request: RuleTrialRequest) -> RuleTrial:
        """Return what rules would have made of the past. Nothing is changed."""
        return self._client.send(calls.try_rules(tenant, request))

    def apply(self, tenant: str) -> CauseRules:
        """Judge the past by the rules as they are, as a job."""
        return self._client.send(calls.apply_rules(tenant))

    def stop(self, tenant: str) -> CauseRules:
        """Stop judging the past."""
        return self._client.send(calls.stop_rules(tenant))


class Suppression(_Part):
    """The suppression list and clearance."""

    def clearance(
        self,
        tenant: str,
        addresses: Sequence[str],
        *,
        stream: str | None = None,
        domain: str | None = None,
        relay: str | None = None,
        only_held: bool = False,
        sending: Sending | None = None,
    ) -> ClearanceResult:
        """May I mail these? Up to 100,000 in one call; answers in their order.

        With `sending` those that are held are counted as withheld: say so when the answer decides what is sent.
        """
        # Not validated here: the service answers for each address, and says what is wrong with a request as a whole.
        request = ClearanceRequest.model_construct(
            addresses=[*addresses], stream=stream, domain=domain, relay=relay, only_held=only_held, sending=sending
        )
        return self._client.send(calls.clearance(tenant, request))

    def clear_all(
        self, tenant: str, addresses: Iterable[str], *, batch: int = 20_000, **question: Any
    ) -> Iterator[ClearanceAnswer]:
        """Yield answers for any number of addresses, sent batch by batch. `question` as for `clearance`."""
        for texts in batches_of(addresses, batch):
            yield from (self.clearance(tenant, texts, **question)).answers

    def list(self, tenant: str, **query: Any) -> Iterator[SuppressionEntry]:
        """Yield entries, what changed last first.

        `text`, `address`, `state`, `reason`, `provider`, `stream`, `reach`, `origin`, `ends_within_days` and
        `came_back` narrow them.
        """
        return self._client.pages(lambda cursor: calls.list_suppression(tenant, cursor, query))

    def count(self, tenant: str, **query: Any) -> EntryCount:
        """How many entries there are, counted up to 100,000; narrowed as a list is."""
        return self._client.send(calls.count_suppression(tenant, query))

    def hold(self, tenant: str, new: NewEntries) -> EntriesMade:
        """Hold addresses or whole domains (`@domain`)."""
        return self._client.send(calls.add_suppression(tenant, new))

    def lift(self, tenant: str, lift: Lift) -> Lifted:
        """Take entries off, with a reason. NeedsConfirmation where one came from a complaint."""
        return self._client.send(calls.lift_suppression(tenant, lift))

    def export(self, tenant: str, *, form: str = "csv", **query: Any) -> Iterator[bytes]:
        """Yield the whole list as `csv` or `ndjson`, in pieces; narrowed as a list is."""
        path, chosen = calls.export_suppression(tenant, form, query)
        yield from self._client.download(path, chosen)

    def decide(self, tenant: str, ids: Sequence[str], *, confirm: bool, why: str = "") -> Sequence[SuppressionEntry]:
        """Agree to proposals, or dismiss them."""
        decision = Decision(ids=[*ids], confirm=confirm, why=why)
        return self._client.send(calls.decide_suppression(tenant, decision))

    def status(self, tenant: str, address: str) -> AddressStatus:
        """One address: what stands, and everything that ever happened to its status."""
        return self._client.send(calls.address_status(tenant, address))

    def changes(self, tenant: str, *, after: int = 0, limit: int = 500, wait: float = 0) -> ListChanges:
        """Return changes after a number, in order; wait up to `wait` seconds (55 at most) for one."""
        return self._client.send(calls.suppression_changes(tenant, after, limit, wait))

    def growth(self, tenant: str, *, first: date | None = None, last: date | None = None) -> Growth:
        """How the list grew, and what withholding spared."""
        return self._client.send(calls.suppression_growth(tenant, first, last))

    def policy(self, tenant: str) -> PolicyView:
        """Return what events make of an address's status."""
        return self._client.send(calls.get_suppression_policy(tenant))

    def put_policy(self, tenant: str, policy: SuppressionPolicy) -> PolicyView:
        """Keep a policy of one's own."""
        return self._client.send(calls.put_suppression_policy(tenant, policy))

    def drop_policy(self, tenant: str) -> PolicyView:
        """Go back to the shipped policy."""
        return self._client.send(calls.drop_suppression_policy(tenant))

    def matching(self, tenant: str) -> MatchingView:
        """How addresses are compared."""
        return self._client.send(calls.get_suppression_matching(tenant))

    def put_matching(self, tenant: str, settings: MatchingSettings) -> MatchingView:
        """Compare addresses otherwise; the list is rewritten."""
        return self._client.send(calls.put_suppression_matching(tenant, settings))


class Jobs(_Part):
    """Work on files and on the past: imports, checks of lists, trials of a policy."""

    def start_import(self, tenant: str, request: ImportRequest) -> Job:
        """Start the import of a list. Then `send` its file, then `run`."""
        return self._client.send(calls.start_import(tenant, request))

    def start_list_check(self, tenant: str, request: ListCheckRequest) -> Job:
        """Start the check of a list before a send. Then `send` its file, then `run`."""
        return self._client.send(calls.start_list_check(tenant, request))

    def start_policy_trial(self, tenant: str, request: RehearsalRequest) -> Job:
        """Start trying a policy on the past. It begins at once."""
        return self._client.send(calls.start_policy_trial(tenant, request))

    def list(self, tenant: str, *, kind: str | None = None) -> "builtins.list[Job]":
        """Those of the last thirty days, newest first."""
        return self._client.send(calls.list_jobs(tenant, kind))

    def get(self, tenant: str, id: int) -> Job:
        """How far it is, and what came out."""
        return self._client.send(calls.get_job(tenant, id))

    def send(self, tenant: str, id: int, number: int, octets: bytes) -> Job:
        """Send a piece of the file, numbered from 0; about a megabyte is a good size."""
        return self._client.send(calls.put_job_piece(tenant, id, number, octets))

    def run(self, tenant: str, id: int, *, dry: bool = False) -> Job:
        """Begin (with `dry` only to see what would happen), or go on after it was stopped."""
        return self._client.send(calls.run_job(tenant, id, JobStart(dry=dry)))

    def stop(self, tenant: str, id: int) -> Job:
        """Stop after the piece that is under way."""
        return self._client.send(calls.stop_job(tenant, id))

    def part(self, tenant: str, id: int, part: str) -> Iterator[bytes]:
        """Yield a result (refused, clear, held, doubtful) as CSV in pieces."""
        path, query = calls.task_part(tenant, id, part)
        yield from self._client.download(path, query)


class Addresses(_Part):
    """Checks of addresses, links to unsubscribe, and gates for MTAs."""

    def check(self, tenant: str, addresses: Sequence[str], *, probe: bool = False) -> Sequence[AddressCheck]:
        """Look at addresses (500 at most): good, doubtful, bad or unknown, with reasons."""
        request = AddressCheckRequest(addresses=[*addresses], probe=probe)
        return self._client.send(calls.check_addresses(tenant, request))

    def words(self, tenant: str) -> AddressWords:
        """Return what addresses are held against."""
        return self._client.send(calls.get_address_words(tenant))

    def put_words(self, tenant: str, words: AddressWords) -> AddressWords:
        """Replace the tenant's own lists and settings."""
        return self._client.send(calls.put_address_words(tenant, words))

    def unsubscribe_links(
        self, tenant: str, recipients: Sequence[str], *, domain: str, stream: str = ""
    ) -> Sequence[MailLinks]:
        """Values of List-Unsubscribe and List-Unsubscribe-Post for a message."""
        request = MailLinksRequest(recipients=[*recipients], domain=domain, stream=stream)
        return self._client.send(calls.unsubscribe_links(tenant, request))

    def unsubscribes(self, tenant: str, *, days: int = 30) -> Unsubscribes:
        """How unsubscriptions went."""
        return self._client.send(calls.unsubscribes(tenant, days))

    def gates(self, tenant: str) -> Sequence[Gate]:
        """Ways in for MTAs."""
        return self._client.send(calls.list_gates(tenant))

    def add_gate(self, tenant: str, new: NewGate) -> MadeGate:
        """Create a gate; its key is in this answer only."""
        return self._client.send(calls.add_gate(tenant, new))

    def drop_gate(self, tenant: str, id: int) -> None:
        """Close a gate."""
        self._client.send(calls.drop_gate(tenant, id))


class Worklist(_Part):
    """What to do next, alerts, lines, brakes."""

    def list(
        self,
        *,
        tenant: str | None = None,
        state: Sequence[str] | None = None,
        assigned_to: str | None = None,
        on: date | None = None,
    ) -> list[WorkItem]:
        """Return what to do next, over all tenants unless one is named; put off and closed items only by their states.

        `on`: what was open on that day instead, whatever became of it.
        """
        return self._client.send(calls.list_worklist(tenant, state, assigned_to, on))

    def get(self, tenant: str, id: int) -> WorkItemDetails:
        """Return an item with all that happened to it. NotFoundError."""
        return self._client.send(calls.get_work_item(tenant, id))

    def act(self, tenant: str, id: int, act: WorkAct) -> WorkItemDetails:
        """Look after it, assign it, comment, put off, measure again."""
        return self._client.send(calls.act_on_work_item(tenant, id, act))

    def look(self, tenant: str) -> builtins.list[WorkItem]:
        """Look for trouble now; gives what lives."""
        return self._client.send(calls.look_for_work(tenant))

    def people(self, tenant: str) -> builtins.list[Person]:
        """Who may see a tenant, and be given its items."""
        return self._client.send(calls.list_people(tenant))

    def lines(self, tenant: str) -> builtins.list[LineRow]:
        """Rates against their lines."""
        return self._client.send(calls.list_lines(tenant))

    def settings(self, tenant: str) -> AlertSettings:
        """Who is told of what, how soon and how often."""
        return self._client.send(calls.get_alert_settings(tenant))

    def put_settings(self, tenant: str, settings: AlertSettings) -> AlertSettings:
        """Replace them."""
        return self._client.send(calls.put_alert_settings(tenant, settings))

    def report(self, tenant: str, *, days: int = 7) -> Report:
        """Return the report of a period: its text, and an HTML page that needs nothing else."""
        return self._client.send(calls.make_report(tenant, days))

    def send_report(self, tenant: str, *, days: int = 7) -> None:
        """Send the report of a period now to the people of the alert settings."""
        self._client.send(calls.send_report(tenant, days))

    def told(self, tenant: str) -> builtins.list[Told]:
        """Return the newest messages, and what became of them."""
        return self._client.send(calls.list_told(tenant))

    def brakes(self, tenant: str) -> builtins.list[Brake]:
        """Streams over relays that clearance holds as a whole."""
        return self._client.send(calls.list_brakes(tenant))

    def put_brake(self, tenant: str, new: BrakeRelease) -> builtins.list[Brake]:
        """Hold a stream over a relay by hand."""
        return self._client.send(calls.put_brake(tenant, new))

    def release_brake(self, tenant: str, release: BrakeRelease) -> builtins.list[Brake]:
        """Let it go on, with a reason."""
        return self._client.send(calls.release_brake(tenant, release))


class Readings(_Part):
    """Readings, the wall, what moved them and what would follow."""

    def series(
        self,
        tenant: str,
        name: str,
        *,
        subject: Subject = "domain",
        provider: str | None = None,
        first: date | None = None,
        last: date | None = None,
    ) -> ReadingSeries:
        """Return a reading a day of a domain, stream, relay or sending address; the last ninety days without dates."""
        return self._client.send(calls.readings(tenant, name, subject, provider, first, last))

    def wall(
        self, *, days: int = 7, tenant: str | None = None, subject: Subject = "domain", last: date | None = None
    ) -> Wall:
        """All subjects of a kind by mailbox provider, with the trend of so many days (at most 190) up to one."""
        return self._client.send(calls.wall(days, tenant, subject, last))

    def moved(
        self,
        tenant: str,
        name: str,
        first: date,
        last: date,
        *,
        subject: Subject = "domain",
        provider: str | None = None,
    ) -> Moved:
        """Return what moved a reading between two days, and what else happened then."""
        return self._client.send(calls.moved(tenant, name, subject, provider, first, last))

    def ahead(
        self, tenant: str, name: str, wanted: Ahead, *, subject: Subject = "domain", provider: str | None = None
    ) -> AheadResult:
        """Return the readings that would follow, as it goes and with a change."""
        return self._client.send(calls.look_ahead(tenant, name, subject, provider, wanted))

    def room(self, tenant: str, name: str, *, subject: Subject = "domain") -> list[Room]:
        """How many more complaints or bounces today until a line."""
        return self._client.send(calls.room(tenant, name, subject))

    def settings(self, tenant: str) -> ReadingSettingsView:
        """Return the parameters of a tenant's readings."""
        return self._client.send(calls.get_reading_settings(tenant))

    def put_settings(self, tenant: str, settings: ReadingSettings) -> ReadingSettingsView:
        """Other parameters; `job` in the answer computes the past anew."""
        return self._client.send(calls.put_reading_settings(tenant, settings))

    def drop_settings(self, tenant: str) -> ReadingSettingsView:
        """Back to those that are shipped."""
        return self._client.send(calls.drop_reading_settings(tenant))

    def marks(
        self, tenant: str, *, first: date | None = None, last: date | None = None, domain: str | None = None
    ) -> list[Mark]:
        """Return what happened: notes, changed records, findings, shifts, outages."""
        return self._client.send(calls.list_marks(tenant, first, last, domain))

    def add_mark(self, tenant: str, new: NewMark) -> Mark:
        """Add a note on the time axis."""
        return self._client.send(calls.add_mark(tenant, new))

    def drop_mark(self, tenant: str, id: int) -> None:
        """Take a note away."""
        self._client.send(calls.drop_mark(tenant, id))


class Relays(_Part):
    """Paths that mail leaves by."""

    def list(self, tenant: str) -> "builtins.list[Relay]":
        """All relays, described or only seen in events."""
        return self._client.send(calls.list_relays(tenant))

    def describe(self, tenant: str, name: str, description: RelayDescription) -> Relay:
        """Say what a relay is, wants published and allows."""
        return self._client.send(calls.describe_relay(tenant, name, description))

    def forget(self, tenant: str, name: str) -> None:
        """Forget what was said of a relay."""
        self._client.send(calls.forget_relay(tenant, name))


class Plans(_Part):
    """What domains ought to publish."""

    def get(self, tenant: str, name: str) -> Plan:
        """Return the plan, not yet compared with what is published."""
        return self._client.send(calls.get_plan(tenant, name))

    def check(self, tenant: str, name: str) -> Plan:
        """Compare the plan with what the zone's name servers give now."""
        return self._client.send(calls.check_plan(tenant, name))

    def choose(self, tenant: str, name: str, settings: PlanSettings) -> Plan:
        """Set what people choose: the stage of DMARC, where reports go, ways out of too many look-ups."""
        return self._client.send(calls.put_plan_settings(tenant, name, settings))

    def make_key(self, tenant: str, name: str, selector: str, kind: str = "rsa2048") -> MadeKey:
        """Make a DKIM key. The private half is in the answer and nowhere else."""
        new = NewKey.model_construct(selector=selector, kind=kind)  # type: ignore[arg-type]
        return self._client.send(calls.make_key(tenant, name, new))


class Watches(_Part):
    """How changes of records spread."""

    def start(self, tenant: str, name: str, keys: Sequence[str] = (), hours: int = 48) -> Watch:
        """Watch records of the plan (all without `keys`) until every server has them."""
        return self._client.send(calls.start_watch(tenant, name, WatchRequest(keys=[*keys], hours=hours)))

    def list(self, tenant: str, name: str) -> "builtins.list[Watch]":
        """Return the newest watches of a domain."""
        return self._client.send(calls.list_watches(tenant, name))

    def get(self, tenant: str, id: int) -> Watch:
        """How it stands."""
        return self._client.send(calls.get_watch(tenant, id))

    def stop(self, tenant: str, id: int) -> Watch:
        """Stop it; what it saw stays."""
        return self._client.send(calls.stop_watch(tenant, id))

    def look(self, tenant: str, id: int) -> Watch:
        """Look now in place of at the next time."""
        return self._client.send(calls.look_now(tenant, id))

    def settings(self, tenant: str) -> WatchSettings:
        """Whom watches ask."""
        return self._client.send(calls.get_watch_settings(tenant))

    def choose(self, tenant: str, settings: WatchSettings) -> WatchSettings:
        """Choose whom watches ask beside those of the service."""
        return self._client.send(calls.put_watch_settings(tenant, settings))


class Publishing(_Part):
    """Plans published by dynamic update (RFC 2136)."""

    def servers(self, tenant: str) -> "builtins.list[UpdateServer]":
        """Where zones are changed."""
        return self._client.send(calls.list_update_servers(tenant))

    def put_server(self, tenant: str, zone: str, new: NewUpdateServer) -> UpdateServer:
        """Keep where a zone is changed, and the key. The secret is never given back."""
        return self._client.send(calls.put_update_server(tenant, zone, new))

    def forget_server(self, tenant: str, zone: str) -> None:
        """Forget a server and its key."""
        self._client.send(calls.forget_update_server(tenant, zone))

    def show(self, tenant: str, name: str, keys: Sequence[str] = ()) -> ZoneChange:
        """Exactly what would change in the zone."""
        return self._client.send(calls.show_change(tenant, name, ZoneChangeRequest(keys=[*keys])))

    def apply(self, tenant: str, name: str, digest: str, keys: Sequence[str] = ()) -> Publication:
        """Make the change that was shown (by its digest), and look whether it is there."""
        return self._client.send(calls.apply_change(tenant, name, ZoneChangeRequest(keys=[*keys], digest=digest)))

    def list(self, tenant: str, name: str) -> "builtins.list[Publication]":
        """Return the changes that were made for a domain, newest first."""
        return self._client.send(calls.list_publications(tenant, name))

    def roll_back(self, tenant: str, id: int) -> Publication:
        """Put everything back as it was, if nobody changed it since."""
        return self._client.send(calls.roll_back(tenant, id))


class Proofs(_Part):
    """That domains and sender addresses are the tenant's."""

    def start(self, tenant: str, subject: str, way: str = "record", relay: str = "") -> Proof:
        """Begin one: `record`, `postmaster` or `abuse` for a domain, `mail` for an address."""
        new = NewProof.model_construct(subject=subject, way=way, relay=relay)  # type: ignore[arg-type]
        return self._client.send(calls.start_proof(tenant, new))

    def list(self, tenant: str) -> "builtins.list[Proof]":
        """All of a tenant."""
        return self._client.send(calls.list_proofs(tenant))

    def check(self, tenant: str, id: int) -> Proof:
        """Look for the record now."""
        return self._client.send(calls.check_proof(tenant, id))

    def give_code(self, tenant: str, id: int, code: str) -> Proof:
        """Send the code that the message brought."""
        return self._client.send(calls.give_code(tenant, id, ProofCode(code=code)))

    def senders(self, tenant: str) -> "builtins.list[Sender]":
        """Every domain that mail is sent as: proven or not, aligned or not."""
        return self._client.send(calls.list_senders(tenant))


class Webhooks(_Part):
    """Where the service tells what happened."""

    def list(self, tenant: str) -> "builtins.list[Webhook]":
        """All of a tenant, and how their calls go."""
        return self._client.send(calls.list_webhooks(tenant))

    def add(self, tenant: str, name: str, url: str, subjects: Sequence[str] = ()) -> MadeWebhook:
        """Tell an address what happens; `secret` is in this answer only. Without subjects it is told everything."""
        new = NewWebhook.model_construct(name=name, url=url, subjects=[*subjects])  # type: ignore[list-item]
        return self._client.send(calls.add_webhook(tenant, new))

    def change(self, tenant: str, id: int, change: WebhookChange) -> Webhook:
        """Change settings of a webhook; what is left out stays."""
        return self._client.send(calls.change_webhook(tenant, id, change))

    def drop(self, tenant: str, id: int) -> None:
        """Forget it and its calls."""
        self._client.send(calls.drop_webhook(tenant, id))

    def test(self, tenant: str, id: int) -> WebhookCall:
        """Call it now with a message that says nothing."""
        return self._client.send(calls.test_webhook(tenant, id))

    def calls(self, tenant: str, id: int, *, state: str | None = None) -> Iterator[WebhookCall]:
        """Newest first."""
        return self._client.pages(lambda cursor: calls.list_webhook_calls(tenant, id, state, cursor))

    def replay(self, tenant: str, id: int, call: str | None = None) -> int:
        """Try calls that were given up anew: one, or all. Gives how many."""
        return self._client.send(calls.replay_webhook(tenant, id, call))


class Feeds(_Part):
    """Ways in for events."""

    def list(self, tenant: str) -> "builtins.list[Feed]":
        """All of a tenant, and how they go."""
        return self._client.send(calls.list_feeds(tenant))

    def add(self, tenant: str, new: NewFeed) -> MadeFeed:
        """Open one; its `token` and `secret` are in this answer only."""
        return self._client.send(calls.add_feed(tenant, new))

    def get(self, tenant: str, name: str) -> Feed:
        """One of them."""
        return self._client.send(calls.get_feed(tenant, name))

    def change(self, tenant: str, name: str, change: FeedChange) -> Feed:
        """Change settings of a feed; what is left out stays."""
        return self._client.send(calls.change_feed(tenant, name, change))

    def drop(self, tenant: str, name: str) -> None:
        """Close it; what came by it stays."""
        self._client.send(calls.drop_feed(tenant, name))

    def refused(self, tenant: str, name: str) -> Iterator[RefusedRow]:
        """Rows that were refused, newest first."""
        return self._client.pages(lambda cursor: calls.list_refused(tenant, name, cursor))

    def replay(self, tenant: str, name: str, id: int | None = None) -> ReplayResult:
        """Try refused rows again: one, or all."""
        return self._client.send(calls.replay_refused(tenant, name, id))

    def drop_refused(self, tenant: str, name: str) -> int:
        """Forget what was refused. Gives how many rows."""
        return self._client.send(calls.drop_refused(tenant, name))

    def try_mapping(self, tenant: str, sample: str, mapping: FeedMapping | None = None) -> MappingTrialResult:
        """Turn a sample into events, field by field; nothing is stored."""
        trial = MappingTrial.model_construct(sample=sample, mapping=mapping)
        return self._client.send(calls.try_mapping(tenant, trial))

    def send(self, key: str, body: bytes, content_type: str = "application/x-ndjson") -> IntakeResult:
        """Hand a body to a feed, with its token as this client's. Safe to repeat."""
        return self._client.send(calls.send_to_feed(key, body, content_type))

    def hand(self, tenant: str, name: str, body: bytes, content_type: str) -> IntakeResult:
        """Hand a body to a feed as somebody who may see the tenant. Safe to repeat."""
        return self._client.send(calls.hand_to_feed(tenant, name, body, content_type))
