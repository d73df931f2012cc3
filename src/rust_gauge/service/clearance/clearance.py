""" "May I mail these?" Reads the list as it is at that moment: nothing is kept between two questions.

Many addresses are looked up in pieces: while the database answers one, the rows of the one before are sorted in.
"""

import tempfile
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import msgspec

from rust_gauge.contract.suppression import ClearanceRequest, Sending
from rust_gauge.core.errors import AddressError, DomainNameError, EventError
from rust_gauge.core.mailflow import Event, Kind, make_event
from rust_gauge.core.names import normalise_domain
from rust_gauge.core.suppression import Asking, Clearance, Entry, Matching, Reason, Scope, State, judge, no_address
from rust_gauge.service.clearance.answers import (
    LATER,
    NOTHING_YET,
    PAUSED,
    Answer,
    Elsewhere,
    LetGo,
    Question,
    Result,
    shown_time,
)
from rust_gauge.service.clearance.brake import Brake
from rust_gauge.service.intake.intake import store_all
from rust_gauge.service.providers.lookup import ProviderLookup, providers_for, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression.policy import list_state
from rust_gauge.store import holding as store_holding
from rust_gauge.store import suppression as store
from rust_gauge.store import suppression_numbers, suppression_state
from rust_gauge.store.accounts import TenantAccess

_STREAM_PIECE = 20_000  # addresses of a stream that are looked at together
_SPOOLED = 4 * 1024 * 1024  # octets kept in memory; more goes to a temporary file


_TENANT, _HELD = Scope.TENANT.number, State.HELD.number
_REASONS = {reason.number: str(reason) for reason in Reason}
_LISTED = frozenset(Reason)
_FIRST_PIECE = 4_000  # addresses
_encoder = msgspec.json.Encoder()
encode = _encoder.encode


class Desk:
    """Answers for one tenant and one question, over one state of its list."""

    def __init__(self, unit: UnitOfWork, lookup: ProviderLookup, question: Question) -> None:
        self.now = unit.now
        self._lookup = lookup
        self._memory = unit.memory
        self._connection = unit.connection
        self._tenant_id = unit.tenant_id
        matchings, pauses = list_state(unit)
        self._pause = next((pause for pause in pauses if _is_paused(pause, question)), None)
        # What was put on the list while it was not known who runs its mailboxes stands as it is written.
        self._matchings = (*matchings, *(replace(matching, same=()) for matching in matchings if matching.same))
        self._asking = Asking()
        self._names: dict[tuple[Scope, int], str] = {}
        self._names_known = False
        self._whys: dict[tuple[int, str], str] = {}
        if question.stream is not None or question.domain is not None:
            domain = question.domain.lower().rstrip(".") if question.domain is not None else None
            self._asking = Asking(
                self._id("domain", domain) if domain is not None else None,
                self._id("stream", question.stream) if question.stream is not None else None,
            )

    def _id(self, what: str, name: str) -> int:
        """The id of a domain or stream; -1 where there is none of this name. Ids never change, so they are kept."""
        known: dict[tuple[str, str], int] = self._memory.setdefault(("ids", self._tenant_id), {})
        if (what, name) not in known:
            domains, streams = store_holding.ids_of(self._connection, self._tenant_id)
            if len(known) > 10_000:
                known.clear()
            known |= {("domain", domain): id for domain, id in domains.items()}
            known |= {("stream", stream): id for stream, id in streams.items()}
        return known.get((what, name), -1)

    def _name(self) -> None:
        domains, streams = store_holding.ids_of(self._connection, self._tenant_id)
        self._names = {(Scope.DOMAIN, id): name for name, id in domains.items()}
        self._names |= {(Scope.STREAM, id): name for name, id in streams.items()}
        self._names_known = True

    def answer(self, texts: Sequence[str]) -> list[Answer]:
        """In the order of the texts."""
        keys: list[list[bytes | None]] = [[] for _ in self._matchings]
        wrong: dict[int, AddressError] = {}
        domains: list[str] = []
        answers: list[Answer] = []
        rows: dict[bytes, list[Any]] = {}
        ends: list[int] = []
        start = 0
        questions = self._questions(texts, keys, wrong, domains, ends)
        for number, found in enumerate(store.standing(self._connection, self._tenant_id, questions)):
            # Made while MariaDB looks up the next question.
            answers += [Answer(text, "clear") for text in texts[len(answers) : len(domains)]]
            for row in found:
                if row[0] in rows:
                    rows[row[0]].append(row)
                else:
                    rows[row[0]] = [row]
            if len(keys) == 1 and found:
                self._judge(answers, keys[0][start : ends[number]], start, rows)
            start = ends[number]
        answers += [Answer(text, "clear") for text in texts[len(answers) :]]
        domain_key = self._matchings[0].domain_key
        gone = {domain: rows[all_of] for domain in set(domains) if (all_of := domain_key(domain)) in rows}
        if len(keys) > 1 or gone:
            self._judge_all(answers, keys, rows, gone, domains)
        for number, error in wrong.items():
            answers[number] = self._show(texts[number], no_address(error))
        if (
            self._pause is not None
        ):  # addresses on the list get their reason; all others wait until the stream is resumed
            since = self._pause["since"].replace("+00:00", "Z")
            why = f"this stream is paused: {self._pause['why']}"
            answers = [
                Answer(answer.address, "held", PAUSED, why, since) if answer.verdict == "clear" else answer
                for answer in answers
            ]
        return answers

    def _questions(
        self, texts: Sequence[str], keys: list[list[bytes | None]], wrong: dict[int, AddressError], domains: list[str],
        ends: list[int],
    ) -> Iterator[Sequence[bytes]]:  # fmt: skip
        """Keys piece by piece, made on demand; `keys`, `wrong`, `domains` and where each piece `ends` are
        filled on the way. The first is small, as nothing else is done while it is made.
        """
        known: set[str] = set()
        most = store.LOOKED_UP // (len(self._matchings) + 1)  # room for keys of domains
        start = 0
        while start < len(texts) or not ends:
            size = min(most, _FIRST_PIECE) if not start else most
            if len(texts) - start < size + _FIRST_PIECE:
                size = min(len(texts) - start, most)
            piece = texts[start : start + size]
            wanted: set[bytes] = set()
            for number, matching in enumerate(self._matchings):
                found, errors, of = matching.keys(piece, self._provider_of(matching, piece))
                keys[number] += found
                wanted.update(key for key in found if key is not None)
                if number == 0:
                    domains += of
                    wrong.update((start + at, error) for at, error in errors.items())
            new = set(domains[start:]) - known
            known |= new
            wanted.update(self._matchings[0].domain_key(domain) for domain in new if domain)
            start += len(piece)
            ends.append(start)
            yield sorted(wanted)

    def _judge(
        self, answers: list[Answer], keys: Sequence[bytes | None], start: int, rows: dict[bytes, list[Any]]
    ) -> None:
        """Each address by its rows; `keys` are those of the answers from `start` on.

        Nearly every row that holds is the only one of its address and holds all mail for good: that one is shown as it
        is. All others are judged by the core; a test holds the two beside each other.
        """
        get, whys = rows.get, self._whys
        for number, key in enumerate(keys, start):
            found = get(key) if key is not None else None
            if not found:
                continue
            answer = answers[number]
            if len(found) == 1 and found[0][2] == _TENANT and found[0][4] == _HELD and found[0][6] is None:
                _, reason, _, _, _, since, _, note = found[0]
                why = whys.get((reason, note))
                if why is None:
                    why = whys[reason, note] = _why(Reason.from_number(reason), note)
                answers[number] = Answer(answer.address, "held", _REASONS[reason], why, f"{since[:10]}T{since[11:]}Z")
            else:
                entries = [_entry(row) for row in found]
                answers[number] = self._show(answer.address, judge(entries, self._asking, self.now))

    def _judge_all(
        self, answers: list[Answer], keys: Sequence[Sequence[bytes | None]], rows: dict[bytes, list[Any]],
        gone: Mapping[str, list[Any]], domains: Sequence[str],
    ) -> None:  # fmt: skip
        """The same where an address may stand under several keys, or its domain is on the list."""
        for number, domain in enumerate(domains):
            found = [row for part in keys if (key := part[number]) is not None for row in rows.get(key, ())]
            found += gone.get(domain, ())
            if found:
                entries = [_entry(row) for row in found]
                answers[number] = self._show(answers[number].address, judge(entries, self._asking, self.now))

    def _provider_of(self, matching: Matching, texts: Sequence[str]) -> Callable[[str], str]:
        if not matching.same:
            return lambda _: ""
        found: dict[str, tuple[int, str]] = {}
        wanted = set()
        for text in texts:
            domain = text.rpartition("@")[2].rstrip("> ")
            try:
                wanted.add(normalise_domain(domain))
            except DomainNameError:
                continue
        found = self._lookup.of(wanted)
        return lambda domain: found.get(domain, (0, ""))[1]

    def _show(self, text: str, clearance: Clearance) -> Answer:
        if clearance.elsewhere and not self._names_known:
            self._name()
        elsewhere = tuple(
            Elsewhere(str(entry.reason), str(entry.scope), self._names.get((entry.scope, entry.scope_id), ""))
            for entry in clearance.elsewhere
        )
        return Answer(
            text, "held" if clearance.held else "clear", str(clearance.reason), clearance.why,
            shown_time(clearance.since), shown_time(clearance.until), shown_time(clearance.not_before), elsewhere,
        )  # fmt: skip


def _is_paused(pause: dict[str, Any], question: Question) -> bool:
    """Return whether a pause is meant by a question. One that names no relay may be about any."""
    if question.stream is None or pause["stream"] != question.stream:
        return False
    return not pause["relay"] or not question.relay or pause["relay"] == question.relay


def _why(reason: Reason, note: str) -> str:
    return reason.meaning + (f" ({note})" if note else "")


def _entry(row: Any) -> Entry:
    _, reason, scope, scope_id, state, since, until, note = row
    return Entry(
        Reason.from_number(reason), _time(since), _time(until) if until else None, State.from_number(state),
        Scope.from_number(scope), scope_id, note,
    )  # fmt: skip


def _time(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def answer(context: Context, tenant: TenantAccess, request: ClearanceRequest) -> Result:
    """Each address `clear`, `held` or `later`, and why."""
    question = Question(request.stream, request.domain, request.relay, request.only_held, request.sending_ip)
    let_go = LetGo(request.cleared_before, request.cleared_by_provider)
    return clear(context, tenant, request.addresses, question, request.sending, let_go)


def clear(
    context: Context, tenant: TenantAccess, texts: Sequence[str], question: Question, sending: Sending | None = None,
    let_go: LetGo = NOTHING_YET,
) -> Result:  # fmt: skip
    """The same from what makes up a question. `let_go`: what was cleared by questions that this one continues."""
    if sending is not None and question.domain is None:
        planned = replace(question, domain=sending.domain)
    else:
        planned = question

    def read(unit: UnitOfWork, lookup: ProviderLookup) -> tuple[list[Answer], dict[str, int]]:
        answers = Desk(unit, lookup, question).answer(texts)
        brake = Brake(unit, lookup, planned, let_go=let_go, lock=sending is not None)
        answers = brake.hold_back(answers)
        if sending is None:
            return answers, brake.by_name()
        brake.count(unit, answers)
        return answers, {}  # counted here: a question that continues this one need not repeat it

    answers, by_provider = with_lookups(
        context, lambda lookup: context.unit(tenant.id, lambda unit: read(unit, lookup))
    )
    held = [(answer.address, answer.reason) for answer in answers if answer.verdict == "held"]
    later = sum(answer.verdict == LATER for answer in answers)
    if sending is not None and held:
        refused = [(*one, sending.message_id) for one in held]
        withhold(context, tenant.id, refused, question, sending.domain, sending.campaign)
    shown = [answer for answer in answers if answer.verdict != "clear"] if question.only_held else answers
    return Result(len(texts) - len(held) - later, len(held), later, shown, by_provider)


def withhold(
    context: Context, tenant_id: int, held: Sequence[tuple[str, str, str]], question: Question, domain: str,
    campaign: str = "",
) -> int:  # fmt: skip
    """Count mail that was not sent as `withheld`: recipient, reason and message id each. Returns how many.

    An invalid address counts for no domain.
    """
    now, events = context.clock(), []
    for text, reason, message_id in held:
        try:
            events.append(
                make_event(
                    now=now, kind=Kind.WITHHELD, time=now, domain=domain, recipient=text,
                    stream=question.stream or "", relay=question.relay or "", message_id=message_id,
                    campaign=campaign, diagnostic=reason,
                )
            )  # fmt: skip
        except EventError as error:
            if error.field != "recipient":
                raise ServiceProblem("invalid-request", f"sending.{error.field}: {error}") from None
    unique = list({event.identity: event for event in events}.values())
    if not unique:
        return 0
    found = providers_for(context, {event.recipient.domain for event in unique})

    def count_new(unit: UnitOfWork, new: set[bytes]) -> None:
        _count_reasons(unit, [event for event in unique if event.identity in new], found)

    return store_all(context, tenant_id, unique, now, then=count_new)


def _count_reasons(unit: UnitOfWork, events: Sequence[Event], providers: Mapping[str, tuple[int, str]]) -> None:
    """Count why mail was withheld, for the numbers that people look at."""
    streams = store_holding.ids_of(unit.connection, unit.tenant_id)[1]
    counts: Counter[tuple[Any, ...]] = Counter()
    for event in events:
        provider_id = providers[event.recipient.domain][0]
        reason = Reason(event.diagnostic).number if event.diagnostic in _LISTED else 0
        day = event.occurred_at.date()
        counts[
            unit.tenant_id, day, suppression_numbers.WITHHELD, reason, provider_id, streams.get(event.stream, 0)
        ] += 1
    suppression_state.lock(unit.connection, unit.tenant_id)
    suppression_numbers.add_counts(unit.connection, counts)


# A stream of millions


class Stream:
    """Addresses as NDJSON (each line a string, or an object with `address`) or plain lines, answered as NDJSON.

    What was read is answered piece by piece and kept in a file until the caller has sent all: a caller that does not
    read while it sends would otherwise wait for ever. Memory stays the same however many come.
    """

    def __init__(self, context: Context, tenant: TenantAccess, question: Question) -> None:
        self._context, self._tenant, self._question = context, tenant, question
        self._rest = b""
        self._texts: list[str] = []
        self._let_go = NOTHING_YET
        self.file = tempfile.SpooledTemporaryFile(max_size=_SPOOLED)  # noqa: SIM115 - closed by whoever sends it
        self.lines = 0

    def feed(self, octets: bytes) -> None:
        """Read on. ServiceProblem for a line that is neither JSON nor an address."""
        lines = (self._rest + octets).split(b"\n")
        self._rest = lines.pop()
        if len(self._rest) > 10_000:
            raise ServiceProblem("invalid-request", f"Line {self.lines + 1} is longer than 10,000 bytes")
        for line in lines:
            self._add(line)

    def _add(self, line: bytes) -> None:
        self.lines += 1
        line = line.strip()
        if not line:
            return
        self._texts.append(_address_in(line, self.lines))
        if len(self._texts) >= _STREAM_PIECE:
            self._flush()

    def _flush(self) -> None:
        texts, self._texts = self._texts, []
        if texts:
            done = clear(self._context, self._tenant, texts, self._question, let_go=self._let_go)
            by_provider = Counter(self._let_go.by_provider) + Counter(done.cleared_by_provider)
            self._let_go = LetGo(self._let_go.messages + done.clear, by_provider)
            self.file.write(_encoder.encode_lines(done.answers))

    def end(self) -> None:
        if self._rest.strip():
            self._add(self._rest)
        self._flush()
        self.file.seek(0)


def _address_in(line: bytes, number: int) -> str:
    try:
        if line[:1] in b'"{':
            value = msgspec.json.decode(line)
            if isinstance(value, dict):
                value = value.get("address")
            if not isinstance(value, str):
                raise ServiceProblem("invalid-request", f"Line {number} has no address")
            return value
        return line.decode()
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise ServiceProblem("invalid-request", f"Line {number}: {error}") from None
