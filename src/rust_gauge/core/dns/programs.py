"""Programs that ask DNS questions without knowing who answers: asking, running several at once, driving, tracing."""

from collections.abc import Callable, Generator, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, TypeVar

from rust_gauge.core.dns.answers import DnsAnswer, DnsQuestion
from rust_gauge.core.dns.mailboxes import MailboxAnswer, MailboxQuestion
from rust_gauge.core.dns.pages import PageAnswer, PageQuestion

T = TypeVar("T")
Question = DnsQuestion | PageQuestion | MailboxQuestion
Answer = DnsAnswer | PageAnswer | MailboxAnswer
Questions = tuple[Question, ...]
Answers = tuple[Any, ...]  # for each question the answer of its kind
DnsProgram = Generator[Questions, Answers, T]


def ask(name: str, rdtype: str) -> DnsProgram[DnsAnswer]:
    """Ask one question: `answer = yield from ask("_dmarc.d.example", "TXT")`."""
    (answer,) = yield (DnsQuestion(name, rdtype),)
    return answer  # type: ignore[no-any-return]


def ask_page(url: str) -> DnsProgram[PageAnswer]:
    """Fetch one page: `policy = yield from ask_page("https://mta-sts.d.example/.well-known/mta-sts.txt")`."""
    (answer,) = yield (PageQuestion(url),)
    return answer  # type: ignore[no-any-return]


def gather(programs: Iterable[DnsProgram[T]]) -> DnsProgram[list[T]]:
    """Run programs side by side: each round asks all their questions together. Results in the given order."""
    running: dict[int, tuple[DnsProgram[T], Questions]] = {}
    results: dict[int, T] = {}

    def advance(index: int, program: DnsProgram[T], answers: Answers | None) -> None:
        try:
            questions = next(program) if answers is None else program.send(answers)
        except StopIteration as stop:
            running.pop(index, None)
            results[index] = stop.value
        else:
            running[index] = (program, questions)

    for index, program in enumerate(programs):
        advance(index, program, None)
    while running:
        batch = list(running.items())
        answers = yield tuple(question for _, (_, questions) in batch for question in questions)
        at = 0
        for index, (program, questions) in batch:
            advance(index, program, answers[at : at + len(questions)])
            at += len(questions)
    return [results[index] for index in sorted(results)]


def drive(program: DnsProgram[T], answer_all: Callable[[Questions], Answers]) -> T:
    """Run a program to its end with answers from `answer_all`."""
    answers: Any = None
    while True:
        try:
            questions = program.send(answers)
        except StopIteration as stop:
            return stop.value  # type: ignore[no-any-return]
        answers = answer_all(questions)


def overlay(program: DnsProgram[T], answers: Mapping[Question, Answer]) -> DnsProgram[T]:
    """Run a program with these answers in place of those that would be had: for records before they are published."""
    sent: Any = None
    while True:
        try:
            questions = program.send(sent)
        except StopIteration as stop:
            return stop.value  # type: ignore[no-any-return]
        others = tuple(question for question in questions if question not in answers)
        had = iter((yield others) if others else ())
        sent = tuple(answers[question] if question in answers else next(had) for question in questions)


@dataclass
class Trace:
    """Every question that passed and its answer, in order, each once. `through` wraps a program."""

    answers: dict[Question, Answer] = field(default_factory=dict)

    def through(self, program: DnsProgram[T]) -> DnsProgram[T]:
        """Run the same program; ask each question only once and remember the answers."""
        sent: Any = None
        while True:
            try:
                questions = program.send(sent)
            except StopIteration as stop:
                return stop.value  # type: ignore[no-any-return]
            new = tuple(dict.fromkeys(q for q in questions if q not in self.answers))
            if new:
                self.answers.update(zip(new, (yield new), strict=True))
            sent = tuple(self.answers[question] for question in questions)
