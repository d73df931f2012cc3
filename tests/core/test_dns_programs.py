"""Programs that ask DNS questions."""

from rust_gauge.core.dns import DnsAnswer, DnsProgram, DnsQuestion, Trace, ask, drive, gather
from tests.answers import answering


def two_steps(name: str) -> DnsProgram[str]:
    first = yield from ask(name, "TXT")
    second = yield from ask(first.texts[0].text, "TXT")
    return second.texts[0].text


def nothing() -> DnsProgram[str]:
    return "no question"
    yield ()


def test_gathered_programs_ask_side_by_side_and_keep_their_order() -> None:
    table = answering({"a.x TXT": ["b.x"], "b.x TXT": ["from b"], "c.x TXT": ["d.x"], "d.x TXT": ["from d"]})
    rounds: list[int] = []

    def counted(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        rounds.append(len(questions))
        return table(questions)

    assert drive(gather([two_steps("a.x"), nothing(), two_steps("c.x")]), counted) == [
        "from b",
        "no question",
        "from d",
    ]
    assert rounds == [2, 2]


def test_a_trace_asks_each_question_once_and_keeps_the_answers_in_order() -> None:
    asked: list[DnsQuestion] = []
    table = answering({"a.x TXT": ["b.x"], "b.x TXT": ["end"]})

    def counted(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        asked.extend(questions)
        return table(questions)

    trace = Trace()
    assert drive(trace.through(gather([two_steps("a.x"), two_steps("a.x")])), counted) == ["end", "end"]
    assert [str(question) for question in asked] == ["a.x TXT", "b.x TXT"]
    assert list(trace.answers) == asked


def test_octets_of_a_txt_record_that_are_no_utf8_are_shown_not_lost() -> None:
    (answer,) = answering({"a.x TXT": [b"v=spf1 \xff all"]})((DnsQuestion("a.x", "TXT"),))
    assert answer.texts[0].text == "v=spf1 \ufffd all"
