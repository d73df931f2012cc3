"""What warm-up plans and the limits of a relay hold back of one question's mail: those answers become `later`."""

from collections import defaultdict
from collections.abc import Sequence

from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.service.clearance.answers import (
    LATER,
    LIMIT,
    NOTHING_YET,
    WARM_UP,
    Answer,
    LetGo,
    Question,
    shown_time,
)
from rust_gauge.service.providers.lookup import ProviderLookup
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.sending.ceilings import Ceiling, ceiling_for, count_cleared
from rust_gauge.service.warmup.ceilings import Held, Mail, Room, plans_for


class Brake:
    """What holds the mail of one question back.

    `let_go`: what of it has gone before. `lock`: nobody else counts against plans and limits before the transaction
    ends.
    """

    def __init__(
        self, unit: UnitOfWork, lookup: ProviderLookup, question: Question, *, let_go: LetGo = NOTHING_YET,
        lock: bool = False,
    ) -> None:  # fmt: skip
        self._lookup, self._question, self._let_go = lookup, question, let_go.messages
        mail = Mail(question.domain, question.stream, question.relay, question.sending_ip)
        self._plans = plans_for(unit, mail, let_go=let_go.by_provider, lock=lock)
        self._ceiling: Ceiling | None = None
        if question.relay:
            self._ceiling = ceiling_for(
                unit.connection, unit.tenant_id, question.relay, question.stream, unit.now, lock=lock
            )
        self._numbers: dict[int, list[int]] = {}  # of clear answers, by provider
        self._names: dict[int, str] = {}
        self._given: Sequence[Answer] = ()

    @property
    def is_on(self) -> bool:
        """Return whether anything may hold this mail back."""
        return bool(self._plans) or self._ceiling is not None

    def hold_back(self, answers: list[Answer]) -> list[Answer]:
        """Return the answers with those `later` that have to wait."""
        if self._plans:
            self._numbers = self._by_provider(answers)
            for plan in self._plans:
                answers = self._planned(plan, answers)
        if self._ceiling is not None:
            answers = put_off(self._ceiling, answers, self._let_go)
        self._given = answers
        return answers

    def _planned(self, plan: Held, answers: list[Answer]) -> list[Answer]:
        """Go through the hours that take mail, room by room, each with the addresses that share it in their order."""
        sharing: dict[Room, list[int]] = defaultdict(list)
        for provider, numbers in self._numbers.items():
            sharing[plan.room_of(provider)] += numbers
        out = answers
        for room, numbers in sharing.items():
            if room.at is None and len(numbers) <= room.left:
                continue
            if out is answers:
                out = list(answers)
            clear = sorted(number for number in numbers if answers[number].verdict == "clear")
            start = 0
            while start < len(clear):
                if not room.left:
                    room.following()
                end = start + min(room.left, len(clear) - start)
                room.left -= end - start
                if room.at is not None:
                    at, why = shown_time(room.at), room.why
                    for number in clear[start:end]:
                        out[number] = Answer(answers[number].address, LATER, WARM_UP, why, None, None, at)
                start = end
        return out

    def count(self, unit: UnitOfWork, answers: Sequence[Answer]) -> None:
        """Count what was let go against plans and limits."""
        if self._plans:
            let_go = self._let_go_now()
            for plan in self._plans:
                plan.count(unit, let_go)
        if self._ceiling is not None:
            clear = [answer.verdict for answer in answers].count("clear")
            count_cleared(unit, self._ceiling, self._question.stream, clear)

    def by_name(self) -> dict[str, int]:
        """Return how many are clear by provider, if a plan wants to know when the question goes on."""
        return {self._names.get(id, ""): n for id, n in self._let_go_now().items()}

    def _let_go_now(self) -> dict[int, int]:
        given = self._given
        counts = {id: [given[n].verdict for n in numbers].count("clear") for id, numbers in self._numbers.items()}
        return {id: n for id, n in counts.items() if n}

    def _by_provider(self, answers: Sequence[Answer]) -> dict[int, list[int]]:
        """Return the numbers of clear answers by provider, 0 for what is at none."""
        by_domain: dict[str, list[int]] = defaultdict(list)
        for number, answer in enumerate(answers):
            if answer.verdict == "clear":
                by_domain[answer.address.rpartition("@")[2]].append(number)
        names: dict[str, str] = {}
        for domain in by_domain:
            try:
                names[domain] = normalise_domain(domain.rstrip("> "))
            except DomainNameError:
                continue
        found = self._lookup.of(set(names.values()))
        self._names = dict(found.values())
        out: dict[int, list[int]] = defaultdict(list)
        for domain, numbers in by_domain.items():
            out[found[names[domain]][0] if domain in names else 0] += numbers
        return out


def put_off(ceiling: Ceiling, answers: list[Answer], let_go: int = 0) -> list[Answer]:
    """Return the answers with those `later` that the relay's limit holds back; `let_go` have gone before them."""
    room = max(0, ceiling.remaining - let_go)
    clear = [number for number, answer in enumerate(answers) if answer.verdict == "clear"]
    if len(clear) <= room:
        return answers
    out, not_before = list(answers), shown_time(ceiling.not_before())
    for number in clear[room:]:
        out[number] = Answer(answers[number].address, LATER, LIMIT, ceiling.why, not_before=not_before)
    return out
