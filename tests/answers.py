"""DNS for tests of the core: answers from a table of zone text, without a server."""

from collections.abc import Callable

import dns.rdata
import dns.rdataclass
import dns.rdatatype

from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion


def txt(value: str) -> str:
    """A value as the text of a TXT rdata, split as it has to be."""
    parts = [value[start : start + 255] for start in range(0, len(value), 255)] or [""]
    return " ".join('"' + part.replace("\\", "\\\\").replace('"', '\\"') + '"' for part in parts)


def answering(
    records: dict[str, list[str]], failing: dict[str, AnswerStatus] | None = None
) -> Callable[[tuple[DnsQuestion, ...]], tuple[DnsAnswer, ...]]:
    """Answers from {"name TYPE": [rdata text, ...]}; TXT values may be given plainly. Other names do not exist."""
    names = {key.split()[0] for key in records}

    def answer(question: DnsQuestion) -> DnsAnswer:
        if failing and question.name in failing:
            return DnsAnswer(question, failing[question.name], detail="told to fail")
        values = records.get(f"{question.name} {question.rdtype}")
        if values is None:
            status = AnswerStatus.NO_DATA if question.name in names else AnswerStatus.NO_NAME
            return DnsAnswer(question, status)
        texts = [txt(v) if question.rdtype == "TXT" and not v.startswith('"') else v for v in values]
        rdatas = tuple(
            dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.from_text(question.rdtype), text) for text in texts
        )
        return DnsAnswer(question, AnswerStatus.FOUND, rdatas, 300)

    return lambda questions: tuple(answer(question) for question in questions)
