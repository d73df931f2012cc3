"""Macro strings of SPF (RFC 7208 §7): parsed into pieces, and expanded with the values of a connection.

macro-string = *( macro-expand / macro-literal )
macro-expand = ( "%{" macro-letter transformers *delimiter "}" ) / "%%" / "%_" / "%-"
macro-literal = %x21-24 / %x26-7E
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import quote

from rust_gauge.core.taglist import Problem

# macro-letter = "s" / "l" / "o" / "d" / "i" / "p" / "h" / "c" / "r" / "t" / "v", case-insensitive
_EXPAND = re.compile(r"%\{([slodiphcrtvSLODIPHCRTV])([0-9]*)([rR]?)([.\-+,/_=]*)\}")
_ESCAPES = {"%%": "%", "%_": " ", "%-": "%20"}
_EXPLANATION_ONLY = "crt"  # §7.2: only in the text that exp= leads to
_TOPLABEL = re.compile(r"(?=.*[A-Za-z\-])[A-Za-z0-9](?:[A-Za-z0-9\-]*[A-Za-z0-9])?\Z")


@dataclass(frozen=True, slots=True)
class MacroExpand:
    """`%{` letter, digits (0: all labels), reverse, delimiters `}`. An upper-case letter asks for URL escaping."""

    letter: str
    digits: int
    reverse: bool
    delimiters: str


@dataclass(frozen=True, slots=True)
class MacroString:
    """Literals and macros in order; `text` is the source."""

    text: str
    pieces: tuple[str | MacroExpand, ...]

    @property
    def has_macros(self) -> bool:
        """Return whether its value depends on the connection."""
        return any(isinstance(piece, MacroExpand) for piece in self.pieces)

    @property
    def literal(self) -> str:
        """The text with escapes resolved; only for strings without macros."""
        return "".join(piece for piece in self.pieces if isinstance(piece, str))


def parse_macro_string(text: str, column: int, *, explanation: bool = False) -> tuple[MacroString, list[Problem]]:
    """Read a macro string that begins at `column` of its record; every mistake is reported with its own column."""
    pieces: list[str | MacroExpand] = []
    problems: list[Problem] = []
    at = 0
    while at < len(text):
        char = text[at]
        if char == "%":
            macro = _EXPAND.match(text, at)
            if macro:
                letter, digits, reverse, delimiters = macro.groups()
                if digits and int(digits[:6]) == 0:
                    problems.append(Problem("a macro may not keep 0 labels", column + at, len(macro.group())))
                if not explanation and letter.lower() in _EXPLANATION_ONLY:
                    what = f"the macro %{{{letter}}} is for explanations only"
                    problems.append(Problem(what, column + at, len(macro.group())))
                pieces.append(MacroExpand(letter, int(digits[:6] or 0), bool(reverse), delimiters or "."))
                at = macro.end()
                continue
            escape = text[at : at + 2]
            if escape in _ESCAPES:
                pieces.append(_ESCAPES[escape])
                at += 2
                continue
            end = text.find("}", at)
            length = (end - at + 1) if escape == "%{" and end > 0 else min(2, len(text) - at)
            problems.append(Problem(f"{text[at : at + length]} is not a macro", column + at, length))
            at += length
            continue
        if not "\x21" <= char <= "\x7e" and not (explanation and char == " "):
            problems.append(Problem(f"{char!r} is not allowed in a name", column + at))
        pieces.append(char)
        at += 1
    return MacroString(text, tuple(_joined(pieces))), problems


def expand(string: MacroString, values: Mapping[str, str]) -> str:
    """Expand a text for one connection (§7.3). `values` gives each macro letter's value, by its lower-case letter."""
    return "".join(p if isinstance(p, str) else _expanded(p, values[p.letter.lower()]) for p in string.pieces)


def _expanded(macro: MacroExpand, value: str) -> str:
    parts = re.split(f"[{re.escape(macro.delimiters)}]", value)
    if macro.reverse:
        parts.reverse()
    if macro.digits:
        parts = parts[-macro.digits :]
    text = ".".join(parts)
    return quote(text, safe="-._~") if macro.letter.isupper() else text


def target_name(text: str) -> str:
    """Return an expanded domain-spec as the name to ask for: no last dot, whole labels taken off the left until at most
    253 characters are left (§7.3)."""
    name = text.removesuffix(".")
    while len(name) > 253 and "." in name:
        name = name.partition(".")[2]
    return name


def check_domain_spec(spec: MacroString, column: int) -> list[Problem]:
    """domain-spec = macro-string domain-end; domain-end = ( "." toplabel [ "." ] ) / macro-expand (§7.1)."""
    if not spec.text:
        return [Problem("a name is missing here", column)]
    if isinstance(spec.pieces[-1], MacroExpand):
        return []
    end = spec.pieces[-1].removesuffix(".")
    head, dot, top = end.rpartition(".")
    if not dot:
        what = "it has no dot" if len(spec.pieces) == 1 else "its end has no dot after the macro"
        return [Problem(f"{spec.text} is not a full domain name: {what}", column, len(spec.text))]
    if not _TOPLABEL.match(top):
        return [Problem(f"{spec.text} does not end in a top label", column, len(spec.text))]
    if ".." in spec.text or (len(spec.pieces) == 1 and (head == "" or head.startswith("."))):
        return [Problem(f"{spec.text} has an empty label", column, len(spec.text))]
    return []


def _joined(pieces: list[str | MacroExpand]) -> list[str | MacroExpand]:
    out: list[str | MacroExpand] = []
    for piece in pieces:
        if isinstance(piece, str) and out and isinstance(out[-1], str):
            out[-1] += piece
        else:
            out.append(piece)
    return out
