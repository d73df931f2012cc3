"""DNS questions over the wire (RFC 1035; EDNS by RFC 6891): UDP, TCP when the answer is cut, retries, one shared cache.

A question that is already on its way is not asked twice (single flight). A server that fails or is slow gives a failed
answer, never "no such record". Which resolvers are asked comes from the settings alone; a question may name a zone's
own server instead, which is asked without recursion, and only when its address is public or the settings name it.
"""

import asyncio
import queue
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

import dns.asyncquery
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.resolver

from rust_gauge.core.dns import (
    Answer,
    AnswerStatus,
    DnsAnswer,
    DnsProgram,
    DnsQuestion,
    MailboxAnswer,
    MailboxQuestion,
    PageAnswer,
    PageQuestion,
    Question,
    drive,
    split_server,
)
from rust_gauge.gateways.mailboxes import MailboxProbe
from rust_gauge.gateways.pages import PageFetcher, Reach, may_reach

T = TypeVar("T")
_PAYLOAD = 1232  # octets of UDP that pass every path
_RCODES = {dns.rcode.SERVFAIL: AnswerStatus.SERVFAIL, dns.rcode.REFUSED: AnswerStatus.REFUSED}


@dataclass(frozen=True, slots=True)
class ResolverSettings:
    """`servers` as (address, port), asked in this order. Times in seconds.

    `tcp` asks over TCP from the start. `per_server` bounds how many questions one server is asked at a time. `reach`
    sends an address found in DNS to another (address, port): for stand-ins, and for servers behind a NAT.
    """

    servers: tuple[tuple[str, int], ...]
    timeout: float = 3.0
    attempts: int = 2
    concurrency: int = 128
    per_server: int = 64
    tcp: bool = False
    reach: Reach = field(default_factory=dict, hash=False)
    ca_file: str = ""
    name: str = "localhost"  # what we greet mail hosts with
    trusted: frozenset[str] = frozenset()  # servers that questions may name although they are not public
    cache_entries: int = 50_000
    longest_cache: float = 300.0


def system_servers() -> tuple[tuple[str, int], ...]:
    """Return the servers that this machine itself asks (/etc/resolv.conf); empty when it has no resolver."""
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
        self._gates: dict[tuple[str, int], asyncio.Semaphore] = {}
        self._mailboxes = MailboxProbe(settings.timeout * 4, settings.reach, settings.name)
        self._pages = PageFetcher(settings.timeout * 2, settings.reach, settings.ca_file)
        self._thread = threading.Thread(target=self._loop.run_forever, name="resolver", daemon=True)
        self._thread.start()

    @property
    def reach(self) -> Reach:
        """Addresses that are contacted elsewhere."""
        return self._settings.reach

    def close(self) -> None:
        """Give up what is under way, and end the thread."""
        asyncio.run_coroutine_threadsafe(self._give_up(), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
        if not self._thread.is_alive():
            self._loop.close()

    @staticmethod
    async def _give_up() -> None:
        tasks = asyncio.all_tasks() - {asyncio.current_task()}
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        await asyncio.sleep(0)  # transports close in the next round

    def run(self, program: DnsProgram[T], *, fresh: bool = False, within: float | None = None) -> T:
        """Drive a program to its end. `fresh` passes over answers that are held already.

        `within`: seconds for the whole program; what has no answer by then timed out, and the program goes on.
        """
        if within is None:
            return drive(program, lambda questions: self.answer_all(questions, fresh=fresh))
        end = time.monotonic() + within

        def answer(questions: Sequence[Question]) -> tuple[Any, ...]:
            left = max(0.0, end - time.monotonic())
            work = self._answer_within(questions, fresh, left)
            return asyncio.run_coroutine_threadsafe(work, self._loop).result()

        return drive(program, answer)

    async def _answer_within(self, questions: Sequence[Question], fresh: bool, seconds: float) -> tuple[Any, ...]:
        tasks = [asyncio.ensure_future(self._answer_any(question, fresh)) for question in questions]
        await asyncio.wait(tasks, timeout=seconds)
        for task in tasks:
            if not task.done():
                task.cancel()
        return tuple(
            task.result() if task.done() and not task.cancelled() else _late(question)
            for question, task in zip(questions, tasks, strict=True)
        )

    def answer_all(self, questions: Sequence[Question], *, fresh: bool = False) -> tuple[Any, ...]:
        """Answers to all questions, asked side by side."""
        return asyncio.run_coroutine_threadsafe(self.answer_all_async(questions, fresh), self._loop).result()

    def look(self, questions: Sequence[DnsQuestion]) -> tuple[DnsAnswer, ...]:
        """Ask each question exactly once, all at the same time, past every cache and limit: for watching servers.

        It ends when the slowest has answered or run into the time-out.
        """

        async def once(question: DnsQuestion) -> DnsAnswer:
            named = self._named(question.server)
            if named is None:
                detail = f"{question.server} is not a public address, so it is not asked from here"
                return DnsAnswer(question, AnswerStatus.NOT_HELD, detail=detail)
            return await self._ask(question, *named)

        async def every() -> list[DnsAnswer]:
            return await asyncio.gather(*(once(question) for question in questions))

        return tuple(asyncio.run_coroutine_threadsafe(every(), self._loop).result())

    def run_many(
        self,
        programs: Iterable[DnsProgram[T]],
        *,
        at_once: int = 32,
        fresh: bool = False,
        done: Callable[[int, T | Exception], bool] | None = None,
    ) -> None:
        """Drive many programs, `at_once` of them side by side, over one cache.

        `done` is given each one's number and result as it ends, in the caller's thread, and stops the rest by
        returning False. A program that raises spoils no other: its exception stands in place of its result.
        """
        results: queue.Queue[tuple[int, T | Exception] | None] = queue.Queue()
        task = asyncio.run_coroutine_threadsafe(self._drive_many(programs, at_once, fresh, results), self._loop)
        try:
            while (item := results.get()) is not None:
                if done is not None and not done(*item):
                    break
        finally:
            task.cancel()

    async def _drive_many(
        self, programs: Iterable[DnsProgram[T]], at_once: int, fresh: bool, results: "queue.Queue[Any]"
    ) -> None:
        waiting = enumerate(programs)

        async def one_after_another() -> None:
            for number, program in waiting:
                answers: Any = None
                try:
                    while True:
                        answers = await self.answer_all_async(program.send(answers), fresh)
                except StopIteration as stop:
                    results.put((number, stop.value))
                except Exception as error:
                    results.put((number, error))

        await asyncio.gather(*(one_after_another() for _ in range(at_once)))
        results.put(None)

    async def answer_all_async(self, questions: Sequence[Question], fresh: bool = False) -> tuple[Any, ...]:
        """Answer a program's questions on the resolver's own loop."""
        if len(questions) == 1:
            return (await self._answer_any(questions[0], fresh),)
        return tuple(await asyncio.gather(*(self._answer_any(question, fresh) for question in questions)))

    async def _answer_any(self, question: Question, fresh: bool) -> Answer:
        if isinstance(question, PageQuestion):
            return await asyncio.to_thread(self._pages.fetch, question, self.answer_all)
        if isinstance(question, MailboxQuestion):
            return await asyncio.to_thread(self._mailboxes.ask, question, self.answer_all)
        return await self._answer(question, fresh)

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
        began = time.monotonic()
        async with self._gate:
            answer = await self._ask_servers(question)
        answer = replace(answer, seconds=time.monotonic() - began)
        if not answer.failed:
            keep = min(self._settings.longest_cache, answer.ttl if answer.ttl is not None else 30)
            self._cache[question] = (time.monotonic() + keep, answer)
            while len(self._cache) > self._settings.cache_entries:
                self._cache.popitem(last=False)
        return answer

    async def _ask_servers(self, question: DnsQuestion) -> DnsAnswer:
        servers = self._settings.servers
        if question.server:
            named = self._named(question.server)
            if named is None:
                detail = f"{question.server} is not a public address, so it is not asked from here"
                return DnsAnswer(question, AnswerStatus.NOT_HELD, detail=detail)
            servers = (named,)
        answer = DnsAnswer(question, AnswerStatus.SERVFAIL, detail="no DNS server is configured")
        for _ in range(self._settings.attempts):
            for server in servers:
                gate = self._gates.setdefault(server, asyncio.Semaphore(self._settings.per_server))
                async with gate:
                    answer = await self._ask(question, *server)
                if not answer.failed:
                    return answer
            if question.server and answer.status is AnswerStatus.REFUSED:
                return answer
        return answer

    def may_ask(self, server: str) -> bool:
        """Return whether a server may be contacted: a public one, or one of the settings. ValueError for an invalid
        one.
        """
        return self._named(server) is not None

    def _named(self, server: str) -> tuple[str, int] | None:
        """Where a server that a question names is reached; None when it may not be."""
        host, port = split_server(server)
        if server in self._settings.trusted:
            return host, port
        return self._settings.reach.get(host, (host, port)) if may_reach(host, self._settings.reach) else None

    async def _ask(self, question: DnsQuestion, host: str, port: int) -> DnsAnswer:
        where = f"{host} port {port}"
        timeout = self._settings.timeout
        try:
            query = dns.message.make_query(
                question.name, question.rdtype, use_edns=0, payload=_PAYLOAD, want_dnssec=_wants_dnssec(question)
            )
            query.flags |= dns.flags.AD
            if question.server and not question.recursive:
                query.flags &= ~dns.flags.RD
            if question.unchecked:
                query.flags |= dns.flags.CD
            if self._settings.tcp:
                response = await dns.asyncquery.tcp(query, host, timeout=timeout, port=port)
            else:
                response, _ = await dns.asyncquery.udp_with_fallback(
                    query, host, timeout=timeout, port=port, ignore_unexpected=True
                )
            return _read(question, response, where)
        except dns.exception.Timeout:
            return DnsAnswer(question, AnswerStatus.TIMEOUT, detail=f"{where} did not answer within {timeout:g} s")
        except (dns.name.LabelTooLong, dns.name.NameTooLong, dns.name.EmptyLabel):
            # Such a name cannot exist, and cannot even be asked for (RFC 1035 §2.3.4).
            return DnsAnswer(question, AnswerStatus.NO_NAME, detail="the name exceeds the limits of DNS")
        except dns.message.ChainTooLong:
            return DnsAnswer(question, AnswerStatus.SERVFAIL, detail="CNAME loop")
        except dns.exception.DNSException as error:
            return DnsAnswer(question, AnswerStatus.MALFORMED, detail=f"{where}: {type(error).__name__}")
        except (OSError, EOFError) as error:
            return DnsAnswer(question, AnswerStatus.SERVFAIL, detail=f"{where}: {error or type(error).__name__}")
        except (ValueError, UnicodeError) as error:  # a name of octets that DNS text cannot hold
            return DnsAnswer(question, AnswerStatus.NO_NAME, detail=f"the name cannot be asked for: {error}")


def _late(question: Question) -> Answer:
    """Return the answer to a question for which no time was left."""
    why = "the time for this examination was over"
    if isinstance(question, PageQuestion):
        return PageAnswer(question, "failed", detail=why)
    if isinstance(question, MailboxQuestion):
        return MailboxAnswer(question, "failed", detail=why)
    return DnsAnswer(question, AnswerStatus.TIMEOUT, detail=why)


def _wants_dnssec(question: DnsQuestion) -> bool:
    """Signatures make answers large; the AD bit alone tells the rest (RFC 6840 §5.7)."""
    return question.rdtype in ("DS", "DNSKEY", "SOA", "TLSA")


def _read(question: DnsQuestion, response: dns.message.Message, where: str) -> DnsAnswer:
    rcode = response.rcode()
    if rcode not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        status = _RCODES.get(rcode, AnswerStatus.SERVFAIL)
        return DnsAnswer(question, status, detail=f"{where} answered {dns.rcode.to_text(rcode)}")
    if not isinstance(response, dns.message.QueryMessage):
        return DnsAnswer(question, AnswerStatus.MALFORMED, detail=f"{where}: not an answer to a query")
    chain = response.resolve_chaining()
    aliases = tuple(rdata.target.to_text(omit_final_dot=True) for rrset in chain.cnames for rdata in rrset)
    vouched, own = bool(response.flags & dns.flags.AD), bool(response.flags & dns.flags.AA)
    if chain.answer is None:
        status = AnswerStatus.NO_NAME if rcode == dns.rcode.NXDOMAIN else AnswerStatus.NO_DATA
        ttl = min(chain.minimum_ttl, 3600)
        return DnsAnswer(question, status, (), ttl, aliases, authenticated=vouched, authoritative=own)
    return DnsAnswer(
        question, AnswerStatus.FOUND, tuple(chain.answer), chain.minimum_ttl, aliases,
        authenticated=vouched, authoritative=own,
    )  # fmt: skip
