"""Gets the document out of what a receiver sends: XML or JSON, gzip, zip, or the mail that carried it.

Senders of reports are strangers, and their content types are often wrong: what something is, is seen from its first
octets. Documents come in pieces, so that a large one is never in memory as a whole; whoever reads them sets the limits.
"""

import base64
import io
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from itertools import chain, islice

from rust_gauge.core.errors import InputError
from rust_gauge.core.mime import Entity, parse_entity

MAX_PACKED = 25 * 1024 * 1024  # octets of a file or message as it came, and of what is packed within it
MAX_JSON = 20 * 1024 * 1024  # octets; JSON is read as a whole
SEND_AGAIN = "Send the report unchanged: XML or JSON, gzip, zip, or the whole message"
_PIECE = 64 * 1024  # octets
_MAX_BLANK = 1024 * 1024  # octets before a document
_MAX_FILES = 1000  # in a zip; a report has one
_MAX_LAYERS = 4  # a zip within gzip within a mail within a mail
_TYPES = frozenset(("application/tlsrpt+json", "application/json", "application/xml", "text/xml"))
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"
TAR = b"ustar"  # at octet 257
_BASE64 = (b"H4sI", b"UEsDB", b"PD94bWwg", b"PGZlZWRiYWNr")  # gzip, zip, "<?xml ", "<feedback"
_UTF8_MARK, _UTF16_MARKS = b"\xef\xbb\xbf", (b"\xff\xfe<", b"\xfe\xff\x00<")
_UTF16_JSON = (b"\xff\xfe{", b"\xfe\xff\x00{")


class ReportError(InputError):
    """What was handed in is not a report that we read."""


def open_document(octets: bytes) -> Iterator[bytes]:
    """Return the XML or JSON in a file or message, in pieces of 64 KB. ReportError where it has none, or is damaged;
    damage further inside is raised with the piece that it is met in.
    """
    pieces: Iterator[bytes] = in_pieces(octets)
    for _ in range(_MAX_LAYERS):
        first = _first(pieces)
        if is_document(first):
            return chain([first], pieces)
        packed = first if first is octets else b"".join(_at_most(chain([first], pieces), MAX_PACKED))
        if packed.startswith(_GZIP):
            pieces = _gunzip(packed)
        elif packed.startswith(_ZIP):
            pieces = _unzip(packed)
        elif packed[257:262] == TAR:
            pieces = _untar(packed)
        else:
            pieces = in_pieces(report_part(parse_entity(packed)))
    first = _first(pieces)
    if is_document(first):
        return chain([first], pieces)
    raise ReportError("No report found", remedy=SEND_AGAIN)


def unpack(octets: bytes, most: int = MAX_JSON) -> bytes:
    """Return the XML or JSON in a file or message as a whole. ReportError when there is none, or more than `most`."""
    return b"".join(_at_most(open_document(octets), most))


def whole(pieces: Iterable[bytes]) -> bytes:
    """Return a document as a whole. ReportError if it is larger than JSON may be."""
    return b"".join(_at_most(pieces, MAX_JSON))


def is_json(start: bytes) -> bool:
    """Return whether a document that begins so is JSON, as reports on TLS are, and not XML."""
    return start.startswith(_UTF16_JSON) or start.removeprefix(_UTF8_MARK).lstrip().startswith((b"{", b"[{"))


def is_document(start: bytes) -> bool:
    """Return whether octets begin as XML or JSON do."""
    document = start.removeprefix(_UTF8_MARK).lstrip()
    document = start.removeprefix(_UTF8_MARK).lstrip()
    return start.startswith((*_UTF16_MARKS, *_UTF16_JSON)) or document.startswith((b"<", b"{", b"[{"))


def is_packed(start: bytes) -> bool:
    """Return whether octets begin as gzip or zip do."""
    return start.startswith((_GZIP, _ZIP))


def report_part(message: Entity) -> bytes:
    """Return the first part of a message that may hold a report. ReportError if none does."""
    for content in report_parts(message):
        return content
    raise ReportError("No report found", remedy=SEND_AGAIN)


def report_parts(message: Entity) -> Iterator[bytes]:
    """Yield the parts of a message that may hold a report."""
    for part in message.walk():
        content = b"" if part.parts else _decoded(part.octets(MAX_PACKED))
        start = content.removeprefix(_UTF8_MARK).lstrip()[:9]
        looks_so = start.startswith((b"<?xml", b"<feedback")) or (part.type in _TYPES and is_document(content))
        if looks_so or content.startswith((_GZIP, _ZIP)):
            yield content


def _decoded(content: bytes) -> bytes:
    """Return what is in base64 though no header says so, as some receivers send it."""
    if not content.lstrip().startswith(_BASE64):
        return content
    try:
        return base64.b64decode(b"".join(content.split()), validate=True)
    except ValueError:
        return content


def in_pieces(octets: bytes) -> Iterator[bytes]:
    """Yield octets in pieces; all at once what is not a document yet."""
    if len(octets) <= _PIECE or not is_document(octets):
        yield octets
        return
    for at in range(0, len(octets), _PIECE):
        yield octets[at : at + _PIECE]


def _first(pieces: Iterator[bytes]) -> bytes:
    """Return the first piece that is not only blank. ReportError where a megabyte is."""
    for piece in islice(pieces, _MAX_BLANK // _PIECE):
        if piece.strip():
            return piece
    if next(pieces, b""):
        raise ReportError("No report found: its first megabyte is blank", remedy=SEND_AGAIN)
    return b""


def _at_most(pieces: Iterable[bytes], most: int) -> Iterator[bytes]:
    so_far = 0
    for piece in pieces:
        so_far += len(piece)
        if so_far > most:
            raise ReportError(
                f"The report is larger than {most // 1024 // 1024} MB when unpacked",
                remedy="Skip it: no receiver sends reports of that size",
            )
        yield piece


def _gunzip(octets: bytes) -> Iterator[bytes]:
    """Unpack gzip (RFC 1952). What stands behind its end is ignored; the standard library reads it octet by octet."""
    while octets.startswith(_GZIP):
        packed = zlib.decompressobj(wbits=31)
        try:
            yield packed.decompress(octets, _PIECE)
            while not packed.eof:
                piece = packed.decompress(packed.unconsumed_tail, _PIECE)
                if not piece and not packed.eof:
                    why = "its end is missing"
                    raise ReportError("The gzip file is damaged", why=why, remedy="Download the report again")
                yield piece
        except zlib.error as error:
            why = str(error)[:200]
            raise ReportError("The gzip file is damaged", why=why, remedy="Download the report again") from None
        octets = packed.unused_data


def _untar(octets: bytes) -> Iterator[bytes]:
    """Unpack the first file of a tar archive that begins as a document or is packed."""
    try:
        with tarfile.open(fileobj=io.BytesIO(octets), mode="r:") as archive:
            for entry in islice(archive, _MAX_FILES):
                inside = archive.extractfile(entry) if entry.isfile() else None
                piece = inside.read(_PIECE) if inside is not None else b""
                if inside is not None and (is_document(piece) or is_packed(piece)):
                    while piece:
                        yield piece
                        piece = inside.read(_PIECE)
                    return
    except (tarfile.TarError, ValueError, OverflowError, OSError, RecursionError) as error:
        raise ReportError("The tar file is damaged", why=str(error)[:200], remedy="Make it again") from None
    raise ReportError("No report found", remedy=SEND_AGAIN)


def _unzip(octets: bytes) -> Iterator[bytes]:
    if octets.count(b"PK\x01\x02") > _MAX_FILES:  # reading the directory takes time and memory for each
        raise ReportError(f"The zip file has more than {_MAX_FILES} files", remedy=SEND_AGAIN)
    try:
        with zipfile.ZipFile(io.BytesIO(octets)) as packed:
            files = [name for name in packed.namelist() if not name.endswith("/")]
            likely = (".xml", ".json", ".gz", ".zip")
            inside_it = sorted(files, key=lambda name: (not name.lower().endswith(likely), name.startswith("__MACOSX")))
            if not inside_it:
                raise ReportError("The zip file is empty", remedy=SEND_AGAIN)
            chosen = packed.getinfo(inside_it[0])
            if chosen.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
                # Other methods may ask for gigabytes of memory before the first octet.
                raise ReportError("The zip file is compressed with an unusual method", remedy=SEND_AGAIN)
            with packed.open(chosen) as inside:
                while piece := inside.read(_PIECE):
                    yield piece
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, RuntimeError, NotImplementedError, ValueError,
            KeyError, OverflowError, struct.error) as error:  # fmt: skip
        raise ReportError("The zip file is damaged", why=str(error)[:200], remedy="Download the report again") from None
