"""What a reply speaks about: notions such as *recipient*, *missing* or *full*, found by the words of many languages.

`vocabulary.toml` holds the phrases. A rule combines notions (`recipient & missing`) and so holds for each language.
Phrases are expanded into plain sequences of words and looked up by their first word, so a reply of n words costs
about n lookups, however many phrases there are.
"""

import re
import tomllib
import unicodedata
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from difflib import get_close_matches
from functools import cache
from importlib import resources

_NO_SPACES = re.compile(r"[\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af]")  # kana, Chinese characters, Hangul
_CLAUSES = re.compile(r"[;!?。！？]|(?<!\.)\.(?=\s|$)|,(?=\s*(?:but|however|aber|mais|pero|mas|ma|maar|ale|но|але)\b)")
_IN_REPLY_TO = re.compile(r"\(?in reply to [a-z ]{1,40}\bcommand\)?")  # where a sending server quotes its own command
_LETTERS = str.maketrans({"ł": "l", "ø": "o", "đ": "d", "ı": "i", "æ": "ae"})
_MARKS = re.compile(r"[\u0300-\u036f]")
_SHORTENED = re.compile(r"\b(do|does|did|is|was|were|has|have|had|would|could|ca|wo|are)nt\b")  # without its apostrophe
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z][a-z])")  # names of errors: RecipientNotFound
_LETTER = "[a-zß-ɏа-ӿ]"  # of the alphabets that put spaces between words
_WORDS = re.compile(f"{_LETTER}+|[~#@%]")
_PHRASE_WORDS = re.compile(rf"\*?{_LETTER}+\*?|[~#@%_]")
_GAP = 3  # words that `_` stands for at most


def plain(text: str) -> str:
    """Return `text` without case and accents, as phrases are compared."""
    folded = text.casefold()
    if folded.isascii():
        return folded
    bare = _MARKS.sub("", unicodedata.normalize("NFD", folded))
    return unicodedata.normalize("NFC", bare).translate(_LETTERS)


@dataclass(frozen=True, slots=True)
class Notion:
    """One notion; `bit` stands for it in what `clauses_of` returns."""

    name: str
    help: str
    bit: int


class _Node:
    """What may follow the words of phrases so far, and the notions that these words are enough for."""

    __slots__ = ("bits", "gap", "stems", "words")

    def __init__(self) -> None:
        self.bits = 0
        self.words: dict[str, _Node] = {}
        self.stems: dict[str, _Node] = {}
        self.gap: _Node | None = None

    def add(self, words: Sequence[str], bit: int) -> None:
        node = self
        for word in words:
            if word == "_":
                node.gap = node = node.gap or _Node()
            elif word.endswith("*"):
                node = node.stems.setdefault(word[:-1], _Node())
            else:
                node = node.words.setdefault(word, _Node())
        node.bits |= bit

    def find(self, words: Sequence[str], at: int) -> int:
        """Return the notions of the phrases that go on with the words from `at`."""
        found = self.bits
        if self.gap is not None:
            for start in range(at, min(at + _GAP, len(words)) + 1):
                found |= self.gap.find(words, start)
        if at < len(words):
            word = words[at]
            if (behind := self.words.get(word)) is not None:
                found |= behind.find(words, at + 1)
            if self.stems:
                for length in range(1, len(word) + 1):
                    if (behind := self.stems.get(word[:length])) is not None:
                        found |= behind.find(words, at + 1)
        return found


@dataclass(slots=True)
class _Phrases:
    """Phrases by their words, by the end of a compound, and those of scripts without spaces."""

    begin: _Node = field(default_factory=_Node)
    ends: dict[str, int] = field(default_factory=dict)
    anywhere: dict[str, int] = field(default_factory=dict)

    def add(self, phrase: str, bit: int) -> None:
        if _NO_SPACES.search(phrase):
            self.anywhere[phrase] = self.anywhere.get(phrase, 0) | bit
            return
        words = _PHRASE_WORDS.findall(phrase)
        if words[0].startswith("*"):
            end = words[0].strip("*")
            self.ends[end] = self.ends.get(end, 0) | bit
        else:
            self.begin.add(words, bit)


def _alternatives(phrase: str) -> list[str]:
    """Return what a phrase stands for when its groups, `?` and `[ab]` are expanded."""
    outs, at, _ = _sequence(phrase, 0)
    if at != len(phrase):
        raise ValueError(f"{phrase!r} has a bracket too many")
    return outs


def _sequence(phrase: str, at: int) -> tuple[list[str], int, bool]:
    """Expand from `at` to the end, or to the `|` or `)` that ends an alternative. Returns also whether one was met."""
    outs = [""]
    while at < len(phrase):
        char = phrase[at]
        if char in "|)":
            return outs, at, True
        at += 1
        if char == "(":
            parts: list[str] = []
            while True:
                found, at, closed = _sequence(phrase, at)
                if not closed:
                    raise ValueError(f"{phrase!r} has an open bracket")
                parts += found
                at += 1
                if phrase[at - 1] == ")":
                    break
        elif char == "[":
            end = phrase.index("]", at)
            parts, at = list(phrase[at:end]), end + 1
        else:
            parts = [char]
        if at < len(phrase) and phrase[at] == "?":
            parts, at = ["", *parts], at + 1
        outs = [out + part for out in outs for part in parts]
    return outs, at, False


@cache
def _vocabulary() -> tuple[dict[str, Notion], _Phrases]:
    text = resources.files("rust_gauge.core.replies").joinpath("vocabulary.toml").read_text("utf-8")
    found: dict[str, Notion] = {}
    phrases = _Phrases()
    for name, entry in tomllib.loads(text).items():
        notion = found[name] = Notion(name, entry.pop("help"), 1 << len(found))
        for words in entry.values():
            for phrase in words:
                for one in _alternatives(plain(phrase)):
                    phrases.add(one, notion.bit)
    return found, phrases


def notions() -> dict[str, Notion]:
    """Return every notion by name."""
    return _vocabulary()[0]


def clauses_of(text: str) -> list[int]:
    """Return the notions of each clause of a reply pattern, as bits. Clauses without any are left out."""
    bare = _SHORTENED.sub(r"\1n t", _IN_REPLY_TO.sub("", plain(_CAMEL.sub(" ", text))))
    return [found for clause in _CLAUSES.split(bare) if (found := _notions_in(clause))]


def _notions_in(clause: str) -> int:
    phrases = _vocabulary()[1]
    words = _WORDS.findall(clause)
    found = 0
    for at, word in enumerate(words):
        found |= phrases.begin.find(words, at)
        for start in range(1, len(word) - 2):
            found |= phrases.ends.get(word[start:], 0)
    if _NO_SPACES.search(clause):
        for phrase, bit in phrases.anywhere.items():
            if phrase in clause:
                found |= bit
    return found


@dataclass(frozen=True, slots=True)
class Statement:
    """What a clause must speak about, what it must not, and what no clause of the reply may."""

    wanted: int
    unwanted: int
    nowhere: int = 0

    def fits(self, clauses: Sequence[int]) -> bool:
        """Return whether any clause makes this statement."""
        if self.nowhere and any(clause & self.nowhere for clause in clauses):
            return False
        return any(clause & self.wanted == self.wanted and not clause & self.unwanted for clause in clauses)


def read_statement(text: str) -> Statement:
    """Read `recipient & closed & !sender & !!missing`. ValueError names an unknown notion.

    `!` excludes a notion from the clause, `!!` from the whole reply.
    """
    wanted = unwanted = nowhere = 0
    for part in text.split("&"):
        name = part.strip()
        bare = name.removeprefix("!").removeprefix("!").strip()
        notion = notions().get(bare)
        if notion is None:
            near = get_close_matches(bare, notions(), 1)
            meant = f"; did you mean {near[0]}?" if near else f" (one of {', '.join(notions())})"
            raise ValueError(f"{name[:40]!r} is not a notion of the vocabulary{meant}")
        if name.startswith("!!"):
            nowhere |= notion.bit
        elif name.startswith("!"):
            unwanted |= notion.bit
        else:
            wanted |= notion.bit
    if not wanted:
        raise ValueError(f"{text[:80]!r} names nothing that a reply speaks about")
    return Statement(wanted, unwanted, nowhere)


def speaks_about(names: Iterable[str], text: str) -> bool:
    """Return whether any clause of a text speaks about one of these notions."""
    bits = sum(notions()[name].bit for name in names)
    return any(clause & bits for clause in clauses_of(text))
