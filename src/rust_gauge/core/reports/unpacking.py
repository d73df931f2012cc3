"""Gets the document out of what a receiver sends: XML or JSON, gzip, zip, or the mail that carried it.

Senders of reports are strangers: what is packed is unpacked to MAX_UNPACKED octets at most, a few layers deep.
"""

import io
import struct
import zipfile
import zlib

from rust_gauge.core.errors import InputError
from rust_gauge.core.mime import parse_entity

MAX_UNPACKED = 20 * 1024 * 1024  # octets of XML or JSON
SEND_AGAIN = "Send the report unchanged: XML or JSON, gzip, zip, or the whole message"
_MAX_FILES = 1000  # in a zip; a report has one
_MAX_LAYERS = 3  # a zip within gzip within a mail
_TYPES = frozenset(("application/tlsrpt+json", "application/json", "application/xml", "text/xml"))
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"


class ReportError(InputError):
    """What was handed in is not a report that we read."""


def unpack(octets: bytes) -> bytes:
    """Return the XML or JSON in a file or message. ReportError when there is none, or more than MAX_UNPACKED of it."""
    for _ in range(_MAX_LAYERS):
        if octets.startswith(_GZIP):
            octets = _gunzip(octets)
        elif octets.startswith(_ZIP):
            octets = _unzip(octets)
        elif _is_document(octets):
            return octets
        else:
            octets = _part(octets)
    if _is_document(octets):
        return octets
    raise ReportError("No report found", remedy=SEND_AGAIN)


def is_json(document: bytes) -> bool:
    """Return whether a document is JSON, as reports on TLS are, and not XML."""
    return document.removeprefix(b"\xef\xbb\xbf").lstrip().startswith(b"{")


def within(octets: bytes) -> bytes:
    """Return a document as it is. ReportError if it is larger than any report."""
    if len(octets) > MAX_UNPACKED:
        raise ReportError(
            f"The report is larger than {MAX_UNPACKED // 1024 // 1024} MB when unpacked",
            remedy="Skip it: no receiver sends reports of that size",
        )
    return octets


def _is_document(octets: bytes) -> bool:
    return octets.removeprefix(b"\xef\xbb\xbf").lstrip().startswith((b"<", b"{"))


def _part(octets: bytes) -> bytes:
    """Return the first part of a message that may hold a report."""
    for part in parse_entity(octets).walk():
        content = b"" if part.parts else part.octets(MAX_UNPACKED + 1)
        if content.startswith((_GZIP, _ZIP)) or content.lstrip().startswith(b"<?xml") or part.type in _TYPES:
            return within(content)
    raise ReportError("No report found", remedy=SEND_AGAIN)


def _gunzip(octets: bytes) -> bytes:
    """Unpack gzip (RFC 1952). What stands behind its end is ignored; the standard library reads it octet by octet."""
    out = b""
    while octets.startswith(_GZIP):
        packed = zlib.decompressobj(wbits=31)
        try:
            out += packed.decompress(octets, MAX_UNPACKED + 1 - len(out))
        except zlib.error as error:
            why = str(error)[:200]
            raise ReportError("The gzip file is damaged", why=why, remedy="Download the report again") from None
        within(out)
        if not packed.eof:
            raise ReportError("The gzip file is damaged", why="its end is missing", remedy="Download the report again")
        octets = packed.unused_data
    return out


def _unzip(octets: bytes) -> bytes:
    if octets.count(b"PK\x01\x02") > _MAX_FILES:  # reading the directory takes time and memory for each
        raise ReportError(f"The zip file has more than {_MAX_FILES} files", remedy=SEND_AGAIN)
    try:
        with zipfile.ZipFile(io.BytesIO(octets)) as packed:
            inside_it = sorted(packed.namelist(), key=lambda name: not name.lower().endswith((".xml", ".json")))
            if not inside_it:
                raise ReportError("The zip file is empty", remedy=SEND_AGAIN)
            chosen = packed.getinfo(inside_it[0])
            if chosen.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
                # Other methods may ask for gigabytes of memory before the first octet.
                raise ReportError("The zip file is compressed with an unusual method", remedy=SEND_AGAIN)
            with packed.open(chosen) as inside:
                return within(inside.read(MAX_UNPACKED + 1))
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, RuntimeError, NotImplementedError, ValueError,
            KeyError, OverflowError, struct.error) as error:  # fmt: skip
        raise ReportError("The zip file is damaged", why=str(error)[:200], remedy="Download the report again") from None
