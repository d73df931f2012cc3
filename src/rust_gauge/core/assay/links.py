"""Links of a message: where they lead, what they say, and what receivers think of it. Nothing is fetched here."""

import ipaddress
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal
from urllib.parse import unquote, urlsplit

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.headers import mixed_scripts, registered
from rust_gauge.core.assay.html import Html
from rust_gauge.core.assay.message import Message
from rust_gauge.core.names import in_unicode

MOST_LINKS = 2000  # that are looked at
MANY_HOSTS = 8
_LONG = 2000  # characters
_URL = re.compile(r"https?://[^\s<>\"'()\[\]{}|\\^`]+", re.I)
_HOST_IN_TEXT = re.compile(r"(?:https?://)?((?:[a-z0-9-]+\.)+[a-z]{2,24})(?=[/:?#\s]|$)", re.I)
_SHORT_PATH = re.compile(r"/(?=[A-Za-z0-9]*\d)(?=[A-Za-z0-9]*[A-Za-z])[A-Za-z0-9]{4,8}")
_CARRIED = re.compile(r"https?(?:://|%3a%2f%2f)", re.I)
_NO_TARGET = ("", "#")


@dataclass(frozen=True, slots=True)
class Link:
    """A link as it stands. `text` is what people see; `kind` is `link`, `image`, or `text` (one in plain text)."""

    url: str
    text: str
    kind: Literal["link", "image", "text"]
    place: Place

    @property
    def scheme(self) -> str:
        """Return what stands before the first colon, in lower case."""
        return self.url.partition(":")[0].lower() if ":" in self.url else ""

    @property
    def host(self) -> str:
        """Return the host in lower case; empty when there is none."""
        return host_of(self.url)


@lru_cache(4096)
def host_of(url: str) -> str:
    """Return the host of a URL in lower case; empty when there is none."""
    try:
        return (urlsplit(url).hostname or "").rstrip(".")
    except ValueError:
        return ""


def links_of(message: Message, page: Html | None) -> tuple[Link, ...]:
    """Return the links of the HTML and of the text, in order."""
    out: list[Link] = []
    if page is not None and message.html_part is not None:
        part = message.html_part.number
        for element in page.named("a", "area", "img"):
            image = element.tag == "img"
            url = (element.get("src" if image else "href") or "").strip()
            if image and not url:
                continue
            text = " ".join("".join(element.itertext()).split()) if not image else element.get("alt") or ""
            out.append(Link(url, text[:500], "image" if image else "link", page.place(element, part)))
            if len(out) >= MOST_LINKS:
                break
    if message.text is not None and message.text_part is not None:
        for number, line in enumerate(message.text.splitlines(), 1):
            for found in _URL.finditer(line[:20_000]):
                url = found[0].rstrip(".,;:!?")
                place = Place(Where.PART, message.text_part.number, number, found.start() + 1, url[:200])
                out.append(Link(url, url, "text", place))
            if len(out) >= 2 * MOST_LINKS:
                break
    return tuple(out)


def check_links(message: Message, links: tuple[Link, ...]) -> Iterator[Sighting]:
    """Yield what is wrong with links by their form alone."""
    own = registered(message.value("From").rpartition("@")[2].strip("> ").lower())
    for link in links:
        yield from _check(link)
    hosts = {registered(link.host) for link in links if link.host}
    foreign = sorted(
        {link.host for link in links if link.kind == "link" and link.host and registered(link.host) != own}
    )
    if foreign and own:
        first = next(link for link in links if link.host == foreign[0])
        values = {"hosts": ", ".join(foreign[:5]), "domain": own}
        yield Sighting("link-other-domain", first.place, values)
    if len(hosts) > MANY_HOSTS:
        yield Sighting("link-many-hosts", Place(), {"count": len(hosts)})


def _check(link: Link) -> Iterator[Sighting]:
    host = link.host
    if link.kind == "link" and link.url in _NO_TARGET:
        yield Sighting("link-no-target", link.place)
        return
    if link.scheme in ("javascript", "vbscript"):
        yield Sighting("link-script", link.place)
        return
    if link.scheme == "data" and link.kind == "link":
        yield Sighting("link-data", link.place)
        return
    if link.scheme not in ("http", "https"):
        return
    if link.scheme == "http":
        yield Sighting("link-plain-http", link.place, {"host": host})
    if _is_ip(host):
        yield Sighting("link-ip-address", link.place, {"host": host})
    elif mixed_scripts(shown := in_unicode(host) or host):
        yield Sighting("link-mixed-scripts", link.place, {"host": shown})
    if "@" in urlsplit_netloc(link.url):
        yield Sighting("link-user", link.place, {"host": host})
    if len(link.url) > _LONG:
        yield Sighting("link-long", link.place, {"count": len(link.url)})
    if _SHORT_PATH.fullmatch(_path(link.url)) and len(host) <= 10:
        yield Sighting("link-shortened", link.place, {"host": host})
    if link.kind == "link":
        yield from _text_and_target(link)
    if carried := _CARRIED.search(link.url, 8):
        target = host_of(unquote(link.url[carried.start() :]))
        if target and registered(target) != registered(host):
            yield Sighting("link-carries-link", link.place, {"host": host, "target": target})


def _text_and_target(link: Link) -> Iterator[Sighting]:
    shown = _HOST_IN_TEXT.fullmatch(link.text.strip()) or _HOST_IN_TEXT.match(link.text.strip())
    if shown and " " not in link.text.strip() and registered(shown[1].lower()) != registered(link.host):
        yield Sighting("link-text-differs", link.place, {"shown": shown[1].lower(), "host": link.host})


def urlsplit_netloc(url: str) -> str:
    """Return what stands between the slashes; empty for what is not a URL."""
    try:
        return urlsplit(url).netloc
    except ValueError:
        return ""


def _path(url: str) -> str:
    try:
        parts = urlsplit(url)
    except ValueError:
        return ""
    return parts.path if not parts.query else ""


def _is_ip(host: str) -> bool:
    try:
        ipaddress.ip_address(host.strip("[]"))
    except ValueError:
        return host.isdigit()
    return True
