"""Questions of clearance and their answers, as they are passed around and written."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

import msgspec

PAUSED = "paused"  # the reason of an address that is held with its whole stream
LATER = "later"  # verdict of mail that a warm-up plan or a limit of its relay holds back
LIMIT, WARM_UP = "limit", "warm_up"  # reasons of it


class Elsewhere(msgspec.Struct, gc=False):
    """An entry that holds other mail."""

    reason: str
    scope: str
    scope_name: str


class Answer(msgspec.Struct, omit_defaults=True, gc=False):
    """The contract's ClearanceAnswer as it is written: made by the hundred thousand."""

    address: str
    verdict: str
    reason: str = ""
    why: str = ""
    since: str | None = None
    until: str | None = None
    not_before: str | None = None
    elsewhere: tuple[Elsewhere, ...] = ()  # no list: each answer would get one of its own


class Result(msgspec.Struct):
    clear: int
    held: int
    later: int
    answers: list[Answer]
    cleared_by_provider: dict[str, int] = {}


@dataclass(frozen=True, slots=True)
class Question:
    """A clearance question without its addresses."""

    stream: str | None = None
    domain: str | None = None
    relay: str | None = None
    only_held: bool = False
    sending_ip: str | None = None


@dataclass(frozen=True, slots=True)
class LetGo:
    """What earlier questions about the same mail cleared: messages, and by name of the provider."""

    messages: int = 0
    by_provider: Mapping[str, int] = field(default_factory=dict)


NOTHING_YET = LetGo()


def shown_time(time: datetime | None) -> str | None:
    """Return a time as answers have it."""
    return None if time is None else time.isoformat().replace("+00:00", "Z")
