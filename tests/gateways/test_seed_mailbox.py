"""Reading seeds from a real Dovecot, and what goes wrong with mailboxes, told apart."""

import os
import pwd
import ssl
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.gateways.destination import Destination, DestinationError, find_destination
from rust_gauge.gateways.outlet_out import OutletAccess, OutletError, outlet_session
from rust_gauge.gateways.seed_mailbox import SeedError, from_utf7, seed_mailbox, to_utf7
from rust_gauge.standins.pages import make_certificates
from rust_gauge.standins.seed_host import Box, SeedHost
from tests.gateways.servers import dovecot, free_port

MARK = "0123456789abcdef0123"
RAW = f"Placement-Mark: {MARK}\r\nFrom: a@d.example\r\nSubject: x\r\n\r\nhello\r\n".encode()


STRIPPED = "abcdefabcdef01234567"
UNMARKED = (
    f"Message-ID: <{STRIPPED}@d.example>\r\nFrom: Desk <a@d.example>\r\nSubject: This week\r\n\r\nhi\r\n".encode()
)


@pytest.fixture(scope="module")
def port(tmp_path_factory: pytest.TempPathFactory) -> Iterator[int]:
    """Dovecot over a Maildir with a message in INBOX and one in a folder whose name is not ASCII."""
    root = tmp_path_factory.mktemp("seed")
    mail = root / "Maildir"
    for folder in ("", ".Junk", f".{to_utf7('Überraschung & mehr')}"):
        for name in ("new", "cur", "tmp"):
            (mail / folder / name).mkdir(parents=True)
    (mail / "new" / "1.host").write_bytes(RAW)
    (mail / "new" / "3.host").write_bytes(UNMARKED)
    (mail / ".Junk" / "new" / "2.host").write_bytes(RAW.replace(b"0123456789", b"9876543210"))
    owner = pwd.getpwnam("nobody")
    for path in [root, mail, *mail.rglob("*")]:
        os.chown(path, owner.pw_uid, owner.pw_gid)
    for path in root.parents:
        if path.owner() == "root" and path != Path("/") and path.is_relative_to("/tmp") and path != Path("/tmp"):
            path.chmod(0o755)
    with dovecot(mail, "secret") as found:
        yield found


def there(port: int) -> Destination:
    return Destination("imap.tidepost.example", "127.0.0.1", port)


def test_a_copy_is_found_in_the_folder_where_it_lies(port: int) -> None:
    with seed_mailbox(there(port), "none", "seed@tidepost.example", "secret") as mailbox:
        assert {"INBOX", "Junk", "Überraschung & mehr"} <= set(mailbox.folders())
        found = mailbox.find("INBOX", MARK)
        assert found is not None
        assert found.raw.replace(b"\r\n", b"\n") == RAW.replace(b"\r\n", b"\n")
        assert found.arrived_at is not None and found.arrived_at.utcoffset() is not None
        assert mailbox.find("Junk", MARK) is None
        assert mailbox.find("Junk", MARK.replace("0123456789", "9876543210", 1)) is not None
        assert mailbox.find("Überraschung & mehr", MARK) is None
        assert mailbox.find("INBOX", MARK) is not None
        with pytest.raises(SeedError, match="has no folder Offers") as caught:
            mailbox.find("Offers", MARK)
        assert caught.value.kind == "folder"


def test_a_copy_that_lost_its_mark_is_found_by_its_message_id_and_otherwise_counted(port: int) -> None:
    """Dovecot understands the search: by mark or Message-ID, and messages that have no mark."""
    with seed_mailbox(there(port), "none", "seed@tidepost.example", "secret") as mailbox:
        found = mailbox.find("INBOX", STRIPPED)
        assert found is not None and found.raw.startswith(b"Message-ID")
        yesterday = datetime.now(UTC) - timedelta(days=1)
        assert mailbox.count_unmarked("INBOX", "a@d.example", "This week", yesterday) == 1
        assert mailbox.count_unmarked("INBOX", "a@d.example", 'x"y', yesterday) == 0
        assert mailbox.count_unmarked("INBOX", "b@d.example", "This week", yesterday) == 0
        assert mailbox.count_unmarked("INBOX", "a@d.example", "This week", yesterday + timedelta(days=3)) == 0


def test_a_wrong_password_is_told_from_a_host_that_does_not_answer(port: int) -> None:
    with pytest.raises(SeedError) as caught, seed_mailbox(there(port), "none", "a", "wrong"):
        pass
    assert caught.value.kind == "sign-in"
    assert "application password" in caught.value.remedy
    with pytest.raises(SeedError) as caught, seed_mailbox(there(free_port()), "none", "a", "b"):
        pass
    assert caught.value.kind == "unreachable"
    with pytest.raises(SeedError) as caught, seed_mailbox(there(port), "tls", "a", "b"):
        pass
    assert caught.value.kind == "tls"


@pytest.fixture(scope="module")
def certificates(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An authority of its own, and a certificate for imap.tidepost.example."""
    directory = tmp_path_factory.mktemp("certificates")
    (directory / "imap.tidepost.example").mkdir()
    make_certificates(directory)
    return directory


def test_over_tls_the_certificate_has_to_be_valid_for_the_host(certificates: Path) -> None:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificates / "server.pem")
    ca_file = str(certificates / "ca.pem")
    with SeedHost("mx", [Box("a@tidepost.example", "b")], tls=context) as host:
        known, other = (
            replace(there(host.imap_port), host=name) for name in ("imap.tidepost.example", "imap.other.example")
        )
        with seed_mailbox(known, "tls", "a@tidepost.example", "b", ca_file=ca_file) as mailbox:
            assert mailbox.folders() == ["INBOX", "Spam"]
        for wrong, authority in ((other, ca_file), (known, "")):
            with pytest.raises(SeedError) as caught, seed_mailbox(wrong, "tls", "a", "b", ca_file=authority):
                pass
            assert caught.value.kind == "tls"
        outlet = replace(known, port=host.smtp_port)
        with outlet_session(OutletAccess("tls", "", "", ca_file=ca_file), outlet) as session:
            assert session.send(RAW, "b@d.example", "a@tidepost.example").startswith("250")
        with pytest.raises(OutletError) as refused, outlet_session(OutletAccess("tls", "", ""), outlet):
            pass
        assert refused.value.kind == "tls"


@pytest.mark.parametrize("user", ["a b", 'a"b', "ä", "a\\b"])
def test_users_and_passwords_of_all_kinds_are_sent_as_they_are(user: str) -> None:
    with SeedHost("mx", [Box(user, 'p" \\ä')]) as host:
        with seed_mailbox(there(host.imap_port), "none", user, 'p" \\ä') as mailbox:
            assert mailbox.folders() == ["INBOX", "Spam"]
        with pytest.raises(SeedError), seed_mailbox(there(host.imap_port), "none", user, "p"):
            pass


@pytest.mark.parametrize("used", [0.0, 0.5, 1.0])
def test_how_full_a_mailbox_is(used: float) -> None:
    with (
        SeedHost("mx", [Box("a", "b", used)]) as host,
        seed_mailbox(there(host.imap_port), "none", "a", "b") as mailbox,
    ):
        assert mailbox.used() == used


@given(st.text(max_size=40))
def test_every_folder_name_survives(name: str) -> None:
    name = name.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
    assert to_utf7(name).isascii()
    assert from_utf7(to_utf7(name).encode()) == name


@given(st.binary(max_size=60))
def test_any_folder_name_is_read(name: bytes) -> None:
    assert isinstance(from_utf7(name), str)


@pytest.mark.parametrize(
    ("host", "trusted", "reach", "expected"),
    [
        ("9.9.9.9", set(), {}, ("9.9.9.9", 993)),
        ("127.0.0.1", {"127.0.0.1"}, {}, ("127.0.0.1", 993)),
        ("127.0.0.1", {"127.0.0.1:993"}, {}, ("127.0.0.1", 993)),
        ("localhost", {"localhost"}, {}, ("localhost", 993)),
        ("192.0.2.1", set(), {"192.0.2.1": ("127.0.0.1", 1143)}, ("127.0.0.1", 1143)),
    ],
)
def test_calls_go_to_public_addresses_and_those_of_the_settings(
    host: str, trusted: set[str], reach: dict[str, tuple[str, int]], expected: tuple[str, int]
) -> None:
    found = find_destination(host, 993, lambda _: [], trusted, reach)
    assert (found.host, found.address, found.port) == (host, *expected)


@pytest.mark.parametrize("host", ["127.0.0.1", "10.0.0.1", "::1", "::ffff:10.0.0.1", "localhost", "gone.example"])
def test_other_addresses_are_not_called(host: str) -> None:
    with pytest.raises(DestinationError):
        find_destination(host, 993, lambda _: [], {"127.0.0.1:25"}, {})
