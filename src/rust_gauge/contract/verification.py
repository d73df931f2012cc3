"""Outside verifiers of addresses, their verdicts, budgets and records; and recipients that just came in."""

from datetime import date
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.checks import AddressCheck, Verdict
from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.feeds import FieldSource, UnwrapStep
from rust_gauge.contract.suppression import AddressText

VerifierName = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
_Path = Annotated[str, StringConstraints(max_length=500)]
_Money = Annotated[float, Field(ge=0, le=1_000_000)]


class HeaderField(Model):
    """A header field of a request. Its value may hold {secret}."""

    name: str = Field(min_length=1, max_length=80, pattern=r"^[A-Za-z0-9!#$%&'*+.^_`|~-]+$", examples=["Authorization"])
    value: str = Field(max_length=500, pattern=r"^[^\x00-\x1f\x7f]*$", examples=["Bearer {secret}"])


class VerifierRequest(Model):
    """How a verifier is asked. Texts may hold {address}, {domain} and {secret}; `{addresses}` as a whole value in the
    body stands for a list of addresses.
    """

    method: Literal["GET", "POST"] = "GET"
    url: str = Field(max_length=1000, examples=["https://check.pinmarsh.example/v1/mailbox?address={address}"])
    headers: list[HeaderField] = Field(default=[], max_length=20)
    body: Any = Field(None, description="JSON, for POST")
    at_once: int = Field(1, ge=1, le=500, description="Addresses in one request, with {addresses}")


class VerifierAnswer(Model):
    """How an answer is read. Paths are JSONPath (RFC 9535). Fields: `verdict` (its `table` maps the verifier's words to
    good, doubtful, bad or unknown), `detail`, and `address` for answers about many.
    """

    unwrap: list[UnwrapStep] = Field(default=[], max_length=10)
    rows: _Path = "$"
    each: _Path = ""
    fields: dict[str, FieldSource] = Field(max_length=3)


class VerifierSettings(Model):
    """A verifier. Money is in the currency of the verification settings."""

    request: VerifierRequest
    answer: VerifierAnswer
    price: _Money = Field(description="Of one check that is answered")
    budget_day: _Money | None = Field(None, description="Most to spend on a day (UTC); empty: no limit")
    budget_month: _Money | None = None
    timeout: float = Field(10, ge=1, le=60, description="Seconds")
    enabled: bool = True


class NewVerifier(VerifierSettings):
    """A verifier to add. It is asked after those that are there."""

    name: VerifierName = Field(examples=["pinmarsh"])
    secret: str = Field("", max_length=500, description="Stands for {secret}; stored encrypted and never shown")


class VerifierChange(Model):
    """New settings of a verifier. Fields that are left out stay unchanged."""

    request: VerifierRequest | None = None
    answer: VerifierAnswer | None = None
    price: _Money | None = None
    budget_day: _Money | None = None
    budget_month: _Money | None = None
    timeout: float | None = Field(None, ge=1, le=60)
    enabled: bool | None = None
    secret: str | None = Field(None, max_length=500)
    place: int | None = Field(None, ge=1, le=100, description="Its place in the order of preference, from 1 on")


class VerdictRecord(Model):
    """Of one verdict: how many were given, to how many of those mail went later, and how many of these were invalid."""

    verdict: Verdict
    given: int
    mailed: int
    invalid: int
    share: float | None = Field(description="Of mailed; absent without mail")
    low: float | None = Field(description="Lower end of the 95 % interval")
    high: float | None


class Verifier(Model):
    """A verifier, what it cost, and its record."""

    name: str
    place: int
    enabled: bool
    request: VerifierRequest
    answer: VerifierAnswer
    timeout: float
    price: float
    budget_day: float | None
    budget_month: float | None
    spent_today: float
    spent_month: float
    asked_today: int
    failed_today: int
    problem: str = Field(description="Why the newest question had no answer; empty: it had one")
    problem_at: UtcTime | None
    answered_at: UtcTime | None
    record: list[VerdictRecord] = Field(description="Of verdicts of the last 180 days")
    created_at: UtcTime


class VerifierDryRun(Model):
    """A verifier asked about one address, or an answer read, without storing anything."""

    settings: VerifierSettings | None = Field(None, description="Settings that are not stored yet; empty: its own")
    secret: str = Field("", max_length=500)
    name: str = Field("", max_length=40)
    address: AddressText = ""
    answer: str = Field("", max_length=100_000, description="An answer to read instead of asking")


class VerifierDryRunResult(Model):
    """What a verifier said, and how it was understood."""

    answer: str = Field(description="As it came, at most 10,000 characters")
    verdict: Verdict | None
    word: str
    detail: str
    problem: str
    remedy: str = ""


class VerificationSettings(Model):
    """What holds for all verifiers of a tenant."""

    currency: str = Field("EUR", min_length=1, max_length=8)
    reuse_days: int = Field(90, ge=0, le=365, description="A verdict is not paid for again within so many days")
    when_spent: Literal["own_checks", "wait"] = Field(
        "own_checks", description="Budgets used up: answer by own checks, or let new recipients wait for the next day"
    )
    ask_next_if_unknown: bool = Field(False, description="Ask the next verifier where one answers unknown")
    cross_check: float = Field(
        0, ge=0, le=1, description="Share of paid checks that the next verifier is asked as well, to compare them"
    )


class VerificationGauge(Model):
    """What was decided how, spent and saved, in a period."""

    first: date
    last: date
    currency: str
    own: int = Field(description="Decided by own checks, free")
    reused: int = Field(description="Decided by a verdict that was paid for before")
    paid: int
    unpaid: int = Field(description="Left open: budgets were used up, or no verifier answered")
    spent: float
    saved: float = Field(description="At the price of the first verifier: for what was decided free or reused")
    days: list["GaugeDay"]


class GaugeDay(Model):
    """One day of the gauge."""

    day: date
    own: int
    reused: int
    paid: int
    unpaid: int
    spent: float
    saved: float


class VerdictNote(Model):
    """What one verifier said of an address, and when."""

    verifier: str
    verdict: Verdict
    word: str
    detail: str
    asked_at: UtcTime


class Disagreement(Model):
    """An address about which verifiers contradict each other, or the mail that went there."""

    address: str
    verdicts: list[VerdictNote]
    outcome: Literal["delivered", "invalid"] | None = Field(description="Of mail after the verdicts")
    outcome_at: UtcTime | None
    text: str


class NewRecipients(Model):
    """Recipients that just came in."""

    addresses: list[AddressText] = Field(min_length=1, max_length=1000)
    source: str = Field("api", max_length=40, pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")


class Accepted(Model):
    """How many were taken, and how many were there already."""

    accepted: int
    known: int


class NewRecipient(Model):
    """A recipient that came in, and what was found. `checked_at` is absent while it waits."""

    id: int
    address: str
    source: str
    came_at: UtcTime
    checked_at: UtcTime | None
    verdict: Verdict | None
    check: AddressCheck | None


class NewRecipientSource(Model):
    """A way by which new recipients come in: an address that a form or another program posts JSON to."""

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$", examples=["signup-form"])
    path: _Path = Field("$.email", description="JSONPath of the addresses in what is posted")


class RecipientSource(Model):
    """A source of new recipients. POST JSON to /api/v1/new-recipients/KEY."""

    name: str
    key: str
    path: str
    created_at: UtcTime
    last_at: UtcTime | None


VerificationGauge.model_rebuild()
