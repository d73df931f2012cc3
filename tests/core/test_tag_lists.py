"""Tag lists (RFC 6376 §3.2), DKIM keys and DMARC records."""

import base64

import pytest
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from hypothesis import example, given
from hypothesis import strategies as st

from rust_gauge.core.dkim import looks_like_key, parse_dkim_key
from rust_gauge.core.dmarc import is_dmarc1, read_policy
from rust_gauge.core.taglist import parse_tag_list, read_carefully


def spki(key: object) -> str:
    public = key.public_key()  # type: ignore[attr-defined]
    return base64.b64encode(public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)).decode()


RSA_2048 = spki(rsa.generate_private_key(public_exponent=65537, key_size=2048))
RSA_1024 = spki(rsa.generate_private_key(public_exponent=65537, key_size=1024))
EC_KEY = spki(ec.generate_private_key(ec.SECP256R1()))
ED25519 = base64.b64encode(
    ed25519.Ed25519PrivateKey.from_private_bytes(bytes(range(32)))
    .public_key()
    .public_bytes(Encoding.Raw, PublicFormat.Raw)
).decode()


def test_tags_keep_their_values_and_columns() -> None:
    tags = parse_tag_list(" v = DKIM1 ;p=ab cd; ")
    assert [(t.name, t.value, t.column, t.value_column) for t in tags.tags] == [
        ("v", "DKIM1", 2, 6),
        ("p", "ab cd", 13, 15),
    ]
    assert tags.problems == ()


@pytest.mark.parametrize(
    ("text", "column", "word"),
    [
        ("v=DKIM1;; p=x", 9, "two semicolons"),
        ("v=DKIM1; nonsense; p=x", 10, "no ="),
        ("v=DKIM1; 9x=1", 10, "not a tag name"),
        ("v=DKIM1; p=a; p=b", 15, "twice"),
        ("v=DKIM1; n=caf\u00e9", 15, "is not allowed"),
        ("=x", 1, "not a tag name"),
    ],
)
def test_a_mistake_in_a_tag_list_is_found_at_its_column(text: str, column: int, word: str) -> None:
    (problem,) = parse_tag_list(text).problems
    assert (problem.column, word in problem.what) == (column, True)


TAG_LISTS = st.lists(
    st.sampled_from(["v", "=", "DKIM1", ";", " ", "\r\n\t", "p", "a_b", "_", "1", "@@", "é", "b c", "p=x;", "; "]),
    max_size=25,
).map("".join)


@example("v= ;a=1")
@given(TAG_LISTS)
def test_the_short_way_through_a_tag_list_reads_what_the_careful_one_does(text: str) -> None:
    assert parse_tag_list(text) == read_carefully(text)


@pytest.mark.parametrize("text", ["v=1;@@a=b  ", "v=1;@ a=b;\r\n", "@v=1 ", "v=1;;a=b ", "v=1; =x ", "v=1;a=b;c"])
def test_what_stands_between_two_tags_is_never_passed_over(text: str) -> None:
    assert parse_tag_list(text).problems


@given(st.text(max_size=300))
def test_any_text_gives_tags_whose_columns_point_at_them(text: str) -> None:
    tags = parse_tag_list(text)
    for tag in tags.tags:
        assert text[tag.column - 1 :].startswith(tag.name)
        assert text[tag.value_column - 1 :].startswith(tag.value)
    for problem in tags.problems:
        assert 1 <= problem.column <= len(text) + 1


@pytest.mark.parametrize(
    ("text", "bits"),
    [
        (f"v=DKIM1; k=rsa; p={RSA_2048}", 2048),
        (f"p={RSA_1024}", 1024),
        (f"v=DKIM1; p={RSA_2048[:100]} {RSA_2048[100:]};", 2048),  # blanks inside are allowed (§3.6.1: FWS)
        (f"v=DKIM1; k=ed25519; p={ED25519}", 256),
        (f"k=rsa; t=s:y; h=sha256; s=email; n=note; p={RSA_2048}", 2048),
    ],
)
def test_a_key_that_is_right_is_measured(text: str, bits: int) -> None:
    key = parse_dkim_key(text)
    assert key.problems == ()
    assert key.bits == bits


@pytest.mark.parametrize(
    ("text", "column", "words"),
    [
        (f'v=DKIM1; k=rsa; p={RSA_2048[:20]}\\"{RSA_2048[20:]}', 39, "a backslash and a quote"),
        (f'v=DKIM1; k=rsa; p="{RSA_2048}"', 19, "a quote"),
        (f"v=DKIM1; p=-----BEGIN PUBLIC KEY-----{RSA_2048}", 12, "PEM line"),
        (f"v=DKIM1; p={RSA_2048[:255]}", 12 + 254, "truncated"),
        (f"v=DKIM1; p={RSA_2048[:200]}", 12 + 199, "truncated"),
        (f"v=DKIM1; p={RSA_2048[:40]}…{RSA_2048[40:]}", 52, "is not allowed"),
        (f"v=DKIM1; k=rsa; p={ED25519}", 19, "not an RSA public key"),
        (f"v=DKIM1; k=ed25519; p={RSA_2048}", 23, "32 bytes"),
        (f"v=DKIM1; p={EC_KEY}", 12, "not an RSA key"),
        (f"v=DKIM1; k=dsa; p={RSA_2048}", 12, "not a key type"),
        (f"v=DKIM2; p={RSA_2048}", 3, "not DKIM1"),
        (f"p={RSA_2048}; v=DKIM1", 397, "first tag"),
        ("v=DKIM1; k=rsa", 1, "missing"),
    ],
)
def test_a_mangled_key_is_named_with_its_column(text: str, column: int, words: str) -> None:
    problem = parse_dkim_key(text).problems[0]
    assert words in problem.what
    assert problem.column == column


def test_an_empty_key_is_revoked_not_wrong() -> None:
    key = parse_dkim_key("v=DKIM1; p=")
    assert (key.revoked, key.problems, key.bits) == (True, (), None)


@pytest.mark.parametrize(
    ("text", "is_key"),
    [("v=DKIM1; p=", True), ('"v=DKIM1; k=rsa', True), ("p=abc", True), ("v=spf1 -all", False), ("hello", False)],
)
def test_what_is_meant_as_a_key_is_told_from_other_txt_records(text: str, is_key: bool) -> None:
    assert looks_like_key(text) is is_key


@given(st.text(max_size=300), st.sampled_from(["", "v=DKIM1; p=", "k=ed25519; p=", "v=DKIM1; k=rsa; p=MIGf"]))
def test_any_text_can_be_read_as_a_key_without_an_exception(text: str, head: str) -> None:
    key = parse_dkim_key(head + text)
    assert key.bits is None or not key.revoked


@pytest.mark.parametrize(
    ("text", "dmarc"),
    [
        ("v=DMARC1; p=none", True),
        ("v = DMARC1 ;p=none", True),
        ("v=DMARC1", True),
        ("v=DMARC10; p=none", False),
        ("v=dmarc1; p=none", False),
        (" v=DMARC1; p=none", False),
        ("p=none; v=DMARC1", False),
    ],
)
def test_only_the_exact_version_in_front_makes_a_dmarc_record(text: str, dmarc: bool) -> None:
    assert is_dmarc1(text) is dmarc


def test_a_dmarc_record_is_read_whole() -> None:
    record = read_policy(
        "v=DMARC1; p=Quarantine; sp=reject; pct=50; adkim=s; aspf=r; fo=1:d; ri=3600; "
        "rua=mailto:a@r.example!10m, mailto:b%2Bc@r.example; ruf=mailto:f@r.example"
    )
    assert record.problems == ()
    assert (record.policy, record.subdomain_policy, record.percent) == ("quarantine", "reject", 50)
    assert record.rua == ("a@r.example", "b+c@r.example")
    assert record.ruf == ("f@r.example",)


@pytest.mark.parametrize(
    ("text", "column", "word"),
    [
        ("v=DMARC1; p=nine", 13, "none, quarantine or reject"),
        ("v=DMARC1; rua=mailto:a@r.example", 1, "p= with the policy is missing"),
        ("v=DMARC1; sp=none; p=none", 20, "must follow v=DMARC1 directly"),
        ("v=DMARC1; p=none; pct=200", 23, "0 to 100"),
        ("v=DMARC1; p=none; pct=ten", 23, "0 to 100"),
        ("v=DMARC1; p=none; adkim=strict", 25, "r or s"),
        ("v=DMARC1; p=none; rua=a@r.example", 23, "mailto: is missing"),
        ("v=DMARC1; p=none; rua=mailto:a@r.example,https://x.example", 42, "not a mailto: URI"),
        ("v=DMARC1; p=none; fo=2", 22, "0, 1, d or s"),
        ("v=DMARC1; p=none; ri=-1", 22, "ri="),
        ("v=DMARC1; p=none; RUA=mailto:a@r.example", 19, "written rua"),
    ],
)
def test_a_mistake_in_a_dmarc_record_is_found_at_its_column(text: str, column: int, word: str) -> None:
    (problem,) = read_policy(text).problems
    assert problem.column == column
    assert word in problem.what


def test_a_policy_without_p_counts_as_none_when_reports_are_asked_for() -> None:
    assert read_policy("v=DMARC1; rua=mailto:a@r.example").policy == "none"
    assert read_policy("v=DMARC1; sp=none").policy is None


@given(st.text(max_size=300))
def test_any_text_can_be_read_as_a_dmarc_record_without_an_exception(text: str) -> None:
    record = read_policy("v=DMARC1;" + text)
    assert 0 <= record.percent <= 100
