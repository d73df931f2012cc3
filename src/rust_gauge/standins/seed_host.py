"""A mailbox provider on loopback for the demo and the tests: takes mail by SMTP and shows it by IMAP.

`sort` decides what becomes of a message: the name of a folder, a reply that refuses it, or None to lose it, as some
providers do. What it knows of IMAP (RFC 9051) is what reading seeds needs. Nothing is kept when it ends.
"""

import argparse
import base64
import contextlib
import hashlib
import json
import re
import socket
import socketserver
import ssl
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.parser import BytesHeaderParser
from email.utils import format_datetime, parseaddr
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

INBOX, SPAM = "INBOX", "Spam"
Sort = Callable[["Box", bytes], str | None]
"""Returns a folder, a reply of 4xx or 5xx, or None."""
_LITERAL = re.compile(rb"\{(\d+)\+?\}\r\n$")
_WORD = re.compile(rb'"((?:[^"\\]|\\.)*)"|(\S+)')


@dataclass
class Kept:
    """A message in a folder."""

    uid: int
    at: datetime
    raw: bytes


@dataclass
class Box:
    """A mailbox. `used` is how full it is, as a fraction; nobody can sign in to a locked one; `strips` names fields
    that its provider takes out of messages."""

    address: str
    password: str
    used: float = 0.1
    locked: bool = False
    strips: tuple[str, ...] = ()
    folders: dict[str, list[Kept]] = field(default_factory=lambda: {INBOX: [], SPAM: []})

    def put(self, folder: str, raw: bytes, at: datetime) -> None:
        """File a message."""
        kept = self.folders.setdefault(folder, [])
        kept.append(Kept(len(kept) + 1, at, raw))


class SeedHost:
    """Both listeners, on loopback; `smtp_port` and `imap_port` are free ones unless given. Use it as a context.

    `tls`: both speak TLS from the first octet on.
    """

    def __init__(
        self, name: str, boxes: list[Box], sort: Sort | None = None, *, smtp_port: int = 0, imap_port: int = 0,
        clock: Callable[[], datetime] = lambda: datetime.now(UTC), tls: ssl.SSLContext | None = None,
    ) -> None:  # fmt: skip
        self.tls = tls
        self.name, self.boxes, self.clock = name, {box.address: box for box in boxes}, clock
        self.sort: Sort = sort or (lambda box, raw: INBOX)
        self.lock = threading.Lock()
        self._smtp = _Listener(("127.0.0.1", smtp_port), _Smtp, self)
        self._imap = _Listener(("127.0.0.1", imap_port), _Imap, self)
        self.smtp_port, self.imap_port = (int(each.server_address[1]) for each in (self._smtp, self._imap))

    def __enter__(self) -> "SeedHost":
        for each in (self._smtp, self._imap):
            threading.Thread(target=each.serve_forever, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        for each in (self._smtp, self._imap):
            each.shutdown()
            each.server_close()

    def deliver(self, address: str, mail_from: str, raw: bytes) -> str:
        """File a message as it came, with the fields that a receiver puts on top; return the reply."""
        box = self.boxes[address]
        now = self.clock()
        where = "552 5.2.2 Mailbox full" if box.used >= 1 else self.sort(box, raw)
        if where is None:
            return "250 2.0.0 Queued"
        if where[:1] in "45" and where[:3].isdigit():
            return where
        top = (
            f"Return-Path: <{mail_from}>\r\n"
            f"Authentication-Results: {self.name}; spf=pass smtp.mailfrom={mail_from};\r\n\tdmarc=pass\r\n"
            f"Received: from sender by {self.name} with ESMTP;\r\n\t{format_datetime(now)}\r\n"
        )
        for name in box.strips:
            raw = re.sub(rb"(?im)^" + re.escape(name.encode()) + rb":.*\r\n(?:[ \t].*\r\n)*", b"", raw, count=1)
        with self.lock:
            box.put(where, top.encode() + raw, now)
        return "250 2.0.0 Delivered"


def by_rules(path: Path) -> Sort:
    """Return a `sort` by the rules of a file, which is read for each message, so that it can be changed meanwhile.

    `to` and `from` are patterns of the seed's address and of the From address, `into` is a folder or a reply, `share`
    how many of the messages that match go there: which ones depends on the message alone.
    """

    def sort(box: "Box", raw: bytes) -> str | None:
        sender = parseaddr(str(BytesHeaderParser().parsebytes(raw)["From"] or ""))[1].lower()
        for number, rule in enumerate(json.loads(path.read_text("utf-8"))["rules"]):
            if not (fnmatchcase(box.address, rule["to"]) and fnmatchcase(sender, rule["from"])):
                continue
            draw = hashlib.blake2b(raw + str(number).encode(), digest_size=4).digest()
            if int.from_bytes(draw, "big") / 2**32 < float(rule["share"]):
                return str(rule["into"])
        return None

    return sort


def main() -> None:
    """`python -m rust_gauge.standins.seed_host --settings seed-host.json --imap-port 1143 --smtp-port 1587`."""
    parser = argparse.ArgumentParser(description="A mailbox provider on loopback")
    parser.add_argument("--settings", type=Path, required=True, help="JSON: name, boxes, rules")
    parser.add_argument("--imap-port", type=int, required=True)
    parser.add_argument("--smtp-port", type=int, required=True)
    arguments = parser.parse_args()
    settings = json.loads(arguments.settings.read_text("utf-8"))
    boxes = [
        Box(
            each["address"],
            each["password"],
            each.get("used", 0.1),
            each.get("locked", False),
            tuple(each.get("strips", ())),
            {name: [] for name in each["folders"]},
        )
        for each in settings["boxes"]
    ]
    with SeedHost(
        settings["name"], boxes, by_rules(arguments.settings), smtp_port=arguments.smtp_port,
        imap_port=arguments.imap_port,
    ):  # fmt: skip
        threading.Event().wait()


class _Listener(socketserver.ThreadingTCPServer):
    allow_reuse_address = True
    daemon_threads = True

    def __init__(
        self, address: tuple[str, int], handler: type[socketserver.StreamRequestHandler], host: SeedHost
    ) -> None:
        self.host = host
        super().__init__(address, handler)

    def get_request(self) -> tuple[socket.socket, Any]:
        """Accept a connection. A client that wants no TLS is one connection less, and nothing else."""
        plain, address = super().get_request()
        if self.host.tls is None:
            return plain, address
        plain.settimeout(20)
        return self.host.tls.wrap_socket(plain, server_side=True, do_handshake_on_connect=False), address


class _Talk(socketserver.StreamRequestHandler):
    timeout = 60

    @property
    def host(self) -> SeedHost:
        return self.server.host  # type: ignore[attr-defined, no-any-return]

    def say(self, text: str | bytes) -> None:
        self.wfile.write((text.encode() if isinstance(text, str) else text) + b"\r\n")

    def handle(self) -> None:
        with contextlib.suppress(OSError):
            self.talk()

    def talk(self) -> None:
        raise NotImplementedError


class _Smtp(_Talk):
    def talk(self) -> None:
        self.say(f"220 {self.host.name} ESMTP")
        mail_from, to = "", ""
        while line := self.rfile.readline(2000):
            words = line.decode("utf-8", "replace").strip()
            verb, address = words[:4].upper(), words.partition("<")[2].partition(">")[0].lower()
            if verb == "MAIL":
                mail_from = address
                self.say("550 5.7.1 Not your address" if address.startswith("forbidden@") else "250 2.1.0 Fine")
            elif verb == "RCPT":
                to = address if address in self.host.boxes else ""
                self.say("250 2.1.5 Fine" if to else "550 5.1.1 No such mailbox")
            elif verb == "DATA":
                self.say("354 Go on")
                self.say(self.host.deliver(to, mail_from, self.message()))
            elif verb == "QUIT":
                self.say("221 Bye")
                return
            else:
                self.say("250 Fine")

    def message(self) -> bytes:
        lines = []
        while (line := self.rfile.readline(100_000)) not in (b".\r\n", b""):
            lines.append(line[1:] if line.startswith(b"..") else line)
        return b"".join(lines)


class _Imap(_Talk):
    box: Box | None = None
    folder = ""

    def talk(self) -> None:
        self.say("* OK [CAPABILITY IMAP4rev1 AUTH=PLAIN QUOTA] ready")
        while line := self.command():
            tag, *words = [quoted.replace(b"\\", b"") or bare for quoted, bare in _WORD.findall(line)]
            self.tag = tag.decode("ascii", "replace")
            verb = b" ".join(words[:2]).upper() if words[:1] and words[0].upper() == b"UID" else words[0].upper()
            answer = _COMMANDS.get(verb)
            if answer is None:
                self.say(f"{self.tag} BAD Unknown command")
                continue
            answer(self, words[2 if verb.startswith(b"UID") else 1 :])
            if verb == b"LOGOUT":
                return

    def command(self) -> bytes:
        """Return a command with its literals (RFC 9051 §4.3)."""
        line = self.rfile.readline(10_000)
        while match := _LITERAL.search(line):
            self.say("+ Go on")
            literal = self.rfile.read(int(match[1]))
            line = line[: match.start()] + b'"' + literal + b'"' + self.rfile.readline(10_000)
        return line

    def done(self, text: str) -> None:
        self.say(f"{self.tag} {text}")

    def answer_capability(self, _: list[bytes]) -> None:
        self.say("* CAPABILITY IMAP4rev1 AUTH=PLAIN QUOTA")
        self.done("OK Done")

    def answer_authenticate(self, _: list[bytes]) -> None:
        self.say("+ ")
        said = base64.b64decode(self.rfile.readline(10_000)).decode("utf-8", "replace").split("\0")
        self.sign_in(said[-2].lower(), said[-1])

    def answer_login(self, words: list[bytes]) -> None:
        self.sign_in(words[0].decode().lower(), words[1].decode())

    def sign_in(self, user: str, password: str) -> None:
        found = self.host.boxes.get(user)
        if found is None or found.password != password:
            self.done("NO [AUTHENTICATIONFAILED] User or password is wrong")
            return
        if found.locked:
            self.done("NO [CONTACTADMIN] This account is locked")
            return
        self.box = found
        self.done("OK Done")

    def answer_list(self, _: list[bytes]) -> None:
        for name in self.box.folders if self.box else ():
            self.say(f'* LIST (\\HasNoChildren) "/" "{name}"')
        self.done("OK Done")

    def answer_examine(self, words: list[bytes]) -> None:
        name = words[0].decode()
        if self.box is None or name not in self.box.folders:
            self.done("NO [NONEXISTENT] No such folder")
            return
        self.folder = name
        self.say(f"* {len(self.box.folders[name])} EXISTS")
        self.say("* OK [UIDVALIDITY 1]")
        self.done("OK [READ-ONLY]")

    def answer_getquotaroot(self, _: list[bytes]) -> None:
        used = self.box.used if self.box else 0
        self.say('* QUOTAROOT INBOX ""')
        self.say(f'* QUOTA "" (STORAGE {round(used * 1000)} 1000)')
        self.done("OK Done")

    def answer_noop(self, _: list[bytes]) -> None:
        self.done("OK Done")

    def answer_uid_search(self, words: list[bytes]) -> None:
        """UID SEARCH with HEADER, FROM, SUBJECT, SINCE, NOT and OR (RFC 9051 §6.4.4)."""
        with self.host.lock:
            found = [str(kept.uid) for kept in self.kept() if _matches(list(words), kept)]
        self.say(f"* SEARCH {' '.join(found)}".rstrip())
        self.done("OK Done")

    def answer_uid_fetch(self, words: list[bytes]) -> None:
        for number, kept in enumerate(self.kept(), 1):
            if str(kept.uid).encode() == words[0]:
                head = f'* {number} FETCH (UID {kept.uid} INTERNALDATE "{kept.at:%d-%b-%Y %H:%M:%S +0000}" BODY[]<0> '
                self.wfile.write(f"{head}{{{len(kept.raw)}}}\r\n".encode() + kept.raw)
                self.say(")")
        self.done("OK Done")

    def answer_logout(self, _: list[bytes]) -> None:
        self.say("* BYE")
        self.done("OK Done")

    def kept(self) -> list[Kept]:
        return self.box.folders[self.folder] if self.box and self.folder else []


_COMMANDS: dict[bytes, Callable[[_Imap, list[bytes]], None]] = {
    b"CAPABILITY": _Imap.answer_capability,
    b"AUTHENTICATE": _Imap.answer_authenticate,
    b"LOGIN": _Imap.answer_login,
    b"LIST": _Imap.answer_list,
    b"EXAMINE": _Imap.answer_examine,
    b"GETQUOTAROOT": _Imap.answer_getquotaroot,
    b"NOOP": _Imap.answer_noop,
    b"UID SEARCH": _Imap.answer_uid_search,
    b"UID FETCH": _Imap.answer_uid_fetch,
    b"LOGOUT": _Imap.answer_logout,
}


def _matches(words: list[bytes], kept: Kept) -> bool:
    """Return whether a message meets every one of the keys that follow one another."""
    fits = True
    while words:
        fits = _key(words, kept) and fits
    return fits


def _key(words: list[bytes], kept: Kept) -> bool:
    """Return whether a message meets the first key, and take that key out of the words."""
    key = words.pop(0).upper()
    if key == b"NOT":
        return not _key(words, kept)
    if key == b"OR":
        one, other = _key(words, kept), _key(words, kept)
        return one or other
    if key == b"SINCE":
        return kept.at.date() >= datetime.strptime(words.pop(0).decode(), "%d-%b-%Y").date()
    name = key.lower() if key in (b"FROM", b"SUBJECT") else words.pop(0).lower()
    text = words.pop(0).lower()
    lines = kept.raw.partition(b"\r\n\r\n")[0].lower().split(b"\r\n")
    return any(line.startswith(name + b":") and text in line for line in lines)


if __name__ == "__main__":
    main()
