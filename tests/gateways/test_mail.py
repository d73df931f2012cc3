"""Mail in and out over SMTP, and mail that lies in a Maildir."""

from collections.abc import Iterator
from email.message import EmailMessage
from pathlib import Path

import pytest

from rust_gauge.gateways.mail_folders import BATCH, FolderError, mark_read, read_imap, read_maildir, sent_to
from rust_gauge.gateways.mail_in import MailIn
from rust_gauge.gateways.mail_out import MailNotSent, send
from rust_gauge.launch.mariadb import free_port

Taken = list[tuple[list[str], bytes]]


@pytest.fixture
def listener() -> Iterator[tuple[int, Taken]]:
    """A port that takes mail for gauge.example, and what it took. The store is away for broken@."""
    taken: Taken = []

    def wanted(address: str) -> bool:
        if address.startswith("unknown-trouble"):
            raise ConnectionError("the store is away")
        return address.endswith("@gauge.example")

    def deliver(recipients: list[str], raw: bytes) -> None:
        if recipients == ["broken@gauge.example"]:
            raise ConnectionError("the store is away")
        taken.append((recipients, raw))

    port = free_port()
    made = MailIn("127.0.0.1", port, "gauge.example", 20_000, wanted, deliver)
    made.start()
    yield port, taken
    made.stop()


def message(size: int = 10) -> EmailMessage:
    made = EmailMessage()
    made["From"], made["To"], made["Subject"] = "desk@marram.example", "feed@gauge.example", "A notice"
    made.set_content("x" * 60 + "\n" + "y\n" * size)
    return made


def hand_over(port: int, to: str, size: int = 10) -> None:
    send("127.0.0.1", port, message(size), "desk@marram.example", to, "marram.example")


def test_what_is_sent_is_what_is_taken(listener: tuple[int, Taken]) -> None:
    port, taken = listener
    hand_over(port, "feed@gauge.example")
    ((recipients, raw),) = taken
    assert recipients == ["feed@gauge.example"]
    assert b"Subject: A notice" in raw
    assert b"x" * 60 in raw


@pytest.mark.parametrize(
    ("to", "size", "code"),
    [
        ("somebody@elsewhere.example", 10, "550"),
        ("broken@gauge.example", 10, "451"),  # our trouble: the other side tries again
        ("unknown-trouble@gauge.example", 10, "451"),
        ("feed@gauge.example", 20_000, "552"),
    ],
)
def test_what_cannot_be_stored_is_never_acknowledged(
    listener: tuple[int, Taken], to: str, size: int, code: str
) -> None:
    port, taken = listener
    with pytest.raises(MailNotSent) as caught:
        hand_over(port, to, size)
    assert (caught.value.why or "").startswith(code)
    assert taken == []


def test_a_relay_that_is_away_is_named() -> None:
    port = free_port()
    with pytest.raises(MailNotSent, match=f"127.0.0.1 port {port} cannot be reached"):
        hand_over(port, "feed@gauge.example")


@pytest.mark.parametrize(
    ("raw", "address"),
    [
        (b"Delivered-To: a@b.example\r\n\r\nbody", "a@b.example"),
        (b"Subject: x\nX-Original-To: <a@b.example>\n\nbody", "a@b.example"),
        (b"Subject: x\n\nDelivered-To: a@b.example\n", ""),  # in the body it is somebody's text
        (b"", ""),
    ],
)
def test_the_envelope_recipient_comes_from_the_header(raw: bytes, address: str) -> None:
    assert sent_to(raw) == address


def test_a_maildir_is_read_in_batches_and_marked_when_it_is_stored(tmp_path: Path) -> None:
    for name in ("new", "cur", "tmp"):
        (tmp_path / name).mkdir()
    for number in range(BATCH + 2):
        (tmp_path / "new" / f"{number:04}.host").write_bytes(b"Delivered-To: n%d@b.example\n\nbody" % number)
    (tmp_path / "new" / "9999.link").symlink_to(tmp_path / "new" / "0000.host")
    first = read_maildir(tmp_path)
    assert (len(first.messages), first.more) == (BATCH, True)
    assert first.messages[0][1] == "n0@b.example"
    assert read_maildir(tmp_path).messages == first.messages, "until they are marked they come again"
    mark_read(first.files)
    second = read_maildir(tmp_path)
    assert ([to for _, to in second.messages], second.more) == (
        [f"n{BATCH}@b.example", f"n{BATCH + 1}@b.example"],
        False,
    )
    mark_read(second.files)
    assert read_maildir(tmp_path).messages == [], "a symbolic link is never read"
    assert len(list((tmp_path / "cur").iterdir())) == BATCH + 2


def test_folders_that_cannot_be_read_say_why(tmp_path: Path) -> None:
    with pytest.raises(FolderError, match="not a Maildir that can be read"):
        read_maildir(tmp_path / "nowhere")
    with pytest.raises(FolderError) as caught:
        read_imap("127.0.0.1", free_port(), False, "u", "p", "INBOX", {}, timeout=5)
    assert caught.value.remedy
