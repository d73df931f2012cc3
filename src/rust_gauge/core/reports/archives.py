"""Many reports in one file, as people keep them: zip and tar archives; or a single report, however large.

Each comes out as the octets of one report. One that cannot be taken out is named with the reason, and the rest go on.
"""

import io
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import chain, islice
from typing import IO

from rust_gauge.core.mime import parse_entity
from rust_gauge.core.reports.unpacking import (
    MAX_PACKED,
    SEND_AGAIN,
    TAR,
    ReportError,
    is_document,
    is_packed,
    report_parts,
)

_PIECE = 1024 * 1024
_MAX_DOCUMENT = 2 * 1024**3  # octets of one document
_MAX_WHOLE = 64 * 1024**3  # octets that come out of an archive, whatever they are
_MAX_FURTHER = 200  # reports of a file that is not stored by a job
_MAX_TOGETHER = 100 * 1024**2  # octets of them
_GZIP = 16 + zlib.MAX_WBITS


@dataclass(frozen=True, slots=True)
class Member:
    """One file of an archive. `position` is how much of the archive was read then, in octets; `problem` says why there
    are no octets."""

    name: str
    octets: bytes
    position: int
    problem: ReportError | None = None


def reports_in(file: IO[bytes]) -> Iterator[Member]:
    """Yield the reports of a file that can be sought in: of a zip or tar archive its files, else the file itself.
    ReportError where the archive is damaged from here on, or holds more than 64 GB."""
    size = file.seek(0, 2)
    file.seek(0)
    if zipfile.is_zipfile(file):
        file.seek(0)
        yield from _zipped(file, size)
        return
    file.seek(0)
    if _is_tar(file):
        file.seek(0)
        yield from _tarred(file)
        return
    file.seek(0)
    yield _member("", lambda: file, lambda: size)


def further_reports(octets: bytes) -> Iterator[bytes]:
    """Yield the reports of a file or message that holds several; nothing where it holds one. Other files are left out.
    ReportError where an archive is damaged from here on, or is one for a job."""
    if is_document(octets):
        return
    files = [octets]
    if not is_packed(octets) and octets[257:262] != TAR:
        files = list(islice(report_parts(parse_entity(octets)), _MAX_FURTHER))
    found = (member.octets for file in files for member in reports_in(io.BytesIO(file)) if _may_be_report(member))
    first = list(islice(found, 2))
    if len(first) < 2:
        return
    size = 0
    for number, report in enumerate(chain(first, found)):
        size += len(report)
        if number >= _MAX_FURTHER or size > _MAX_TOGETHER:
            what = f"The file holds more than {_MAX_FURTHER} reports, or more than {_MAX_TOGETHER // 1024**2} MB"
            remedy = "Upload it in the console or with `rustgauge dmarc add`, which store it piece by piece"
            raise ReportError(what, why="only those before that were stored", remedy=remedy)
        yield report


def _may_be_report(member: Member) -> bool:
    start = member.octets[:1000]
    return member.problem is None and (is_document(start) or is_packed(start))


def _is_tar(file: IO[bytes]) -> bool:
    try:
        return tarfile.is_tarfile(file)
    except Exception:  # it raises what damaged gzip makes it raise
        return False


def _zipped(file: IO[bytes], size: int) -> Iterator[Member]:
    try:
        with zipfile.ZipFile(file) as archive:
            entries = [entry for entry in archive.infolist() if not entry.is_dir()]
            if len(entries) == 1 and size <= MAX_PACKED:  # a report as receivers send it
                file.seek(0)
                yield Member(entries[0].filename, file.read(), size)
                return
            seen = whole = 0
            for entry in entries:
                seen += entry.compress_size
                whole = _within(whole + entry.file_size)
                yield _member(entry.filename, lambda entry=entry: archive.open(entry), lambda seen=seen: seen)  # type: ignore[misc]
    except ReportError:
        raise
    except Exception as error:  # readers of archives raise nearly anything for damaged ones
        raise _damaged("zip", error) from None


def _tarred(file: IO[bytes]) -> Iterator[Member]:
    whole = 0
    try:
        with tarfile.open(fileobj=file, mode="r:*") as archive:
            for entry in archive:
                whole = _within(whole + entry.size)
                content = archive.extractfile(entry) if entry.isfile() else None
                if content is not None:
                    yield _member(entry.name, lambda content=content: content, file.tell)  # type: ignore[misc]
                archive.members = []  # type: ignore[attr-defined]  # it would hold them all
    except ReportError:
        raise
    except Exception as error:
        raise _damaged("tar", error) from None


def _within(whole: int) -> int:
    if whole > _MAX_WHOLE:
        raise ReportError("The archive holds more than 64 GB", remedy="Cut it into smaller ones")
    return whole


def _damaged(kind: str, error: Exception) -> ReportError:
    return ReportError(f"The {kind} archive is damaged", why=str(error)[:200], remedy="Make the archive again")


def _member(name: str, opened: Callable[[], IO[bytes]], position: Callable[[], int]) -> Member:
    try:
        octets = _octets(opened())
    except ReportError as error:
        return Member(name, b"", position(), error)
    except Exception as error:  # damaged, encrypted, or packed in a way that is not known here
        why = str(error)[:200]
        return Member(name, b"", position(), ReportError("The file cannot be unpacked", why=why, remedy=SEND_AGAIN))
    return Member(name, octets, position())


def _octets(file: IO[bytes]) -> bytes:
    """Return a report in a form that is small enough: as it is, or a long document as gzip."""
    start = file.read(MAX_PACKED + 1)
    if len(start) <= MAX_PACKED:
        return start
    if not is_document(start[:_PIECE]):
        raise ReportError(f"The report is larger than {MAX_PACKED // 1024 // 1024} MB", remedy=SEND_AGAIN)
    packer = zlib.compressobj(6, wbits=_GZIP)
    out, size, read = [packer.compress(start)], 0, len(start)
    while piece := file.read(_PIECE):
        out.append(packer.compress(piece))
        size, read = size + len(out[-1]), read + len(piece)
        if size > MAX_PACKED or read > _MAX_DOCUMENT:
            raise ReportError("The report is larger than 25 MB when packed, or 2 GB when not", remedy=SEND_AGAIN)
    return b"".join([*out, packer.flush()])
