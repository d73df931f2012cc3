"""The audit over a real BIND 9 with DNSSEC-signed zones: a validating resolver in front, zones good, bogus and broken."""

import shutil
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from rust_gauge.core.audit import AuditRequest, DomainAudit, audit_domain
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, ask
from rust_gauge.gateways.resolver import Resolver, ResolverSettings
from rust_gauge.launch.mariadb import free_port

NAMED = shutil.which("named", path="/usr/sbin:/usr/bin:/usr/local/sbin") or "named"
HEAD = """$TTL 3600
@ IN SOA ns1.test. hostmaster.test. 2026112301 3600 600 1209600 300
@ IN NS ns1.test.
@ IN NS ns2.test.
"""
BODY = """@ IN MX 10 mx
mx IN A 192.0.2.25
@ IN TXT "v=spf1 mx -all"
_dmarc IN TXT "v=DMARC1; p=reject; rua=mailto:r@{name}"
"""
ZONES = ("signed.test", "bogus.test", "broken.test", "plain.test")


@dataclass
class Bind:
    """`resolver` validates; `authority` is what the zones' own servers are."""

    resolver: int
    authority: int


def tool(name: str, *words: str, cwd: Path) -> str:
    path = shutil.which(name, path="/usr/sbin:/usr/bin:/usr/local/sbin:/usr/local/bin")
    assert path, f"{name} is part of BIND's packages"
    return subprocess.run([path, *words], cwd=cwd, capture_output=True, text=True, check=True).stdout


def sign(directory: Path, name: str) -> str:
    """A signed zone; gives its DS records."""
    for flags in ((), ("-f", "KSK")):
        tool("dnssec-keygen", "-q", "-a", "ECDSAP256SHA256", *flags, name, cwd=directory)
    tool("dnssec-signzone", "-S", "-q", "-e", "+2592000", "-o", name, f"{name}.zone", cwd=directory)
    return (directory / f"dsset-{name}.").read_text()


def make_zones(directory: Path) -> str:
    """All zone files; returns the trust anchor of `test`."""
    parent = HEAD + "ns1 IN A 192.0.2.1\nns2 IN A 192.0.2.2\n"
    for name in ZONES:
        (directory / f"{name}.zone").write_text(HEAD + BODY.format(name=name))
        parent += f"{name}. IN NS ns1.test.\n"
        if name != "plain.test":
            ds = sign(directory, name)
            if name == "broken.test":  # the DS record of a key that is not there
                ds = f"broken.test. IN DS 12345 13 2 {'AB' * 32}\n"
            parent += ds
    bogus = directory / "bogus.test.zone.signed"
    text = bogus.read_text().replace('"v=spf1 mx -all"', '"v=spf1 +all"')  # changed after it was signed
    bogus.write_text(text)
    (directory / "test.zone").write_text(parent)
    sign(directory, "test")
    for path in directory.glob("Ktest.+*.key"):
        line = next(line for line in path.read_text().splitlines() if "DNSKEY" in line)
        if " 257 " in line:
            _, _, _, flags, protocol, algorithm, *key = line.split()
            return f'"test." static-key {flags} {protocol} {algorithm} "{"".join(key)}";'
    raise AssertionError("no key-signing key")


def configure(directory: Path, authority: int, resolver: int, anchor: str) -> None:
    common = f'directory "{directory}"; listen-on-v6 {{ none; }}; allow-query {{ any; }}; session-keyfile none;'
    zones = "".join(
        f'zone "{name}" {{ type primary; file "{name}.zone{"" if name == "plain.test" else ".signed"}"; }};'
        for name in (*ZONES, "test")
    )
    (directory / "authority.conf").write_text(
        f'options {{ {common} listen-on port {authority} {{ 127.0.0.1; }}; recursion no; pid-file "a.pid"; }};'
        f"controls {{ }}; {zones}"
    )
    (directory / "resolver.conf").write_text(
        f'options {{ {common} listen-on port {resolver} {{ 127.0.0.1; }}; recursion yes; pid-file "r.pid";'
        f" dnssec-validation yes; empty-zones-enable no; }}; controls {{ }}; trust-anchors {{ {anchor} }};"
        f'zone "test" {{ type forward; forward only; forwarders {{ 127.0.0.1 port {authority}; }}; }};'
    )


def started(directory: Path, conf: str, port: int) -> "subprocess.Popen[bytes]":
    process = subprocess.Popen(
        [NAMED, "-g", "-n", "1", "-c", str(directory / conf)],
        stdout=subprocess.DEVNULL,
        stderr=(directory / f"{conf}.log").open("wb"),
    )
    resolver = Resolver(ResolverSettings((("127.0.0.1", port),), timeout=2, attempts=1))
    try:
        deadline = time.monotonic() + 20
        while resolver.answer_all([DnsQuestion("test", "SOA")], fresh=True)[0].failed:
            log = (directory / f"{conf}.log").read_text()[-2000:]
            assert process.poll() is None, log
            assert time.monotonic() < deadline, log
    finally:
        resolver.close()
    return process


@pytest.fixture(scope="module")
def bind(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Bind]:
    """An authoritative server, and a validating one that asks it."""
    directory = tmp_path_factory.mktemp("bind")
    anchor = make_zones(directory)
    made = Bind(free_port(), 0)
    made.authority = free_port()
    configure(directory, made.authority, made.resolver, anchor)
    processes = []
    try:
        processes.append(started(directory, "authority.conf", made.authority))
        processes.append(started(directory, "resolver.conf", made.resolver))
        yield made
    finally:
        for process in processes:
            process.terminate()
            process.wait(10)


@pytest.fixture(scope="module")
def resolver(bind: Bind) -> Iterator[Resolver]:
    reach = dict.fromkeys(("192.0.2.1", "192.0.2.2"), ("127.0.0.1", bind.authority))
    made = Resolver(ResolverSettings((("127.0.0.1", bind.resolver),), timeout=20, reach=reach))
    yield made
    made.close()


def audited(resolver: Resolver, name: str) -> DomainAudit:
    return resolver.run(audit_domain(AuditRequest(name, ask_pages=False)), fresh=True)


def test_a_signed_zone_is_validated(resolver: Resolver) -> None:
    audit = audited(resolver, "signed.test")
    checks = {check.key: check for check in audit.checks}
    assert (str(checks["dnssec"].state), checks["dnssec"].summary) == ("good", "Signed, and the resolver validated it")
    assert audit.findings == ()
    assert checks["dns"].summary == "2 name servers, 2 of them queried"
    (answer,) = resolver.answer_all([DnsQuestion("signed.test", "TXT")])
    assert answer.authenticated


def test_an_unsigned_zone_below_a_signed_one_is_fine(resolver: Resolver) -> None:
    audit = audited(resolver, "plain.test")
    assert audit.findings == ()
    assert {check.key: str(check.state) for check in audit.checks}["dnssec"] == "absent"


@pytest.mark.parametrize("name", ["bogus.test", "broken.test"])
def test_signatures_that_do_not_hold_are_told_and_nothing_is_called_missing(resolver: Resolver, name: str) -> None:
    audit = audited(resolver, name)
    rules = {finding.rule for finding in audit.findings}
    assert "dnssec-bogus" in rules or "dnssec-broken" in rules
    assert not {"spf-missing", "dmarc-missing"} & rules


def test_a_server_of_the_zone_is_asked_itself_and_only_when_it_may_be(bind: Bind, resolver: Resolver) -> None:
    direct, elsewhere = resolver.answer_all(
        [DnsQuestion("signed.test", "SOA", server="192.0.2.1"), DnsQuestion("signed.test", "SOA", server="192.0.2.77")]
    )
    assert direct.authoritative
    assert elsewhere.status is AnswerStatus.NOT_HELD
    (stranger,) = resolver.answer_all([DnsQuestion("other.example", "SOA", server="192.0.2.1")])
    assert stranger.status is AnswerStatus.REFUSED


def test_the_same_is_said_over_tcp(bind: Bind, resolver: Resolver) -> None:
    tcp = Resolver(ResolverSettings((("127.0.0.1", bind.resolver),), timeout=20, tcp=True))
    try:
        request = AuditRequest("signed.test", ask_pages=False, ask_servers=False)
        over_tcp, over_udp = (made.run(audit_domain(request)).records for made in (tcp, resolver))
        assert [(r.name, r.values) for r in over_tcp] == [(r.name, r.values) for r in over_udp]
    finally:
        tcp.close()


def test_a_program_that_fails_spoils_no_other(resolver: Resolver) -> None:
    def broken() -> DnsProgram[DnsAnswer]:
        yield (DnsQuestion("signed.test", "TXT"),)
        raise ValueError("a slip")

    found: dict[int, object] = {}
    programs = [broken(), ask("signed.test", "TXT")]
    resolver.run_many(programs, done=lambda number, result: found.update({number: result}) is None)
    assert isinstance(found[0], ValueError)
    assert isinstance(found[1], DnsAnswer)


def test_many_audits_share_one_cache_and_end_in_any_order(resolver: Resolver) -> None:
    found: dict[int, str] = {}

    def done(number: int, result: DomainAudit | Exception) -> bool:
        assert isinstance(result, DomainAudit)
        found[number] = result.domain
        return len(found) < 30

    names = [ZONES[n % 4] for n in range(40)]
    programs = [audit_domain(AuditRequest(name, ask_pages=False, ask_servers=False)) for name in names]
    resolver.run_many(programs, at_once=8, done=done)
    assert len(found) == 30
    assert all(names[number] == name for number, name in found.items())
