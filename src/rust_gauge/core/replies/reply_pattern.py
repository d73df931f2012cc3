"""The fixed part of a reply: what stays when numbers, ids, addresses and host names are taken out, and codes kept.

Replies with the same pattern differ only in what a server fills in, so they have the same cause, and one rule covers
all of them. Rules look at reply patterns, too: what they see is what a person sees who writes one.
"""

import json
import re

from rust_gauge.core.replies.reply import parse_reply

LONGEST = 500  # characters; the fixed part of a reply comes first
_READ = 2000  # characters of a reply
# A reply code, as it may be written: 550, [550], smtp;550, code=550, 550-5.1.1, 550-The (a line that is continued).
_CODE = re.compile(r"(?:[a-z_-]+[;=:])?[\[({<\"'#]*([245][0-57]\d)(?:[\])}>\"',;:.]*|(-)(\S*))\Z", re.IGNORECASE)
_INTRODUCES = frozenset(
    ("smtp", "esmtp", "error", "code", "status", "reply", "response", "said", "returned", "received", "server", "dsn")
)
_BREAKS = re.compile(r"\\r\\n|\\[rn]")  # line breaks that a log or a JSON text has escaped
_ENHANCED = re.compile(r"#?\(?[245]\.\d{1,3}\.\d{1,3}[):,;]*\Z")
_HOST = re.compile(r"[\w-]+(?:\.[\w-]+)+\Z")
_FILLED = re.compile(r"[!-~]*[@0-9.][!-~]*")  # in a text that is not ASCII
_MOST_JOINED = 20_000  # entries of the cache
_JOINED: dict[tuple[str, int | None, str | None], str] = {}  # reply patterns with codes put in front
_EDGES = "()[]<>{}\"'`,;:.!?=*"
_KNOWN: dict[str, str] = {}  # words that were looked at, and what stands for them
_MOST = 50_000  # entries of the cache


def wording_of(text: str) -> str:
    """`text` with what is filled in replaced: @ for addresses, ~ for hosts and pages, # for all with a digit.

    A reply code is kept where one is expected: at the beginning, behind a colon (where one reply quotes another), and
    behind a word such as "error"; an enhanced code anywhere. The lines of a reply that goes on (RFC 5321 §4.2.1) are
    joined: their codes are the same, so only the first stays.
    """
    out: list[str] = []
    head = True  # a reply code may come here
    continued = ""  # the code that every line of this reply begins with
    words = _BREAKS.sub(" ", _values(text[:_READ])).split()
    for at, word in enumerate(words):
        if word.isalpha():
            out.append(word)
            head = word.lower() in _INTRODUCES
            continue
        coded = _CODE.match(word)
        if coded and (head or coded[1] == continued):
            code, dash, rest = coded.groups()
            repeated = code == continued
            if dash:
                continued = code
            if not repeated:
                out.append(code)
            if rest and not (repeated and rest in out):
                out.append(rest if rest.isalpha() else _sign(rest))
            head = not repeated
            continue
        if continued and at and words[at - 1] == continued and word in out:
            continue  # the enhanced code of the last line
        sign = _KNOWN.get(word)
        if sign is None:
            sign = _sign(word)
        out.append(sign)
        head = word[-1] == ":" or (head and sign == word)
    return " ".join(out)[:LONGEST]


def _values(text: str) -> str:
    """Return the texts and numbers of a reply that is given as a JSON document; any other text as it is."""
    if not text.startswith(("{", "[{")):
        return text
    try:
        document = json.loads(text)
    except (ValueError, RecursionError):
        return text
    found: list[str] = []
    waiting = [document]
    while waiting:
        value = waiting.pop()
        if isinstance(value, dict):
            waiting.extend(reversed(value.values()))
        elif isinstance(value, list):
            waiting.extend(reversed(value))
        elif isinstance(value, str | int | float) and not isinstance(value, bool):
            found.append(str(value))
    return " ".join(found)


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
    """Return a word, or its placeholder."""
    if _ENHANCED.match(word):
        return word
    if not word.isascii():  # a language without spaces: only what is filled in is replaced, not the sentence around it
        return _FILLED.sub(lambda found: _sign(found[0]), word)
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
