"""Bounces in plain words: which recipients they name, and what the other side said.

Looks for addresses that stand where such texts name a recipient, and for the reply nearest behind each. The returned
message, which nearly always follows, is cut off first, so that addresses in it are not taken for recipients.
"""

import re
from collections import Counter
from dataclasses import dataclass

from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.core.replies.vocabulary import speaks_about

_LOOKED_AT = 256 * 1024  # characters
_MAX = 20_000  # recipients
# Letters of the alphabets that put spaces between words may be part of an address (RFC 6531); of the others nobody
# knows where the sentence ends and the address begins.
_ADDRESS = re.compile(
    r"<?((?:\"[^\"\\@\s]{1,31}(?: [^\"\\@\s]{1,31})?\"|[A-Za-z0-9.!#$%&'*+/=?^_`{|}~\u00c0-\u04ff-]{1,64})"
    r"@[A-Za-z0-9\u00c0-\u04ff-]{1,63}(?:\.[A-Za-z0-9\u00c0-\u04ff-]{1,63}){1,10})>?"
)
_RETURNED = re.compile(
    r"^[ \t>]{0,20}+(?:-{2,}+.{0,60}(?:original|copy|returned|message|header|below|follow|nachricht|mensaje|mensagem"
    r"|messaggio|bericht|wiadomo|zpráv|üzenet|meddeland|повідомлен|сообщени|письм|ileti|mesaj|メッセージ|メール|邮件|郵件|메시지|메일).{0,60}"
    r"|.{0,40}(?:ursprüngliche (?:nachricht|mail)|originalnachricht|kopie (?:der|ihrer)"
    r"|message (?:d.origine|initial|original)"
    r"|mensaje original|mensagem original|messaggio originale|oorspronkelijk(?:e)? bericht|oryginaln\w+ wiadomoś"
    r"|původní zpráv|eredeti üzenet|ursprungligt? meddeland|вихідн\w+ повідомлен|исходно\w+ (?:сообщ|письм)"
    r"|(?:özgün|orijinal) (?:ileti|mesaj)|元の(?:メッセージ|メール)|原始(?:邮件|郵件)|원본 (?:메시지|메일)).{0,60}"
    r"|.{0,30}(?:below this line|this is a copy|copy of (?:the|your) message|original message (?:follows|headers?|:)"
    r"|message headers? follow|unsent message below|your message (?:reads|was):?|full copy).{0,60}"
    r"|Received: from .{0,200}|Return-Path: ?<.{0,200})$",
    re.IGNORECASE | re.MULTILINE,
)
_REPLY = re.compile(
    r"(?:^|[\s:>(\[\"'=：，。、（「])((?:[45]\d\d[ -](?:[45]\.\d{1,3}\.\d{1,3}\b)?|#?[45]\.\d{1,3}\.\d{1,3}\b).{3,})",
    re.MULTILINE,
)
_SAID = re.compile(
    r"(?:user|mailbox|recipient|address|account|domain|host|inbox|quota|connection|policy|spam|reputation|relay|"
    r"loop|expired|could not|cannot|does not|unknown|full|disabled|refused|rejected)",
    re.IGNORECASE,
)
_REASONS = (
    "missing", "closed", "full", "refused", "blocklist", "reputation", "spam", "much", "large", "relaying", "loop",
    "too_late", "connection", "trouble", "no_mail_domain", "greylist",
)  # fmt: skip
_FAILURE = re.compile(
    r"fail|undeliver|not (?:be )?deliver|bounce|return|nicht zugestellt|unzustellbar|échec|no (?:se )?entreg|"
    r"não (?:foi )?entreg|mancat|onbestelbaar|niet bezorgd|nie dostarcz|nedoru|nem kézbes|inte leverer|не достав|"
    r"teslim|配信|退信|投递|배달|반송",
    re.IGNORECASE,
)
_DELAYED = re.compile(
    r"(?:has|have) (?:not yet|been delayed)|will (?:be retried|keep trying|continue to (?:try|be))|delivery attempts "
    r"will continue|still (?:trying|being)|you do not need to resend|temporarily deferred|warning message only",
    re.IGNORECASE,
)
_SIGHTINGS = 5
_SAID_NEAR = 300  # characters behind an address within which its reason stands
_MENTIONED = re.compile(
    r"(?:contact|write to|e?-?mail(?: us)?(?: at| to)?|help(?:desk)?(?: at| of)?|questions?(?: to)?|support|from|"
    r"sender|sent by|by|on behalf of|reported (?:by|to)|postmaster|administrator|wenden sie sich an|contactez|"
    r"contacte|contatt\w+|abuse|reply to|forward(?:ed)? to|von|de|da|van|od)\W{0,4}\Z", re.IGNORECASE
)  # fmt: skip
_ALONE = re.compile(r"[ \t>*\-\u2022]{0,8}(?:to:?|recipients?:?|rcpt:?)?[ \t]*\Z", re.IGNORECASE)
_DAEMONS = ("mailer-daemon", "postmaster", "abuse", "noreply", "no-reply", "support", "helpdesk")


@dataclass(frozen=True, slots=True)
class FreeText:
    """`recipients` with the reply of each, `reply` if it belongs to none in particular, returned `header`."""

    recipients: tuple[tuple[str, str], ...]
    reply: str
    header: str
    delayed: bool


def read_free_text(text: str) -> FreeText:
    """Read what a bounce in plain words says."""
    text = text[:_LOOKED_AT].replace("\r\n", "\n")
    cut = _RETURNED.search(text)
    told, rest = (text[: cut.start()], text[cut.start() :]) if cut else (text, "")
    if not told.strip():
        told = text
    first = next((found.group(1) for found in _REPLY.finditer(told)), "")
    people: dict[str, str] = {}
    alone: set[str] = set()
    matches = list(_ADDRESS.finditer(told))
    sightings: Counter[str] = Counter()  # an address without a reason where it stands first may have one further down
    for number, found in enumerate(matches):
        if len(people) >= _MAX:
            break
        sightings[found.group(1)] += 1
        if sightings[found.group(1)] > _SIGHTINGS:
            continue
        try:
            address = parse_address(found.group(1).strip(".'"))
        except AddressError:
            continue
        name = str(address)
        if address.local.lower() in _DAEMONS or people.get(name):
            continue
        if _MENTIONED.search(told, max(0, found.start() - 60), found.start()):
            continue
        until = next((m.start() for m in matches[number + 1 : number + 4] if m.group(1) != found.group(1)), len(told))
        behind = told[found.end() : min(until, found.end() + 1500)]
        reply = next((match_.group(1) for match_ in _REPLY.finditer(behind)), "")
        near = behind[:_SAID_NEAR]
        if not reply and (_SAID.search(near) or speaks_about(_REASONS, near)):
            reply = near.strip(" :\n\t>-")
        line = told[told.rfind("\n", 0, found.start()) + 1 : found.start()]
        end = told.find("\n", found.end())
        rest_of_line = told[found.end() : end if end >= 0 else len(told)]
        if _ALONE.match(line) and not rest_of_line.strip(" \t>:;,."):
            alone.add(name)
        people[name] = _one_line(reply)
    if any(people.values()):
        # Where replies stand behind some addresses, those without one are mentioned for other reasons,
        # unless they are listed line by line.
        people = {address: reply for address, reply in people.items() if reply or address in alone}
    else:
        # Without a reason beside it, an address counts only on a line of its own in a text that reports a failure.
        failure = bool(first) or bool(_SAID.search(told)) or bool(_FAILURE.search(told))
        people = {address: "" for address in people if address in alone and failure}
    if not first:
        first = next((line.strip() for line in told.split("\n") if _SAID.search(line) and len(line.strip()) > 10), "")
    if rest and not rest.lstrip(" \t>").lower().startswith(("received:", "return-path:")):
        rest = rest[rest.find("\n") + 1 :]  # the line that only says that the message follows
    return FreeText(tuple(people.items()), _one_line(first), rest.strip()[:20_000], bool(_DELAYED.search(told)))


def _one_line(text: str) -> str:
    """Join a reply over several lines, up to its end: an empty line."""
    return " ".join(re.split(r"\n[ \t]*\n", text.strip(), maxsplit=1)[0].split())[:2000]
