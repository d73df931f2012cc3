"""A request to a verifier, filled in for addresses, and what its answer says of each.

Requests are templates: `{address}` and `{domain}` in the URL (percent-encoded), `{address}`, `{domain}` and `{secret}`
in header fields and in texts of the JSON body; a body that has `{addresses}` in place of a list takes many at once.
Answers are read by a mapping as that of feeds: `verdict` with a table from the verifier's words to ours, `detail`, and
`address` where an answer is about many.
"""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from rust_gauge.core.errors import InputError
from rust_gauge.core.mailflow.mapping import FieldRule, MappingError, Unwrap
from rust_gauge.core.mailflow.mapping import Mapping as RowMapping
from rust_gauge.core.suppression.checks import Verdict

MANY = "{addresses}"
_MOST_DETAIL = 300  # characters


@dataclass(frozen=True, slots=True)
class Template:
    """A request. `method` is GET or POST; `body` is JSON with places in its texts, None without one."""

    method: str
    url: str
    headers: tuple[tuple[str, str], ...] = ()
    body: Any = None

    def __post_init__(self) -> None:
        if self.method not in ("GET", "POST"):
            raise InputError(f"{self.method!r} is not GET or POST", field="method")
        if self.method == "GET" and self.body is not None:
            raise InputError("A GET request has no body", field="body")
        if self.takes_many and "{address}" in self.url:
            raise InputError("A request with {addresses} in its body has no {address} in its URL", field="url")
        if not self.takes_many and "{address}" not in self.url and "{address}" not in json.dumps(self.body):
            raise InputError(
                "Nothing says which address is asked about", remedy="Put {address} in the URL or in the body",
                field="url",
            )  # fmt: skip

    @property
    def takes_many(self) -> bool:
        """Return whether one request is about several addresses."""
        return MANY in json.dumps(self.body)

    def fill(self, addresses: Sequence[str], secret: str) -> "Request":
        """Return the request for these addresses; without `{addresses}` for the first of them."""
        one = addresses[0]
        places = {"{address}": one, "{domain}": one.rpartition("@")[2], "{secret}": secret}
        url = self.url
        for place, value in places.items():
            url = url.replace(place, quote(value, safe=""))
        headers = tuple((name, _filled(value, places)) for name, value in self.headers)
        body = None if self.body is None else json.dumps(_document(self.body, places, addresses)).encode()
        return Request(self.method, url, headers, body)


@dataclass(frozen=True, slots=True)
class Request:
    """A request that is ready to be sent."""

    method: str
    url: str
    headers: tuple[tuple[str, str], ...]
    body: bytes | None


def _filled(text: str, places: Mapping[str, str]) -> str:
    for place, value in places.items():
        text = text.replace(place, value)
    return text


def _document(value: Any, places: Mapping[str, str], addresses: Sequence[str]) -> Any:
    if value == MANY:
        return list(addresses)
    if isinstance(value, str):
        return _filled(value, places)
    if isinstance(value, list):
        return [_document(part, places, addresses) for part in value]
    if isinstance(value, dict):
        return {name: _document(part, places, addresses) for name, part in value.items()}
    return value


@dataclass(frozen=True, slots=True)
class Answer:
    """What a verifier says of one address. `word` is its own word for it."""

    verdict: Verdict
    word: str = ""
    detail: str = ""


def answer_mapping(
    fields: Mapping[str, FieldRule], unwrap: Sequence[Unwrap] = (), rows: str = "$", each: str = "", *, many: bool
) -> RowMapping:
    """Return the mapping of answers. InputError where it cannot give a verdict, or not one for each of many."""
    unknown = sorted(set(fields) - {"verdict", "detail", "address"})
    if unknown:
        raise InputError(
            f"An answer has no field {unknown[0]}", remedy="Use verdict, detail and address", field="answer"
        )
    if "verdict" not in fields:
        raise InputError("Nothing says where the verdict is", remedy="The field verdict needs a path", field="answer")
    if many and "address" not in fields:
        raise InputError(
            "Answers about many addresses must say which is which", remedy="The field address needs a path",
            field="answer",
        )  # fmt: skip
    words = {str(word) for word in (fields["verdict"].table or {}).values()}
    wrong = sorted(words - {str(verdict) for verdict in Verdict})
    if wrong:
        raise InputError(
            f"{wrong[0]!r} is not a verdict", remedy="Map to good, doubtful, bad or unknown", field="answer"
        )
    # A term that no table lists says nothing; the mapping must not refuse the row for it.
    raw = {name: FieldRule(rule.path, rule.constant, None, rule.default, rule.form) for name, rule in fields.items()}
    try:
        return RowMapping(raw, tuple(unwrap), rows, each)
    except MappingError as error:
        raise InputError(str(error), remedy=error.remedy, field="answer") from None


def read_answers(
    octets: bytes, mapping: RowMapping, table: Mapping[str, Any] | None, asked: Sequence[str]
) -> dict[str, Answer]:
    """Return what an answer says, by address as it was asked. What it does not mention is missing.

    Without a table the verifier's words are ours. A term that is not known is `unknown`. InputError for an answer that
    is not JSON, or that the mapping does not fit.
    """
    try:
        document = json.loads(octets)
    except (ValueError, RecursionError) as error:
        raise InputError("The answer is not JSON", why=str(error)[:200]) from None
    try:
        rows = [row for row in mapping.apply(document) if row.problem is None]
    except MappingError as error:
        raise InputError(f"The answer does not fit its mapping: {error}", why=error.why) from None
    wanted = {text.lower(): text for text in asked}
    out: dict[str, Answer] = {}
    for row in rows:
        if "verdict" not in row.values:
            continue
        text = wanted.get(str(row.values.get("address", asked[0])).strip().lower())
        if text is None or text in out:
            continue
        found = row.values["verdict"]
        word = str(found).lower() if isinstance(found, bool) else str(found)
        detail = str(row.values.get("detail", ""))[:_MOST_DETAIL]
        out[text] = Answer(_verdict(word, table), word[:60], detail)
    if not out:
        raise InputError("The answer has no verdict", remedy="Try the mapping on this answer")
    return out


def _verdict(word: str, table: Mapping[str, Any] | None) -> Verdict:
    if table is not None:
        folded = {str(theirs).lower(): ours for theirs, ours in table.items()}
        word = str(folded.get(word.lower(), Verdict.UNKNOWN))
    try:
        return Verdict(word.lower())
    except ValueError:
        return Verdict.UNKNOWN
