"""The fixed part of a reply: what stays when numbers, ids, addresses and host names are taken out, and codes kept.

Two replies of one wording differ only in what a server fills in, so they have the same cause, and one rule settles all
of them. Rules look at wordings, too: what they see is what a person sees who writes one.
"""

import re

LONGEST = 500
_READ = 2000  # characters of a reply
_CODE = re.compile(r"[245]\d\d(?:-[245]\.\d{1,3}\.\d{1,3})?\Z")
_ENHANCED = re.compile(r"#?\(?[245]\.\d{1,3}\.\d{1,3}[):,;]*\Z")
_HOST = re.compile(r"[\w-]+(?:\.[\w-]+)+\Z")
_EDGES = "()[]<>{}\"'`,;:.!?=*"
_KNOWN: dict[str, str] = {}  # words that were looked at, and what stands for them
_MOST = 50_000


def wording_of(text: str) -> str:
    """`text` with what is filled in replaced: @ for addresses, ~ for hosts and pages, # for all with a digit.

    A reply code is kept at the beginning and behind a colon, where one reply quotes another; an enhanced code anywhere.
    """
    out: list[str] = []
    head = True  # a reply code may stand here
    for word in text[:_READ].split():
        if word.isalpha():
            out.append(word)
            head = False
            continue
        if head and _CODE.match(word):
            out.append(word)
            continue
        sign = _KNOWN.get(word)
        if sign is None:
            sign = _sign(word)
        out.append(sign)
        head = word[-1] == ":" or (head and sign is word)
    return " ".join(out)[:LONGEST]


def _sign(word: str) -> str:
    """A word, or what stands for it."""
    if _ENHANCED.match(word):
        return word
    core = word.strip(_EDGES)
    if not core:
        sign = word
    elif "@" in core:
        return word.replace(core, "@", 1)
    elif "://" in core or core.startswith("www."):
        return word.replace(core, "~", 1)
    elif any(c.isdigit() for c in core):
        return word.replace(core, "#", 1)
    elif _HOST.match(core):
        sign = word.replace(core, "~", 1)
    else:
        sign = word
    if len(_KNOWN) < _MOST:
        _KNOWN[word] = sign
    return sign
