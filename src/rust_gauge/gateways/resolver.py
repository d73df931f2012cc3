"""DNS questions over the wire (RFC 1035; EDNS by RFC 6891): UDP, TCP when the answer is cut, retries, one shared cache.

A question that is already on its way is not asked twice (single flight). A server that fails or is slow gives a failed
answer, never "no such record". Which servers are asked comes from the settings alone.
"""

import asyncio
import threading
import time
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeVar

import dns.asyncquery
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.resolver

from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, drive

T = TypeVar("T")
_PAYLOAD = 1232  # octets of UDP that pass every path
_RCODES = {dns.rcode.SERVFAIL: AnswerStatus.SERVFAIL, dns.rcode.REFUSED: AnswerStatus.REFUSED}


@dataclass(frozen=True, slots=True)
class ResolverSettings:
    """`servers` as (address, port), asked in this order. Times in seconds."""

    servers: tuple[tuple[str, int], ...]
    timeout: float = 3.0
    attempts: int = 2
    concurrency: int = 64
    cache_entries: int = 50_000
    longest_cache: float = 300.0


def system_servers() -> tuple[tuple[str, int], ...]:
    """What this machine itself asks (/etc/resolv.conf); empty when it has no resolver."""
    try:
        return tuple((str(server), 53) for server in dns.resolver.Resolver().nameservers)
    except (dns.exception.DNSException, OSError):
        return ()


class Resolver:
    """Asks from a thread of its own, so that synchronous and asynchronous callers share cache and single flight."""

    def __init__(self, settings: ResolverSettings) -> None:
        self._settings = settings
        self._cache: OrderedDict[DnsQuestion, tuple[float, DnsAnswer]] = OrderedDict()
        self._flying: dict[DnsQuestion, asyncio.Task[DnsAnswer]] = {}
        self._loop = asyncio.new_event_loop()
        self._gate: asyncio.Semaphore | None = None
        self._thread = threading.Thread(target=self._loop.run_forever, name="resolver", daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def run(self, program: DnsProgram[T], *, fresh: bool = False) -> T:
        """Drive a program to its end. `fresh` passes over answers that are held already."""
        return drive(program, lambda questions: self.answer_all(questions, fresh=fresh))

    def answer_all(self, questions: Sequence[DnsQuestion], *, fresh: bool = False) -> tuple[DnsAnswer, ...]:
        """Answers to all questions, asked side by side."""
        return asyncio.run_coroutine_threadsafe(self._answer_all(questions, fresh), self._loop).result()

    async def _answer_all(self, questions: Sequence[DnsQuestion], fresh: bool) -> tuple[DnsAnswer, ...]:
        return tuple(await asyncio.gather(*(self._answer(question, fresh) for question in questions)))

    async def _answer(self, question: DnsQuestion, fresh: bool) -> DnsAnswer:
        held = self._cache.get(question)
        if held is not None and held[0] > time.monotonic() and not fresh:
            self._cache.move_to_end(question)
            return held[1]
        task = self._flying.get(question)
        if task is None:
            task = self._flying[question] = asyncio.ensure_future(self._fetch(question))
            task.add_done_callback(lambda _: self._flying.pop(question, None))
        return await asyncio.shield(task)

    async def _fetch(self, question: DnsQuestion) -> DnsAnswer:
        if self._gate is None:
            self._gate = asyncio.Semaphore(self._settings.concurrency)
        async with self._gate:
            answer = await self._ask_servers(question)
        if not answer.failed:
            keep = min(self._settings.longest_cache, answer.ttl if answer.ttl is not None else 30)
            self._cache[question] = (time.monotonic() + keep, answer)
            while len(self._cache) > self._settings.cache_entries:
                self._cache.popitem(last=False)
        return answer

    async def _ask_servers(self, question: DnsQuestion) -> DnsAnswer:
        answer = DnsAnswer(question, AnswerStatus.SERVFAIL, detail="no DNS server is configured")
        for _ in range(self._settings.attempts):
            for host, port in self._settings.servers:
                answer = await self._ask(question, host, port)
                if not answer.failed:
                    return answer
        return answer

    async def _ask(self, question: DnsQuestion, host: str, port: int) -> DnsAnswer:
        where = f"{host} port {port}"
        try:
            query = dns.message.make_query(question.name, question.rdtype, use_edns=0, payload=_PAYLOAD)
            response, _ = await dns.asyncquery.udp_with_fallback(
                query, host, timeout=self._settings.timeout, port=port, ignore_unexpected=True
            )
            return _read(question, response, where)
        except dns.exception.Timeout:
            detail = f"{where} did not answer within {self._settings.timeout:g} s"
            return DnsAnswer(question, AnswerStatus.TIMEOUT, detail=detail)
        except (dns.name.LabelTooLong, dns.name.NameTooLong, dns.name.EmptyLabel):
            # Such a name cannot exist, and cannot even be asked for (RFC 1035 §2.3.4).
            return DnsAnswer(question, AnswerStatus.NO_NAME, detail="the name breaks the limits of DNS")
        except dns.exception.DNSException as error:
            return DnsAnswer(question, AnswerStatus.MALFORMED, detail=f"{where}: {type(error).__name__}")
        except (OSError, EOFError) as error:
            return DnsAnswer(question, AnswerStatus.SERVFAIL, detail=f"{where}: {error or type(error).__name__}")


def _read(question: DnsQuestion, response: dns.message.Message, where: str) -> DnsAnswer:
    rcode = response.rcode()
    if rcode not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        status = _RCODES.get(rcode, AnswerStatus.SERVFAIL)
        return DnsAnswer(question, status, detail=f"{where} answered {dns.rcode.to_text(rcode)}")
    if not isinstance(response, dns.message.QueryMessage):
        return DnsAnswer(question, AnswerStatus.MALFORMED, detail=f"{where}: not an answer to a query")
    chain = response.resolve_chaining()
    aliases = tuple(rdata.target.to_text(omit_final_dot=True) for rrset in chain.cnames for rdata in rrset)
    if chain.answer is None:
        status = AnswerStatus.NO_NAME if rcode == dns.rcode.NXDOMAIN else AnswerStatus.NO_DATA
        return DnsAnswer(question, status, ttl=min(chain.minimum_ttl, 3600), aliases=aliases)
    return DnsAnswer(question, AnswerStatus.FOUND, tuple(chain.answer), chain.minimum_ttl, aliases)
