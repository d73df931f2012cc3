"""The examination of one message: its form, its content, and what a receiver would verify."""

import tomllib
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from pathlib import Path

from rust_gauge.core.arc import ArcOutcome, ArcResult, verify_arc
from rust_gauge.core.assay.agreement import check_agreement
from rust_gauge.core.assay.content import check_content
from rust_gauge.core.assay.findings import Assay, Place, Sighting, Where, weigh
from rust_gauge.core.assay.followed import follow_links, open_one_click
from rust_gauge.core.assay.headers import check_headers
from rust_gauge.core.assay.html import Html, parse_html
from rust_gauge.core.assay.learned import TextModel, TextVerdict, judge
from rust_gauge.core.assay.links import Link, check_links, links_of
from rust_gauge.core.assay.message import MAX_MESSAGE, Message
from rust_gauge.core.assay.own import OwnRule, check_own
from rust_gauge.core.assay.rules import RuleSet, built_in
from rust_gauge.core.assay.sender import SenderHistory, check_history, check_sender
from rust_gauge.core.assay.structure import check_structure
from rust_gauge.core.assay.support import Unsupported, unsupported
from rust_gauge.core.dkim import DkimResult
from rust_gauge.core.dns import DnsProgram
from rust_gauge.core.errors import InputError
from rust_gauge.core.message import Authentication, authenticate
from rust_gauge.core.spf import SpfResult
from rust_gauge.core.transport import DnsList

_READS_BADLY = 0.7  # likeness from which the text model speaks up
_SIGNED = ("dkim-missing", "unsubscribe-unsigned")  # rules that a signature settles
_PREVIEW = 140  # characters that lists show at most, on wide screens


@dataclass(frozen=True, slots=True)
class Sending:
    """How a message arrived, as far as it is known. Without `ip`, SPF is not evaluated. `signed_later`: whoever sends
    it on signs it, so that a missing signature says nothing."""

    ip: str = ""
    helo: str = ""
    mail_from: str = ""
    signed_later: bool = False


@dataclass(frozen=True, slots=True)
class Examined:
    """A message, what was read out of it, and its assay. `authentication` is None where DNS was not asked."""

    message: Message
    page: Html | None
    links: tuple[Link, ...]
    authentication: Authentication | None
    assay: Assay
    arc: ArcOutcome | None = None
    sending: Sending = Sending()
    history: SenderHistory | None = None
    learned: tuple[TextModel, TextVerdict] | None = None

    @property
    def preview_line(self) -> str:
        """Return what most message lists show behind the subject: the first 140 characters of text, hidden or not."""
        if self.page is None:
            text = self.message.text or ""
        else:
            text = " ".join(run.text for run in self.page.runs[:40] if run.look.hidden != "not shown")
        return " ".join(text.split())[:_PREVIEW]

    @property
    def unsupported(self) -> tuple[Unsupported, ...]:
        """Return the constructs of the HTML that some family of mail programs does not support."""
        if self.page is None or self.message.html_part is None:
            return ()
        return unsupported(self.page, self.message.html_part.number)


@cache
def weak_words() -> frozenset[str]:
    """Return the words of the file that ships with the product, in lower case."""
    document = tomllib.loads(Path(__file__).with_name("words.toml").read_text("utf-8"))
    return frozenset(str(word).lower() for word in document["words"])


def examine(
    raw: bytes, *, sending: Sending | None = None, now: datetime | None = None, rules: RuleSet | None = None,
    words: Collection[str] | None = None, ask_dns: bool = True, lists: tuple[DnsList, ...] = (),
    history: SenderHistory | None = None, follow: bool = False, open_unsubscribe: bool = False,
    model: TextModel | None = None, own: Sequence[OwnRule] = (),
) -> DnsProgram[Examined]:  # fmt: skip
    """Examine a message. InputError when it is longer than MAX_MESSAGE, or has no header at all.

    `lists` are asked about the sending address and about the domains that the message names. `history` is what is known
    of the sender from its own mail. `follow`: links are asked where they lead, with HEAD. `open_unsubscribe`: the
    address for one-click unsubscribing is opened with GET. `model`: what the tenant's own campaigns taught. `own`:
    rules of the tenant, beside those of `rules`.
    """
    if len(raw) > MAX_MESSAGE:
        raise InputError(
            f"The message has {len(raw) / 2**20:.0f} MB", why=f"at most {MAX_MESSAGE / 2**20:.0f} MB are examined"
        )
    message = Message(raw)
    if not message.mail.fields:
        raise InputError(
            "This is not a message", why="it has no header", remedy="Pass the complete source of the message"
        )
    page = None if message.html is None else parse_html(message.html)
    links = links_of(message, page)
    sightings = list(_form(message, page, links, now, weak_words() if words is None else words))
    authentication: Authentication | None = None
    more, not_checked = check_own(message, page, own)
    sightings += more
    known = sending or Sending()
    arc: ArcOutcome | None = None
    if ask_dns:
        stamp = None if now is None else int(now.timestamp())
        authentication = yield from authenticate(
            raw, ip=known.ip, helo=known.helo, mail_from=known.mail_from, now=stamp
        )
        later = known.signed_later and not authentication.signatures
        sightings += [
            each for each in _authentication(authentication, message) if not later or each.rule not in _SIGNED
        ]
        if later:
            not_checked.append("DKIM: the message is signed after this, if at all")
        arc = yield from verify_arc(raw)
        if arc.result is ArcResult.FAIL:
            sightings.append(Sighting("arc-fail", Place(Where.HEADER, "ARC-Seal"), {"reason": arc.reason}))
        elif arc.result is ArcResult.TEMPERROR:
            not_checked.append(f"ARC: {arc.reason}")
        seen, unseen = yield from check_sender(known.ip, known.helo, authentication, links, lists)
        sightings += seen
        not_checked += unseen
        if not known.ip:
            aligned = any(outcome.result == "pass" for outcome in authentication.dmarc)
            what = "SPF" if aligned else "SPF and DMARC"
            not_checked.append(f"{what}: the address that the message was sent from is not known")
    else:
        not_checked.append("SPF, DKIM and DMARC: DNS was not asked")
    if history is not None and now is not None:
        sightings += check_history(history, now.date())
    learned = None
    if model is not None:
        learned = (model, judge(model, text_of(message, page)))
        sightings += _learned(*learned)
    if follow:
        seen, unseen = yield from follow_links(message, links)
        sightings += seen
        not_checked += unseen
    if open_unsubscribe:
        seen, unseen = yield from open_one_click(message)
        sightings += seen
        not_checked += unseen
    assay = weigh(sightings, (rules or built_in()).extended(each.as_rule() for each in own), not_checked)
    return Examined(message, page, links, authentication, assay, arc, known, history, learned)


def text_of(message: Message, page: Html | None) -> str:
    """Return what a text model looks at: the subject and what people read."""
    return f"{message.value('Subject')}\n{page.visible_text if page is not None else message.text or ''}"


def _form(
    message: Message, page: Html | None, links: tuple[Link, ...], now: datetime | None, words: Collection[str]
) -> Iterator[Sighting]:
    yield from check_headers(message, now)
    yield from check_structure(message, page)
    yield from check_content(message, page, words)
    yield from check_links(message, links)
    yield from check_agreement(message, page, links)


def _learned(model: TextModel, verdict: TextVerdict) -> Iterator[Sighting]:
    if verdict.likeness >= _READS_BADLY:
        words = ", ".join(word for word, _ in verdict.words[:5])
        values = {"right": model.right, "of": model.of, "share": f"{100 * model.accuracy:.0f} %"}
        yield Sighting("text-like-complained", Place(Where.MESSAGE, text=words), values)


def _authentication(found: Authentication, message: Message) -> Iterable[Sighting]:
    signatures = message.fields("DKIM-Signature")
    if not found.signatures:
        yield Sighting("dkim-missing", Place(Where.HEADER, "DKIM-Signature"))
    passed = any(verdict.result is DkimResult.PASS for verdict in found.signatures)
    for number, verdict in enumerate(found.signatures):
        text = signatures[number].text[:200] if number < len(signatures) else ""
        place = Place(Where.HEADER, "DKIM-Signature", text=text)
        values = {"domain": verdict.signature.domain or "an unknown domain", "reason": verdict.reason,
                  "detail": verdict.detail}  # fmt: skip
        if verdict.result is DkimResult.TEMPERROR:
            yield Sighting("dkim-no-answer", place, values)
        elif verdict.result is not DkimResult.PASS and not passed:
            yield Sighting("dkim-fail", place, values)
    if found.spf is not None and (outcome := found.spf.mail_from).result is not SpfResult.PASS:
        values = {"domain": found.spf.mail_from_domain, "result": str(outcome.result), "reason": outcome.reason}
        if outcome.result is not SpfResult.TEMPERROR:
            yield Sighting("spf-fail", Place(Where.SENDING), values)
    yield from _dmarc(found)
    if found.one_click is False and message.fields("List-Unsubscribe-Post"):
        yield Sighting("unsubscribe-unsigned", Place(Where.HEADER, "List-Unsubscribe-Post"))


def _dmarc(found: Authentication) -> Iterator[Sighting]:
    if not found.dmarc:
        return
    outcome = found.dmarc[0]
    values = {"domain": found.header_from, "policy": outcome.disposition, "reason": outcome.reason}
    if outcome.result == "none":
        yield Sighting("dmarc-missing", Place(Where.HEADER, "From"), values)
    elif outcome.result == "fail" and _is_all_known(found):
        yield Sighting("dmarc-fail", Place(Where.HEADER, "From"), values)


def _is_all_known(found: Authentication) -> bool:
    """Return whether nothing that is not known could still align: SPF of an unknown address, a key without answer."""
    return found.spf is not None and all(v.result is not DkimResult.TEMPERROR for v in found.signatures)
