"""The suppression list: entries, their changes, the policy that creates them."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Day, Model, UtcTime
from rust_gauge.contract.events import Cause

Reason = Literal[
    "invalid_address", "complaint", "unsubscribed", "repeated_bounces", "domain_invalid", "manual", "spam_trap",
    "role_address", "unresponsive", "try_later",
]  # fmt: skip
Scope = Literal["tenant", "domain", "stream"]
State = Literal["ended", "held", "proposed", "resting"]
Change = Literal[
    "made", "came_back", "prolonged", "proposed", "confirmed", "dismissed", "lifted", "ended", "delivered", "withdrawn"
]
AddressText = Annotated[str, StringConstraints(max_length=1000)]
Note = Annotated[str, StringConstraints(strip_whitespace=True, max_length=500)]
SentenceWanted = Annotated[str, StringConstraints(strip_whitespace=True, min_length=3, max_length=500)]


class Evidence(Model):
    """The event behind an entry, as the source reported it."""

    kind: str
    time: UtcTime
    cause: str
    domain: str
    stream: str
    message_id: str
    diagnostic: str


class SuppressionEntry(Model):
    """An entry: one address (or `@domain` for all of it), reason and scope."""

    id: str
    address: str = Field(description="Empty if the tenant stores digests only")
    address_key: str = Field(description="Key of the entry: a digest, in hex")
    reason: Reason
    scope: Scope
    scope_name: str = Field("", description="Sending domain or stream of the scope")
    state: State
    since: UtcTime = Field(description="Time of the first event behind it")
    until: UtcTime | None = Field(None, description="None: no end")
    ended_at: UtcTime | None = None
    made_at: UtcTime = Field(description="Start of the current hold")
    made_by: str = Field(description="Author of the last change")
    origin: str = Field(description="event, hand, api, import, page, post, mailto or look")
    change: Change
    changed_at: UtcTime
    note: str = Field("", description="Reply of the server, or text of the person")
    provider: str = ""
    stream: str = Field("", description="Stream of the mail that caused it")
    times: int = Field(description="Number of events behind it")
    returns: int = Field(description="Number of returns")
    evidence: list[Evidence] = Field(description="First events behind it, oldest first")


class EntryCount(Model):
    """The number of entries. `more`: there are more, counting stopped."""

    count: int
    more: bool


class NewEntries(Model):
    """Addresses to suppress. `@domain` means a whole domain."""

    addresses: list[AddressText] = Field(min_length=1, max_length=10_000)
    reason: Reason = "manual"
    scope: Scope = "tenant"
    scope_name: str = Field("", max_length=253, description="Sending domain or stream; must exist")
    until: UtcTime | None = None
    note: Note = ""


class RefusedAddress(Model):
    """A rejected address and the reason."""

    row: int
    text: str
    why: str


class EntriesMade(Model):
    """The outcome. `standing`: were on the list already, for at least as long."""

    changed: int
    standing: int
    rejected: list[RefusedAddress]


class Lift(Model):
    """Entries to remove: by their ids, or all that hold an address."""

    ids: list[str] = Field(default=[], max_length=1000)
    address: AddressText = ""
    why: SentenceWanted
    despite_complaint: bool = Field(False, description="Required true to lift an entry made by a complaint")


class Lifted(Model):
    """The removed entries."""

    entries: list[SuppressionEntry]


class Decision(Model):
    """Proposals to accept or dismiss. Dismissed ones are not proposed again."""

    ids: list[str] = Field(min_length=1, max_length=1000)
    confirm: bool
    why: Note = ""


class ListChange(Model):
    """One change of the list. `number` only grows; no change is ever inserted before one that was returned."""

    number: int
    address: str
    address_key: str
    reason: Reason
    scope: Scope
    scope_name: str = ""
    state: State
    change: Change
    at: UtcTime
    by: str
    note: str = ""
    until: UtcTime | None = None


class ListChanges(Model):
    """Changes in order. Ask again with `last` to continue."""

    items: list[ListChange]
    last: int = Field(description="Number to continue after")
    more: bool = Field(description="More changes are available")


class AddressStatus(Model):
    """One address: its entries, and every change of its status."""

    address: str
    verdict: Literal["clear", "held"]
    why: str
    entries: list[SuppressionEntry]
    history: list[ListChange]


class GrowthDay(Model):
    """One day: entries added and removed, the number at its end, and withheld mail."""

    day: str
    added: int
    removed: int
    active: int
    withheld: int


class GrowthPart(Model):
    """One reason, provider or stream in the period."""

    name: str
    label: str
    added: int
    removed: int
    active: int
    withheld: int
    days: list[int] = Field(description="Entries in force at the end of each day")


class SavedRates(Model):
    """What withheld mail would have done: the rates as they are, and as they would be if it had been sent."""

    sent: int
    bounced: int
    complained: int
    withheld: int
    withheld_bad: int = Field(
        description="Withheld because the mailbox or its domain does not exist: would have bounced"
    )
    bounce_rate: float | None
    bounce_rate_without: float | None


class Growth(Model):
    """How the list grew by day, and by reason, provider and stream."""

    first: str
    last: str
    days: list[GrowthDay]
    reasons: list[GrowthPart]
    providers: list[GrowthPart]
    streams: list[GrowthPart]
    saved: SavedRates


# Policy

EventKind = Literal["delayed", "bounced", "complained", "unsubscribed"]
Short = Annotated[str, StringConstraints(max_length=253)]


class PolicyRule(Model):
    """One rule; the first that matches an event decides. Empty lists match anything."""

    name: str = Field(min_length=1, max_length=60)
    act: Literal["hold", "propose", "wait", "nothing"]
    kinds: list[EventKind] = Field(default=[], max_length=4)
    causes: list[Cause] = Field(default=[], max_length=30)
    permanence: Literal["", "transient", "permanent"] = ""
    streams: list[Short] = Field(default=[], max_length=50)
    providers: list[Short] = Field(default=[], max_length=50)
    reason: Reason = "invalid_address"
    scope: Scope = "tenant"
    whole_domain: bool = False
    times: int = Field(1, ge=1, le=100, description="Number of messages required, with no delivery between")
    over_days: float = Field(0, ge=0, le=365, description="Days between the first and the last of them")
    within_days: float = Field(60, gt=0, le=365)
    for_days: float | None = Field(None, gt=0, le=3650, description="None: no end")
    longer: float = Field(1, ge=1, le=10, description="Factor for the duration at each return")
    longest_days: float = Field(365, gt=0, le=3650)
    ends_with_delivery: bool = False
    wait_hours: list[Annotated[float, Field(gt=0, le=24 * 365)]] = Field(
        default=[], max_length=20, description="Hours to wait after the first rejection, the second, and so on"
    )


class ProposalSettings(Model):
    """What is searched for once a day and proposed."""

    no_life_sends: int = Field(12, ge=0, le=1000, description="Deliveries without an open or click; 0: off")
    no_life_days: int = Field(120, ge=7, le=3650)
    role_addresses: bool = True
    revived_after_days: int = Field(
        180, ge=0, le=3650, description="Days not existing before it accepts mail again (possible trap); 0: off"
    )


class SuppressionPolicy(Model):
    """A tenant's policy."""

    rules: list[PolicyRule] = Field(min_length=1, max_length=60)
    proposals: ProposalSettings = ProposalSettings()


class PolicyView(Model):
    """The present policy, and since when. `is_default`: it was never changed."""

    policy: SuppressionPolicy
    is_default: bool
    changed_at: UtcTime | None = None
    changed_by: str = ""


class PolicyBacktestRequest(Model):
    """A policy to backtest on past events."""

    policy: SuppressionPolicy
    days: int = Field(180, ge=1, le=1000, description="Length of the period in days")
    last: Day | None = Field(None, description="Last day of the period, UTC; default: today")


class RehearsalLine(Model):
    """What a policy would have done, at one provider or for one reason."""

    name: str
    label: str = ""
    held: int = Field(description="Addresses that it would have held")
    wrongly: int = Field(description="Of those: accepted mail while they would have been held")
    bounces_spared: int
    bounces: int
    complaints_spared: int
    complaints: int
    deliveries_lost: int = Field(description="Delivered messages that would have been withheld")
    deliveries: int


class RehearsalResult(Model):
    """A policy compared with the present one on the same events."""

    recipients: int
    ours: RehearsalLine = Field(description="Policy of the dry run")
    holding: RehearsalLine = Field(description="Current policy")
    providers: list[RehearsalLine]
    reasons: list[RehearsalLine]


# How addresses are compared


class SameMailbox(Model):
    """For one provider: which differences in a local part are ignored."""

    provider: str = Field(min_length=1, max_length=253, description="Provider or recipient domain")
    tag_after: str = Field("", max_length=3, description="Separator of tags, for example + in ann+news")
    without_dots: bool = False


class MatchingSettings(Model):
    """How addresses are compared, and whether they are stored in clear."""

    fold_case: bool = Field(True, description="Ignore case in local parts")
    same: list[SameMailbox] = Field(default=[], max_length=100)
    digests_only: bool = Field(False, description="Store keyed digests instead of addresses. This cannot be undone")


class MatchingView(Model):
    """The present settings. `changing`: the list is being rewritten to them."""

    settings: MatchingSettings
    changing: bool
    key: str = Field("", description="With digests only: key of BLAKE2b-128 over the normal form, in hex")


# Clearance


class Sending(Model):
    """The purpose of a clearance that decides what is sent: held addresses are counted as withheld, clear ones against
    warm-up plans and the limits of the relay."""

    domain: str = Field(max_length=253, description="The sending domain")
    campaign: str = Field("", max_length=60)
    message_id: str = Field("", max_length=255)


class ClearanceRequest(Model):
    """A clearance request. Without stream and domain, only entries that apply to all mail count."""

    addresses: list[Annotated[str, StringConstraints(max_length=2000)]] = Field(
        min_length=1, max_length=100_000, examples=[["someone@tidepost.example"]]
    )
    stream: str | None = Field(None, max_length=60)
    domain: str | None = Field(None, max_length=253)
    relay: str | None = Field(None, max_length=60)
    sending_ip: str | None = Field(None, max_length=45, description="For warm-up plans of a sending IP")
    only_held: bool = False
    cleared_before: int = Field(
        0, ge=0, description="So many of the same mail were cleared by earlier requests: they count against limits too"
    )
    cleared_by_provider: dict[Annotated[str, StringConstraints(max_length=253)], Annotated[int, Field(ge=0)]] = Field(
        default={}, max_length=10_000, description="The same by mailbox provider, for warm-up plans: add up what the "
        "answers say",
    )  # fmt: skip
    sending: Sending | None = None


class HeldElsewhere(Model):
    """An entry that holds mail other than what was asked about."""

    reason: str
    scope: Scope
    scope_name: str


class ClearanceAnswer(Model):
    """The answer for one address."""

    address: str
    verdict: Literal["clear", "held", "later"] = Field(
        description="later: a warm-up plan or a limit of the relay holds it back; `not_before` says when to ask again"
    )
    reason: str = Field(
        "",
        description="Reason of the entry; paused if the stream is paused; no_address if the text is not an address; "
        "limit or warm_up with `later`",
    )
    why: str = ""
    since: UtcTime | None = None
    until: UtcTime | None = None
    not_before: UtcTime | None = Field(
        None, description="Clear, but a temporary rejection is expected to end only then; later: when to ask again"
    )
    elsewhere: list[HeldElsewhere] = []


class ClearanceResult(Model):
    """Answers in the order of the addresses. With `only_held`, only those that are held or have to wait."""

    clear: int
    held: int
    later: int = 0
    cleared_by_provider: dict[str, int] = Field(
        default={}, description="Clear addresses by mailbox provider, if a warm-up plan holds this mail back"
    )
    answers: list[ClearanceAnswer]
