"""The fixed part of a reply: what stays when numbers, ids, addresses and host names are taken out, and codes kept.

Replies with the same pattern differ only in what a server fills in, so they have the same cause, and one rule covers
all of them. Rules look at reply patterns, too: what they see is what a person sees who writes one.
"""

import re

from rust_gauge.core.replies.reply import parse_reply

LONGEST = 500  # characters; the fixed part of a reply comes first
_READ = 2000  # characters of a reply
_CODE = re.compile(r"[245]\d\d(?:-[245]\.\d{1,3}\.\d{1,3})?\Z")
_ENHANCED = re.compile(r"#?\(?[245]\.\d{1,3}\.\d{1,3}[):,;]*\Z")
_HOST = re.compile(r"[\w-]+(?:\.[\w-]+)+\Z")
_MOST_JOINED = 20_000  # entries of the cache
_JOINED: dict[tuple[str, int | None, str | None], str] = {}  # reply patterns with codes put in front
_EDGES = "()[]<>{}\"'`,;:.!?=*"
_KNOWN: dict[str, str] = {}  # words that were looked at, and what stands for them
_MOST = 50_000  # entries of the cache


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


def reply_pattern_of(text: str, code: int | None = None, enhanced: str | None = None) -> str:
    """Return the reply pattern of a refusal as a whole: codes given apart stand in front when its text has others.

    All that a rule looks at is in it, but for the provider. A reply pattern's own reply pattern is the same.
    """
    reply_pattern = wording_of(text)
    if code is None and not enhanced:
        return reply_pattern
    key = (reply_pattern, code, enhanced)
    found = _JOINED.get(key)
    if found is None:
        reply = parse_reply(reply_pattern)
        told = (code is None or reply.code == code) and (not enhanced or str(reply.enhanced) == enhanced)
        head = " ".join(str(number) for number in (code, enhanced) if number)
        if len(_JOINED) >= _MOST_JOINED:
            _JOINED.clear()
        found = _JOINED[key] = reply_pattern if told else f"{head} {reply_pattern}".strip()[:LONGEST]
    return found


def _sign(word: str) -> str:
    """Return a word, or what stands for it."""
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
