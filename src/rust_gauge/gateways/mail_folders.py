"""Reading mail that lies somewhere: a Maildir or an IMAP mailbox (RFC 9051), in batches, from a position."""

import contextlib
import imaplib
import os
import re
import ssl
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import structlog

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.gateways.deadline import TOTAL, Deadline, Imap

log = structlog.get_logger()
BATCH = 100  # messages
_MAX = 25 * 1024 * 1024  # octets of a message
_DELIVERED_TO = re.compile(rb"^(?:Delivered-To|X-Original-To|Envelope-To):[ \t]*<?([^>\r\n]+)>?", re.I | re.M)


class FolderError(RustGaugeError):
    """A mailbox that cannot be read."""


@dataclass(frozen=True, slots=True)
class MailBatch:
    """Messages with the envelope recipient that their header tells, the position behind them, whether there are more.

    `files` are to be marked as read when the messages are stored.
    """

    messages: list[tuple[bytes, str]]
    position: Mapping[str, Any]
    more: bool
    files: tuple[Path, ...] = ()


def sent_to(raw: bytes) -> str:
    """Return the envelope recipient that the delivering server wrote into the header; empty when it did not."""
    found = _DELIVERED_TO.search(raw[: 64 * 1024].partition(b"\n\n")[0].partition(b"\r\n\r\n")[0])
    return found[1].decode("utf-8", "replace").strip() if found else ""


def read_maildir(path: Path) -> MailBatch:
    """Return the new messages of a Maildir, oldest first."""
    try:
        names = sorted(entry for entry in os.listdir(path / "new") if not entry.startswith("."))
    except OSError as error:
        raise FolderError(f"{path} is not a Maildir that can be read: {error.strerror}") from None
    files: list[Path] = []
    messages: list[tuple[bytes, str]] = []
    for name in names:
        if len(messages) == BATCH:
            return MailBatch(messages, {}, True, tuple(files))
        file = path / "new" / name
        try:
            if file.is_symlink() or not file.is_file():
                continue
            with file.open("rb") as opened:
                raw = opened.read(_MAX + 1)
        except OSError as error:  # somebody else read it, or it may not be read: the others can be
            log.warning("mail_skipped", file=str(file), error=error.strerror)
            continue
        files.append(file)
        messages.append((raw, sent_to(raw)))
    return MailBatch(messages, {}, False, tuple(files))


def read_folder(path: Path, position: Mapping[str, Any], quiet: float = 2.0) -> MailBatch:
    """Return files of a folder that are behind the position, oldest first; they stay where they are.

    A file counts as whole when nobody wrote to it for `quiet` seconds.
    """
    last = (int(position.get("time", 0)), str(position.get("name", "")))
    found: list[tuple[int, str]] = []
    try:
        with os.scandir(path) as entries:
            for entry in entries:
                if not entry.name.startswith(".") and entry.is_file(follow_symlinks=False):
                    at = (entry.stat(follow_symlinks=False).st_mtime_ns, entry.name)
                    found += [at] if at > last else []
    except OSError as error:
        raise FolderError(f"{path} cannot be read: {error.strerror}") from None
    whole = [at for at in sorted(found) if time.time() - at[0] / 1e9 >= quiet]
    messages: list[tuple[bytes, str]] = []
    for at in whole[:BATCH]:
        try:
            with (path / at[1]).open("rb") as opened:
                messages.append((opened.read(_MAX + 1), ""))
        except OSError as error:  # it may not be read, or went meanwhile: the others can be
            log.warning("file_skipped", file=str(path / at[1]), error=error.strerror)
        last = at
    return MailBatch(messages, {"time": last[0], "name": last[1]}, len(whole) > BATCH)


def mark_read(files: tuple[Path, ...]) -> None:
    """Move messages of a Maildir to those that were seen."""
    for file in files:
        with contextlib.suppress(FileNotFoundError):
            file.rename(file.parent.parent / "cur" / f"{file.name.partition(':')[0]}:2,S")


def read_imap(
    host: str, port: int | None, tls: bool, user: str, password: str, folder: str, position: Mapping[str, Any],
    ca_file: str = "", timeout: float = 10, total: float = TOTAL,
) -> MailBatch:  # fmt: skip
    """Messages behind the position (by UID), without marking them. FolderError says what went wrong.

    `timeout` for each step and `total` for all of them, in seconds: what was read by then is a batch of its own.
    """
    deadline = Deadline(total)
    try:
        context = ssl.create_default_context() if tls else None
        if context and ca_file:
            context.load_verify_locations(ca_file)
        connection = Imap(host, port or (993 if tls else 143), context, timeout, deadline)
        try:
            connection.login(user, password)
            return _read(connection, folder, position)
        finally:
            with contextlib.suppress(imaplib.IMAP4.error, OSError):
                connection.logout()
    except (imaplib.IMAP4.error, OSError, ValueError) as error:
        raise FolderError(f"{host}: {error}"[:300], remedy="Check address, user, password and folder") from None


def _read(connection: imaplib.IMAP4, folder: str, position: Mapping[str, Any]) -> MailBatch:
    quoted = '"' + folder.replace("\\", "\\\\").replace('"', '\\"') + '"'
    status, _ = connection.select(quoted, readonly=True)
    if status != "OK":
        raise ValueError(f"there is no folder {folder}")
    _, validity = connection.response("UIDVALIDITY")
    valid = int(validity[0]) if validity and validity[0] else 0
    last = int(position.get("uid", 0)) if position.get("validity") == valid else 0
    _, found = connection.uid("SEARCH", f"UID {last + 1}:*")
    uids = [uid for uid in map(int, (found[0] or b"").split()) if uid > last]
    messages: list[tuple[bytes, str]] = []
    read = uids[:BATCH]
    for uid in read:
        try:
            _, data = connection.uid("FETCH", str(uid), f"(BODY.PEEK[]<0.{_MAX + 1}>)")
        except (imaplib.IMAP4.error, OSError):
            if not messages:
                raise
            return MailBatch(messages, {"uid": read[len(messages) - 1], "validity": valid}, True)
        raw = next((part[1] for part in data if isinstance(part, tuple)), b"")
        messages.append((raw, sent_to(raw)))
    new = {"uid": read[-1] if read else last, "validity": valid}
    return MailBatch(messages, new, len(uids) > BATCH)
