"""Mail flow per mailbox provider."""

from datetime import date

from pydantic import Field

from rust_gauge.contract.common import Model


class Rate(Model):
    """A fraction (0.001 is one in a thousand) with its 95 % interval."""

    value: float
    low: float
    high: float
    count: int
    total: int


class Counts(Model):
    """Events of a period by kind."""

    accepted: int
    delivered: int
    delayed: int
    bounced_permanent: int
    bounced_transient: int
    complained: int
    unsubscribed: int
    opened: int
    clicked: int
    withheld: int
    delayed_again: int = Field(0, description="Further delays of messages that were counted as delayed")
    bounced_again: int = Field(0, description="The same bounce told again, as by a log and a notice")
    complained_again: int = 0
    unsubscribed_again: int = 0
    returned: int = Field(0, description="Bounced after the provider had taken them")


class FlowRow(Model):
    """One provider's mail in the period. Rates are absent where there was no mail to take them of."""

    provider: str = Field(description="Registered domain of its MX, or (others)")
    label: str = Field(description="The tenant's own name for it")
    counts: Counts
    permanent: Rate | None
    transient: Rate | None
    delayed: Rate | None
    complaints: Rate | None = Field(description="Absent where the provider sends no complaint reports")
    reports_complaints: bool
    before: Counts = Field(description="The same counts in the period of the same length just before")


class CauseRow(Model):
    """How often one cause was given for bounces or delays, and how often it was final."""

    cause: str
    transient: int
    permanent: int


class Flow(Model):
    """Mail flow of a tenant, or of one of its domains, in a period of whole days (UTC, both ends included)."""

    tenant: str
    domain: str | None
    first_day: date
    last_day: date
    total: FlowRow
    providers: list[FlowRow]
    causes: list[CauseRow]


class Provider(Model):
    """A mailbox provider as this tenant calls it."""

    provider: str
    label: str
    named: bool = Field(description="Whether the tenant gave it a name of its own")


class ProviderChange(Model):
    """A tenant's own name for a provider; empty to take it back."""

    label: str = Field(max_length=60, pattern=r"^[^\x00-\x1f\x7f]*$")
