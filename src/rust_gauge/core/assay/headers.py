"""Checks of the header (RFC 5322, RFC 2369, RFC 8058) and of the octets of the message."""

import email.utils
import re
import unicodedata
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.message import Message
from rust_gauge.core.dkim import HeaderField
from rust_gauge.core.mime import mailboxes, words
from rust_gauge.core.names import in_unicode, registered_domain

LONGEST_LINE = 998  # octets without CRLF (RFC 5322 §2.1.1)
_ONCE = ("Date", "From", "Sender", "Reply-To", "To", "Cc", "Bcc", "Message-ID", "In-Reply-To", "References", "Subject")
_MANY = 20  # recipients that stand in the header for all to see
_WRONG_DATE, _SLOW_HOP = timedelta(hours=24), timedelta(minutes=5)
_MESSAGE_ID = re.compile(r"<[^<>@\s]+@[^<>@\s]+>")
_ADDRESS = re.compile(r"[^\s<>@\"(),;:]+@([^\s<>@\"(),;:]+\.[^\s<>@\"(),;:]+)")
_REPLY = re.compile(r"^(re|fwd?)\s*:", re.I)


def check_headers(message: Message, now: datetime | None) -> Iterator[Sighting]:
    """Yield what is wrong with the header. Without `now` a date is not compared with it."""
    yield from _lines(message)
    yield from _single_fields(message)
    yield from _date(message, now)
    yield from _message_id(message)
    yield from _from(message)
    yield from _recipients(message)
    yield from _unsubscribe(message)
    yield from _subject(message)
    yield from _route(message)


def _at(field: HeaderField) -> Place:
    return Place(Where.HEADER, field.name, text=words(field.text)[:200])


def _lines(message: Message) -> Iterator[Sighting]:
    for number, line in enumerate(message.raw.split(b"\n"), 1):
        length = len(line.removesuffix(b"\r"))
        if length > LONGEST_LINE:
            place = Place(Where.MESSAGE, line=number, text=line[:60].decode("ascii", "backslashreplace"))
            yield Sighting("line-too-long", place, {"octets": length})
    for stray in message.mail.strays:
        yield Sighting("header-stray-line", Place(Where.HEADER, text=stray))
    for field in message.mail.fields:
        if not field.raw.isascii():
            yield Sighting("header-8bit", _at(field), {"field": field.name})


def _single_fields(message: Message) -> Iterator[Sighting]:
    for name in _ONCE:
        found = message.fields(name)
        if len(found) > 1 and name != "From":
            yield Sighting("header-repeated", _at(found[1]), {"field": name, "count": len(found)})


def _date(message: Message, now: datetime | None) -> Iterator[Sighting]:
    fields = message.fields("Date")
    if not fields:
        yield Sighting("date-missing")
        return
    date = parsed_date(fields[0].text)
    if date is None:
        yield Sighting("date-invalid", _at(fields[0]), {"value": fields[0].text[:80]})
    elif now is not None and abs(date - now) > _WRONG_DATE:
        days = abs(date - now) / timedelta(days=1)
        when = "after" if date > now else "before"
        apart = f"{days:.0f} {'day' if round(days) == 1 else 'days'}"
        yield Sighting("date-far", _at(fields[0]), {"days": apart, "when": when})


def parsed_date(text: str) -> datetime | None:
    """Return a date of a header in UTC (RFC 5322 §3.3); None when it is none."""
    try:
        found = email.utils.parsedate_to_datetime(text)
        return (found if found.tzinfo else found.replace(tzinfo=UTC)).astimezone(UTC)
    except (ValueError, TypeError, OverflowError, IndexError):
        return None


def _message_id(message: Message) -> Iterator[Sighting]:
    fields = message.fields("Message-ID")
    if not fields:
        yield Sighting("message-id-missing")
    elif not _MESSAGE_ID.fullmatch(fields[0].text):
        yield Sighting("message-id-malformed", _at(fields[0]), {"value": fields[0].text[:80]})


def _from(message: Message) -> Iterator[Sighting]:
    fields = message.fields("From")
    if len(fields) != 1:
        rule = "from-many" if fields else "from-missing"
        yield Sighting(rule, _at(fields[1]) if fields else Place(Where.HEADER, "From"), {"count": len(fields)})
        return
    name, address = display_name(fields[0].text)
    domain = address.rpartition("@")[2].lower()
    if not _ADDRESS.fullmatch(address):
        yield Sighting("from-no-address", _at(fields[0]))
        return
    if scripts := mixed_scripts(name) or mixed_scripts(in_unicode(domain) or domain):
        yield Sighting("from-mixed-scripts", _at(fields[0]), {"scripts": " and ".join(scripts)})
    shown = _ADDRESS.search(name)
    if shown and registered(shown[1]) != registered(domain):
        yield Sighting("from-name-is-address", _at(fields[0]), {"shown": shown[0], "real": address})
    for field in message.fields("Reply-To")[:1]:
        _, reply = display_name(field.text)
        other = reply.rpartition("@")[2].lower()
        if other and registered(other) != registered(domain):
            yield Sighting("reply-to-elsewhere", _at(field), {"domain": other, "from": domain})


def display_name(text: str) -> tuple[str, str]:
    """Return the first mailbox of a field: the name as people see it, and the address."""
    name, address = next(iter(mailboxes(text[:2000])), ("", ""))
    return words(name), address


def registered(domain: str) -> str:
    """Return the registered domain of a name, or the name itself where there is none."""
    return registered_domain(domain) or domain


def mixed_scripts(text: str) -> list[str]:
    """Return the scripts of a word that mixes several, as a forged one does; empty when none does (UTS 39 §5)."""
    for word in re.findall(r"[^\W\d_]+", text):
        scripts = {unicodedata.name(letter, "").partition(" ")[0] for letter in word}
        found = sorted(scripts & {"LATIN", "CYRILLIC", "GREEK", "ARMENIAN", "CHEROKEE"})
        if len(found) > 1:
            return [script.capitalize() for script in found]
    return []


def _recipients(message: Message) -> Iterator[Sighting]:
    fields = [*message.fields("To"), *message.fields("Cc")]
    addresses = [address for field in fields for _, address in mailboxes(field.text[:100_000])]
    if not any("@" in address for address in addresses):
        yield Sighting("to-missing", _at(fields[0]) if fields else Place(Where.HEADER, "To"))
    elif len(addresses) > _MANY:
        yield Sighting("to-many", Place(Where.HEADER, fields[0].name), {"count": len(addresses)})


def _unsubscribe(message: Message) -> Iterator[Sighting]:
    fields, posts = message.fields("List-Unsubscribe"), message.fields("List-Unsubscribe-Post")
    if not fields:
        yield Sighting("unsubscribe-missing", Place(Where.HEADER, "List-Unsubscribe"))
        return
    uris = re.findall(r"<\s*([^>\s]+)\s*>", fields[0].text)
    if not uris:
        yield Sighting("unsubscribe-no-uri", _at(fields[0]))
        return
    if any(uri.lower().startswith("http:") for uri in uris):
        yield Sighting("unsubscribe-plain-http", _at(fields[0]))
    one_click = len(posts) == 1 and posts[0].text.replace(" ", "").lower() == "list-unsubscribe=one-click"
    if not one_click or not any(uri.lower().startswith("https:") for uri in uris):
        yield Sighting("unsubscribe-no-one-click", _at(posts[0] if posts else fields[0]))


def _subject(message: Message) -> Iterator[Sighting]:
    subject = message.value("Subject").strip()
    if not subject:
        yield Sighting("subject-missing", Place(Where.HEADER, "Subject"))
        return
    place = _at(message.fields("Subject")[0])
    letters = [letter for letter in subject if letter.isalpha()]
    if len(letters) >= 10 and sum(letter.isupper() for letter in letters) > 0.6 * len(letters):
        yield Sighting("subject-shouts", place)
    if re.search(r"[!?]{2,}|!.*!", subject):
        yield Sighting("subject-exclaims", place)
    if _REPLY.match(subject) and not (message.fields("In-Reply-To") or message.fields("References")):
        yield Sighting("subject-false-reply", place)
    automatic = re.search(r"\b(no-?reply|do-?not-?reply|mailer-daemon)@", message.value("From"), re.I)
    if automatic and not message.fields("Auto-Submitted"):
        yield Sighting("auto-submitted-missing", Place(Where.HEADER, "Auto-Submitted"))


def hops(message: Message) -> list[tuple[HeaderField, datetime | None]]:
    """Return the Received fields in the order in which the message passed, each with its time (RFC 5321 §4.4)."""
    return [(field, parsed_date(field.text.rpartition(";")[2].strip())) for field in message.fields("Received")][::-1]


def _route(message: Message) -> Iterator[Sighting]:
    before: datetime | None = None
    for field, at in hops(message):
        if at is not None and before is not None:
            took = at - before
            if took > _SLOW_HOP:
                yield Sighting("received-slow", _at(field), {"minutes": f"{took / timedelta(minutes=1):.0f}"})
            elif took < -timedelta(seconds=60):
                yield Sighting("received-backwards", _at(field), {"seconds": f"{-took.total_seconds():.0f}"})
        before = at or before
