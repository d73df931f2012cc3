"""Webhooks: where the service tells that something happened, signed, tried again until it is taken."""

from typing import Any, Literal

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime

Subject = Literal[
    "watch.agreed",
    "watch.gave_up",
    "proof.verified",
    "proof.lost",
    "shift.found",
    "shift.over",
    "suppression.changed",
    "suppression.imported",
    "worklist.opened",
    "worklist.resolved",
    "stream.paused",
    "stream.resumed",
]


class NewWebhook(Model):
    """An address to call. Without `subjects` it is told everything."""

    name: str = Field(min_length=1, max_length=60, examples=["ticket desk"])
    url: str = Field(max_length=500, examples=["https://desk.glasswort.example/rust-gauge"])
    subjects: list[Subject] = Field(default=[], max_length=50)


class WebhookChange(Model):
    """New settings; what is left out stays."""

    name: str | None = Field(None, min_length=1, max_length=60)
    url: str | None = Field(None, max_length=500)
    subjects: list[Subject] | None = Field(None, max_length=50)
    paused: bool | None = None


class Webhook(Model):
    """An address that is called, and how it goes. `waiting` calls are still tried; `dead` ones were given up."""

    id: int
    name: str
    url: str
    subjects: list[Subject]
    paused: bool
    waiting: int
    dead: int
    created_at: UtcTime
    last_at: UtcTime | None = Field(None, description="Time of the last call")
    last_response: str = Field("", description="Response")


class MadeWebhook(Webhook):
    """With the secret that signs, shown this once."""

    secret: str


class WebhookCall(Model):
    """One message to one webhook. `id` is the `webhook-id` that every try carries."""

    id: str
    subject: str
    state: Literal["waiting", "delivered", "dead"]
    attempts: int
    response: str = Field(description="Response of the last attempt")
    body: dict[str, Any]
    created_at: UtcTime
    next_at: UtcTime | None
    finished_at: UtcTime | None
