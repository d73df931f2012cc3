"""Audits beside the bare work in them: 1,000 domains over DNS, SPF from answers held, a signature over 20 kB."""

import asyncio
import base64
import hashlib
import ipaddress
import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import dns.asyncquery
import dns.flags
import dns.message
import dns.rdata
import dns.rdataclass
import dns.rdatatype
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
from cryptography.hazmat.primitives.asymmetric.utils import Prehashed
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from bench.world import Bench, Figure, middle_of
from rust_gauge.core.audit import USUAL_SELECTORS, AuditRequest, DomainAudit, audit_domain
from rust_gauge.core.dkim import DkimResult, sign_message, verify_message
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion, drive
from rust_gauge.core.spf import SpfResult, check_host, parse_spf
from rust_gauge.demo.zones import _key as make_key
from rust_gauge.gateways.resolver import Resolver, ResolverSettings
from rust_gauge.launch.mariadb import free_port

DOMAINS = 1000
AT_ONCE = 32
CONCURRENCY = 128
_NETWORKS = [f"198.51.100.{n * 8}/29" for n in range(20)]
_WORLD = {
    "d.example": "v=spf1 include:a.r.example include:b.r.example include:c.r.example -all",
    "a.r.example": "v=spf1 " + " ".join(f"ip4:{n}" for n in _NETWORKS[:7]) + " -all",
    "b.r.example": "v=spf1 " + " ".join(f"ip4:{n}" for n in _NETWORKS[7:14]) + " -all",
    "c.r.example": "v=spf1 " + " ".join(f"ip4:{n}" for n in _NETWORKS[14:]) + " -all",
}


def run(_: Bench) -> list[Figure]:
    plain = b"The boat leaves at nine, and it does so every day of the week but one.\r\n"
    loose = b"The boat leaves at nine, and it does so every day of the week  but one. \r\n"
    name = "one 2048-bit signature over 20 kB verified"
    return [
        _spf(),
        _spf_cold(),
        _signature(name, plain),
        _signature(f"{name}, blanks to reduce in every line", loose),
        *_thousand_domains(),
    ]


# SPF


def _held() -> Any:
    held = {}
    for name, value in _WORLD.items():
        question = DnsQuestion(name, "TXT")
        rdata = dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.TXT, f'"{value}"')
        held[question] = DnsAnswer(question, AnswerStatus.FOUND, (rdata,), 300)
    return lambda questions: tuple(held.get(q) or DnsAnswer(q, AnswerStatus.NO_NAME) for q in questions)


def _evaluate(answer_all: Any) -> None:
    # An address that nothing matches: every one of the twenty networks is looked at.
    outcome = drive(check_host("192.0.2.9", "d.example", "a@d.example", "mx.d.example"), answer_all)
    assert outcome.result is SpfResult.FAIL


def _one_network() -> float:
    return middle_of(7, lambda: [ipaddress.ip_network(_NETWORKS[n % 20]) for n in range(5000)]) / 5000


def _spf() -> Figure:
    answer_all = _held()
    _evaluate(answer_all)
    ours = middle_of(7, lambda: [_evaluate(answer_all) for _ in range(300)]) / 300
    floor = _one_network()
    return Figure("SPF from answers held (3 includes, 20 networks)", f"{ours * 1e6:.0f} µs",
                  f"{floor * 1e6:.2f} µs one ip_network()", ours / floor, "60")  # fmt: skip


def _spf_cold() -> Figure:
    answer_all = _held()

    def cold() -> None:
        parse_spf.cache_clear()
        _evaluate(answer_all)

    ours = middle_of(7, lambda: [cold() for _ in range(300)]) / 300
    floor = _one_network()
    return Figure("the same, each record parsed again", f"{ours * 1e6:.0f} µs",
                  f"{floor * 1e6:.2f} µs one ip_network()", ours / floor, "-")  # fmt: skip


# DKIM


def _signature(name: str, line: bytes) -> Figure:
    key = rsa.generate_private_key(65537, 2048)
    body = (line * 280)[:20_000]
    head = (
        b"From: Marram Ferries <booking@d.example>\r\nTo: isla@tidepost.example\r\nSubject: Your ticket\r\n"
        b"Date: Fri, 20 Nov 2026 08:00:00 +0000\r\nMessage-ID: <1@d.example>\r\nMIME-Version: 1.0\r\n\r\n"
    )
    message = sign_message(head + body, key, domain="d.example", selector="s1")
    octets = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    spki = base64.b64encode(octets).decode()
    text = f"v=DKIM1; k=rsa; p={spki}"
    rdata = dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.TXT, f'"{text[:250]}" "{text[250:]}"')
    answer = DnsAnswer(DnsQuestion("s1._domainkey.d.example", "TXT"), AnswerStatus.FOUND, (rdata,), 300)

    def verify() -> None:
        (verdict,) = drive(verify_message(message), lambda _: (answer,))
        assert verdict.result is DkimResult.PASS

    public, padding, hashed = key.public_key(), PKCS1v15(), Prehashed(SHA256())
    digest = hashlib.sha256(body).digest()
    signed = key.sign(digest, padding, hashed)

    def bare() -> None:
        hashlib.sha256(body).digest()
        public.verify(signed, digest, padding, hashed)

    verify()
    taken: list[tuple[float, float]] = []
    for _ in range(15):  # by turns, so that a slow moment of the machine falls on both
        floor = middle_of(1, lambda: [bare() for _ in range(200)]) / 200
        taken.append((middle_of(1, lambda: [verify() for _ in range(200)]) / 200, floor))
    ours, floor = sorted(taken, key=lambda pair: pair[0] / pair[1])[len(taken) // 2]
    return Figure(name, f"{ours * 1e6:.0f} µs",
                  f"{floor * 1e6:.0f} µs SHA-256 and RSA", ours / floor, "4")  # fmt: skip


# A thousand domains


def _write_zones(directory: Path) -> list[str]:
    names = []
    keys = [make_key() for _ in range(8)]
    for zone in range(10):
        lines = ["$TTL 300", "@ IN SOA ns1.relay.example. h.relay.example. 1 3600 600 86400 60",
                 "@ IN NS ns1.relay.example.", "@ IN NS ns2.relay.example."]  # fmt: skip
        for n in range(DOMAINS // 10):
            key = keys[n % len(keys)]
            lines += [
                f'd{n} IN TXT "v=spf1 include:spf{n % 20}.relay.example ip4:192.0.2.{n}/32 -all"',
                f"d{n} IN MX 10 mx{n % 7}.relay.example.",
                f's1._domainkey.d{n} IN TXT "v=DKIM1; k=rsa; p={key[:200]}" "{key[200:]}"',
                f'_dmarc.d{n} IN TXT "v=DMARC1; p=reject; rua=mailto:r@relay.example"',
            ]
            names.append(f"d{n}.z{zone}.example")
        (directory / f"z{zone}.example.zone").write_text("\n".join(lines) + "\n")
    relay = ["$TTL 300", "@ IN SOA ns1 h 1 3600 600 86400 60", "@ IN NS ns1", "@ IN NS ns2", "ns1 IN A 192.0.2.1",
             "ns2 IN A 192.0.2.2", "@ IN MX 10 mx0"]  # fmt: skip
    relay += [f"mx{n} IN A 192.0.2.{100 + n}" for n in range(7)]
    relay += [f'spf{n} IN TXT "v=spf1 ip4:198.51.100.{n * 8}/29 -all"' for n in range(20)]
    (directory / "relay.example.zone").write_text("\n".join(relay) + "\n")
    random.Random(7).shuffle(names)
    return names


def _audit_all(names: Sequence[str], port: int) -> tuple[float, list[DnsQuestion]]:
    """Seconds, and the distinct questions that went over the wire."""
    resolver = Resolver(ResolverSettings((("127.0.0.1", port),), concurrency=CONCURRENCY, per_server=CONCURRENCY))
    asked: set[DnsQuestion] = set()

    def done(_: int, result: DomainAudit | Exception) -> bool:
        assert isinstance(result, DomainAudit), result
        asked.update(answer.question for answer in result.answers if isinstance(answer, DnsAnswer))
        return True

    requests = (AuditRequest(name, ("s1",), usual_selectors=USUAL_SELECTORS, ask_servers=False, ask_pages=False)
                for name in names)  # fmt: skip
    try:
        began = time.perf_counter()
        resolver.run_many(map(audit_domain, requests), at_once=AT_ONCE, done=done)
        return time.perf_counter() - began, sorted(asked, key=str)
    finally:
        resolver.close()


def _ask_all(questions: Sequence[DnsQuestion], port: int) -> float:
    """The same questions with nothing but dnspython, as many at a time."""

    async def work() -> None:
        waiting = iter(questions)

        async def one_after_another() -> None:
            for question in waiting:
                query = dns.message.make_query(question.name, question.rdtype, use_edns=0, payload=1232)
                await dns.asyncquery.udp_with_fallback(query, "127.0.0.1", timeout=3, port=port, ignore_unexpected=True)

        await asyncio.gather(*(one_after_another() for _ in range(CONCURRENCY)))

    began = time.perf_counter()
    asyncio.run(work())
    return time.perf_counter() - began


@contextmanager
def zones_served() -> Iterator[tuple[list[str], int]]:
    """Yield the names of domains that the DNS stand-in serves, and its port."""
    with tempfile.TemporaryDirectory(prefix="rust-gauge-zones-") as directory:
        yield from _served(Path(directory))


def _served(directory: Path) -> Iterator[tuple[list[str], int]]:
    names = _write_zones(directory)
    port = free_port()
    command = [
        sys.executable,
        "-m",
        "rust_gauge.standins.dns_world",
        "--directory",
        str(directory),
        "--port",
        str(port),
    ]
    standin = subprocess.Popen(command)
    try:
        probe = Resolver(ResolverSettings((("127.0.0.1", port),), timeout=0.5, attempts=60))
        probe.answer_all([DnsQuestion("relay.example", "SOA")])
        probe.close()
        yield names, port
    finally:
        standin.terminate()
        standin.wait()


def _thousand_domains() -> list[Figure]:
    with zones_served() as (names, port):
        _, questions = _audit_all(names, port)
        ours, bare = [], []
        for _ in range(3):  # by turns, so that a slow minute of the machine falls on both
            bare.append(_ask_all(questions, port))
            ours.append(_audit_all(names, port)[0])
        first, second = statistics.median(ours), statistics.median(bare)
    name = f"audits of {DOMAINS:,} domains ({len(questions):,} distinct questions)"
    return [Figure(name, f"{first:.1f} s", f"{second:.1f} s bare dnspython", first / second, "1.3")]
