"""The stand-in DNS over the wire: UDP, TCP, aliases, wildcards, misbehaviour; and the resolver that asks it."""

import time
from collections.abc import Iterator
from pathlib import Path

import dns.message
import dns.rcode
import pytest

from rust_gauge.core.dns import AnswerStatus, DnsProgram, DnsQuestion
from rust_gauge.core.dns import ask as dns_ask
from rust_gauge.gateways.resolver import Resolver, ResolverSettings
from rust_gauge.standins.dns_world import Behaviour, DnsWorld, serve
from tests.conftest import HEAD, World


@pytest.fixture
def resolver(world: World) -> Iterator[Resolver]:
    """Waits long enough for whatever answers at all, on however busy a machine."""
    yield from resolving(world, timeout=60)


@pytest.fixture
def impatient(world: World) -> Iterator[Resolver]:
    """For what never answers: the time-out has to pass."""
    yield from resolving(world, timeout=0.2)


def resolving(world: World, timeout: float) -> Iterator[Resolver]:
    made = Resolver(ResolverSettings((("127.0.0.1", world.dns.port),), timeout=timeout, attempts=1))
    yield made
    made.close()


def ask(resolver: Resolver, name: str, rdtype: str, fresh: bool = True):  # type: ignore[no-untyped-def]
    (answer,) = resolver.answer_all([DnsQuestion(name, rdtype)], fresh=fresh)
    return answer


@pytest.fixture(autouse=True)
def zones(world: World) -> Iterator[None]:
    world.zone(
        "wire.example",
        "www IN CNAME host.other-wire.example.\n*.wild IN A 192.0.2.7\na.b.deep IN A 192.0.2.8\n"
        "loop1 IN CNAME loop2\nloop2 IN CNAME loop1\n" + "".join(f'big IN TXT "{n} {"x" * 240}"\n' for n in range(12)),
    )
    world.zone("other-wire.example", "host IN A 192.0.2.9\n")
    yield
    for zone in ("other-wire.example", "fails.example"):  # whatever a test did, the next one finds zones that answer
        world.dns.behave(zone, Behaviour())


def test_answers_tell_no_data_from_no_name(resolver: Resolver) -> None:
    assert ask(resolver, "host.other-wire.example", "A").status is AnswerStatus.FOUND
    assert ask(resolver, "host.other-wire.example", "MX").status is AnswerStatus.NO_DATA
    assert ask(resolver, "none.other-wire.example", "A").status is AnswerStatus.NO_NAME
    assert ask(resolver, "b.deep.wire.example", "A").status is AnswerStatus.NO_DATA
    assert ask(resolver, "nothing.here", "A").status is AnswerStatus.NO_NAME


def test_aliases_are_followed_and_kept(resolver: Resolver) -> None:
    answer = ask(resolver, "www.wire.example", "A")
    assert [record.address for record in answer.records] == ["192.0.2.9"]
    assert answer.aliases == ("host.other-wire.example",)
    assert ask(resolver, "loop1.wire.example", "A").records == ()


def test_wildcards_match_what_has_no_name_of_its_own(resolver: Resolver) -> None:
    assert ask(resolver, "x.wild.wire.example", "A").status is AnswerStatus.FOUND
    assert ask(resolver, "x.y.wild.wire.example", "A").status is AnswerStatus.FOUND
    assert ask(resolver, "wild.wire.example", "A").status is AnswerStatus.NO_DATA


def test_an_answer_too_long_for_udp_comes_over_tcp(resolver: Resolver) -> None:
    assert len(ask(resolver, "big.wire.example", "TXT").records) == 12


@pytest.mark.parametrize(
    ("fail", "status"),
    [("servfail", AnswerStatus.SERVFAIL), ("refused", AnswerStatus.REFUSED), ("silent", AnswerStatus.TIMEOUT)],
)
def test_a_zone_can_be_told_to_fail(
    world: World, resolver: Resolver, impatient: Resolver, fail: str, status: AnswerStatus
) -> None:
    world.dns.behave("other-wire.example", Behaviour(fail=fail))
    answer = ask(impatient if fail == "silent" else resolver, "host.other-wire.example", "A")
    assert (answer.status, answer.failed) == (status, True)
    assert answer.detail


def test_a_slow_zone_is_waited_for_up_to_the_time_out(world: World, resolver: Resolver, impatient: Resolver) -> None:
    world.dns.behave("other-wire.example", Behaviour(delay=3600))
    assert ask(impatient, "host.other-wire.example", "A").status is AnswerStatus.TIMEOUT
    world.dns.behave("other-wire.example", Behaviour(delay=0.01))
    assert ask(resolver, "host.other-wire.example", "A").status is AnswerStatus.FOUND


def test_a_zone_can_be_behind(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "lag.example.zone").write_text(HEAD + '@ IN TXT "old"\n')
    (tmp_path / "behaviour.toml").write_text('["lag.example"]\nbehind = 600\n')
    world = DnsWorld(tmp_path)

    def text() -> str:
        wire = world.answer(dns.message.make_query("lag.example", "TXT").to_wire(), udp=True)
        assert wire is not None
        return dns.message.from_wire(wire).answer[0][0].to_text()

    (tmp_path / "lag.example.zone").write_text(HEAD + '@ IN TXT "new one"\n')
    world.reload()
    assert text() == '"old"'
    later = time.monotonic() + 601
    monkeypatch.setattr(time, "monotonic", lambda: later)
    assert text() == '"new one"'


def test_a_file_that_is_half_written_or_gone_is_handled(tmp_path: Path) -> None:
    path = tmp_path / "a.example.zone"
    path.write_text(HEAD + '@ IN TXT "one"\n')
    world = DnsWorld(tmp_path)
    path.write_text('@ IN TXT "unfinis')
    world.reload()
    query = dns.message.make_query("a.example", "TXT").to_wire()
    wire = world.answer(query, udp=True)
    assert wire is not None
    assert len(dns.message.from_wire(wire).answer) == 1
    path.unlink()
    world.reload()
    wire = world.answer(query, udp=True)
    assert wire is not None
    assert dns.message.from_wire(wire).rcode() == dns.rcode.NXDOMAIN


def test_rubbish_gets_no_answer_and_does_no_harm(world: World) -> None:
    assert world.dns.answer(b"\x00", udp=True) is None
    assert world.dns.answer(b"\xff" * 600, udp=False) is None


def test_it_serves_on_loopback_only(world: World) -> None:
    import asyncio

    with pytest.raises(ValueError, match="loopback"):
        asyncio.run(serve(world.dns, "0.0.0.0", 0))


def test_the_resolver_keeps_answers_but_not_failures(world: World, resolver: Resolver) -> None:
    world.zone("cached.example", "@ IN A 192.0.2.1\n")
    assert ask(resolver, "cached.example", "A", fresh=False).records[0].address == "192.0.2.1"
    world.zone("cached.example", "@ IN A 192.0.2.2\n")
    assert ask(resolver, "cached.example", "A", fresh=False).records[0].address == "192.0.2.1"
    assert ask(resolver, "cached.example", "A").records[0].address == "192.0.2.2"
    world.dns.behave("fails.example", Behaviour(fail="servfail"))
    world.zone("fails.example", "@ IN A 192.0.2.3\n")
    assert ask(resolver, "fails.example", "A", fresh=False).failed
    world.dns.behave("fails.example", Behaviour())
    assert not ask(resolver, "fails.example", "A", fresh=False).failed


def test_the_same_question_is_not_asked_twice_at_once(world: World, resolver: Resolver) -> None:
    asked = []
    original = world.dns.answer

    def counted(wire: bytes, *, udp: bool, lag: float = 0) -> bytes | None:
        asked.append(wire)
        return original(wire, udp=udp, lag=lag)

    world.dns.answer = counted  # type: ignore[method-assign]
    try:
        question = DnsQuestion("host.other-wire.example", "A")
        answers = resolver.answer_all([question] * 20, fresh=True)
    finally:
        world.dns.answer = original  # type: ignore[method-assign]
    assert len(asked) == 1
    assert len(set(answers)) == 1


@pytest.mark.parametrize("name", ["a..b", "x" * 64 + ".example", ".".join(["a" * 60] * 6)])
def test_a_name_that_dns_cannot_hold_does_not_exist(resolver: Resolver, name: str) -> None:
    assert ask(resolver, name, "A").status is AnswerStatus.NO_NAME


def test_without_a_server_every_answer_is_a_failure() -> None:
    lonely = Resolver(ResolverSettings(()))
    try:
        assert ask(lonely, "a.example", "A").failed
    finally:
        lonely.close()


def test_a_program_without_time_left_goes_on_without_answers(resolver: Resolver) -> None:
    def program() -> DnsProgram[list[AnswerStatus]]:
        statuses = []
        for name in ("host.other-wire.example", "www.wire.example"):
            answer = yield from dns_ask(name, "A")
            statuses.append(answer.status)
        return statuses

    assert resolver.run(program(), fresh=True, within=0) == [AnswerStatus.TIMEOUT] * 2
    assert resolver.run(program(), fresh=True, within=60) == [AnswerStatus.FOUND] * 2
