"""Where links lead: asked with HEAD (RFC 9110 §9.3.2), where a tenant allows it; never a link that unsubscribes.

A link that gives no answer, or says that it cannot be asked this way, is not known to be dead, and not reported so.
The address for one-click unsubscribing is opened with GET only where a tenant allows that too: a GET that unsubscribes
does so here as well.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass
from urllib.parse import urljoin, urlsplit

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.headers import registered
from rust_gauge.core.assay.links import Link
from rust_gauge.core.assay.message import Message
from rust_gauge.core.dns import DnsProgram, PageAnswer, PageQuestion, gather

MOST = 20  # links of a message that are asked
HOPS = 5  # redirects of one link that are followed
_GONE = (404, 410)
_LEAVES = re.compile(r"unsub|opt.?out|leave|abmeld|désabonn|desabonn|darse.de.baja|disiscri|afmeld", re.IGNORECASE)
_FORM = re.compile(r"<\s*(?:form|button)\b", re.IGNORECASE)
_URI = re.compile(r"<\s*(https?:[^>\s]+)\s*>", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Followed:
    """One link: the addresses it led over, and the last answer."""

    hops: tuple[str, ...]
    answer: PageAnswer

    @property
    def is_endless(self) -> bool:
        """Return whether it redirected more often than is followed."""
        return len(self.hops) > HOPS


def follow_links(message: Message, links: tuple[Link, ...]) -> DnsProgram[tuple[list[Sighting], list[str]]]:
    """Return what is wrong with where links lead, and what gave no answer."""
    leaving = _unsubscribe_uris(message)
    chosen = {
        link.url: link
        for link in links
        if link.kind == "link" and link.url.lower().startswith(("http://", "https://"))
        and link.url not in leaving and not _LEAVES.search(f"{link.text} {link.url}")
    }  # fmt: skip
    asked = list(chosen)[:MOST]
    posts = _one_click_uris(message)
    found = yield from gather([*(_follow(url) for url in asked), *(_follow(url, hops=0) for url in posts)])
    sightings: list[Sighting] = []
    unknown: list[str] = []
    for url, done in zip([*asked, *posts], found, strict=True):
        link = chosen.get(url)
        place = Place(Where.HEADER, "List-Unsubscribe", text=url[:200]) if link is None else link.place
        sightings += _judge(url, done, place, leaves=link is None)
        if done.answer.failed or done.answer.code >= 500:
            host = urlsplit(done.hops[-1]).hostname or ""
            unknown.append(f"Link: {host} gave no answer that says whether it works")
    if len(chosen) > MOST:
        unknown.append(f"Links: the first {MOST} of {len(chosen)} were followed")
    return sightings, list(dict.fromkeys(unknown))


def open_one_click(message: Message) -> DnsProgram[tuple[list[Sighting], list[str]]]:
    """Return which addresses for one-click unsubscribing show no form to a GET, and what could not be seen.

    Mail programs and filters open addresses with GET; unsubscribing takes a POST for that reason (RFC 8058 §1). A page
    with a form, or a refusal, has left it to the reader. Whether any other page has unsubscribed somebody, only the
    sender knows.
    """
    uris = _one_click_uris(message)
    answers: tuple[PageAnswer, ...] = ()
    if uris:
        answers = yield tuple(PageQuestion(uri, accept="text/html") for uri in uris)
    sightings: list[Sighting] = []
    unknown: list[str] = []
    for uri, answer in zip(uris, answers, strict=True):
        host = urlsplit(uri).hostname or ""
        if answer.failed or answer.code >= 500:
            unknown.append(f"One-click unsubscribing: {host} gave no answer to GET that says what it does")
        elif answer.code // 100 == 3:
            unknown.append(f"One-click unsubscribing: {host} redirects a GET, and what follows was not opened")
        elif answer.code < 300 and not _FORM.search(answer.text):
            place = Place(Where.HEADER, "List-Unsubscribe", text=uri[:200])
            sightings.append(Sighting("unsubscribe-without-form", place, {"host": host, "code": answer.code}))
    return sightings, list(dict.fromkeys(unknown))


def _unsubscribe_uris(message: Message) -> set[str]:
    return {uri for field in message.fields("List-Unsubscribe") for uri in _URI.findall(field.text)}


def _one_click_uris(message: Message) -> list[str]:
    if not message.fields("List-Unsubscribe-Post"):
        return []
    return sorted(uri for uri in _unsubscribe_uris(message) if uri.lower().startswith("https:"))[:MOST]


def _follow(url: str, hops: int = HOPS) -> DnsProgram[Followed]:
    seen = [url]
    while True:
        (answer,) = yield (PageQuestion(seen[-1], head=True),)
        following = urljoin(seen[-1], answer.location) if answer.location and answer.code // 100 == 3 else ""
        if not following.lower().startswith(("http://", "https://")) or len(seen) > hops:
            return Followed(tuple(seen), answer)
        seen.append(following)


def _judge(url: str, done: Followed, place: Place, *, leaves: bool) -> Iterator[Sighting]:
    host, last = urlsplit(url).hostname or "", urlsplit(done.hops[-1]).hostname or ""
    if done.answer.code in _GONE:
        rule = "unsubscribe-dead" if leaves else "link-dead"
        yield Sighting(rule, place, {"host": last, "code": done.answer.code})
    elif done.is_endless:
        yield Sighting("link-redirects-often", place, {"host": host, "hops": HOPS})
    elif registered(host) != registered(last):
        yield Sighting("link-redirects-away", place, {"host": host, "target": last})
