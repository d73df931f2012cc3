"""DNS for tests of the core: answers from a table of zone text, without a server."""

from collections.abc import Callable, Mapping, Sequence

import dns.rdata
import dns.rdataclass
import dns.rdatatype
from dns.rdata import Rdata
from dns.rdtypes.ANY.TXT import TXT

from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion


def rdata(rdtype: str, value: str | bytes | tuple[bytes, ...]) -> Rdata:
    """A record of DNS; TXT values are given plainly (bytes as they are) and split as they have to be, or as strings."""
    kind = dns.rdatatype.from_text(rdtype)
    if rdtype != "TXT":
        return dns.rdata.from_text(dns.rdataclass.IN, kind, str(value))
    if isinstance(value, tuple):
        return TXT(dns.rdataclass.IN, kind, value)
    octets = value if isinstance(value, bytes) else value.encode()
    parts = [octets[start : start + 255] for start in range(0, len(octets), 255)] or [b""]
    return TXT(dns.rdataclass.IN, kind, parts)


def answering(
    records: Mapping[str, Sequence[str | bytes | tuple[bytes, ...]]], failing: dict[str, AnswerStatus] | None = None
) -> Callable[[tuple[DnsQuestion, ...]], tuple[DnsAnswer, ...]]:
    """Answers from {"name TYPE": [value, ...]}. Other names do not exist."""
    names = {key.split()[0] for key in records}

    def answer(question: DnsQuestion) -> DnsAnswer:
        if failing and question.name in failing:
            return DnsAnswer(question, failing[question.name], detail="told to fail")
        name, aliases = question.name, []
        while f"{name} CNAME" in records and question.rdtype != "CNAME":
            name = str(records[f"{name} CNAME"][0]).rstrip(".")
            aliases.append(name)
            if len(aliases) > 16:
                return DnsAnswer(question, AnswerStatus.SERVFAIL, aliases=tuple(aliases), detail="CNAME loop")
        values = records.get(f"{name} {question.rdtype}")
        if not values:
            status = AnswerStatus.NO_DATA if name in names else AnswerStatus.NO_NAME
            return DnsAnswer(question, status, aliases=tuple(aliases))
        rdatas = tuple(rdata(question.rdtype, value) for value in values)
        return DnsAnswer(question, AnswerStatus.FOUND, rdatas, 300, tuple(aliases))

    return lambda questions: tuple(answer(question) for question in questions)
