"""Signed webhooks: signature, check, pauses. The vector was computed by hand from the open specification."""

import base64
import hashlib
import hmac
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.webhooks import TOLERANCE, WebhookRefused, headers_of, pause_after, secret_text, sign, verify

SECRET = secret_text(b"0123456789abcdef01234567")
NOW = 1_790_000_000


def test_the_signature_is_hmac_sha256_over_id_time_and_body() -> None:
    wanted = hmac.new(b"0123456789abcdef01234567", b"msg_1.1790000000.{}", hashlib.sha256).digest()
    assert sign(SECRET, "msg_1", NOW, b"{}") == "v1," + base64.b64encode(wanted).decode()


@given(st.binary(), st.integers(NOW - TOLERANCE, NOW + TOLERANCE))
def test_what_was_signed_is_taken(body: bytes, seconds: int) -> None:
    assert verify(SECRET, headers_of([SECRET], "msg_1", seconds, body), body, NOW) == "msg_1"


@pytest.mark.parametrize(
    ("change", "body", "now"),
    [
        ({}, b"{ }", NOW),
        ({"webhook-id": "msg_2"}, b"{}", NOW),
        ({"webhook-timestamp": str(NOW + 1)}, b"{}", NOW),
        ({"webhook-timestamp": "soon"}, b"{}", NOW),
        ({"webhook-signature": "v1,AAAA"}, b"{}", NOW),
        ({"webhook-signature": ""}, b"{}", NOW),
        ({"webhook-signature": "v1,é"}, b"{}", NOW),
        ({}, b"{}", NOW + TOLERANCE + 1),
        ({}, b"{}", NOW - TOLERANCE - 1),
    ],
)
def test_anything_else_is_refused(change: dict[str, str], body: bytes, now: int) -> None:
    headers = headers_of([SECRET], "msg_1", NOW, b"{}") | change
    with pytest.raises(WebhookRefused):
        verify(SECRET, headers, body, now)


def test_one_of_several_signatures_is_enough_while_a_secret_is_changed() -> None:
    headers = headers_of([SECRET], "msg_1", NOW, b"{}")
    headers["webhook-signature"] = "v1,AAAA " + headers["webhook-signature"]
    assert verify(SECRET, headers, b"{}", NOW) == "msg_1"


def test_pauses_grow_and_end_after_about_two_days() -> None:
    pauses = [pause_after(n) for n in range(1, 9)]
    known = [pause for pause in pauses if pause is not None]
    assert known == sorted(known)
    assert timedelta(hours=40) < sum(known, timedelta()) < timedelta(days=3)
    assert pause_after(9) is None
