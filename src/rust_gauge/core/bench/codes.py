"""One-time codes in the text of a message: what a test types into a form after signing up.

No standard says how a code looks. Candidates are short groups of digits, or of capitals with digits; what stands around
them says how likely each is. Years, prices, dates, telephone and order numbers are not codes.
"""

import re
from dataclasses import dataclass

_MOST_TEXT = 200_000  # characters that are looked through
_MOST = 20
_AROUND = 60  # characters of context on each side

_CANDIDATE = re.compile(
    r"(?<![\w.,:/=&?@#%+-])(?:\d{3}[ -]\d{3}|\d{4}[ -]\d{4}|\d{4,8}|[A-Z0-9]{3,5}-[A-Z0-9]{3,5}|[A-Z0-9]{5,10})"
    r"(?![\w/@%-]|[.,:]\d)"
)
_NAMES = re.compile(
    r"\b(?:one.?time|pass.?code|pin|otp|code|codes|kode|kod|koodi|código|codigo|codice|token|verif\w*|confirm\w*|"
    r"\w*code|einmal\w*|bestätig\w*|log.?in|sign.?in)\b",
    re.IGNORECASE,
)
_NUMBERS_OF = re.compile(
    r"(?:[€$£¥#№]|\b(?:no|nr|order|invoice|booking|ticket|customer|account|ref\w*|tel\w*|phone|fax|p\.?o\.? box|vat|"
    r"zip|postcode|rechnung\w*|bestell\w*|kunden\w*|facture|commande|pedido|since|©|copyright)\.?:?)\s*$",
    re.IGNORECASE,
)
_UNIT = re.compile(
    r"\s*(?:€|\$|£|%|eur\b|usd\b|gbp\b|km\b|kg\b|minutes?\b|hours?\b|days?\b|st\b|street\b)", re.IGNORECASE
)


@dataclass(frozen=True, slots=True)
class Code:
    """A code as it stands in the text, and the text around it on one line."""

    code: str
    context: str


def find_codes(text: str) -> list[Code]:
    """Return what looks like a one-time code, the most likely first, at most 20; each code once."""
    text = text[:_MOST_TEXT]
    scored: dict[str, tuple[int, int, Code]] = {}
    for found in _CANDIDATE.finditer(text):
        score = _score(text, found)
        if score < 2:
            continue
        context = " ".join(text[max(0, found.start() - _AROUND) : found.end() + _AROUND].split())
        entry = (-score, found.start(), Code(found[0], context))
        scored[found[0]] = min(scored.get(found[0], entry), entry, key=lambda each: each[:2])
    return [code for *_, code in sorted(scored.values(), key=lambda each: each[:2])[:_MOST]]


def _score(text: str, found: "re.Match[str]") -> int:
    code, start, end = found[0], found.start(), found.end()
    digits = code.replace(" ", "").replace("-", "")
    if not any(letter.isdigit() for letter in digits):
        return 0  # a word in capitals
    line_start, line_end = text.rfind("\n", 0, start) + 1, text.find("\n", end)
    line_end = len(text) if line_end < 0 else line_end
    before, after = text[max(0, start - _AROUND) : start], text[end : end + 40]
    score = 0
    if _NAMES.search(before) or _NAMES.search(after):
        score += 3
    if text[line_start:start].strip() == "" and text[end:line_end].strip(" .") == "":
        score += 2
    if len(digits) == 6:
        score += 1
    if digits.isdigit() and len(digits) == 4 and digits[:2] in ("19", "20"):
        score -= 1
    if _NUMBERS_OF.search(before) or _UNIT.match(after):
        score -= 4
    return score
