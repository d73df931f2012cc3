"""Files that a command reads: opened, checked, and cut into pieces that fit into a request."""

import io
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from rust_gauge.cli.errors import UsageError

ROWS, OCTETS = 5000, 4 * 1024 * 1024  # of one request


@contextmanager
def open_input(name: str, check: bool = True) -> Iterator[tuple[BinaryIO, int]]:
    """A file whose encoding was checked before anything is sent; or standard input, as it comes."""
    if name == "-":
        yield sys.stdin.buffer, 0
        return
    path = Path(name)
    try:
        file = path.open("rb")
    except OSError as error:
        raise UsageError(f"{name} cannot be read: {error.strerror}") from None
    with file:
        if check:
            _check_encoding(file, name)
            file.seek(0)
        yield file, path.stat().st_size


def read_octets(name: str, most: int) -> bytes:
    """Return what is in a file, or on standard input for `-`. UsageError when it is longer than `most`."""
    try:
        raw = sys.stdin.buffer.read(most + 1) if name == "-" else Path(name).read_bytes()
    except OSError as error:
        raise UsageError(f"{name} cannot be read: {error.strerror}") from None
    if len(raw) > most:
        raise UsageError(f"{name} is larger than {_size(most)}")
    return raw


def _size(octets: int) -> str:
    return f"{octets // 1024 // 1024} MB" if octets >= 1024 * 1024 else f"{octets // 1024} kB"


def _check_encoding(file: BinaryIO, name: str) -> None:
    line = 0
    for line, text in enumerate(file, 1):
        try:
            text.decode("utf-8")
        except UnicodeDecodeError as error:
            what = f"{name} is not UTF-8: octet {error.start + 1} of line {line}. Nothing was loaded; convert it first"
            raise UsageError(what) from None


def read_chunks(
    file: BinaryIO, quoted: bool = False, most_rows: int = ROWS, most_octets: int = OCTETS
) -> Iterator[tuple[int, bytes]]:
    """(first line number, lines) of pieces that fit into a request; where lines end in quotes only between rows."""
    buffer, rows, first, quotes = io.BytesIO(), 0, 1, 0
    for line in file:
        full = rows >= most_rows or buffer.tell() + len(line) > most_octets
        if rows and full and (quotes % 2 == 0 or rows >= 2 * most_rows):
            yield first, buffer.getvalue()
            first += rows
            buffer, rows, quotes = io.BytesIO(), 0, 0
        buffer.write(line)
        rows += 1
        quotes += line.count(b'"') if quoted else 0
    if rows:
        yield first, buffer.getvalue()


def read_addresses(named: list[str], file: str | None) -> Iterator[str]:
    """Yield the addresses of the command line, then those of a file (`-`: standard input), one a line.

    UsageError for a file that cannot be read.
    """
    yield from named
    if file is None:
        return
    try:
        stream = sys.stdin if file == "-" else Path(file).open(encoding="utf-8-sig")  # noqa: SIM115 - see with
        with stream:
            for line in stream:
                if line.strip():
                    yield line.strip()
    except OSError as error:
        raise UsageError(f"{file} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise UsageError(f"{file} is not UTF-8 (octet {error.start + 1}); convert it first") from None
