"""Reading a seed by IMAP (RFC 9051): which folders there are, and whether a copy is in one of them.

Nothing is marked, moved or deleted. SeedError has a `kind`: `unreachable`, `tls`, `sign-in`, `locked`, `folder`, or
`ended` for a connection that broke off.
"""

import binascii
import contextlib
import imaplib
import re
import ssl
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.placement import MARK_FIELD
from rust_gauge.core.placement.copies import MAX_COPIED
from rust_gauge.gateways.deadline import TOTAL, Deadline, Imap
from rust_gauge.gateways.destination import Destination

_STEP = 15.0  # seconds of one step
_MOST_FOLDERS = 500
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_LOCKED = ("[CONTACTADMIN]", "[EXPIRED]", "[AUTHORIZATIONFAILED]")  # RFC 5530: user and password may be right
_LISTED = re.compile(rb'\((?P<flags>[^)]*)\) (?:"(?:[^"\\]|\\.)*"|NIL) (?P<name>.+)', re.DOTALL)
_QUOTA = re.compile(rb"\(STORAGE (\d+) (\d+)\)", re.IGNORECASE)


class SeedError(RustGaugeError):
    """A seed that could not be read."""

    def __init__(self, kind: str, what: str, *, why: str = "", remedy: str = "") -> None:
        super().__init__(what, why=why, remedy=remedy)
        self.kind = kind


@dataclass(frozen=True, slots=True)
class FoundCopy:
    """A copy as it lies in a folder. `arrived_at` is when the server took it, in UTC, if it says so."""

    raw: bytes
    arrived_at: datetime | None


class SeedMailbox:
    """A mailbox that is signed in to."""

    def __init__(self, session: Imap, host: str) -> None:
        self._session, self._host = session, host
        self._selected = ""

    def folders(self) -> list[str]:
        """Return the names of all folders, as people see them. SeedError."""
        with _told_apart(self._host):
            _, lines = self._session.list()
            found = []
            for line in lines[:_MOST_FOLDERS]:
                # A name that does not fit into quotes comes as a literal behind the line (RFC 9051 §4.3).
                head, literal = line if isinstance(line, tuple) else (line, None)
                match = _LISTED.match(head or b"")
                if match and b"\\noselect" not in match["flags"].lower():
                    found.append(from_utf7(literal if literal is not None else _unquoted(match["name"])))
            return found

    def used(self) -> float | None:
        """Return how full the mailbox is, as a fraction; None where the server does not say (RFC 9208)."""
        with contextlib.suppress(SeedError), _told_apart(self._host):
            if "QUOTA" in self._session.capabilities:
                _, data = self._session.getquotaroot("INBOX")
                match = _QUOTA.search(b" ".join(part for part in data[1] if part))
                if match and int(match[2]):
                    return int(match[1]) / int(match[2])
        return None

    def find(self, folder: str, mark: str) -> FoundCopy | None:
        """Return the copy with this mark if it is in this folder. SeedError `folder` if there is no such folder.

        A copy that lost its mark on the way is found by its Message-ID, which has the same characters.
        """
        with _told_apart(self._host):
            self._select(folder)
            _, found = self._session.uid("SEARCH", "OR", "HEADER", MARK_FIELD, mark, "HEADER", "Message-ID", mark)
            uids = (found[0] or b"").split()
            if not uids:
                return None
            _, data = self._session.uid(
                "FETCH", uids[0].decode("ascii"), f"(INTERNALDATE BODY.PEEK[]<0.{2 * MAX_COPIED}>)"
            )
            for part in data:
                if isinstance(part, tuple):
                    return FoundCopy(part[1], _internal_date(part[0]))
            return None

    def count_unmarked(self, folder: str, sender: str, subject: str, since: datetime) -> int:
        """Return how many messages without a mark arrived in a folder on this day or later: from an address, with this
        in the subject. Both are ASCII."""
        with _told_apart(self._host):
            self._select(folder)
            day = f"{since.day}-{_MONTHS[since.month - 1]}-{since.year}"
            _, found = self._session.uid(
                "SEARCH", "SINCE", day, "FROM", _quoted(sender), "SUBJECT", _quoted(subject), "NOT", "HEADER",
                MARK_FIELD, '""',
            )  # fmt: skip
            return len((found[0] or b"").split())

    def _select(self, folder: str) -> None:
        if self._selected == folder:
            self._session.noop()  # so that the server looks for new messages
            return
        status, said = self._session.select(_quoted(to_utf7(folder)), readonly=True)
        if status != "OK":
            self._selected = ""
            why = (said[0] or b"").decode("utf-8", "replace")[:200]
            raise SeedError(
                "folder", f"{self._host} has no folder {folder}", why=why,
                remedy="Check the seed: it lists the folders that there are",
            )  # fmt: skip
        self._selected = folder


@contextlib.contextmanager
def seed_mailbox(
    there: Destination, security: str, user: str, password: str, *, ca_file: str = "", total: float = TOTAL
) -> Iterator[SeedMailbox]:
    """Sign in to a mailbox; `security` is `tls` or `none`. All of it ends after `total` seconds. SeedError."""
    context = None
    if security == "tls":
        context = ssl.create_default_context()
        if ca_file:
            context.load_verify_locations(ca_file)
    with _told_apart(there.host):
        session = Imap(there.address, there.port, context, _STEP, Deadline(total), there.host)
    try:
        with _told_apart(there.host):
            try:
                if "AUTH=PLAIN" in session.capabilities:  # takes any user and password, in UTF-8 (RFC 4616)
                    session.authenticate("PLAIN", lambda _: f"\0{user}\0{password}".encode())
                else:
                    session.login(_quoted(user), password)
            except imaplib.IMAP4.error as error:
                if any(code in _text(error).upper() for code in _LOCKED):
                    raise SeedError(
                        "locked", f"{there.host} does not let {user} in", why=_text(error),
                        remedy="The provider locked or closed the account. Sign in on the web and follow what it says; "
                        "turn the seed off, or replace it, until then",
                    ) from None  # fmt: skip
                raise SeedError(
                    "sign-in", f"{there.host} refuses to sign in {user}", why=_text(error),
                    remedy="Check user and password; many providers want an application password here. If it worked "
                    "before, sign in on the web: the account may be locked",
                ) from None  # fmt: skip
        yield SeedMailbox(session, there.host)
    finally:
        with contextlib.suppress(imaplib.IMAP4.error, OSError):
            session.logout()


@contextlib.contextmanager
def _told_apart(host: str) -> Iterator[None]:
    """Turn whatever imaplib and the socket raise into a SeedError."""
    try:
        yield
    except ssl.SSLCertVerificationError as error:
        raise SeedError(
            "tls", f"The certificate of {host} is not valid", why=error.verify_message or str(error),
            remedy="Use the host name that the certificate is for",
        ) from None  # fmt: skip
    except ssl.SSLError as error:
        raise SeedError("tls", f"No TLS with {host}", why=str(error.reason or error)[:200],
                        remedy="IMAP with TLS is usually at port 993") from None  # fmt: skip
    except (ConnectionRefusedError, TimeoutError) as error:
        refused = isinstance(error, ConnectionRefusedError)
        raise SeedError(
            "unreachable", f"Nobody answers at {host}", why="the port is closed" if refused else "no answer in time",
            remedy="Check host and port",
        ) from None  # fmt: skip
    except imaplib.IMAP4.abort as error:
        raise SeedError("ended", f"{host} ended the connection", why=_text(error), remedy="It is tried again") from None
    except (imaplib.IMAP4.error, OSError, ValueError, UnicodeError) as error:
        raise SeedError("ended", f"The connection to {host} broke off", why=_text(error),
                        remedy="It is tried again") from None  # fmt: skip


def _text(error: Exception) -> str:
    said = error.args[0] if error.args else ""
    return (said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said))[:200] or type(error).__name__


def _internal_date(head: bytes) -> datetime | None:
    local = imaplib.Internaldate2tuple(head)
    return None if local is None else datetime.fromtimestamp(time.mktime(local), UTC)


def _quoted(name: str) -> str:
    return '"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _unquoted(name: bytes) -> bytes:
    name = name.strip()
    if name.startswith(b'"') and name.endswith(b'"'):
        return re.sub(rb"\\(.)", rb"\1", name[1:-1])
    return name


def to_utf7(name: str) -> str:
    """Return a folder's name as IMAP has it: modified UTF-7 (RFC 3501 §5.1.3)."""
    out, run = [], ""
    for letter in [*name, ""]:
        if letter and not " " <= letter <= "~":
            run += letter
            continue
        if run:
            packed = _base64(run.encode("utf-16-be"))
            out.append(f"&{packed}-")
            run = ""
        out.append("&-" if letter == "&" else letter)
    return "".join(out)


def from_utf7(name: bytes) -> str:
    """Return a folder's name as people see it; what is no modified UTF-7 stays as it is."""
    text = name.decode("utf-8", "replace")

    def decoded(match: re.Match[str]) -> str:
        if not match[1]:
            return "&"
        padded = match[1].replace(",", "/") + "=" * (-len(match[1]) % 4)
        try:
            return binascii.a2b_base64(padded).decode("utf-16-be")
        except (binascii.Error, UnicodeDecodeError):
            return match[0]

    return re.sub(r"&([A-Za-z0-9+,]*)-", decoded, text)


def _base64(octets: bytes) -> str:
    return binascii.b2a_base64(octets, newline=False).decode("ascii").rstrip("=").replace("/", ",")
