"""A DNS server on loopback that is all of DNS for the demo and the tests: UDP and TCP, from RFC 1035 zone files.

Each `<zone>.zone` file in a directory is a zone. `behaviour.toml` beside them tells it to misbehave:

    ["slow.example"]
    delay = 2.5            # seconds before each answer
    ["broken.example"]
    fail = "servfail"      # or "refused", or "silent" (no answer at all)
    ["lagging.example"]
    behind = 600           # seconds for which it goes on serving a zone as it was before its file changed

Names outside every zone do not exist.

`--resolver PORT=SECONDS` serves the same world at another port as a resolver would that holds old answers: after a zone
has changed it goes on giving the old one for so many seconds, with a TTL that counts down.
"""

import argparse
import asyncio
import contextlib
import functools
import ipaddress
import struct
import threading
import time
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.zone

from rust_gauge.core.dns.held import wildcard_node

_UDP_LIMIT = 512  # octets without EDNS (RFC 1035 §4.2.1)
_MAX_ALIASES = 16  # as resolvers do, so that a loop of CNAMEs ends


@dataclass(frozen=True, slots=True)
class Behaviour:
    """How a zone misbehaves. Times in seconds; `fail` is empty, `servfail`, `refused` or `silent`."""

    delay: float = 0.0
    fail: str = ""
    behind: float = 0.0


@dataclass
class _Zone:
    path: Path
    stamp: int
    now: dns.zone.Zone
    waiting: list[tuple[float, dns.zone.Zone]] = field(default_factory=list)
    was: list[tuple[float, dns.zone.Zone]] = field(default_factory=list)  # (until when, the zone), oldest first


class DnsWorld:
    """Zones, and answers from them. Files are looked at again when they change."""

    def __init__(self, directory: Path) -> None:
        self.directory = directory
        self.zones: dict[dns.name.Name, _Zone] = {}
        self.behaviours: dict[dns.name.Name, Behaviour] = {}
        self._behaviour_stamp = 0
        self._reloading = threading.Lock()  # a test reloads from its own thread, beside the server's
        self.port = 0  # known once it serves
        self.resolver_ports: list[int] = []
        self.reload()

    def behave(self, zone: str, behaviour: Behaviour) -> None:
        """Misbehave from now on (until `behaviour.toml` changes)."""
        self.behaviours[dns.name.from_text(zone)] = behaviour

    def reload(self) -> None:
        """Take in files that are new, changed or gone."""
        with self._reloading:
            self._reload()

    def _reload(self) -> None:
        rules = self.directory / "behaviour.toml"
        try:
            stamp = rules.stat().st_mtime_ns
        except OSError:
            stamp = 0
        if stamp != self._behaviour_stamp:
            self._behaviour_stamp = stamp
            parsed = tomllib.loads(rules.read_text("utf-8")) if stamp else {}
            self.behaviours = {dns.name.from_text(name): Behaviour(**value) for name, value in parsed.items()}
        files = {dns.name.from_text(path.stem): path for path in self.directory.glob("*.zone")}
        for origin in self.zones.keys() - files.keys():
            del self.zones[origin]
        for origin, path in files.items():
            try:
                stamp = path.stat().st_mtime_ns
            except OSError:
                continue  # it went away between the two looks
            known = self.zones.get(origin)
            if known is not None and known.stamp == stamp:
                continue
            try:
                zone = dns.zone.from_file(str(path), origin, relativize=False)
            except (dns.exception.DNSException, OSError):
                continue  # half-written, or wrong: go on serving what there was
            if known is None:
                self.zones[origin] = _Zone(path, stamp, zone)
            else:
                known.stamp = stamp
                lag = self.behaviours.get(origin, Behaviour()).behind
                known.waiting.append((time.monotonic() + lag, zone))

    def zone_of(self, name: dns.name.Name, lag: float = 0) -> tuple[dns.name.Name, dns.zone.Zone] | None:
        """The closest zone above a name, in the version that is served now, or was `lag` seconds ago."""
        while True:
            held = self.zones.get(name)
            if held is not None:
                while held.waiting and held.waiting[0][0] <= time.monotonic():
                    began, zone = held.waiting.pop(0)
                    held.was = [*held.was[-9:], (began, held.now)]
                    held.now = zone
                return name, next((zone for until, zone in held.was if until + lag > time.monotonic()), held.now)
            if name == dns.name.root:
                return None
            name = name.parent()

    def behaviour_for(self, wire: bytes) -> Behaviour:
        """How the zone of a query behaves."""
        try:
            query = dns.message.from_wire(wire, ignore_trailing=True)
            found = self.zone_of(query.question[0].name) if query.question else None
        except dns.exception.DNSException:
            return Behaviour()
        return self.behaviours.get(found[0], Behaviour()) if found else Behaviour()

    def held_for(self, name: dns.name.Name, lag: float) -> float | None:
        """For how many seconds a resolver with this lag still holds what it gives; None when that is what there is."""
        found = self.zone_of(name, lag)
        if found is None:
            return None
        held = self.zones[found[0]]
        return next((until + lag - time.monotonic() for until, zone in held.was if zone is found[1]), None)

    def answer(self, wire: bytes, *, udp: bool, lag: float = 0) -> bytes | None:
        """The response to a query in wire form; None when nothing should be said."""
        try:
            query = dns.message.from_wire(wire, ignore_trailing=True)
            response = dns.message.make_response(query, recursion_available=True)
        except dns.exception.DNSException:
            return None
        if len(query.question) != 1:
            response.set_rcode(dns.rcode.FORMERR)
            return response.to_wire()
        question = query.question[0]
        fail = self.behaviour_for(wire).fail
        if fail == "silent":
            return None
        if fail:
            response.set_rcode(dns.rcode.REFUSED if fail == "refused" else dns.rcode.SERVFAIL)
        else:
            self._fill(response, question.name, question.rdtype, lag)
            self._count_down(response, question.name, lag)
        limit = max(_UDP_LIMIT, query.payload if query.edns >= 0 else _UDP_LIMIT) if udp else 65535
        return response.to_wire(max_size=limit, prefer_truncation=True)

    def _count_down(self, response: dns.message.Message, name: dns.name.Name, lag: float) -> None:
        """A resolver says for how long it will still hold an answer (RFC 1035 §3.2.1, RFC 2308 §5)."""
        if not lag:
            return
        response.flags &= ~dns.flags.AA
        left = self.held_for(name, lag)
        if left is not None:
            for rrset in (*response.answer, *response.authority):
                rrset.ttl = max(0, min(rrset.ttl, int(left) + 1))

    def _fill(
        self, response: dns.message.Message, name: dns.name.Name, rdtype: dns.rdatatype.RdataType, lag: float
    ) -> None:
        for _ in range(_MAX_ALIASES):
            found = self.zone_of(name, lag)
            if found is None:
                response.set_rcode(dns.rcode.NXDOMAIN)
                return
            origin, zone = found
            response.flags |= dns.flags.AA  # every zone here is this server's own
            node = zone.get_node(name) or wildcard_node(zone, name)
            if node is None:
                if not any(other.is_subdomain(name) for other in zone.nodes):  # an empty name above others exists
                    response.set_rcode(dns.rcode.NXDOMAIN)
                self._authority(response, origin, zone)
                return
            rdataset = node.get_rdataset(dns.rdataclass.IN, rdtype)
            if rdataset is not None:
                rrset = response.find_rrset(response.answer, name, dns.rdataclass.IN, rdtype, create=True)
                rrset.update(rdataset)  # type: ignore[no-untyped-call]
                return
            alias = node.get_rdataset(dns.rdataclass.IN, dns.rdatatype.CNAME)
            if alias is None:
                self._authority(response, origin, zone)
                return
            rrset = response.find_rrset(response.answer, name, dns.rdataclass.IN, dns.rdatatype.CNAME, create=True)
            rrset.update(alias)  # type: ignore[no-untyped-call]
            name = alias[0].target

    @staticmethod
    def _authority(response: dns.message.Message, origin: dns.name.Name, zone: dns.zone.Zone) -> None:
        soa = zone.get_rdataset(origin, dns.rdatatype.SOA)
        if soa is not None:
            rrset = response.find_rrset(response.authority, origin, dns.rdataclass.IN, dns.rdatatype.SOA, create=True)
            rrset.update(soa)  # type: ignore[no-untyped-call]


class _Udp(asyncio.DatagramProtocol):
    def __init__(self, world: DnsWorld, lag: float) -> None:
        self.world = world
        self.lag = lag
        self.tasks: set[asyncio.Task[None]] = set()

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = transport

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        task = asyncio.ensure_future(self._reply(data, addr))
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)

    async def _reply(self, data: bytes, addr: tuple[str, int]) -> None:
        delay = self.world.behaviour_for(data).delay
        if delay:
            await asyncio.sleep(delay)
        wire = self.world.answer(data, udp=True, lag=self.lag)
        if wire is not None:
            self.transport.sendto(wire, addr)  # type: ignore[attr-defined]


async def serve(
    world: DnsWorld,
    host: str,
    port: int,
    ready: threading.Event | None = None,
    resolvers: Sequence[tuple[int, float]] = (),
) -> None:
    """Serve until cancelled, on loopback only. With port 0 a free one is taken; it is then in `world.port`.

    `resolvers` are (port, seconds of lag) of further ports that answer as resolvers which hold old answers.
    """
    if not ipaddress.ip_address(host).is_loopback:
        raise ValueError("the stand-in serves on loopback only")
    loop = asyncio.get_running_loop()

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError):
            while True:
                (length,) = struct.unpack("!H", await reader.readexactly(2))
                data = await reader.readexactly(length)
                await asyncio.sleep(world.behaviour_for(data).delay)
                wire = world.answer(data, udp=False)
                if wire is None:
                    break
                writer.write(struct.pack("!H", len(wire)) + wire)
                await writer.drain()
        writer.close()

    server = await asyncio.start_server(talk, host, port)
    world.port = server.sockets[0].getsockname()[1]
    udp = [await loop.create_datagram_endpoint(lambda: _Udp(world, 0), local_addr=(host, world.port))]
    for number, lag in resolvers:
        udp.append(await loop.create_datagram_endpoint(functools.partial(_Udp, world, lag), local_addr=(host, number)))
        world.resolver_ports.append(udp[-1][0].get_extra_info("sockname")[1])
    if ready is not None:
        ready.set()
    try:
        while True:
            await asyncio.sleep(0.1)
            world.reload()
    finally:
        server.close()
        tasks = [task for _, protocol in udp for task in protocol.tasks]  # answers that were still being held back
        for transport, _ in udp:
            transport.close()
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


def main() -> None:
    """`python -m rust_gauge.standins.dns_world --directory zones --port 5300`."""
    parser = argparse.ArgumentParser(description="DNS from zone files, on loopback, for the demo and for tests")
    parser.add_argument("--directory", type=Path, required=True)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--resolver", action="append", default=[], metavar="PORT=SECONDS", help="a resolver that lags")
    arguments = parser.parse_args()
    resolvers = [(int(port), float(lag)) for port, _, lag in (text.partition("=") for text in arguments.resolver)]
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(serve(DnsWorld(arguments.directory), arguments.host, arguments.port, resolvers=resolvers))


if __name__ == "__main__":
    main()
