"""Assays: what the examination of one message found, and what was read out of it."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.audits import MessageCheck
from rust_gauge.contract.common import Model, UtcTime

Level = Literal["fault", "risk", "note"]


class AssayPlace(Model):
    """Where something was seen. `line` and `column` count from 1 within the field or the decoded part; 0: all of it."""

    where: Literal["message", "header", "part", "sending"]
    name: str = Field("", description="Name of the field, or number of the part")
    line: int = 0
    column: int = 0
    text: str = Field("", description="What stands there, at most 200 characters")


class AssayFinding(Model):
    """One rule that applies, what it takes off the mark, and what to do."""

    rule: str = Field(examples=["link-text-differs"])
    group: str = Field(examples=["links"])
    level: Level
    title: str
    effect: str = Field(description="What receivers and readers make of it")
    remedy: str
    reference: str = ""
    points: float = Field(description="What it takes off the mark")
    count: int = Field(description="How often it was seen")
    places: list[AssayPlace] = Field(description="The first 50 of them")


class MessagePart(Model):
    """One part of the message. `number` counts from 1 at each depth, such as 1.2."""

    number: str = Field(examples=["1.2"])
    type: str = Field(examples=["text/html"])
    size: int = Field(description="Octets as sent")
    charset: str = ""
    encoding: str = ""
    disposition: str = ""
    file_name: str = ""


class MessageField(Model):
    """One field of the header, in the order of the message."""

    name: str
    value: str = Field(description="On one line, encoded words decoded, at most 2,000 characters")
    meaning: str = Field("", description="What the field says; empty for fields that are not known")


class ProgramFamily(Model):
    """A general kind of mail program."""

    key: str = Field(examples=["word"])
    title: str = Field(examples=["Desktop programs that render with a word processor"])
    short: str = Field("", examples=["Word processor"])
    device: Literal["desktop", "phone"]


class UnsupportedConstruct(Model):
    """A construct of HTML or CSS that the message uses and some families do not support."""

    key: str = Field(examples=["property display:flex"])
    title: str
    support: dict[str, Literal["no", "part"]] = Field(description="By family; families that are missing support it")
    instead: str = Field(description="What to use instead")
    count: int
    places: list[AssayPlace] = Field(description="The first 50 of them")


class HtmlSupport(Model):
    """What families of mail programs make of the HTML, by a dated table of our own."""

    dated: str = Field(examples=["2026-11-30"])
    families: list[ProgramFamily]
    constructs: list[UnsupportedConstruct] = Field(description="Those first that most families lack")


class MessageLink(Model):
    """A link, the address of an image, or an address in plain text."""

    url: str
    text: str
    kind: Literal["link", "image", "text"]
    host: str
    place: AssayPlace


class AssayChange(Model):
    """One difference between two messages; `before` or `after` is empty where something was added or removed."""

    kind: Literal[
        "header", "text", "html text", "html structure", "links", "parts", "size", "route", "listing", "authentication"
    ]
    what: str
    before: str = ""
    after: str = ""


class PointChange(Model):
    """A rule whose points differ. `because` has the kinds of change that may account for it: one is the reason, several
    cannot be told apart, and with none nothing differs that the rule looks at.
    """

    rule: str
    title: str
    before: float
    after: float
    because: list[str]


class AssayComparison(Model):
    """A message against the first one. The differences of `points` add up to that of the marks."""

    name: str
    against: str
    mark_before: float
    mark_after: float
    changes: list[AssayChange]
    points: list[PointChange]


class ArcSet(Model):
    """One set of the ARC chain: who sealed it, what it said of the chain, and whether its seal verifies."""

    instance: int
    domain: str
    selector: str
    chain: str = Field(description="cv= of the seal", examples=["none"])
    seal: Literal["pass", "fail", "temperror", "none"]
    detail: str
    results: str = Field(description="What the host says that it verified")


class ArcChain(Model):
    """The state of the ARC chain (RFC 8617 §5.2), and its sets, the first one first."""

    result: Literal["none", "pass", "fail", "temperror"]
    reason: str
    sets: list[ArcSet]


class ProviderReading(Model):
    """The newest reading of the From domain at a mailbox provider."""

    provider: str
    reading: float


class SenderFacts(Model):
    """What the tenant's own mail says of the sender: since when it is known, and how it stands."""

    domain: str
    domain_since: date | None = Field(description="First day with mail of the From domain; null: none is known")
    ip: str
    ip_since: date | None = Field(description="First day with mail from the sending address")
    readings: list[ProviderReading] = Field(description="The lowest first")


class RuleAdjustment(Model):
    """How a tenant adjusts a rule; what is left out stays as it ships."""

    level: Level | None = None
    points: float | None = Field(None, ge=0, le=50)
    off: bool = False


class OwnAssayRule(Model):
    """A rule of the tenant's own: applies where the pattern is found, or with `absent` where it is not."""

    rule: str = Field(pattern=r"^own-[a-z0-9][a-z0-9-]{0,39}$", examples=["own-company-name"])
    where: Literal["subject", "text", "html", "header"] = Field(
        description="subject; text that people read; HTML source; or the values of the field `header`"
    )
    header: str = Field("", max_length=80)
    pattern: str = Field(min_length=1, max_length=500, description="Regular expression, in any case")
    absent: bool = False
    level: Level = "risk"
    points: float = Field(ge=0, le=50)
    title: str = Field(min_length=1, max_length=200)
    remedy: str = Field("", max_length=500)


class AssaySettings(Model):
    """A tenant's own view of what matters in a message."""

    rules: dict[str, RuleAdjustment] = Field(default={}, max_length=300, description="By rule")
    own_rules: list[OwnAssayRule] = Field(default=[], max_length=100)
    words_added: list[Annotated[str, StringConstraints(min_length=2, max_length=80)]] = Field(
        default=[], max_length=500, description="Weak words and phrases besides those that ship"
    )
    words_removed: list[Annotated[str, StringConstraints(max_length=80)]] = Field(default=[], max_length=500)
    follow_links: bool = Field(
        False,
        description="Ask with HEAD whether links answer and where they redirect to; never links to unsubscribe. Off by "
        "default: some trackers count even that as a click",
    )
    open_unsubscribe: bool = Field(
        False,
        description="Open the https address of List-Unsubscribe with GET, as filters do, if List-Unsubscribe-Post is "
        "there too. Off by default: an address that acts on GET unsubscribes the recipient of the message",
    )


class AssayRuleView(Model):
    """A rule as it ships and as it counts for the tenant."""

    rule: str
    group: str
    level: Level
    points: float
    off: bool
    shipped_level: Level
    shipped_points: float
    title: str
    effect: str
    remedy: str
    reference: str


class WordShare(Model):
    """A word or a piece of one, and what it contributes: above 0 it reads like campaigns that went badly."""

    text: str
    share: float


class TextVerdictView(Model):
    """How much a message reads like campaigns of the tenant that went badly, and the words that say so most."""

    likeness: float = Field(description="0 to 1; 0.5 says nothing")
    words: list[WordShare]
    right: int = Field(description="Campaigns that the model classified correctly in cross-validation")
    of: int


class TextModelView(Model):
    """The tenant's text model: learned from its own messages only, silent until there is enough.

    `right` of `of` campaigns were classified correctly, each by a model that was not shown it (cross-validation).
    """

    ready: bool
    reason: str = Field(description="Why it is silent")
    low: int = Field(description="Campaigns that went well")
    high: int = Field(description="Campaigns that went badly: complaints, refusals")
    messages: int
    right: int
    of: int
    learned_at: UtcTime | None
    words: list[WordShare] = Field(description="The pieces of text with the largest weights")


class Assay(Model):
    """The examination of one message. `mark` is exactly 100 minus the points of the findings."""

    mark: float
    worst: Level | None
    findings: list[AssayFinding]
    not_checked: list[str] = Field(description="What could not be looked at, and why")
    rules_dated: str = Field(examples=["2026-11-30"])
    size: int = Field(description="Octets of the message")
    subject: str
    header_from: str
    preview_line: str = Field("", description="What most message lists show behind the subject, at most 140 characters")
    fields: list[MessageField]
    parts: list[MessagePart]
    links: list[MessageLink]
    text: str | None = Field(description="The text part, decoded; null where there is none")
    html: str | None = Field(description="The HTML, decoded; null where there is none")
    visible_text: str | None = Field(None, description="What people can read of the HTML")
    support: HtmlSupport | None = Field(None, description="Null where there is no HTML")
    authentication: MessageCheck | None = Field(description="Null where DNS was not asked")
    arc: ArcChain | None = Field(None, description="Null where DNS was not asked")
    sender: SenderFacts | None = Field(None, description="Null where no tenant's mail was looked at")
    learned: TextVerdictView | None = Field(None, description="Null while the tenant's text model is silent")
    results_header: str = Field(
        "", description="The Authentication-Results field that a receiver would write (RFC 8601); empty without DNS"
    )
