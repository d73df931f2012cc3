"""Proofs: evidence that a domain or a sender address is under the tenant's control."""

from typing import Literal

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime

ProofState = Literal["waiting", "verified", "lost", "expired"]


class NewProof(Model):
    """A proof to start. A domain is proved by a TXT record or a message to postmaster or abuse, an address by a
    message to it.
    """

    subject: str = Field(max_length=320, examples=["news.glasswort.example", "boxoffice@glasswort.example"])
    method: Literal["record", "postmaster", "abuse", "mail"] = Field(
        "record", description="record, postmaster and abuse are for domains, mail for addresses"
    )
    relay: str = Field("", max_length=60, description="Relay that sends the message")


class ProofCode(Model):
    """The code from the message."""

    code: str = Field(max_length=40)


class Proof(Model):
    """The state of a proof. `record` is the record to publish, `sent_to` the address that the code was sent to."""

    id: int
    kind: Literal["domain", "address"]
    subject: str
    method: str
    state: ProofState
    record_name: str
    record: str
    sent_to: str
    tries_left: int
    created_at: UtcTime
    expires_at: UtcTime | None
    verified_at: UtcTime | None
    checked_at: UtcTime | None
    lost_at: UtcTime | None


class Sender(Model):
    """A domain that mail is sent as: verified or not, aligned or not."""

    domain: str
    stream: str
    relays: list[str]
    verified: bool
    aligned: bool | None = Field(description="By SPF or DKIM in the newest audit; null: unknown")
    summary: str = Field(description="What is missing, as text")
