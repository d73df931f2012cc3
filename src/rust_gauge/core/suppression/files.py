"""Lists of addresses as people bring them: CSV with any delimiter, NDJSON, or an address a line, in any encoding.

What a column means is recognised by its name, or stated. Rows come one after the other, so a file may be as long as
it likes; what cannot be read is a row with a reason, and the rows beside it are read all the same.
"""

import codecs
import csv
import json
import re
import unicodedata
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import NamedTuple

import charset_normalizer

from rust_gauge.core.errors import RustGaugeError

SAMPLE = 256 * 1024  # octets that form, encoding and columns are found from
_DELIMITERS = ",;\t|"
_LONGEST = 10_000  # characters of a line without line breaks
FIELDS = ("address", "reason", "since", "until", "note")
# More columns of our own export. Elsewhere these names mean something else, such as the state that a person lives in.
_EXPORTED = ("scope", "scope_name", "state")
_MARK = "address_key"  # the column that only our export has
# An apostrophe before what a spreadsheet would take for a formula, as our exports and spreadsheets put it there.
_GUARDED = re.compile(r"(\A|[;\t])'('*)(?=[=+\-@\t\r\n])")
# By what they hold, in the languages that lists come in; compared without case, blanks, hyphens and underscores.
_NAMES: dict[str, tuple[str, ...]] = {
    name: tuple(words.split())
    for name, words in {
        "address": (
            "address email mail emailaddress mailaddress recipient mailbox subscriber mailadresse "
            "emailadresse empfänger adresse adresseemail adressemail adressedemessagerie courriel "
            "adressecourriel destinataire correo correoelectrónico correoelectronico dirección direccion "
            "direccióndecorreo destinatario emaildirección endereço endereco endereçodeemail enderecodeemail "
            "correioeletrônico correioeletronico destinatário indirizzo indirizzoemail indirizzodiposta "
            "postaelettronica emailadres mailadres adres ontvanger adresemail adrespoczty odbiorca "
            "emailováadresa emailovaadresa adresa příjemce emailcím emailcim cím címzett levélcím epost "
            "epostadress epostadresse adress mottagare sähköposti адрес электроннаяпочта почта "
            "адресэлектроннойпочты эладрес имейл получатель адреса електроннапошта адресаелектронноїпошти "
            "пошта одержувач отримувач eposta epostaadresi alıcı メール メールアドレス 電子メール 宛先 "
            "アドレス 邮箱 电子邮件 电子邮箱 邮件地址 收件人 郵箱 電子郵件 信箱 이메일 이메일주소 메일 "
            "메일주소 전자우편 수신자"
        ),
        "reason": (
            "reason why cause type grund ursache motif raison motivo razón razon razão reden oorzaak powód "
            "przyczyna důvod příčina orsak anledning причина neden sebep 理由 原因 사유 이유"
        ),
        "since": (
            "since date created createdat added time timestamp when datum zeit seit erstellt depuis fecha "
            "desde creado data criado dal sinds aangemaakt oddnia utworzono vytvořeno dátum kelt skapad дата "
            "создано створено tarih 日付 日時 登録日 日期 时间 날짜 등록일"
        ),
        "until": (
            "until expires expiresat ends end bis gültigbis ende jusque expire fin hasta vence até expira "
            "scadenza finoal tot verloopt ważnedo platnédo lejár meddig giltigtill до bitiş 期限 終了 有效期 "
            "到期 만료일"
        ),
        "note": (
            "note notes comment description detail diagnostic notiz bemerkung kommentar anmerkung remarque "
            "commentaire nota comentario observación comentário observação commento opmerking notitie uwagi "
            "notatka komentarz poznámka megjegyzés anteckning примечание комментарий примітка коментар "
            "açıklama 備考 メモ 备注 说明 備註 비고 메모"
        ),
    }.items()
}
_SEPARATORS = re.compile(r"[\s_\-./'’\"]+")


def _named(heading: str) -> str:
    """Return a heading as names are compared."""
    return _SEPARATORS.sub("", unicodedata.normalize("NFC", heading)).casefold()


_KNOWN_NAMES = {name: frozenset(_named(text) for text in texts) for name, texts in _NAMES.items()}
_MOST_COLUMNS = 1000
_OPENING, _CLOSING = "\"'<[({“‘,; \t", "\"'>])}”’,; \t"


class FileError(RustGaugeError):
    """A file that cannot be read as a list."""


class Row(NamedTuple):
    """A row as it stands there; `number` counts from 1, a heading included. `cells`: all of it, for a file cut in two.

    `problem` says what is wrong where the row as such cannot be read.
    """

    number: int
    address: str
    reason: str = ""
    since: str = ""
    until: str = ""
    note: str = ""
    scope: str = ""
    scope_name: str = ""
    state: str = ""
    cells: Sequence[str] = ()
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Layout:
    """How a file is written. `columns`: which column (or JSON field) holds what, by our names."""

    form: str  # csv, ndjson or plain
    encoding: str
    delimiter: str = ","
    heading: tuple[str, ...] = ()
    columns: Mapping[str, str] = field(default_factory=dict)
    places: Mapping[str, int] = field(default_factory=dict)
    certainty: str = "certain"  # of the encoding: certain, likely, or unsure
    candidates: tuple[str, ...] = ()  # encodings that fit as well, where it is unsure


def find_encoding(sample: bytes) -> str:
    """Find the encoding of a text. FileError where none fits."""
    return judge_encoding(sample)[0]


def judge_encoding(sample: bytes) -> tuple[str, str, tuple[str, ...]]:
    """Return (encoding, certainty, others that fit as well). FileError where none fits.

    `certain`: a mark says so, or it is UTF-8. `likely`: what is in it looks like that. `unsure`: others fit as well.
    """
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF32_LE, "utf-32"), (codecs.BOM_UTF32_BE, "utf-32"),
        (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"),
    ):  # fmt: skip
        if sample.startswith(mark):
            return name, "certain", ()
    try:
        codecs.getincrementaldecoder("utf-8")().decode(sample)
        if b"\0" not in sample:
            return "utf-8", "certain", ()
    except UnicodeDecodeError:
        pass
    if sample[1::2].count(0) > len(sample) // 4:
        return "utf-16-le", "likely", ()
    if sample[::2].count(0) > len(sample) // 4:
        return "utf-16-be", "likely", ()
    if b"\0" in sample:
        raise FileError("This is not a text", remedy="Use CSV, NDJSON or one address per line, uncompressed")
    if _is_western(sample):
        return "cp1252", "likely", ()
    found = charset_normalizer.from_bytes(sample)
    best = found.best()
    if best is None:
        return "cp1252", "unsure", ()
    text = sample.decode(best.encoding, "replace")
    high = sum(octet >= 0x80 for octet in sample)
    others = [
        match.encoding
        for match in found
        if match.encoding != best.encoding
        and abs(match.chaos - best.chaos) < 0.02
        and abs(match.coherence - best.coherence) < 0.1
        and sample.decode(match.encoding, "replace") != text
    ]
    certain_enough = best.coherence >= 0.5 or (high >= 40 and not others)
    return best.encoding, "likely" if certain_enough else "unsure", tuple(others[:5])


def _is_western(sample: bytes) -> bool:
    """Mostly ASCII, and what is not would be letters of Western Europe: too little for statistics to tell by."""
    high = [octet for octet in sample if octet >= 0x80]
    letters = sum(octet >= 0xC0 and octet not in (0xD7, 0xF7) for octet in high)
    return len(high) * 5 < len(sample) and letters >= 0.9 * len(high)


def find_layout(
    sample: bytes, *, form: str = "", encoding: str = "", columns: Mapping[str, str] | None = None
) -> Layout:
    """How a file is written, from its beginning. What is stated is taken. FileError where no column holds addresses."""
    certainty = "certain"
    candidates: tuple[str, ...] = ()
    if not encoding:
        encoding, certainty, candidates = judge_encoding(sample)
    layout = _layout_of(sample, form, encoding, columns)
    return replace(layout, certainty=certainty, candidates=candidates)


def _layout_of(sample: bytes, form: str, encoding: str, columns: Mapping[str, str] | None) -> Layout:
    try:
        decoder = codecs.getincrementaldecoder(encoding)("replace")
    except LookupError:
        raise FileError(f"Unknown encoding {encoding}", remedy="Omit it for automatic detection") from None
    lines = [line for line in decoder.decode(sample).splitlines() if line.strip()][:200]
    if not lines:
        raise FileError("The file is empty")
    stated = {name: column for name, column in (columns or {}).items() if column}
    unknown = sorted(set(stated) - set(FIELDS))
    if unknown:
        raise FileError(f"Unknown field {unknown[0]}", remedy="Fields: " + ", ".join(FIELDS))
    if not form:
        form = "ndjson" if lines[0].lstrip().startswith("{") else "csv" if _is_table(lines) else "plain"
    if form == "plain":
        return Layout("plain", encoding)
    if form == "ndjson":
        return Layout("ndjson", encoding, columns=_json_columns(lines, stated))
    return _csv_layout(lines, encoding, stated)


def _is_table(lines: list[str]) -> bool:
    bare = lines[0].strip().strip(_OPENING + _CLOSING)
    return any(mark in bare for mark in _DELIMITERS) or _named(bare) in _KNOWN_NAMES["address"]


def _delimiter(lines: list[str]) -> str:
    """Find what parts most lines into the same number of cells, more than one."""
    best, most = ",", 0
    for mark in _DELIMITERS:
        counts = [len(row) for row in csv.reader(lines[:50], delimiter=mark)]
        usual = max(set(counts), key=counts.count)
        weight = counts.count(usual) * (usual > 1)
        if weight > most:
            best, most = mark, weight
    return best


def _csv_layout(lines: list[str], encoding: str, stated: Mapping[str, str]) -> Layout:
    delimiter = _delimiter(lines)
    rows = list(csv.reader(lines, delimiter=delimiter))
    first = [cell.strip() for cell in rows[0]]
    heading = tuple(first) if not any("@" in cell for cell in first) else ()
    places = {name: _place_of(column, heading, len(first)) for name, column in stated.items()}
    for name, known in _KNOWN_NAMES.items():
        if name not in places and heading:
            found = next((n for n, cell in enumerate(heading) if _named(cell) in known), None)
            if found is not None and found not in places.values():
                places[name] = found
    if _MARK in heading:
        places |= {name: heading.index(name) for name in _EXPORTED if name in heading}
    if "address" not in places:
        with_sign = [sum("@" in row[n] for row in rows[1:] or rows if n < len(row)) for n in range(len(first))]
        if max(with_sign, default=0) == 0:
            there = ", ".join(heading) or str(len(first))
            raise FileError("No column contains addresses", remedy=f"Name the column. Columns: {there}")
        places["address"] = with_sign.index(max(with_sign))
    columns = {name: heading[place] if heading else str(place + 1) for name, place in places.items()}
    return Layout("csv", encoding, delimiter, heading, columns, places)


def _place_of(column: str, heading: Sequence[str], width: int) -> int:
    lowered = [cell.lower() for cell in heading]
    if column.lower() in lowered:
        return lowered.index(column.lower())
    if column.isascii() and column.isdigit() and 1 <= int(column) <= width:
        return int(column) - 1
    there = ", ".join(heading) or f"1 to {width}"
    raise FileError(f"Unknown column {column}", remedy=f"Columns: {there}")


def column_place(layout: Layout, column: str) -> int:
    """Return the place, from 0 on, of a column by its heading or number. FileError where a file has no such column."""
    if layout.form != "csv":
        raise FileError(f"A file of the form {layout.form} has no column {column}", remedy="Use CSV with a heading")
    return _place_of(column, layout.heading, len(layout.heading) or _MOST_COLUMNS)


def _json_columns(lines: list[str], stated: Mapping[str, str]) -> dict[str, str]:
    try:
        first = json.loads(lines[0])
    except ValueError as error:
        raise FileError(f"The first line is not valid JSON: {error}", remedy="NDJSON has one object per line") from None
    names = {name.lower(): name for name in first} if isinstance(first, dict) else {}
    columns = dict(stated)
    for name, known in _KNOWN_NAMES.items():
        found = next((field for field in names.values() if _named(field) in known), None)
        if name not in columns and found is not None and found not in columns.values():
            columns[name] = found
    if "address" not in columns and isinstance(first, dict):
        with_sign = next((field for field, value in first.items() if isinstance(value, str) and "@" in value), None)
        if with_sign is not None:
            columns["address"] = with_sign
    if _MARK in names:
        columns |= {name: name for name in _EXPORTED if name in names}
    if "address" not in columns:
        raise FileError("No field contains addresses", remedy="Name the field. Fields: " + ", ".join(names))
    return columns


def read_rows(pieces: Iterable[bytes], layout: Layout) -> Iterator[Row]:
    """Yield the rows of a file that comes in pieces."""
    lines = _lines(pieces, layout.encoding)
    if layout.form == "csv":
        return _csv_rows(lines, layout)
    return _json_rows(lines, layout) if layout.form == "ndjson" else _plain_rows(lines)


def row_lines(pieces: Iterable[bytes], layout: Layout) -> Iterator[str]:
    """Yield the line of each row as it stands there, without its end: as many as `read_rows` yields, in their order.

    For files whose rows are lines: of CSV those without a quotation mark, and none of our own exports.
    """
    lines = _lines(pieces, layout.encoding)
    if layout.form == "plain":
        return (line.rstrip("\n") for line in lines if (text := line.strip()) and text not in _BRACKETS)
    if layout.form == "ndjson":
        return (line.rstrip("\n") for line in lines if line.strip())
    if layout.heading:
        next(lines, None)
    mark = layout.delimiter
    return (line.rstrip("\n") for line in lines if mark in line or line.strip())


def rows_are_lines(layout: Layout, *, quoted: bool) -> bool:
    """Return whether `row_lines` may be used. `quoted`: there is a quotation mark somewhere."""
    return layout.form != "csv" or not (quoted or _MARK in layout.heading)


_BRACKETS = "[]{}"  # around a list, each on a line of its own
_LINE_END = re.compile(r"[\r\n]")


def _lines(pieces: Iterable[bytes], encoding: str) -> Iterator[str]:
    """Return lines with their ends. Octets that are invalid in this encoding stay visible: the row is rejected."""
    decoder = codecs.getincrementaldecoder(encoding)("replace")
    begun: list[str] = []  # of a line whose end has not come
    for piece in pieces:
        begun.append(decoder.decode(piece))
        if len(begun) > 1 and not (_LINE_END.search(begun[-1]) or begun[-2].endswith("\r")):
            continue  # joining only at a line's end keeps long lines linear
        text = "".join(begun)
        if "\r" in text:
            held = "\r" if text.endswith("\r") else ""  # its other half may come with the next piece
            text = text.removesuffix("\r").replace("\r\n", "\n").replace("\r", "\n") + held
        lines = text.split("\n")
        begun = [lines.pop()]
        for line in lines:
            yield line + "\n"
    rest = "".join([*begun, decoder.decode(b"", True)])
    if rest:
        yield rest.removesuffix("\r")


def _plain_rows(lines: Iterator[str]) -> Iterator[Row]:
    for number, line in enumerate(lines, 1):
        text = line.strip()
        if text and text not in _BRACKETS:
            address = text[:_LONGEST]
            if address[0] in _OPENING and "@" in address and "<" not in address[1:]:
                address = address.strip(_OPENING + _CLOSING)
            yield Row(number, address.rstrip(",; \t"), cells=(text[:_LONGEST],))


def _csv_rows(lines: Iterator[str], layout: Layout) -> Iterator[Row]:
    places = layout.places
    address = places["address"]
    others = [(name, places[name]) for name in (*FIELDS[1:], *_EXPORTED) if name in places]
    reader = csv.reader((line.replace("\0", "\ufffd") for line in lines), delimiter=layout.delimiter)
    own = _MARK in layout.heading  # only our exports guard cells; those of others stay as they came
    number = 0
    while True:
        try:
            cells = next(reader, None)
        except csv.Error as error:
            number += 1
            yield Row(number, "", problem=f"it is not valid CSV: {error}")
            continue
        if cells is None:
            return
        number += 1
        if own and any("'" in cell for cell in cells):
            cells = [_GUARDED.sub(r"\1\2", cell) for cell in cells]
        if (number == 1 and layout.heading) or not cells or (len(cells) == 1 and not cells[0].strip()):
            continue
        if len(cells) <= address:
            yield Row(
                number, "", cells=cells, problem=f"it has {len(cells)} cells, the address is in cell {address + 1}"
            )
        elif others:
            values = {name: cells[place].strip() for name, place in others if place < len(cells)}
            yield Row(number, cells[address].strip(), cells=cells, **values)
        else:
            yield Row(number, cells[address].strip(), cells=cells)


def _json_rows(lines: Iterator[str], layout: Layout) -> Iterator[Row]:
    columns = layout.columns
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            value = json.loads(line)
        except (ValueError, RecursionError) as error:
            yield Row(number, line.strip()[:200], problem=f"not valid JSON: {error}")
            continue
        if not isinstance(value, dict):
            yield Row(number, line.strip()[:200], problem="not a JSON object")
            continue
        found = {name: value.get(column) for name, column in columns.items()}
        texts = {name: "" if value is None else str(value).strip() for name, value in found.items()}
        yield Row(number, texts.pop("address", ""), cells=(line.strip(),), **texts)


def read_time(text: str) -> datetime:
    """Read an ISO 8601 date or time, UTC where no zone is named; or seconds since 1970. ValueError otherwise."""
    if text.isdigit() and 9 <= len(text) <= 13:
        seconds = int(text) if len(text) < 12 else int(text) / 1000
        return datetime.fromtimestamp(seconds, UTC)
    time = datetime.fromisoformat(text.replace("/", "-"))
    return time.replace(tzinfo=UTC) if time.tzinfo is None else time.astimezone(UTC)
