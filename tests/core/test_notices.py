"""Notices: what messages that came back say (RFC 3464, 5965, 6533, 6591), and that no input is too strange."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.mime import MAX_DEPTH, MAX_PARTS, mailboxes, parse_entity
from rust_gauge.core.notices import MAX_NOTICE, NoticeError, NoticeKind, read_notice, verp_recipient
from tests.vectors import notices as v

K = NoticeKind


def test_a_delivery_status_tells_each_recipient(  # RFC 3464 §2
) -> None:
    notice = read_notice(v.DSN)
    assert (notice.kind, notice.standard, notice.notice_id) == (K.DELIVERY, "RFC 3464", "n1@mx1.tidepost.example")
    first, second = notice.recipients
    assert (first.recipient, first.action, first.status) == ("Kim@tidepost.example", "failed", "5.1.1")
    assert first.diagnostic == "550 5.1.1 <kim@tidepost.example>: no such    mailbox".replace("    ", "    ")
    assert (first.remote_host, first.at) == ("mx1.tidepost.example", datetime(2026, 11, 19, 8, 0, 4, tzinfo=UTC))
    assert (second.recipient, second.action, second.status) == ("jo@tidepost.example", "delayed", "4.2.2")
    assert second.at == datetime(2026, 11, 19, 8, 0, 1, tzinfo=UTC)  # when the message came, for want of better
    assert (notice.of_message_id, notice.of_from) == ("a1@news.glasswort.example", "news@news.glasswort.example")
    assert notice.of_subject == "Frühling"
    assert notice.of_mail_from == "bounce@news.glasswort.example"


def test_an_internationalised_status_is_read() -> None:  # RFC 6533
    notice = read_notice(v.DSN_GLOBAL)
    (one,) = notice.recipients
    assert (one.recipient, one.status, notice.of_message_id) == ("jörg@tidepost.example", "5.6.7", "a2@d.example")


def test_a_status_without_its_first_group_in_base64_is_read() -> None:
    notice = read_notice(v.DSN_BARE)
    (one,) = notice.recipients
    assert (one.recipient, one.action, one.status) == ("kim@kestrelbox.example", "failed", "5.2.1")
    assert notice.of_message_id == "a3@d.example"


def test_the_address_that_the_return_path_was_made_for_counts() -> None:
    raw = v.DSN_BARE
    (one,) = read_notice(raw, "bounce+kim.other=orchard.example@returns.d.example").recipients
    assert one.recipient == "kim.other@orchard.example"


def test_a_complaint_names_who_complained() -> None:  # RFC 5965
    notice = read_notice(v.COMPLAINT)
    assert (notice.kind, notice.feedback_type, notice.source_ip) == (K.COMPLAINT, "abuse", "198.51.100.21")
    (one,) = notice.recipients
    assert one.recipient == "kim@kestrelbox.example"  # from the return path: the recipient itself is redacted
    assert one.at == datetime(2026, 11, 19, 9, tzinfo=UTC)
    assert (notice.of_message_id, notice.reporter) == ("a9@news.glasswort.example", "Kestrelbox-Feedback/1.0")


@pytest.mark.parametrize(("raw", "kind"), [(v.AUTH_FAILURE, K.AUTHENTICATION), (v.NOT_SPAM, K.NOT_SPAM)])
def test_other_feedback_is_no_complaint(raw: bytes, kind: NoticeKind) -> None:
    assert read_notice(raw).kind is kind


@pytest.mark.parametrize(
    ("raw", "recipient", "action", "summary"),
    [
        (v.PLAIN, "kim@northgate.example", "failed", "550 5.1.1 <kim@northgate.example> unknown user"),
        (v.PLAIN_LIST, "kim@fenlandnet.example", "failed", "5.1.0 - Unknown address error"),
        (v.PLAIN_DELAY, "kim@orchard.example", "delayed", "451 4.7.1 try again later"),
        (v.HTML_ONLY, "kim@tidepost.example", "failed", "550 5.1.10 recipient not found"),
    ],
)
def test_bounces_of_no_standard_are_read(raw: bytes, recipient: str, action: str, summary: str) -> None:
    notice = read_notice(raw)
    assert notice.kind is K.DELIVERY
    assert [(one.recipient, one.action) for one in notice.recipients] == [(recipient, action)]
    assert summary in notice.recipients[0].diagnostic


def test_the_returned_message_is_found_below_the_line() -> None:
    notice = read_notice(v.PLAIN)
    assert (notice.of_message_id, notice.of_from) == ("p1@d.example", "news@d.example")


@pytest.mark.parametrize(
    ("raw", "kind"),
    [
        (v.VACATION, K.AUTO_REPLY),
        (v.OLD_VACATION, K.AUTO_REPLY),
        (v.PERSON, K.OTHER),
        (b"", K.OTHER),
        (b"\r\n\r\nx", K.OTHER),
    ],
)
def test_what_people_and_their_mailboxes_write_counts_for_nothing(raw: bytes, kind: NoticeKind) -> None:
    notice = read_notice(raw)
    assert (notice.kind, notice.recipients) == (kind, ())


def test_a_forwarded_notice_is_not_what_this_one_says() -> None:
    inner = v.DSN
    outer = b"From: kim@orchard.example\r\nContent-Type: message/rfc822\r\n\r\n" + inner
    assert read_notice(outer).kind is K.OTHER


@pytest.mark.parametrize(
    ("address", "recipient"),
    [
        ("bounce+kim=orchard.example@r.d.example", "kim@orchard.example"),
        ("news-kim.a=orchard.example@r.d.example", "kim.a@orchard.example"),
        ("kim=orchard.example@r.d.example", "kim@orchard.example"),
        ("bounce@r.d.example", ""),
        ("a=b@r.d.example", ""),
        ("", ""),
        ("bounce+kim=..example@r.d.example", ""),
    ],
)
def test_variable_return_paths(address: str, recipient: str) -> None:
    assert verp_recipient(address) == recipient


def test_a_message_that_is_too_large_is_refused() -> None:
    with pytest.raises(NoticeError, match="MB is the limit"):
        read_notice(b"a" * (MAX_NOTICE + 1))


def test_depth_and_parts_are_bounded() -> None:
    raw = b"x"
    for number in range(200):
        boundary = f"b{number}".encode()
        raw = b"Content-Type: multipart/mixed; boundary=" + boundary + b"\n\n--" + boundary + b"\n" + raw
    assert len(list(parse_entity(raw).walk())) <= MAX_DEPTH + 1
    wide = b"Content-Type: multipart/mixed; boundary=b\n\n" + b"--b\n\nx\n" * 5000
    assert len(list(parse_entity(wide).walk())) <= MAX_PARTS


PIECES = [v.DSN, v.DSN_GLOBAL, v.COMPLAINT, v.PLAIN, v.HTML_ONLY, v.VACATION]


@given(st.data())
def test_anything_can_be_read(data: st.DataObject) -> None:
    raw = bytearray(data.draw(st.sampled_from(PIECES)))
    for _ in range(data.draw(st.integers(0, 12))):
        at = data.draw(st.integers(0, len(raw)))
        length = data.draw(st.integers(0, 40))
        raw[at : at + length] = data.draw(st.binary(max_size=30))
    notice = read_notice(bytes(raw), data.draw(st.sampled_from(["", "b+x=y.example@z.example", "\x00"])))
    assert notice.kind in NoticeKind
    for one in notice.recipients:
        assert "@" in one.recipient


@given(st.binary(max_size=3000))
def test_rubbish_is_something_else(raw: bytes) -> None:
    assert read_notice(raw).kind in NoticeKind


@pytest.mark.parametrize(
    ("raw", "sent_to", "kind", "people"),
    [row[1:] for row in (*v.SENT_BACK, *v.UNSEEN, *v.UNSEEN_LATER)],
    ids=[row[0] for row in (*v.SENT_BACK, *v.UNSEEN, *v.UNSEEN_LATER)],
)
def test_what_machines_and_people_send_back(raw: bytes, sent_to: str, kind: str, people: list[tuple[str, str]]) -> None:
    notice = read_notice(raw, sent_to)
    found = [(one.recipient.lower(), one.action) for one in notice.recipients]
    assert (notice.kind, found) == (kind, people), notice.problem
    if notice.kind is K.OTHER and b"Subject: Undeliver" in raw:
        assert notice.problem, "what looks like a bounce is set aside with its reason"


def test_recipients_beyond_the_limit_are_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    groups = "".join(
        f"\r\nFinal-Recipient: rfc822; p{n}@tidepost.example\r\nAction: failed\r\nStatus: 5.1.1\r\n"
        for n in range(10_000)
    )
    head = "From: mailer-daemon@mx.example\r\nContent-Type: multipart/report; boundary=b\r\n\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\n"
    raw = (head + "Reporting-MTA: dns; a.example\r\n" + groups + "\r\n--b--\r\n").encode()
    assert len(read_notice(raw).recipients) == 10_000, "none is lost"
    monkeypatch.setattr("rust_gauge.core.notices.notice._MAX_RECIPIENTS", 500)
    notice = read_notice(raw)
    assert (len(notice.recipients), notice.more) == (500, 9_500)


@pytest.mark.parametrize("text", ["Tide " + "(" * 4000, "a:" * 4000, "(" * 4000 + ")" * 4000 + " a@b.example"])
def test_mailboxes_that_are_nested_without_end_are_none(text: str) -> None:
    assert [address for _, address in mailboxes(text) if "@" in address] == []
    assert mailboxes("Kim (at sea) <kim@tidepost.example>, b@c.example")[1] == ("", "b@c.example")
