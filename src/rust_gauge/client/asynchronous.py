"""The asynchronous client. The same methods as the synchronous one, to be awaited; lists are asynchronous iterators."""

import asyncio
import builtins
from collections.abc import AsyncIterator, Callable, Iterable, Mapping, Sequence
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


class AsyncClient:
    """A connection to one service. `transport` is for tests.

    Requests that are safe to repeat are tried up to four times when the service is away or busy.
    """

    def __init__(
        self,
        url: str,
        *,
        token: str = "",
        timeout: float = 60.0,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        headers = {"User-Agent": f"rust-gauge-client/{__version__}", "Accept": "application/json"}
        if token:
            headers["Authorization"] = f"Bearer {token}"
        self._http = httpx.AsyncClient(base_url=url.rstrip("/"), headers=headers, timeout=timeout, transport=transport)
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

    async def __aenter__(self) -> "AsyncClient":
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        """Close the connections that are kept open."""
        await self._http.aclose()

    async def who(self) -> Who:
        """Who the token stands for, and which tenants it may see."""
        return await self.send(calls.who())

    async def send(self, call: Call[T]) -> T:
        """Carry out a call. ServiceUnreachable, or the ProblemResponse that fits."""
        headers = {"Content-Type": call.content_type} if call.body is not None else {}
        for attempt in range(1, ATTEMPTS + 1):
            response = None
            try:
                response = await self._http.request(
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
            await asyncio.sleep(pause_before(attempt, response))
        raise AssertionError("the last attempt returns or raises")

    def _unreachable(self, error: httpx.HTTPError) -> ServiceUnreachable:
        return ServiceUnreachable(f"{self._http.base_url} does not answer: {str(error) or type(error).__name__}")

    async def download(self, path: str, query: Mapping[str, Any]) -> AsyncIterator[bytes]:
        """Yield a long answer piece by piece as it comes; repeat the request while nothing of it has come.

        ServiceUnreachable when it ends in the middle: what came so far is not all.
        """
        for attempt in range(1, ATTEMPTS + 1):
            response, begun = None, False
            try:
                async with self._http.stream("GET", path, params=query) as response:
                    if response.is_success:
                        async for piece in response.aiter_bytes():
                            begun = True
                            yield piece
                        return
                    await response.aread()
                    if attempt == ATTEMPTS or not worth_repeating(response):
                        raise error_of(response)
            except httpx.HTTPError as error:
                if attempt == ATTEMPTS or begun:
                    raise self._unreachable(error) from error
            await asyncio.sleep(pause_before(attempt, response))

    async def pages(self, page: Callable[[str | None], Call[Page[T]]]) -> AsyncIterator[T]:
        """All items of a paged list."""
        cursor = None
        while True:
            got = await self.send(page(cursor))
            for item in got.items:
                yield item
            cursor = got.next
            if cursor is None:
                return


class _Part:
    """A group of calls."""

    def __init__(self, client: AsyncClient) -> None:
        self._client = client


class Tokens(_Part):
    """Tokens for programs."""

    async def list(self) -> Sequence[Token]:
        """Return the tokens of your account."""
        return await self._client.send(calls.list_tokens())

    async def make(self, name: str, *, tenant: str | None = None, expires_in_days: int | None = None) -> MadeToken:
        """Create a token; its `secret` is in this answer only."""
        new = NewToken.model_construct(name=name, tenant=tenant, expires_in_days=expires_in_days)
        return await self._client.send(calls.make_token(new))

    async def drop(self, id: int) -> None:
        """Delete a token: it stops working at once."""
        await self._client.send(calls.drop_token(id))


class Domains(_Part):
    """Sending domains."""

    def list(self, tenant: str) -> AsyncIterator[Domain]:
        """Yield the tenant's sending domains by name."""
        return self._client.pages(lambda cursor: calls.list_domains(tenant, cursor))

    async def get(self, tenant: str, name: str) -> Domain:
        """NotFoundError if the tenant has no such domain."""
        return await self._client.send(calls.get_domain(tenant, name))

    async def add(self, tenant: str, name: str, *, selectors: Sequence[str] = ()) -> Domain:
        """AlreadyThereError if it is watched, InvalidInputError if it is no domain name."""
        # Not validated here, so that the reason comes from one place: the service.
        new = NewDomain.model_construct(name=name, selectors=[*selectors])
        return await self._client.send(calls.add_domain(tenant, new))

    async def change(self, tenant: str, name: str, change: DomainChange) -> Domain:
        """Change settings of a domain; what is left out stays."""
        return await self._client.send(calls.change_domain(tenant, name, change))

    async def forget(self, tenant: str, name: str) -> None:
        """Stop watching it; what is known of it stays."""
        await self._client.send(calls.forget_domain(tenant, name))


class Audits(_Part):
    """Audits of a domain."""

    async def run(self, tenant: str, domain: str) -> Audit:
        """Audit `domain` now. NotFoundError if it isn't watched: add it with `client.domains.add`."""
        return await self._client.send(calls.run_audit(tenant, domain))

    async def newest(self, tenant: str, domain: str) -> Audit:
        """Return the newest audit of a domain. NotFoundError before the first one."""
        return await self._client.send(calls.newest_audit(tenant, domain))

    async def get(self, tenant: str, domain: str, id: int) -> Audit:
        """Return one audit. NotFoundError."""
        return await self._client.send(calls.get_audit(tenant, domain, id))

    def list(self, tenant: str, domain: str) -> AsyncIterator[AuditSummary]:
        """Newest first."""
        return self._client.pages(lambda cursor: calls.list_audits(tenant, domain, cursor))

    async def compare(
        self, tenant: str, domain: str, *, before: int | None = None, after: int | None = None
    ) -> AuditComparison:
        """Two audits beside each other; without numbers the newest two. NotFoundError when there are not two."""
        return await self._client.send(calls.compare_audits(tenant, domain, before, after))

    def history(self, tenant: str, domain: str) -> AsyncIterator[HistoryEntry]:
        """Yield what changed between audits, newest first."""
        return self._client.pages(lambda cursor: calls.list_history(tenant, domain, cursor))

    async def try_spf(
        self, tenant: str, ip: str, *, mail_from: str = "", helo: str = "", record: str | None = None
    ) -> SpfTrial:
        """Would a message from `ip` pass SPF? `record` is tried in place of what the envelope domain publishes."""
        request = SpfTrialRequest.model_construct(ip=ip, mail_from=mail_from, helo=helo, record=record)
        return await self._client.send(calls.try_spf(tenant, request))

    async def check_message(
        self, tenant: str, raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = ""
    ) -> MessageCheck:
        """SPF, DKIM and DMARC of a message as it was captured. Without `ip` SPF is left out."""
        return await self._client.send(calls.check_message(tenant, raw, ip, helo, mail_from))

    async def read_feedback_report(self, tenant: str, octets: bytes) -> FeedbackReport:
        """Read an aggregate report; its selectors are looked at by audits from now on."""
        return await self._client.send(calls.read_feedback_report(tenant, octets))

    async def start_batch(self, tenant: str, names: Sequence[str], selectors: Sequence[str] = ()) -> Job:
        """Audit many domains as a job."""
        request = BatchRequest.model_construct(names=[*names], selectors=[*selectors])
        return await self._client.send(calls.start_batch(tenant, request))

    def batch_results(self, tenant: str, id: int) -> AsyncIterator[BatchResult]:
        """In the order of the names."""
        return self._client.pages(lambda cursor: calls.list_batch_results(tenant, id, cursor))

    async def settings(self, tenant: str) -> AuditSettings:
        """Return what the tenant's audits look at."""
        return await self._client.send(calls.get_audit_settings(tenant))

    async def set_settings(self, tenant: str, settings: AuditSettings) -> AuditSettings:
        """Replace them."""
        return await self._client.send(calls.put_audit_settings(tenant, settings))


class Events(_Part):
    """Events in and out."""

    async def load(self, tenant: str, lines: bytes) -> IntakeResult:
        """Load NDJSON, a piece that fits into one request. Safe to repeat.

        InvalidInputError when nothing of it could be stored; `problem.errors` says why, by line.
        """
        return await self._client.send(calls.load_ndjson(tenant, lines))

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
    ) -> AsyncIterator[Event]:
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

    async def show(self, tenant: str, **query: Any) -> Flow:
        """Whole days, UTC; the last seven without `first` and `last` (dates).

        By `domain`, `stream`, `relay`; or by one of `ip`, `campaign`, `tag`, alone or with a domain.
        """
        return await self._client.send(calls.flow(tenant, query))

    async def days(self, tenant: str, **query: Any) -> FlowDays:
        """Return the same counts day by day; `query` as for `show`."""
        return await self._client.send(calls.flow_days(tenant, query))

    async def causes(self, tenant: str, **query: Any) -> Causes:
        """Causes of bounces and delays day by day, per provider. Chosen as in `show`."""
        return await self._client.send(calls.causes(tenant, query))

    async def names(self, tenant: str) -> FlowNames:
        """Return the names that mail can be told apart by."""
        return await self._client.send(calls.flow_names(tenant))

    async def compare(self, tenant: str, **query: Any) -> FlowComparison:
        """Two parts of the mail: one chosen as in `show`, the other by `other_domain`, `other_campaign` and so on."""
        return await self._client.send(calls.compare_flow(tenant, query))

    async def wordings(self, tenant: str, **query: Any) -> Sequence[WordingRow]:
        """Return replies grouped by their fixed part; `cause`, `first`, `last`, `limit`."""
        return await self._client.send(calls.wordings(tenant, query))

    async def providers(self, tenant: str) -> Sequence[Provider]:
        """Return the mailbox providers that the tenant's mail went to."""
        return await self._client.send(calls.list_providers(tenant))

    async def name_provider(self, tenant: str, provider: str, label: str) -> Provider:
        """Call a provider by a name of one's own; an empty one takes it back. NotFoundError if no mail went there."""
        return await self._client.send(calls.name_provider(tenant, provider, label))

    async def shifts(self, tenant: str, *, days: int = 7) -> Sequence[Shift]:
        """Sudden rises of a rate at one provider or relay, the newest first."""
        return await self._client.send(calls.list_shifts(tenant, days))

    async def shift(self, tenant: str, id: int) -> ShiftDetails:
        """Return a shift with its causes, where it came from, and some of its events. NotFoundError."""
        return await self._client.send(calls.get_shift(tenant, id))

    async def settings(self, tenant: str) -> FlowSettings:
        """How long events are kept, and how often a shift may be reported that is none."""
        return await self._client.send(calls.get_flow_settings(tenant))

    async def change_settings(self, tenant: str, settings: FlowSettings) -> FlowSettings:
        """Replace what counts as a shift, and how long events are stored."""
        return await self._client.send(calls.put_flow_settings(tenant, settings))


class Recipients(_Part):
    """What is kept of one person."""

    async def data(self, tenant: str, address: str) -> RecipientData:
        """Events, entries and their history, refused rows. InvalidInputError if it is no address."""
        return await self._client.send(calls.recipient_data(tenant, address))

    async def erase(self, tenant: str, request: ErasureRequest) -> Erasure:
        """Take a recipient out of everything, for good. Counters stay as they are."""
        return await self._client.send(calls.erase(tenant, request))

    async def erasures(self, tenant: str) -> Sequence[Erasure]:
        """Return which erasures were made, when and by whom; not of whom."""
        return await self._client.send(calls.list_erasures(tenant))


class CauseRulesPart(_Part):
    """Rules of a tenant's own that find the cause of a refusal."""

    async def get(self, tenant: str) -> CauseRules:
        """Return the rules in their order, and how far the past is judged by them."""
        return await self._client.send(calls.get_rules(tenant))

    async def shipped(self, tenant: str) -> Sequence[OwnRule]:
        """Return the rules that come with the service, asked after a tenant's own."""
        return await self._client.send(calls.shipped_rules(tenant))

    async def put(self, tenant: str, change: RulesChange) -> CauseRules:
        """Keep rules. InvalidInputError names what cannot be used; 409 when somebody changed them meanwhile."""
        return await self._client.send(calls.put_rules(tenant, change))

    async def rehearse(self, tenant: str, request: RuleTrialRequest) -> RuleTrial:
        """Return what rules would have made of the past. Nothing is changed."""
        return await self._client.send(calls.try_rules(tenant, request))

    async def apply(self, tenant: str) -> CauseRules:
        """Judge the past by the rules as they are, as a job."""
        return await self._client.send(calls.apply_rules(tenant))

    async def stop(self, tenant: str) -> CauseRules:
        """Stop judging the past."""
        return await self._client.send(calls.stop_rules(tenant))


class Suppression(_Part):
    """The suppression list and clearance."""

    async def clearance(
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
        return await self._client.send(calls.clearance(tenant, request))

    async def clear_all(
        self, tenant: str, addresses: Iterable[str], *, batch: int = 20_000, **question: Any
    ) -> AsyncIterator[ClearanceAnswer]:
        """Yield answers for any number of addresses, sent batch by batch. `question` as for `clearance`."""
        for texts in batches_of(addresses, batch):
            for answer in (await self.clearance(tenant, texts, **question)).answers:
                yield answer

    def list(self, tenant: str, **query: Any) -> AsyncIterator[SuppressionEntry]:
        """Yield entries, what changed last first.

        `text`, `address`, `state`, `reason`, `provider`, `stream`, `reach`, `origin`, `ends_within_days` and
        `came_back` narrow them.
        """
        return self._client.pages(lambda cursor: calls.list_suppression(tenant, cursor, query))

    async def count(self, tenant: str, **query: Any) -> EntryCount:
        """How many entries there are, counted up to 100,000; narrowed as a list is."""
        return await self._client.send(calls.count_suppression(tenant, query))

    async def hold(self, tenant: str, new: NewEntries) -> EntriesMade:
        """Hold addresses or whole domains (`@domain`)."""
        return await self._client.send(calls.add_suppression(tenant, new))

    async def lift(self, tenant: str, lift: Lift) -> Lifted:
        """Take entries off, with a reason. NeedsConfirmation where one came from a complaint."""
        return await self._client.send(calls.lift_suppression(tenant, lift))

    async def export(self, tenant: str, *, form: str = "csv", **query: Any) -> AsyncIterator[bytes]:
        """Yield the whole list as `csv` or `ndjson`, in pieces; narrowed as a list is."""
        path, chosen = calls.export_suppression(tenant, form, query)
        async for piece in self._client.download(path, chosen):
            yield piece

    async def decide(
        self, tenant: str, ids: Sequence[str], *, confirm: bool, why: str = ""
    ) -> Sequence[SuppressionEntry]:
        """Agree to proposals, or dismiss them."""
        decision = Decision(ids=[*ids], confirm=confirm, why=why)
        return await self._client.send(calls.decide_suppression(tenant, decision))

    async def status(self, tenant: str, address: str) -> AddressStatus:
        """One address: what stands, and everything that ever happened to its status."""
        return await self._client.send(calls.address_status(tenant, address))

    async def changes(self, tenant: str, *, after: int = 0, limit: int = 500, wait: float = 0) -> ListChanges:
        """Return changes after a number, in order; wait up to `wait` seconds (55 at most) for one."""
        return await self._client.send(calls.suppression_changes(tenant, after, limit, wait))

    async def growth(self, tenant: str, *, first: date | None = None, last: date | None = None) -> Growth:
        """How the list grew, and what withholding spared."""
        return await self._client.send(calls.suppression_growth(tenant, first, last))

    async def policy(self, tenant: str) -> PolicyView:
        """Return what events make of an address's status."""
        return await self._client.send(calls.get_suppression_policy(tenant))

    async def put_policy(self, tenant: str, policy: SuppressionPolicy) -> PolicyView:
        """Keep a policy of one's own."""
        return await self._client.send(calls.put_suppression_policy(tenant, policy))

    async def drop_policy(self, tenant: str) -> PolicyView:
        """Go back to the shipped policy."""
        return await self._client.send(calls.drop_suppression_policy(tenant))

    async def matching(self, tenant: str) -> MatchingView:
        """How addresses are compared."""
        return await self._client.send(calls.get_suppression_matching(tenant))

    async def put_matching(self, tenant: str, settings: MatchingSettings) -> MatchingView:
        """Compare addresses otherwise; the list is rewritten."""
        return await self._client.send(calls.put_suppression_matching(tenant, settings))


class Jobs(_Part):
    """Work on files and on the past: imports, checks of lists, trials of a policy."""

    async def start_import(self, tenant: str, request: ImportRequest) -> Job:
        """Start the import of a list. Then `send` its file, then `run`."""
        return await self._client.send(calls.start_import(tenant, request))

    async def start_list_check(self, tenant: str, request: ListCheckRequest) -> Job:
        """Start the check of a list before a send. Then `send` its file, then `run`."""
        return await self._client.send(calls.start_list_check(tenant, request))

    async def start_policy_trial(self, tenant: str, request: RehearsalRequest) -> Job:
        """Start trying a policy on the past. It begins at once."""
        return await self._client.send(calls.start_policy_trial(tenant, request))

    async def list(self, tenant: str, *, kind: str | None = None) -> "builtins.list[Job]":
        """Those of the last thirty days, newest first."""
        return await self._client.send(calls.list_jobs(tenant, kind))

    async def get(self, tenant: str, id: int) -> Job:
        """How far it is, and what came out."""
        return await self._client.send(calls.get_job(tenant, id))

    async def send(self, tenant: str, id: int, number: int, octets: bytes) -> Job:
        """Send a piece of the file, numbered from 0; about a megabyte is a good size."""
        return await self._client.send(calls.put_job_piece(tenant, id, number, octets))

    async def run(self, tenant: str, id: int, *, dry: bool = False) -> Job:
        """Begin (with `dry` only to see what would happen), or go on after it was stopped."""
        return await self._client.send(calls.run_job(tenant, id, JobStart(dry=dry)))

    async def stop(self, tenant: str, id: int) -> Job:
        """Stop after the piece that is under way."""
        return await self._client.send(calls.stop_job(tenant, id))

    async def part(self, tenant: str, id: int, part: str) -> AsyncIterator[bytes]:
        """Yield a result (refused, clear, held, doubtful) as CSV in pieces."""
        path, query = calls.task_part(tenant, id, part)
        async for piece in self._client.download(path, query):
            yield piece


class Addresses(_Part):
    """Checks of addresses, links to unsubscribe, and gates for MTAs."""

    async def check(self, tenant: str, addresses: Sequence[str], *, probe: bool = False) -> Sequence[AddressCheck]:
        """Look at addresses (500 at most): good, doubtful, bad or unknown, with reasons."""
        request = AddressCheckRequest(addresses=[*addresses], probe=probe)
        return await self._client.send(calls.check_addresses(tenant, request))

    async def words(self, tenant: str) -> AddressWords:
        """Return what addresses are held against."""
        return await self._client.send(calls.get_address_words(tenant))

    async def put_words(self, tenant: str, words: AddressWords) -> AddressWords:
        """Replace the tenant's own lists and settings."""
        return await self._client.send(calls.put_address_words(tenant, words))

    async def unsubscribe_links(
        self, tenant: str, recipients: Sequence[str], *, domain: str, stream: str = ""
    ) -> Sequence[MailLinks]:
        """Values of List-Unsubscribe and List-Unsubscribe-Post for a message."""
        request = MailLinksRequest(recipients=[*recipients], domain=domain, stream=stream)
        return await self._client.send(calls.unsubscribe_links(tenant, request))

    async def unsubscribes(self, tenant: str, *, days: int = 30) -> Unsubscribes:
        """How unsubscriptions went."""
        return await self._client.send(calls.unsubscribes(tenant, days))

    async def gates(self, tenant: str) -> Sequence[Gate]:
        """Ways in for MTAs."""
        return await self._client.send(calls.list_gates(tenant))

    async def add_gate(self, tenant: str, new: NewGate) -> MadeGate:
        """Create a gate; its key is in this answer only."""
        return await self._client.send(calls.add_gate(tenant, new))

    async def drop_gate(self, tenant: str, id: int) -> None:
        """Close a gate."""
        await self._client.send(calls.drop_gate(tenant, id))


class Worklist(_Part):
    """What to do next, alerts, lines, brakes."""

    async def list(
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
        return await self._client.send(calls.list_worklist(tenant, state, assigned_to, on))

    async def get(self, tenant: str, id: int) -> WorkItemDetails:
        """Return an item with all that happened to it. NotFoundError."""
        return await self._client.send(calls.get_work_item(tenant, id))

    async def act(self, tenant: str, id: int, act: WorkAct) -> WorkItemDetails:
        """Look after it, assign it, comment, put off, measure again."""
        return await self._client.send(calls.act_on_work_item(tenant, id, act))

    async def look(self, tenant: str) -> builtins.list[WorkItem]:
        """Look for trouble now; gives what lives."""
        return await self._client.send(calls.look_for_work(tenant))

    async def people(self, tenant: str) -> builtins.list[Person]:
        """Who may see a tenant, and be given its items."""
        return await self._client.send(calls.list_people(tenant))

    async def lines(self, tenant: str) -> builtins.list[LineRow]:
        """Rates against their lines."""
        return await self._client.send(calls.list_lines(tenant))

    async def settings(self, tenant: str) -> AlertSettings:
        """Who is told of what, how soon and how often."""
        return await self._client.send(calls.get_alert_settings(tenant))

    async def put_settings(self, tenant: str, settings: AlertSettings) -> AlertSettings:
        """Replace them."""
        return await self._client.send(calls.put_alert_settings(tenant, settings))

    async def report(self, tenant: str, *, days: int = 7) -> Report:
        """Return the report of a period: its text, and an HTML page that needs nothing else."""
        return await self._client.send(calls.make_report(tenant, days))

    async def send_report(self, tenant: str, *, days: int = 7) -> None:
        """Send the report of a period now to the people of the alert settings."""
        await self._client.send(calls.send_report(tenant, days))

    async def told(self, tenant: str) -> builtins.list[Told]:
        """Return the newest messages, and what became of them."""
        return await self._client.send(calls.list_told(tenant))

    async def brakes(self, tenant: str) -> builtins.list[Brake]:
        """Streams over relays that clearance holds as a whole."""
        return await self._client.send(calls.list_brakes(tenant))

    async def put_brake(self, tenant: str, new: BrakeRelease) -> builtins.list[Brake]:
        """Hold a stream over a relay by hand."""
        return await self._client.send(calls.put_brake(tenant, new))

    async def release_brake(self, tenant: str, release: BrakeRelease) -> builtins.list[Brake]:
        """Let it go on, with a reason."""
        return await self._client.send(calls.release_brake(tenant, release))


class Readings(_Part):
    """Readings, the wall, what moved them and what would follow."""

    async def series(
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
        return await self._client.send(calls.readings(tenant, name, subject, provider, first, last))

    async def wall(
        self, *, days: int = 7, tenant: str | None = None, subject: Subject = "domain", last: date | None = None
    ) -> Wall:
        """All subjects of a kind by mailbox provider, with the trend of so many days (at most 190) up to one."""
        return await self._client.send(calls.wall(days, tenant, subject, last))

    async def moved(
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
        return await self._client.send(calls.moved(tenant, name, subject, provider, first, last))

    async def ahead(
        self, tenant: str, name: str, wanted: Ahead, *, subject: Subject = "domain", provider: str | None = None
    ) -> AheadResult:
        """Return the readings that would follow, as it goes and with a change."""
        return await self._client.send(calls.look_ahead(tenant, name, subject, provider, wanted))

    async def room(self, tenant: str, name: str, *, subject: Subject = "domain") -> list[Room]:
        """How many more complaints or bounces today until a line."""
        return await self._client.send(calls.room(tenant, name, subject))

    async def settings(self, tenant: str) -> ReadingSettingsView:
        """Return the parameters of a tenant's readings."""
        return await self._client.send(calls.get_reading_settings(tenant))

    async def put_settings(self, tenant: str, settings: ReadingSettings) -> ReadingSettingsView:
        """Other parameters; `job` in the answer computes the past anew."""
        return await self._client.send(calls.put_reading_settings(tenant, settings))

    async def drop_settings(self, tenant: str) -> ReadingSettingsView:
        """Back to those that are shipped."""
        return await self._client.send(calls.drop_reading_settings(tenant))

    async def marks(
        self, tenant: str, *, first: date | None = None, last: date | None = None, domain: str | None = None
    ) -> list[Mark]:
        """Return what happened: notes, changed records, findings, shifts, outages."""
        return await self._client.send(calls.list_marks(tenant, first, last, domain))

    async def add_mark(self, tenant: str, new: NewMark) -> Mark:
        """Add a note on the time axis."""
        return await self._client.send(calls.add_mark(tenant, new))

    async def drop_mark(self, tenant: str, id: int) -> None:
        """Take a note away."""
        await self._client.send(calls.drop_mark(tenant, id))


class Relays(_Part):
    """Paths that mail leaves by."""

    async def list(self, tenant: str) -> "builtins.list[Relay]":
        """All relays, described or only seen in events."""
        return await self._client.send(calls.list_relays(tenant))

    async def describe(self, tenant: str, name: str, description: RelayDescription) -> Relay:
        """Say what a relay is, wants published and allows."""
        return await self._client.send(calls.describe_relay(tenant, name, description))

    async def forget(self, tenant: str, name: str) -> None:
        """Forget what was said of a relay."""
        await self._client.send(calls.forget_relay(tenant, name))


class Plans(_Part):
    """What domains ought to publish."""

    async def get(self, tenant: str, name: str) -> Plan:
        """Return the plan, not yet compared with what is published."""
        return await self._client.send(calls.get_plan(tenant, name))

    async def check(self, tenant: str, name: str) -> Plan:
        """Compare the plan with what the zone's name servers give now."""
        return await self._client.send(calls.check_plan(tenant, name))

    async def choose(self, tenant: str, name: str, settings: PlanSettings) -> Plan:
        """Set what people choose: the stage of DMARC, where reports go, ways out of too many look-ups."""
        return await self._client.send(calls.put_plan_settings(tenant, name, settings))

    async def make_key(self, tenant: str, name: str, selector: str, kind: str = "rsa2048") -> MadeKey:
        """Make a DKIM key. The private half is in the answer and nowhere else."""
        new = NewKey.model_construct(selector=selector, kind=kind)  # type: ignore[arg-type]
        return await self._client.send(calls.make_key(tenant, name, new))


class Watches(_Part):
    """How changes of records spread."""

    async def start(self, tenant: str, name: str, keys: Sequence[str] = (), hours: int = 48) -> Watch:
        """Watch records of the plan (all without `keys`) until every server has them."""
        return await self._client.send(calls.start_watch(tenant, name, WatchRequest(keys=[*keys], hours=hours)))

    async def list(self, tenant: str, name: str) -> "builtins.list[Watch]":
        """Return the newest watches of a domain."""
        return await self._client.send(calls.list_watches(tenant, name))

    async def get(self, tenant: str, id: int) -> Watch:
        """How it stands."""
        return await self._client.send(calls.get_watch(tenant, id))

    async def stop(self, tenant: str, id: int) -> Watch:
        """Stop it; what it saw stays."""
        return await self._client.send(calls.stop_watch(tenant, id))

    async def look(self, tenant: str, id: int) -> Watch:
        """Look now in place of at the next time."""
        return await self._client.send(calls.look_now(tenant, id))

    async def settings(self, tenant: str) -> WatchSettings:
        """Whom watches ask."""
        return await self._client.send(calls.get_watch_settings(tenant))

    async def choose(self, tenant: str, settings: WatchSettings) -> WatchSettings:
        """Choose whom watches ask beside those of the service."""
        return await self._client.send(calls.put_watch_settings(tenant, settings))


class Publishing(_Part):
    """Plans published by dynamic update (RFC 2136)."""

    async def servers(self, tenant: str) -> "builtins.list[UpdateServer]":
        """Where zones are changed."""
        return await self._client.send(calls.list_update_servers(tenant))

    async def put_server(self, tenant: str, zone: str, new: NewUpdateServer) -> UpdateServer:
        """Keep where a zone is changed, and the key. The secret is never given back."""
        return await self._client.send(calls.put_update_server(tenant, zone, new))

    async def forget_server(self, tenant: str, zone: str) -> None:
        """Forget a server and its key."""
        await self._client.send(calls.forget_update_server(tenant, zone))

    async def show(self, tenant: str, name: str, keys: Sequence[str] = ()) -> ZoneChange:
        """Exactly what would change in the zone."""
        return await self._client.send(calls.show_change(tenant, name, ZoneChangeRequest(keys=[*keys])))

    async def apply(self, tenant: str, name: str, digest: str, keys: Sequence[str] = ()) -> Publication:
        """Make the change that was shown (by its digest), and look whether it is there."""
        return await self._client.send(calls.apply_change(tenant, name, ZoneChangeRequest(keys=[*keys], digest=digest)))

    async def list(self, tenant: str, name: str) -> "builtins.list[Publication]":
        """Return the changes that were made for a domain, newest first."""
        return await self._client.send(calls.list_publications(tenant, name))

    async def roll_back(self, tenant: str, id: int) -> Publication:
        """Put everything back as it was, if nobody changed it since."""
        return await self._client.send(calls.roll_back(tenant, id))


class Proofs(_Part):
    """That domains and sender addresses are the tenant's."""

    async def start(self, tenant: str, subject: str, way: str = "record", relay: str = "") -> Proof:
        """Begin one: `record`, `postmaster` or `abuse` for a domain, `mail` for an address."""
        new = NewProof.model_construct(subject=subject, way=way, relay=relay)  # type: ignore[arg-type]
        return await self._client.send(calls.start_proof(tenant, new))

    async def list(self, tenant: str) -> "builtins.list[Proof]":
        """All of a tenant."""
        return await self._client.send(calls.list_proofs(tenant))

    async def check(self, tenant: str, id: int) -> Proof:
        """Look for the record now."""
        return await self._client.send(calls.check_proof(tenant, id))

    async def give_code(self, tenant: str, id: int, code: str) -> Proof:
        """Send the code that the message brought."""
        return await self._client.send(calls.give_code(tenant, id, ProofCode(code=code)))

    async def senders(self, tenant: str) -> "builtins.list[Sender]":
        """Every domain that mail is sent as: proven or not, aligned or not."""
        return await self._client.send(calls.list_senders(tenant))


class Webhooks(_Part):
    """Where the service tells what happened."""

    async def list(self, tenant: str) -> "builtins.list[Webhook]":
        """All of a tenant, and how their calls go."""
        return await self._client.send(calls.list_webhooks(tenant))

    async def add(self, tenant: str, name: str, url: str, subjects: Sequence[str] = ()) -> MadeWebhook:
        """Tell an address what happens; `secret` is in this answer only. Without subjects it is told everything."""
        new = NewWebhook.model_construct(name=name, url=url, subjects=[*subjects])  # type: ignore[list-item]
        return await self._client.send(calls.add_webhook(tenant, new))

    async def change(self, tenant: str, id: int, change: WebhookChange) -> Webhook:
        """Change settings of a webhook; what is left out stays."""
        return await self._client.send(calls.change_webhook(tenant, id, change))

    async def drop(self, tenant: str, id: int) -> None:
        """Forget it and its calls."""
        await self._client.send(calls.drop_webhook(tenant, id))

    async def test(self, tenant: str, id: int) -> WebhookCall:
        """Call it now with a message that says nothing."""
        return await self._client.send(calls.test_webhook(tenant, id))

    def calls(self, tenant: str, id: int, *, state: str | None = None) -> AsyncIterator[WebhookCall]:
        """Newest first."""
        return self._client.pages(lambda cursor: calls.list_webhook_calls(tenant, id, state, cursor))

    async def replay(self, tenant: str, id: int, call: str | None = None) -> int:
        """Try calls that were given up anew: one, or all. Gives how many."""
        return await self._client.send(calls.replay_webhook(tenant, id, call))


class Feeds(_Part):
    """Ways in for events."""

    async def list(self, tenant: str) -> "builtins.list[Feed]":
        """All of a tenant, and how they go."""
        return await self._client.send(calls.list_feeds(tenant))

    async def add(self, tenant: str, new: NewFeed) -> MadeFeed:
        """Open one; its `token` and `secret` are in this answer only."""
        return await self._client.send(calls.add_feed(tenant, new))

    async def get(self, tenant: str, name: str) -> Feed:
        """One of them."""
        return await self._client.send(calls.get_feed(tenant, name))

    async def change(self, tenant: str, name: str, change: FeedChange) -> Feed:
        """Change settings of a feed; what is left out stays."""
        return await self._client.send(calls.change_feed(tenant, name, change))

    async def drop(self, tenant: str, name: str) -> None:
        """Close it; what came by it stays."""
        await self._client.send(calls.drop_feed(tenant, name))

    def refused(self, tenant: str, name: str) -> AsyncIterator[RefusedRow]:
        """Rows that were refused, newest first."""
        return self._client.pages(lambda cursor: calls.list_refused(tenant, name, cursor))

    async def replay(self, tenant: str, name: str, id: int | None = None) -> ReplayResult:
        """Try refused rows again: one, or all."""
        return await self._client.send(calls.replay_refused(tenant, name, id))

    async def drop_refused(self, tenant: str, name: str) -> int:
        """Forget what was refused. Gives how many rows."""
        return await self._client.send(calls.drop_refused(tenant, name))

    async def try_mapping(self, tenant: str, sample: str, mapping: FeedMapping | None = None) -> MappingTrialResult:
        """Turn a sample into events, field by field; nothing is stored."""
        trial = MappingTrial.model_construct(sample=sample, mapping=mapping)
        return await self._client.send(calls.try_mapping(tenant, trial))

    async def send(self, key: str, body: bytes, content_type: str = "application/x-ndjson") -> IntakeResult:
        """Hand a body to a feed, with its token as this client's. Safe to repeat."""
        return await self._client.send(calls.send_to_feed(key, body, content_type))

    async def hand(self, tenant: str, name: str, body: bytes, content_type: str) -> IntakeResult:
        """Hand a body to a feed as somebody who may see the tenant. Safe to repeat."""
        return await self._client.send(calls.hand_to_feed(tenant, name, body, content_type))
