"""What went wrong between the planned text and the published one: slips of copying, each of which can be undone.

A published text is cleaned step by step until it says what was planned. The steps that were needed are the causes; a
step that changed nothing of substance is not blamed.
"""

import html
import re
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from difflib import SequenceMatcher
from urllib.parse import unquote

_DIFF_LIMIT = 3000  # characters compared one by one; what is longer is compared by its ends


@dataclass(frozen=True, slots=True)
class Cause:
    """Why a record is not as planned. `key` is stable; `column` (from 1) and `length` mark the place in what is published."""

    key: str
    text: str
    column: int = 0
    length: int = 0


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of the comparison: `same`, `missing` (only planned), `extra` (only published) or `changed`."""

    kind: str
    planned: str
    published: str


def differences(planned: str, published: str) -> tuple[Piece, ...]:
    """Compare the two texts character by character."""
    if planned == published:
        return (Piece("same", planned, published),) if planned else ()
    start = _common(planned, published)
    end = _common(planned[start:][::-1], published[start:][::-1])
    middle = (planned[start : len(planned) - end], published[start : len(published) - end])
    pieces = [Piece("same", planned[:start], published[:start])] if start else []
    if max(map(len, middle)) > _DIFF_LIMIT or not all(middle):
        pieces.append(_piece(*middle))
    else:
        matcher = SequenceMatcher(None, *middle, autojunk=False)
        for tag, a, b, c, d in matcher.get_opcodes():
            one, other = middle[0][a:b], middle[1][c:d]
            pieces.append(Piece("same", one, other) if tag == "equal" else _piece(one, other))
    if end:
        pieces.append(Piece("same", planned[-end:], published[-end:]))
    return tuple(pieces)


def _piece(planned: str, published: str) -> Piece:
    return Piece("changed" if planned and published else "missing" if planned else "extra", planned, published)


def _common(one: str, other: str) -> int:
    count = 0
    for a, b in zip(one, other, strict=False):
        if a != b:
            break
        count += 1
    return count


@dataclass(frozen=True, slots=True)
class _Step:
    """A slip and how to undo it. `always`: it is wrong whether or not undoing it makes the rest right."""

    key: str
    text: str
    undo: Callable[[str], str]
    marks: re.Pattern[str]
    always: bool = False


def _out(pattern: re.Pattern[str], by: str = "") -> Callable[[str], str]:
    return lambda text: pattern.sub(by, text)


_INVISIBLE = re.compile("[\u200b-\u200f\u2060\ufeff\u00ad\u202a-\u202e]")
_ODD_BLANK = re.compile("[\u00a0\u1680\u2000-\u200a\u202f\u205f\u3000]")
_SMART = re.compile("[\u201c\u201d\u201e\u201f\u00ab\u00bb\u2018\u2019\u201a\u2033\u2032`\u00b4]")
_DASH = re.compile("[\u2010-\u2015\u2212\ufe58\uff0d]")
_PEM = re.compile(r"-{2,5}\s*(?:BEGIN|END)[A-Z ]*(?:PUBLIC|PRIVATE|RSA)?[A-Z ]*KEY\s*-{2,5}")
_LINE = re.compile(r"^\s*(?:\"?[\w.@*-]+\.?\"?\s+)?(?:\d+\s+)?(?:IN\s+)?(?:TXT|txt|SPF)[\s:=]+(?=[\"'(]?\s*[A-Za-z])")
_LABEL = re.compile(r"^\s*(?:value|content|data|text|record|answer|points to)\s*[:=]\s*", re.IGNORECASE)
_HOST = re.compile(r"^\s*[\w-]*\.?_[\w.-]+\.?\s*[=:]?\s+(?=[\"']?v\s*=)")
_SEAM = re.compile(r"[\"']\s*[\"']")
_QUOTE = re.compile(r"[\"']")
_ENTITY = re.compile(r"&(?:quot|amp|lt|gt|apos|nbsp|equals|semi|#\d{1,4}|#x[0-9a-fA-F]{1,4});")
_PERCENT = re.compile(r"%(?:3[AaBbDdEeFf]|2[0-9A-Fa-f]|40|5[BbCcDd])")
_BREAK = re.compile(r"[\r\n]+[ \t]*|\\[rn]|<br ?/?>")
_PARENTHESES = re.compile(r"^\s*\(\s*|\s*\)\s*$")
_TAB = re.compile(r"\t+")
_BACKSLASH = re.compile(r"\\")
_LEAD, _TRAIL = re.compile(r"^\s+"), re.compile(r"\s+$")
_LAST_SEMICOLON = re.compile(r"[\s;]*;\s*$")
_LAST_DOT = re.compile(r"(?<=[\w=/+])[.,]\s*$")
_COMMENT = re.compile(r"\s*;\s*(?:#|//|--).*$|\s+(?:#|//).*$")
_COMMA = re.compile(r"\s*,\s*(?=(?:[a-z]{1,5})\s*=)")
_NO_SEMICOLON = re.compile(r"(?<=[\w=/+!:.@])\s+(?=(?:p|k|t|s|h|n|g|v|sp|np|rua|ruf|pct|adkim|aspf|fo|ri|rf|id)\s*=)")
_TWO_SEMICOLONS = re.compile(r";(?:\s*;)+")
_COLON_TAG = re.compile(r"(?:^|(?<=;))(\s*(?:v|p|k|sp|np|rua|ruf|pct|adkim|aspf|fo|ri)\s*):\s*(?!//)")
_AFTER_COLON = re.compile(r"(?<=[a-z46]:)\s+(?=\S)|(?<=mailto:)\s+|\s+(?=:(?=\S))")
_RUNS = re.compile(r"[ \t]{2,}")
_CONFUSED = {ord(a): b for a, b in zip("\u0430\u0435\u043e\u0440\u0441\u0445\u0443\u0456\u0455\u0410\u0412\u0415\u041a\u041c\u041d\u041e\u0420\u0421\u0422\u0425",
                                        "aeopcxyisABEKMHOPCTX", strict=True)}  # fmt: skip
_LETTERS = re.compile("[\u0370-\u04ff\uff01-\uff5e\u212a\u017f]")


def _plain_letters(text: str) -> str:
    return unicodedata.normalize("NFKC", text.translate(_CONFUSED))


_STEPS = (
    _Step("invisible-characters", "invisible characters were pasted with it", _out(_INVISIBLE), _INVISIBLE, always=True),
    _Step("odd-blanks", "a no-break space was pasted", _out(_ODD_BLANK, " "), _ODD_BLANK, always=True),
    _Step("html-entities", "HTML entities instead of characters: copied from the source of a page",
          html.unescape, _ENTITY, always=True),
    _Step("percent-encoded", "characters are percent-encoded, as in a URL", unquote, _PERCENT),
    _Step("other-alphabet", "look-alike letters of another alphabet", _plain_letters, _LETTERS, always=True),
    _Step("line-breaks", "line breaks were pasted with it", _out(_BREAK), _BREAK, always=True),
    _Step("pem-lines", "the lines of the PEM file (BEGIN, END) were pasted with the key", _out(_PEM), _PEM, always=True),
    _Step("field-name", "the name of a form field was pasted before it", _out(_LABEL), _LABEL),
    _Step("whole-line", "the whole line was pasted: host, type and value; use the value only", _out(_LINE), _LINE),
    _Step("host-in-value", "the host was pasted before the value", _out(_HOST), _HOST),
    _Step("parentheses", "the parentheses of a zone file were pasted into the value", _out(_PARENTHESES), _PARENTHESES),
    _Step("smart-quotes", "the value has typographic quotes", _out(_SMART, '"'), _SMART, always=True),
    _Step("backslashes", "the value has backslashes: copied from a display that escapes", _out(_BACKSLASH), _BACKSLASH, always=True),
    _Step("quotes-between-strings", "the quotes between two strings were pasted into the value", _out(_SEAM), _SEAM, always=True),
    _Step("quotes", "the value has quotes: the panel adds its own", _out(_QUOTE), _QUOTE, always=True),
    _Step("dashes", "a typographic dash instead of a hyphen", _out(_DASH, "-"), _DASH, always=True),
    _Step("tabs", "a tab was pasted", _out(_TAB, " "), _TAB),
    _Step("comment", "a comment was pasted after the value", _out(_COMMENT), _COMMENT),
    _Step("leading-blank", "a space was pasted before the value", _out(_LEAD), _LEAD, always=True),
    _Step("trailing-blank", "a space was pasted after the value", _out(_TRAIL), _TRAIL),
    _Step("trailing-semicolon", "an extra semicolon at the end", _out(_LAST_SEMICOLON), _LAST_SEMICOLON),
    _Step("two-semicolons", "two semicolons in a row", _out(_TWO_SEMICOLONS, ";"), _TWO_SEMICOLONS),
    _Step("trailing-mark", "a full stop or comma was pasted at the end", _out(_LAST_DOT), _LAST_DOT),
    _Step("commas", "commas instead of semicolons", _out(_COMMA, "; "), _COMMA),
    _Step("colon-for-equals", "a colon instead of an equals sign", _out(_COLON_TAG, r"\1="), _COLON_TAG),
    _Step("semicolon-missing", "a semicolon between two tags is missing", _out(_NO_SEMICOLON, "; "), _NO_SEMICOLON),
    _Step("blank-after-colon", "a space next to a colon", _out(_AFTER_COLON), _AFTER_COLON),
    _Step("blanks-in-a-row", "several spaces in a row", _out(_RUNS, " "), _RUNS),
)  # fmt: skip


def undo_slips(published: str, same: Callable[[str], bool]) -> tuple[str, tuple[Cause, ...], bool]:
    """Clean a text until `same` holds for it.

    Returns the cleaned text, the slips that were undone, and whether it is as planned then. When it is not, the slips
    are those that are wrong in any case.
    """
    text, used = published, []
    for step in _STEPS:
        cleaned = step.undo(text)
        if cleaned != text:
            used.append(step)
            text = cleaned
            if same(text):
                return text, tuple(_cause(step, published) for step in _needed(published, used, same)), True
    return text, tuple(_cause(step, published) for step in used if step.always), False


def _needed(published: str, used: list[_Step], same: Callable[[str], bool]) -> list[_Step]:
    """Without the steps that the text is as planned without; what is wrong in any case stays."""
    needed = list(used)
    for step in [step for step in used if not step.always]:
        fewer = [kept for kept in needed if kept is not step]
        text = published
        for kept in fewer:
            text = kept.undo(text)
        if same(text):
            needed = fewer
    return needed


def _cause(step: _Step, published: str) -> Cause:
    hit = step.marks.search(published)
    if hit is None:  # it showed only after an earlier step
        return Cause(step.key, step.text)
    return Cause(step.key, step.text, hit.start() + 1, max(1, hit.end() - hit.start()))
