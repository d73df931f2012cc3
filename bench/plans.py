"""A plan for 50 relays and 500 streams, and a round of a watch: 12 records at 30 resolvers, all of them silent."""

import socket
import time

import dns.rdata
import dns.rdataclass
import dns.rdatatype

from bench.world import Bench, Figure, middle_of
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion, drive
from rust_gauge.core.recordplan import (
    DkimNeed,
    HostNeed,
    PlannedRecord,
    PlannedStream,
    PlanRequest,
    Purpose,
    RecordPlan,
    Relay,
    SendingHost,
    WatchServer,
    make_plan,
    sight,
    watch_questions,
)
from rust_gauge.gateways.resolver import Resolver, ResolverSettings

TIMEOUT = 2.0


def run(_: Bench) -> list[Figure]:
    return [_plan(), _watch()]


def _plan() -> Figure:
    relays = tuple(
        Relay(
            f"relay{n}",
            hosts=(SendingHost(f"192.0.2.{n}", f"mta{n}.d.example"),),
            own=n % 2 == 0,
            include=f"spf{n}.relay.example" if n % 2 else "",
            dkim=(
                DkimNeed(f"r{n}a", "CNAME", "r.{dashed}.relay.example"),
                DkimNeed(f"r{n}b", "CNAME", "s.relay.example"),
            ),
            return_path=HostNeed(f"bounce{n}", "MX", "returns.relay.example"),
            tracking=HostNeed(f"click{n}", "CNAME", "track.relay.example"),
        )
        for n in range(50)
    )
    streams = tuple(
        PlannedStream(f"stream{n}", f"s{n % 40}.d.example", "", "", "", (f"relay{n % 50}", f"relay{(n + 7) % 50}"))
        for n in range(500)
    )
    request = PlanRequest("d.example", "d.example", relays, streams)

    def answer(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        return tuple(held.get(q.name) or DnsAnswer(q, AnswerStatus.NO_NAME) for q in questions)

    held = {}
    for n in range(50):
        question = DnsQuestion(f"spf{n}.relay.example", "TXT")
        rdata = dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.TXT, f'"v=spf1 ip4:198.51.100.{n}/32 -all"')
        held[question.name] = DnsAnswer(question, AnswerStatus.FOUND, (rdata,), 300)
    taken = middle_of(9, lambda: drive(make_plan(request), answer))
    count = len(drive(make_plan(request), answer).records)
    return Figure(f"a plan for 50 relays and 500 streams ({count} records)", f"{taken * 1000:.1f} ms", "50 ms",
                  taken / 0.05, "1")  # fmt: skip


def _watch() -> Figure:
    """Every resolver is silent: the round has to end with the time-out of the slowest, not with the sum of them."""
    silent = [socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(30)]
    for sock in silent:
        sock.bind(("127.0.0.1", 0))
    addresses = [f"127.0.0.1:{sock.getsockname()[1]}" for sock in silent]
    resolver = Resolver(ResolverSettings((("127.0.0.1", 1),), timeout=TIMEOUT, trusted=frozenset(addresses)))
    records = [PlannedRecord(Purpose.SPF, "d.example", f"n{n}.d.example", "TXT", "v=spf1 -all") for n in range(12)]
    plan = RecordPlan("d.example", "d.example", tuple(records))
    servers = [WatchServer(address, address) for address in addresses]

    def round_() -> None:
        asked = watch_questions(records, servers)
        assert len(asked) == 12 * 30
        answers = resolver.look([question for _, _, question in asked])
        seen = [sight(record, server, answer, plan) for (record, server, _), answer in zip(asked, answers, strict=True)]
        assert {sighting.holds for sighting in seen} == {"failed"}

    try:
        taken = middle_of(3, round_)
        time.sleep(0.1)
        received = 0
        for sock in silent:
            sock.setblocking(False)
            while True:
                try:
                    sock.recv(2000)
                    received += 1
                except BlockingIOError:
                    break
        assert received <= 3 * 12 * 30, "more queries than records × resolvers a round"
    finally:
        resolver.close()
        for sock in silent:
            sock.close()
    return Figure(f"a round of a watch, 12 records at 30 silent resolvers ({received // 3} queries)", f"{taken:.2f} s",
                  f"{TIMEOUT:.1f} s time-out", taken / TIMEOUT, "1.2")  # fmt: skip
