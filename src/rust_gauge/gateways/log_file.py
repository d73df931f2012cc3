"""Following a log like a file that grows: from a position on, over rotation, in whole lines.

A position holds the file's inode, an octet offset, and a digest of the file's beginning, by which a file that was cut
and written again is told apart from one that only grew.
"""

import hashlib
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

_BEGINNING = 256  # octets
_LINE = 64 * 1024  # octets of a line that has no end


@dataclass(frozen=True, slots=True)
class LogPiece:
    """Whole lines, and the position behind them. `more` tells that there is more to read at once."""

    octets: bytes
    position: Mapping[str, Any]
    more: bool


def read_more(path: Path, position: Mapping[str, Any], limit: int = 1024 * 1024) -> LogPiece:
    """Return what was written since `position` (empty: from the file's beginning), at most about `limit` octets.

    When the file was rotated, the old one is finished first, if it still lies beside. OSError when there is none.
    """
    chosen, offset = _choose(path, position)
    with chosen.open("rb") as file:
        status = os.fstat(file.fileno())
        beginning = file.read(_BEGINNING)
        file.seek(offset)
        piece = file.read(limit)
    end = piece.rfind(b"\n") + 1
    if not end and len(piece) >= min(limit, _LINE):
        end = len(piece)  # no line is that long; it is read as rubbish
    rotated = chosen != path
    if rotated and not end and piece:
        end = len(piece)  # the last line of a file that nobody writes to any more
    new = {"inode": status.st_ino, "offset": offset + end, "beginning": _digest(beginning), "length": len(beginning)}
    more = status.st_size > offset + end and end > 0
    if rotated and not more:
        new, more = {}, True  # on to the new file
    return LogPiece(piece[:end], new, more)


def _choose(path: Path, position: Mapping[str, Any]) -> tuple[Path, int]:
    """Return the file to go on with, and from where."""
    if "inode" not in position:
        return path, 0
    offset = int(position["offset"])
    if _is_same(path, position, offset):
        return path, offset
    for other in sorted(path.parent.glob(f"{path.name}*")):
        if other != path and other.is_file() and _is_same(other, position, offset):
            return other, offset
    return path, 0


def _is_same(path: Path, position: Mapping[str, Any], offset: int) -> bool:
    try:
        status = path.stat()
        if status.st_ino != position["inode"] or status.st_size < offset:
            return False
        with path.open("rb") as file:
            return _digest(file.read(int(position.get("length", 0)))) == position.get("beginning")
    except OSError:
        return False


def _digest(octets: bytes) -> str:
    return hashlib.blake2b(octets, digest_size=8).hexdigest()
