"""The fixed part of a reply: what stays when codes apart, numbers, ids, addresses and host names are taken out.

Two replies of one wording differ only in what a server fills in, so one rule settles all of them.
"""

import re

_LONGEST = 500
_CODE = re.compile(r"\d{3}(?:[ -]\d\.\d{1,3}\.\d{1,3})?(?=\s|$)|\d\.\d{1,3}\.\d{1,3}(?=\s|$)")
_FILLED = re.compile(r"\S*@\S*|(?:https?://|www\.)\S+|\S*\d\S*|\b[\w-]+(?:\.[\w-]+)+\b")
_EDGES = "()[]<>{}\"'`,;:.!?="


def wording_of(text: str) -> str:
    """`text` with what is filled in replaced: @ for addresses, ~ for hosts and pages, # for all with a digit."""
    text = " ".join(text[:2000].split())
    code = _CODE.match(text)
    head = code.group() if code else ""
    return (head + _FILLED.sub(_replace, text[len(head) :]))[:_LONGEST]


def _replace(found: re.Match[str]) -> str:
    word = found.group()
    core = word.strip(_EDGES)
    if not core:
        return word
    sign = "@" if "@" in core else "~" if "//" in core or not any(c.isdigit() for c in core) else "#"
    return word.replace(core, sign, 1)
