"""Webhooks: signed calls when something happens, retried until they are accepted."""

from typing import Any, Literal

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime

Subject = Literal[
    "watch.agreed",
    "watch.incomplete",
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
    "recipient.checked",
]


class NewWebhook(Model):
    """An address to call. Without `subjects`, it is called for all of them."""

    name: str = Field(min_length=1, max_length=60, examples=["ticket desk"])
    url: str = Field(max_length=500, examples=["https://desk.glasswort.example/rust-gauge"])
    subjects: list[Subject] = Field(default=[], max_length=50)


class WebhookChange(Model):
    """New settings of a webhook. Fields that are left out stay unchanged."""

    name: str | None = Field(None, min_length=1, max_length=60)
    url: str | None = Field(None, max_length=500)
    subjects: list[Subject] | None = Field(None, max_length=50)
    paused: bool | None = None


class Webhook(Model):
    """A webhook and its state. `waiting` calls are still tried; `dead` ones were given up."""

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
    previous_until: UtcTime | None = Field(
        None, description="Until when calls are also signed with the secret before the last rotation"
    )


class MadeWebhook(Webhook):
    """A webhook with the secret that signs its calls, shown only once."""

    secret: str


class WebhookRotation(Model):
    """A new secret for a webhook. Calls are signed with both for a while, so that the receiver can change over."""

    overlap_hours: int = Field(24, ge=0, le=24 * 30)


class WebhookCall(Model):
    """One call of one webhook. `id` is the `webhook-id` of every attempt."""

    id: str
    subject: str
    state: Literal["waiting", "delivered", "dead"]
    attempts: int
    response: str = Field(description="Response of the last attempt")
    body: dict[str, Any]
    created_at: UtcTime
    next_at: UtcTime | None
    finished_at: UtcTime | None
