"""The language that a text is written in, as far as short words or the script tell; None where they do not.

Enough to notice a message that says lang="en" and reads as German, which screen readers and filters take at its word.
"""

import re
import tomllib
from collections import Counter
from collections.abc import Mapping
from functools import cache
from pathlib import Path

_LEAST_WORDS = 25  # below that a text says little
_LEAST_SHARE = 0.18  # of the words of a text, that are among the frequent ones of its language
_CLEARLY = 1.6  # times as many as of the next language
_MOST = 20_000  # characters
_WORD = re.compile(r"[^\W\d_]+")
# Scripts that one language in mail, or a few that are alike, have to themselves; by the first and last letter.
_SCRIPTS = {
    "el": ("\u0370", "\u03ff"), "he": ("\u0590", "\u05ff"), "ar": ("\u0600", "\u06ff"), "hi": ("\u0900", "\u097f"),
    "th": ("\u0e00", "\u0e7f"), "ja": ("\u3040", "\u30ff"), "ko": ("\uac00", "\ud7af"),
    "cyrillic": ("\u0400", "\u04ff"), "han": ("\u4e00", "\u9fff"),
}  # fmt: skip
_OF_SCRIPT = {
    "cyrillic": {"ru", "uk", "bg", "sr", "mk", "be", "kk", "mn"}, "han": {"zh", "ja"}, "ar": {"ar", "fa", "ur"},
    "hi": {"hi", "mr", "ne"}, "he": {"he", "yi", "iw"},
}  # fmt: skip
_ALIKE = ({"nb", "no", "nn", "da"}, {"cs", "sk"}, {"sr", "hr", "bs"})


@cache
def _frequent() -> Mapping[str, frozenset[str]]:
    document = tomllib.loads(Path(__file__).with_name("languages.toml").read_text("utf-8"))
    return {language: frozenset(words.split()) for language, words in document["words"].items()}


def language_of(text: str) -> frozenset[str]:
    """Return the languages that a text may be in, by their codes (ISO 639-1); empty when it cannot be told."""
    text = text[:_MOST].lower()
    letters = [letter for letter in text if letter.isalpha()]
    if not letters:
        return frozenset()
    for name, (first, last) in _SCRIPTS.items():
        if sum(first <= letter <= last for letter in letters) > 0.5 * len(letters):
            return frozenset(_OF_SCRIPT.get(name, {name}))
    words = Counter(_WORD.findall(text))
    count = words.total()
    if count < _LEAST_WORDS:
        return frozenset()
    shares = sorted(
        ((sum(words[word] for word in known) / count, language) for language, known in _frequent().items()),
        reverse=True,
    )
    best, language = shares[0]
    alike = next((group for group in _ALIKE if language in group), {language})
    next_best = max((share for share, other in shares if other not in alike), default=0.0)
    if best < _LEAST_SHARE or best < _CLEARLY * next_best:
        return frozenset()
    return frozenset(alike)
