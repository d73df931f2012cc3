"""MTA-STS (RFC 8461): the record that says a policy is there, and the policy itself."""

import re
from dataclasses import dataclass

from rust_gauge.core.taglist import Problem, parse_tag_list

MODES = ("enforce", "testing", "none")
MAX_AGE = 31_557_600  # seconds: about a year (§3.2)
_ID = re.compile(r"[A-Za-z0-9]{1,32}\Z")
_MX = re.compile(r"(?:\*\.)?(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9-]{2,63}\Z", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class StsRecord:
    """`v=STSv1; id=...` at `_mta-sts.` (§3.1)."""

    text: str
    id: str
    problems: tuple[Problem, ...]


@dataclass(frozen=True, slots=True)
class StsPolicy:
    """The policy file (§3.2). `problems` have the line as their column."""

    mode: str
    mx: tuple[str, ...]
    max_age: int | None  # seconds
    problems: tuple[Problem, ...]


def read_sts_record(text: str) -> StsRecord:
    """Read a record that begins with v=STSv1. Never raises."""
    tags = parse_tag_list(text)
    problems = list(tags.problems)
    id = tags.get("id")
    if not tags.tags or tags.tags[0].name != "v" or tags.tags[0].value != "STSv1":
        problems.append(Problem("it must start with v=STSv1;", 1, 8))
    if id is None:
        problems.append(Problem("id= is missing; it tells senders that the policy changed", 1))
    elif not _ID.match(id.value):
        problems.append(Problem("id= is 1 to 32 letters and digits", id.value_column, max(1, len(id.value))))
    return StsRecord(text, id.value if id else "", tuple(problems))


def read_sts_policy(text: str) -> StsPolicy:
    """Read a policy file. Never raises; lines may end in LF or CRLF."""
    values: dict[str, str] = {}
    mx: list[str] = []
    problems: list[Problem] = []
    for number, line in enumerate(text.splitlines()[:1000], 1):
        key, colon, value = line.partition(":")
        key, value = key.strip(), value.strip()
        if not line.strip():
            continue
        if not colon:
            problems.append(Problem(f"line {number} is not a key: value pair", number))
        elif key == "mx":
            if not _MX.match(value):
                problems.append(Problem(f"mx: {value[:60]} is not a host name pattern", number))
            mx.append(value.lower())
        else:
            values.setdefault(key, value)  # §3.2: of a key that stands twice the first counts
    if values.get("version") != "STSv1":
        problems.append(Problem("version: STSv1 is missing", 1))
    mode = values.get("mode", "")
    if mode not in MODES:
        problems.append(Problem(f"mode: is {', '.join(MODES[:2])} or none, not {mode[:20] or 'missing'}", 1))
    age = values.get("max_age", "")
    max_age = int(age) if re.fullmatch(r"[0-9]{1,10}", age) else None
    if max_age is None or max_age > MAX_AGE:
        problems.append(Problem(f"max_age: is a number of seconds up to {MAX_AGE}, not {age[:20] or 'missing'}", 1))
    if not mx and mode != "none":
        problems.append(Problem("mx: is missing", 1))
    return StsPolicy(mode, tuple(mx), max_age, tuple(problems))


def covers(pattern: str, host: str) -> bool:
    """Return whether an mx: pattern holds for a host; a star stands for one whole label on the left (§4.1)."""
    host = host.lower().removesuffix(".")
    if pattern.startswith("*."):
        return host.partition(".")[2] == pattern[2:] and not host.startswith(".")
    return host == pattern
