"""Where the answers come from, and which domains and selectors the zone files speak of."""

import json
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import dns.rdataclass
import dns.rdatatype
import dns.zone
from dns.rdtypes.ANY.TXT import TXT

from rust_gauge.core.dns import Answers, DnsProgram, Questions, drive, split_server
from rust_gauge.core.dns.held import answers_from_recording, answers_from_zones, read_zone
from rust_gauge.core.errors import InputError, RustGaugeError
from rust_gauge.core.spf import is_spf1
from rust_gauge.gateways.resolver import Resolver, ResolverSettings, system_servers

_MAX_FILE = 64 * 1024 * 1024  # octets of one zone file or recording
_SELECTOR = re.compile(r"(.+)\._domainkey\.(.+)\Z")


class SourceError(RustGaugeError):
    """A file cannot be used; says which, where, and what to do."""


@dataclass
class Source:
    """Answers, and what is known of the domains from the source itself. `close` when done."""

    run: Callable[[DnsProgram[Any]], Any]
    domains: tuple[str, ...] = ()
    selectors: dict[str, tuple[str, ...]] = field(default_factory=dict)
    lines: dict[tuple[str, str], tuple[str, int]] = field(default_factory=dict)  # (name, type): (file, line)
    offline: bool = True
    zones: tuple[str, ...] = ()  # the zones that files were given for; a name outside them has no answers
    close: Callable[[], None] = lambda: None


def from_resolvers(servers: Sequence[str], *, timeout: float = 3.0, tcp: bool = False) -> Source:
    """Answers over the network, without a service; without `servers` those that this machine asks.

    SourceError when one is no `address` or `address:port`.
    """
    try:
        chosen = tuple(split_server(text) for text in servers) or system_servers()
    except ValueError as error:
        raise SourceError(str(error), remedy="Write 192.0.2.1, 192.0.2.1:5353 or [2001:db8::1]:53") from None
    if not chosen:
        raise SourceError("this machine has no resolver", remedy="Name one with --resolver")
    resolver = Resolver(ResolverSettings(chosen, timeout=timeout, tcp=tcp))
    return Source(resolver.run, offline=False, close=resolver.close)


def from_recording(path: Path) -> Source:
    """Answers as they were recorded (`--record-to`)."""
    try:
        document = json.loads(_text(path))
        if not isinstance(document, dict):
            raise InputError("not a recording of answers")
        answer_all = answers_from_recording(document)
    except (InputError, ValueError) as error:
        remedy = "Make one with rustgauge audit ... --record-to"
        raise SourceError(f"{path}: {error}", remedy=remedy) from None
    about = document.get("about", {})
    names = tuple(str(name) for name in about) if isinstance(about, dict) else ()
    selectors = {str(name): tuple(map(str, names_there)) for name, names_there in about.items()} if names else {}
    return Source(_driven(answer_all), names, selectors)


def from_zone_files(paths: Iterable[Path], origin: str | None = None) -> Source:
    """Answers from master files, or from all `*.zone` files of a directory."""
    zones: list[dns.zone.Zone] = []
    lines: dict[tuple[str, str], tuple[str, int]] = {}
    for path in _files(paths):
        text = _text(path)
        try:
            zone = read_zone(text, origin or _origin_from_name(path, text), str(path))
        except InputError as error:
            raise SourceError(str(error), remedy=error.remedy) from None
        zones.append(zone)
        lines.update(_lines(text, zone, str(path)))
    domains, selectors = _speak_of(zones)
    origins = tuple(str(zone.origin).rstrip(".").lower() for zone in zones)
    return Source(_driven(answers_from_zones(zones)), domains, selectors, lines, zones=origins)


def _driven(answer_all: Callable[[Questions], Answers]) -> Callable[[DnsProgram[Any]], Any]:
    return lambda program: drive(program, answer_all)


def _files(paths: Iterable[Path]) -> list[Path]:
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            inside = sorted(path.glob("*.zone"))
            if not inside:
                raise SourceError(f"{path} holds no *.zone file", remedy="Name the files themselves")
            found += inside
        else:
            found.append(path)
    return found


def _text(path: Path) -> str:
    try:
        if path.stat().st_size > _MAX_FILE:
            raise SourceError(f"{path} is larger than {_MAX_FILE // 1024 // 1024} MB")
        return path.read_text("utf-8", "surrogateescape")
    except OSError as error:
        raise SourceError(f"{path} cannot be read: {error.strerror}", remedy="Check the name of the file") from None


def _origin_from_name(path: Path, text: str) -> str | None:
    """`glasswort.example.zone` is the zone glasswort.example unless the file says otherwise."""
    if re.search(r"(?im)^\s*\$ORIGIN\s", text):
        return None
    for bare in (path.name.removesuffix(".zone"), path.name.removesuffix(".db"), path.name.removeprefix("db.")):
        if bare != path.name and "." in bare:
            return bare
    return None


def _speak_of(zones: list[dns.zone.Zone]) -> tuple[tuple[str, ...], dict[str, tuple[str, ...]]]:
    """The domains that could send: the zones themselves, and names with SPF, MX, a policy or keys of their own."""
    domains: dict[str, None] = {}
    selectors: dict[str, list[str]] = {}
    for zone in zones:
        if zone.origin is None:
            continue
        domains[zone.origin.to_text(omit_final_dot=True).lower()] = None
        for owner, node in zone.nodes.items():
            name = owner.to_text(omit_final_dot=True).lower()
            key = _SELECTOR.match(name)
            if key:
                selectors.setdefault(key.group(2), []).append(key.group(1))
                domains[key.group(2)] = None
            elif name.startswith("_dmarc."):
                domains[name.removeprefix("_dmarc.")] = None
            elif not name.startswith(("_", "*")) and "._" not in name and _sends(node):
                domains[name] = None
    return tuple(sorted(domains)), {name: tuple(sorted(found)) for name, found in selectors.items()}


def _sends(node: Any) -> bool:
    if node.get_rdataset(dns.rdataclass.IN, dns.rdatatype.MX) is not None:
        return True
    texts = node.get_rdataset(dns.rdataclass.IN, dns.rdatatype.TXT) or ()
    return any(isinstance(r, TXT) and is_spf1(b"".join(r.strings).decode("utf-8", "replace")) for r in texts)


_DIRECTIVE = re.compile(r"^\s*\$ORIGIN\s+(\S+)", re.IGNORECASE)


def _lines(text: str, zone: dns.zone.Zone, file: str) -> dict[tuple[str, str], tuple[str, int]]:
    """Where each record begins, for tools that show a place in a file. Good for files as people write them."""
    origin = zone.origin.to_text(omit_final_dot=True).lower() if zone.origin else ""
    owner, depth = origin, 0
    found: dict[tuple[str, str], tuple[str, int]] = {}
    for number, line in enumerate(text.splitlines(), 1):
        directive = _DIRECTIVE.match(line)
        if directive:
            origin = directive.group(1).rstrip(".").lower() or origin
            continue
        bare = re.sub(r'"(?:[^"\\]|\\.)*"', '""', line).partition(";")[0]
        words = bare.split()
        if depth == 0 and words and not words[0].startswith("$"):
            if not bare[0].isspace():
                owner = _full(words.pop(0).lower(), origin)
            kinds = [w.upper() for w in words[:3] if not w.isdigit() and w.upper() not in ("IN", "CH", "HS")]
            if kinds:
                found.setdefault((owner, kinds[0]), (file, number))
        depth = max(0, depth + bare.count("(") - bare.count(")"))
    return found


def _full(name: str, origin: str) -> str:
    if name == "@":
        return origin
    return name.rstrip(".") if name.endswith(".") else f"{name}.{origin}"
