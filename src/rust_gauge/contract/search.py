"""Search over everything that has a name."""

from typing import Literal

from pydantic import Field

from rust_gauge.contract.common import Model

FoundKind = Literal[
    "tenant", "domain", "stream", "relay", "sending_ip", "provider", "item", "recipient", "suppressed", "message",
    "reply",
]  # fmt: skip


class Found(Model):
    """Something that fits a search, and where the console shows it."""

    kind: FoundKind
    tenant: str = Field(description="Slug of the tenant that it belongs to")
    tenant_name: str
    name: str
    text: str = Field("", description="One line about it")
    path: str = Field(description="Address of its page in the console")


class SearchResult(Model):
    """What fits a search: the best of each kind, those whose name begins with the text first."""

    items: list[Found]
    more: list[FoundKind] = Field(description="Kinds of which more fits than is listed")
