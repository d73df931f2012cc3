"""Answers without a network: from zone files (RFC 1035 §5), and from a recording of earlier answers.

Both say `not_held` for what they know nothing about, which is neither "there is none" nor a server's failure.
"""

import base64
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import dns.exception
import dns.name
import dns.rdata
import dns.rdataclass
import dns.rdatatype
import dns.zone
from dns.rdata import Rdata

from rust_gauge.core.dns.answers import AnswerStatus, DnsAnswer, DnsQuestion
from rust_gauge.core.dns.mailboxes import MailboxAnswer, MailboxQuestion
from rust_gauge.core.dns.pages import PageAnswer, PageQuestion
from rust_gauge.core.dns.programs import Answer, Answers, Question, Questions
from rust_gauge.core.errors import InputError

_MAX_ALIASES = 16  # as resolvers do, so that a loop of CNAMEs ends
RECORDING_FORMAT = "rust-gauge-answers-1"


class ZoneFileError(InputError):
    """The text is not a zone file; names the line."""


def read_zone(text: str, origin: str | None = None, file: str = "the zone file") -> dns.zone.Zone:
    """Read a zone from its master file. `origin` is for files that do not state theirs by $ORIGIN. ZoneFileError."""
    try:
        start = dns.name.from_text(origin) if origin else None
        zone = dns.zone.from_text(text, start, relativize=False, check_origin=False, allow_include=False)
    except dns.exception.DNSException as error:
        said = str(error) or type(error).__name__
        remedy = "Use a zone file as a name server reads it, without $INCLUDE"
        if isinstance(error, dns.zone.UnknownOrigin):
            said, remedy = "it does not name its zone", "Put $ORIGIN on its first line, or name the zone"
        raise ZoneFileError(f"{file} is not a valid zone file", why=said, remedy=remedy) from None
    except (ValueError, KeyError, AttributeError) as error:  # dnspython's own slips on odd input
        raise ZoneFileError(f"{file} is not a valid zone file", why=str(error) or type(error).__name__) from None
    if zone.origin is None:
        raise ZoneFileError(f"{file} is empty", remedy="Put $ORIGIN on its first line, then the records")
    return zone


def answers_from_zones(zones: Iterable[dns.zone.Zone]) -> Callable[[Questions], Answers]:
    """Answers as the zones' own servers would give them. Names in no zone, and pages, are `not_held`."""
    held = {zone.origin: zone for zone in zones if zone.origin is not None}

    def answer(question: Question) -> Answer:
        if isinstance(question, PageQuestion):
            return PageAnswer(question, "not_held", detail="pages are not fetched offline")
        if isinstance(question, MailboxQuestion):
            return MailboxAnswer(question, "not_held", detail="hosts are not queried offline")
        if question.server:
            return DnsAnswer(question, AnswerStatus.NOT_HELD, detail="servers are not queried offline")
        return _from_zones(held, question)

    return lambda questions: tuple(answer(question) for question in questions)


def _from_zones(zones: Mapping[dns.name.Name, dns.zone.Zone], question: DnsQuestion) -> DnsAnswer:
    try:
        name = dns.name.from_text(question.name)
        rdtype = dns.rdatatype.from_text(question.rdtype)
    except (dns.exception.DNSException, ValueError):
        return DnsAnswer(question, AnswerStatus.NO_NAME, detail="the name exceeds the limits of DNS")
    aliases: list[str] = []
    ttl: int | None = None
    while len(aliases) <= _MAX_ALIASES:
        zone = _zone_of(zones, name, rdtype)
        if zone is None:
            detail = f"{name.to_text(omit_final_dot=True)} is not in any of the zone files"
            return DnsAnswer(question, AnswerStatus.NOT_HELD, aliases=tuple(aliases), detail=detail)
        node = zone.get_node(name) or wildcard_node(zone, name)
        if node is None:
            above = any(other.is_subdomain(name) for other in zone.nodes)  # an empty name above others exists
            status = AnswerStatus.NO_DATA if above else AnswerStatus.NO_NAME
            return DnsAnswer(question, status, ttl=ttl, aliases=tuple(aliases), authoritative=True)
        found = node.get_rdataset(dns.rdataclass.IN, rdtype)
        if found is not None:
            ttl = found.ttl if ttl is None else min(ttl, found.ttl)
            return DnsAnswer(question, AnswerStatus.FOUND, tuple(found), ttl, tuple(aliases), authoritative=True)
        alias = node.get_rdataset(dns.rdataclass.IN, dns.rdatatype.CNAME)
        if alias is None:
            return DnsAnswer(question, AnswerStatus.NO_DATA, ttl=ttl, aliases=tuple(aliases), authoritative=True)
        name = alias[0].target
        ttl = alias.ttl if ttl is None else min(ttl, alias.ttl)
        aliases.append(name.to_text(omit_final_dot=True))
    return DnsAnswer(question, AnswerStatus.SERVFAIL, aliases=tuple(aliases), detail="CNAME loop")


def _zone_of(
    zones: Mapping[dns.name.Name, dns.zone.Zone], name: dns.name.Name, rdtype: dns.rdatatype.RdataType
) -> dns.zone.Zone | None:
    """Find the closest zone above a name; a DS record is kept by the zone above its owner (RFC 4035 §2.4)."""
    at = name.parent() if rdtype == dns.rdatatype.DS and name != dns.name.root else name
    while True:
        if at in zones:
            return zones[at]
        if at == dns.name.root:
            return None
        at = at.parent()


def wildcard_node(zone: dns.zone.Zone, name: dns.name.Name) -> Any:
    """Return the node of the wildcard that covers a name which is not there (RFC 4592 §3.3.1), or None."""
    while name != zone.origin:
        name = name.parent()
        node = zone.get_node(dns.name.Name((b"*",)) + name)
        if node is not None or zone.get_node(name) is not None:
            return node
    return None


def write_recording(answers: Iterable[Answer]) -> dict[str, Any]:
    """Answers as a document that `answers_from_recording` reads: records in base64 of their wire form."""
    entries: list[dict[str, Any]] = []
    for answer in answers:
        if isinstance(answer, PageAnswer):
            entry: dict[str, Any] = {"url": answer.question.url, "status": answer.status, "code": answer.code,
                                     "content_type": answer.content_type, "text": answer.text}  # fmt: skip
        elif isinstance(answer, MailboxAnswer):
            entry = {"host": answer.question.host, "address": answer.question.address, "status": answer.status,
                     "reply": answer.reply, "tls": answer.tls}  # fmt: skip
        else:
            question = answer.question
            entry = {"name": question.name, "type": question.rdtype, "status": str(answer.status)}
            entry |= {"server": question.server} if question.server else {}
            entry |= {"unchecked": True} if question.unchecked else {}
            if answer.records:
                entry["records"] = [base64.b64encode(rdata.to_wire() or b"").decode() for rdata in answer.records]
                entry["text"] = [rdata.to_text() for rdata in answer.records]
            entry |= {"ttl": answer.ttl} if answer.ttl is not None else {}
            entry |= {"aliases": list(answer.aliases)} if answer.aliases else {}
            entry |= {"authenticated": True} if answer.authenticated else {}
            entry |= {"authoritative": True} if answer.authoritative else {}
        entry |= {"detail": answer.detail} if answer.detail else {}
        entries.append(entry)
    return {"format": RECORDING_FORMAT, "answers": entries}


def answers_from_recording(document: Mapping[str, Any]) -> Callable[[Questions], Answers]:
    """Answers as they were recorded; what was not asked then is `not_held`. InputError for another document."""
    if document.get("format") != RECORDING_FORMAT or not isinstance(document.get("answers"), list):
        raise InputError("not a recording of answers", why=f"its format is not {RECORDING_FORMAT}")
    held: dict[Question, Answer] = {}
    for number, entry in enumerate(document["answers"], 1):
        try:
            read = _read_entry(entry)
        except (KeyError, TypeError, ValueError, dns.exception.DNSException) as error:
            raise InputError(f"answer {number} of the recording is invalid", why=str(error)) from None
        held[read.question] = read

    def answer(question: Question) -> Answer:
        known = held.get(question)
        if known is not None:
            return known
        if isinstance(question, PageQuestion):
            return PageAnswer(question, "not_held", detail="it is not in the recording")
        if isinstance(question, MailboxQuestion):
            return MailboxAnswer(question, "not_held", detail="it is not in the recording")
        return DnsAnswer(question, AnswerStatus.NOT_HELD, detail="it is not in the recording")

    return lambda questions: tuple(answer(question) for question in questions)


def _read_entry(entry: Mapping[str, Any]) -> Answer:
    if "url" in entry:
        return PageAnswer(PageQuestion(entry["url"]), entry["status"], int(entry.get("code", 0)),
                          entry.get("content_type", ""), entry.get("text", ""), entry.get("detail", ""))  # fmt: skip
    if "address" in entry:
        asked = MailboxQuestion(entry["host"], entry["address"])
        return MailboxAnswer(asked, entry["status"], entry.get("reply", ""), entry.get("tls"), entry.get("detail", ""))
    question = DnsQuestion(entry["name"], entry["type"], entry.get("server", ""), bool(entry.get("unchecked")))
    kind = dns.rdatatype.from_text(question.rdtype)
    records = tuple(_rdata(kind, base64.b64decode(rdata, validate=True)) for rdata in entry.get("records", ()))
    return DnsAnswer(
        question,
        AnswerStatus(entry["status"]),
        records,
        entry.get("ttl"),
        tuple(entry.get("aliases", ())),
        entry.get("detail", ""),
        authenticated=bool(entry.get("authenticated")),
        authoritative=bool(entry.get("authoritative")),
    )


def _rdata(kind: dns.rdatatype.RdataType, wire: bytes) -> Rdata:
    return dns.rdata.from_wire(dns.rdataclass.IN, kind, wire, 0, len(wire))
