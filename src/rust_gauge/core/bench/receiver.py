"""A difficult receiver: how a tray answers for some recipients, so that bounce handling can be tested (RFC 5321 §4.2).

Whoever speaks SMTP asks `answer_for` for each recipient and does what it says.
"""

import fnmatch
import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

from rust_gauge.core.errors import InputError

MAX_SECONDS = 120.0  # that one answer is held back
_REPLY = re.compile(r"([245])([0-5])(\d)(?:[ -](.*))?", re.DOTALL)


class Does(StrEnum):
    """What a receiver does with mail for a recipient."""

    ACCEPT = "accept"
    REFUSE = "refuse"
    FULL = "full"
    GREYLIST = "greylist"
    DELAY = "delay"
    SLOW = "slow"


_REPLIES = {
    Does.REFUSE: "550 5.1.1 No such mailbox",
    Does.FULL: "452 4.2.2 Mailbox full",
    Does.GREYLIST: "451 4.7.1 Greylisted, try again later",
}


@dataclass(frozen=True, slots=True)
class Rule:
    """What happens to recipients that match a pattern with * and ?. `seconds`: see `Does`."""

    recipients: str
    does: Does
    reply: str = ""
    at_data: bool = False
    seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class Answer:
    """What to do for a recipient. `reply` is empty for an accepted one."""

    does: Does
    reply: str = ""
    at_data: bool = False
    seconds: float = 0.0


def parse_reply(text: str) -> str:
    """Return a reply that refuses, on one line. InputError when it is not an SMTP reply of 4xx or 5xx."""
    reply = " ".join(text.split())
    found = _REPLY.fullmatch(reply)
    if not found or found[1] == "2":
        raise InputError(
            f"{text[:80]!r} is not a reply that refuses",
            why="it has to begin with 4 or 5 and two more digits",
            remedy="Write, for example, 550 5.1.1 No such mailbox",
        )  # fmt: skip
    if not reply.isascii() or not reply.isprintable():
        raise InputError(f"{text[:80]!r} is not ASCII", why="replies are (RFC 5321 §4.2)")
    return reply


def answer_for(rules: Iterable[Rule], recipient: str) -> Answer:
    """Return what the first matching rule says about a recipient."""
    for rule in rules:
        if _pattern(rule.recipients).fullmatch(recipient.lower()):
            reply = rule.reply or _REPLIES.get(rule.does, "")
            longest = rule.seconds if rule.does is Does.GREYLIST else min(rule.seconds, MAX_SECONDS)
            return Answer(rule.does, reply, rule.at_data and rule.does is not Does.GREYLIST, longest)
    return Answer(Does.ACCEPT)


@lru_cache(maxsize=1000)
def _pattern(text: str) -> "re.Pattern[str]":
    # `translate` writes patterns that do not go back over what a star took; a [ is no set of characters here.
    return re.compile(fnmatch.translate(text.lower().replace("[", "[[]")))
