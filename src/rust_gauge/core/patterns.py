"""Regular expressions and JSONPaths that anybody may write: bounded when they are compiled, and when they match.

A counted repeat is unrolled when it is compiled, so a pattern of 22 characters can take gigabytes: its unrolled size is
estimated first. What backtracks at matching is given up after a time.
"""

import re
from typing import Any, ClassVar

import regex
from iregexp_check import check as is_iregexp
from jsonpath_rfc9535 import JSONPathEnvironment, JSONPathQuery
from jsonpath_rfc9535.function_extensions import ExpressionType, FilterFunction
from jsonpath_rfc9535.function_extensions._pattern import map_re

MAX_UNROLLED = 10_000  # characters of a pattern with its counted repeats written out
_PATIENCE = 0.05  # seconds for one text of a document
_LONGEST = 2000  # characters of a text of a document that a pattern looks at
_REPEAT = re.compile(r"\{(\d+)(?:,(\d*))?\}|[*+?]")
_DESCENT = re.compile(r"\.\.")
_QUOTED = re.compile(r"'(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\"")
_MAX_FILTERS = 4


def unrolled_size(pattern: str) -> int:
    """Return about how many characters a pattern has when its counted repeats are written out.

    Nothing is compiled. An unbalanced pattern has some size, too: whether it is valid is for the compiler to say.
    """
    groups = [0]  # the size of each open group
    last = 0  # the size of what a repeat would repeat
    at = 0
    while at < len(pattern):
        char = pattern[at]
        repeat = _REPEAT.match(pattern, at)
        if repeat is not None and repeat[1]:
            least, most = int(repeat[1][:9]), int((repeat[2] or repeat[1])[:9])
            groups[-1] = min(groups[-1] + last * (max(least, most, 1) - 1), 10**12)
            last *= max(least, most, 1)
            at = repeat.end()
            continue
        if char == "(":
            groups.append(0)
        elif char == ")" and len(groups) > 1:
            last = groups.pop() + 1
            groups[-1] += last
        elif char == "[":
            end = _end_of_class(pattern, at)
            last = end - at
            groups[-1] += last
            at = end
            continue
        elif char == "\\":
            at += 1
            last = 2
            groups[-1] += last
        else:
            last = 1
            groups[-1] += 1
        at += 1
    return sum(groups)


def _end_of_class(pattern: str, start: int) -> int:
    at = start + 2 if pattern[start + 1 : start + 2] in ("]", "^") else start + 1
    while at < len(pattern) and pattern[at] != "]":
        at += 2 if pattern[at] == "\\" else 1
    return at + 1


def check_pattern(pattern: str) -> None:
    """Check that a pattern may be compiled. ValueError when it is too large written out."""
    size = unrolled_size(pattern)
    if size > MAX_UNROLLED:
        raise ValueError(f"its counted repeats make it {size:,} characters long; the limit is {MAX_UNROLLED:,}")


class _Searching(FilterFunction):
    """`search` and `match` (RFC 9535 §2.4.6, §2.4.7), bounded: a pattern that takes too long does not match."""

    arg_types: ClassVar[list[ExpressionType]] = [ExpressionType.VALUE, ExpressionType.VALUE]
    return_type = ExpressionType.LOGICAL

    def __init__(self, method: str) -> None:
        self._method = method
        self._compiled: dict[str, Any] = {}

    def __call__(self, text: object, pattern: object) -> bool:
        if not isinstance(text, str) or not isinstance(pattern, str):
            return False
        if pattern not in self._compiled:
            if len(self._compiled) > 100:
                self._compiled.clear()
            try:
                check_pattern(pattern)
                usable = is_iregexp(pattern)  # RFC 9485: what is no such expression matches nothing
                self._compiled[pattern] = regex.compile(map_re(pattern), regex.VERSION1) if usable else None
            except (ValueError, regex.error, RecursionError, MemoryError):
                self._compiled[pattern] = None
        compiled = self._compiled[pattern]
        if compiled is None:
            return False
        try:
            return getattr(compiled, self._method)(text[:_LONGEST], timeout=_PATIENCE) is not None
        except TimeoutError:
            self._compiled[pattern] = None
            return False


def compile_path(text: str) -> JSONPathQuery:
    """Compile a JSONPath (RFC 9535) whose cost is bounded by the size of a document. ValueError says why not."""
    bare = _QUOTED.sub("''", text)
    if len(_DESCENT.findall(bare)) > 1:
        raise ValueError("it has more than one `..`, which looks at everything for each thing that it finds")
    if bare.count("?") > _MAX_FILTERS:
        raise ValueError(f"it has more than {_MAX_FILTERS} filters")
    if "?" in bare and ".." in bare.partition("?")[2]:
        raise ValueError("it has a `..` within a filter, which looks at everything for each thing that it filters")
    for quoted in _QUOTED.findall(text):
        check_pattern(quoted[1:-1])
    return _environment().compile(text)


def _environment() -> JSONPathEnvironment:
    environment = JSONPathEnvironment()
    environment.function_extensions["search"] = _Searching("search")
    environment.function_extensions["match"] = _Searching("fullmatch")
    return environment
