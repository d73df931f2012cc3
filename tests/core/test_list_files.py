"""Lists as people bring them; links to unsubscribe; questions of MTAs; what an address looks like."""

import csv
import io
import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.contract.common import spreadsheet_cell
from rust_gauge.core.dns import AnswerStatus
from rust_gauge.core.dns.programs import drive
from rust_gauge.core.names import parse_address
from rust_gauge.core.suppression.checks import (
    ENDINGS,
    ROLES,
    DomainFacts,
    Found,
    Verdict,
    Weight,
    Words,
    check_domain,
    check_form,
    check_kind,
    domain_facts,
    verdict_of,
)
from rust_gauge.core.suppression.delegation import read_question, refusal
from rust_gauge.core.suppression.files import (
    FileError,
    Layout,
    find_encoding,
    find_layout,
    read_rows,
    read_time,
    row_lines,
    rows_are_lines,
)
from rust_gauge.core.suppression.unsubscribe import (
    Link,
    LinkError,
    is_one_click,
    list_unsubscribe,
    seal,
    token_in_subject,
    unseal,
)
from tests.answers import answering

# Files


def rows_of(octets: bytes, size: int = 7, **stated: Any) -> list[str]:
    layout = find_layout(octets, **stated)
    pieces = [octets[start : start + size] for start in range(0, len(octets), size)]
    return [row.address for row in read_rows(pieces, layout)]


@pytest.mark.parametrize(
    ("sample", "encoding"),
    [
        (b"ann@a.example", "utf-8"),
        ("Åsa".encode(), "utf-8"),
        ("Åsa, ann@a.example".encode("utf-8-sig"), "utf-8-sig"),
        ("ann@a.example\n".encode("utf-16"), "utf-16"),
        ("ann@a.example\n".encode("utf-16-be"), "utf-16-be"),
        ("ann@a.example\n".encode("utf-32"), "utf-32"),
    ],
)
def test_the_encoding_is_found(sample: bytes, encoding: str) -> None:
    assert find_encoding(sample) == encoding


def test_old_eight_bit_encodings_give_letters_and_no_error() -> None:
    text = "Besök hos Åsa Öberg på ön; det är så skönt här ute vid havet\n" * 20
    assert text.encode("cp1252").decode(find_encoding(text.encode("cp1252"))) == text


def test_what_is_stated_wins_and_what_is_not_there_is_said() -> None:
    text = b"x,mail,other\n1,a@a.example,b@b.example\n"
    assert rows_of(text) == ["a@a.example"]
    assert rows_of(text, columns={"address": "other"}) == ["b@b.example"]
    assert rows_of(text, columns={"address": "3"}) == ["b@b.example"]
    with pytest.raises(FileError, match="Unknown column nope"):
        rows_of(text, columns={"address": "nope"})
    with pytest.raises(FileError, match="Unknown encoding"):
        rows_of(text, encoding="klingon")


def test_a_column_of_addresses_is_found_without_a_heading() -> None:
    assert rows_of(b"1;Ann;ann@a.example\n2;Bo;bo@b.example\n") == ["ann@a.example", "bo@b.example"]


_cells = st.text(st.characters(codec="utf-8", exclude_characters="\0\r"), max_size=12)


@given(st.lists(st.tuples(_cells, _cells), min_size=1, max_size=8), st.integers(1, 40), st.sampled_from(",;\t"))
def test_csv_comes_back_as_it_was_written_however_it_is_cut(
    rows: list[tuple[str, str]], size: int, delimiter: str
) -> None:
    out = io.StringIO()
    writer = csv.writer(out, delimiter=delimiter, quoting=csv.QUOTE_ALL, lineterminator="\r\n")
    writer.writerow(("address", "note"))
    writer.writerows((f"a{n}@a.example", note) for n, (_, note) in enumerate(rows))
    octets = out.getvalue().encode()
    layout = find_layout(octets, form="csv", encoding="utf-8", columns={"address": "address", "note": "note"})
    pieces = [octets[start : start + size] for start in range(0, len(octets), size)]
    found = [(row.address, row.note) for row in read_rows(pieces, layout)]
    assert found == [(f"a{n}@a.example", note.strip()) for n, (_, note) in enumerate(rows)]


@given(st.binary(max_size=300), st.integers(1, 50))
def test_any_octets_are_read_or_refused_with_a_reason(octets: bytes, size: int) -> None:
    try:
        layout = find_layout(octets)
    except FileError as error:
        assert str(error)
        return
    for row in read_rows([octets[start : start + size] for start in range(0, len(octets), size)], layout):
        assert row.number > 0


@pytest.mark.parametrize(
    ("text", "iso"),
    [
        ("2026-01-02", "2026-01-02T00:00:00+00:00"),
        ("2026/01/02 03:04", "2026-01-02T03:04:00+00:00"),
        ("2026-01-02T03:04:05+02:00", "2026-01-02T01:04:05+00:00"),
        ("1767322800", "2026-01-02T03:00:00+00:00"),
        ("1767322800000", "2026-01-02T03:00:00+00:00"),
    ],
)
def test_times_are_read_as_people_write_them(text: str, iso: str) -> None:
    assert read_time(text).isoformat() == iso


# Links


@given(st.integers(1, 2**31), st.text(max_size=60), st.text(max_size=40), st.text(max_size=254))
def test_a_link_comes_back_and_says_nothing_without_its_key(
    tenant: int, stream: str, domain: str, recipient: str
) -> None:
    link = Link(tenant, stream, domain, recipient)
    token = seal("key", link)
    assert unseal("key", token) == link
    assert token == seal("key", link)
    assert token.replace("-", "").replace("_", "").isalnum()
    with pytest.raises(LinkError):
        unseal("other", token)


@given(st.text(max_size=60))
def test_what_was_not_sealed_is_no_link(text: str) -> None:
    with pytest.raises(LinkError):
        unseal("key", text)


def test_the_header_names_the_page_and_the_mailbox() -> None:
    assert list_unsubscribe("https://gauge.skerry.example/", "", "T") == (
        "<https://gauge.skerry.example/unsubscribe/T>"
    )
    assert list_unsubscribe("https://g.example", "leave@b.example", "T").endswith(
        ", <mailto:leave@b.example?subject=T>"
    )


@pytest.mark.parametrize(
    ("body", "kind", "is_one"),
    [
        (b"List-Unsubscribe=One-Click", "application/x-www-form-urlencoded", True),
        (b"List-Unsubscribe=One-Click", "", True),
        (b"a=b&List-Unsubscribe=One-Click", "application/x-www-form-urlencoded; charset=utf-8", True),
        (
            b'--x\r\nContent-Disposition: form-data; name="List-Unsubscribe"\r\n\r\nOne-Click\r\n--x--',
            "multipart/form-data; boundary=x",
            True,
        ),
        (b"List-Unsubscribe=No", "application/x-www-form-urlencoded", False),
        (b"", "", False),
    ],
)
def test_which_post_is_the_one_click(body: bytes, kind: str, is_one: bool) -> None:
    assert is_one_click(body, kind) is is_one


def test_the_token_is_found_behind_what_mail_programs_put_before_it() -> None:
    token = seal("key", Link(1, "news", "d.example", "ann@a.example"))
    assert token_in_subject(f"Re: AW: {token}") == token
    assert token_in_subject("please stop") == ""


# Questions of MTAs


def test_a_question_is_read_and_an_answer_is_one_line() -> None:
    block = (
        b"request=smtpd_access_policy\nprotocol_state=RCPT\nsender=a@D.example\nrecipient=b@c.example\ninstance=1.2\n\n"
    )
    question = read_question(block)
    assert question is not None
    assert (question.recipient, question.sender_domain, question.is_about_a_recipient) == (
        "b@c.example",
        "d.example",
        True,
    )
    assert read_question(b"\n\n") is None
    assert refusal("two\nlines \x1b[31m and é") == b"action=550 5.7.1 Not sent: two?lines ?[31m and ?\n\n"


@given(st.binary(max_size=200))
def test_any_octets_are_a_question_or_none(block: bytes) -> None:
    question = read_question(block)
    assert question is None or isinstance(question.recipient, str)


# What an export writes is what an import reads


@given(st.text(alphabet="'=+-@;\t\r\n a1", max_size=12))
def test_no_cell_is_a_formula_and_each_comes_back_as_it_was(text: str) -> None:
    cell = spreadsheet_cell(text)
    is_number = re.fullmatch(r"[+-]?\d+|\+\d[\d ]*", cell)
    assert is_number or not re.search(r"(^|[;\t])[=+\-@\t\r\n]", cell)
    line = io.StringIO()
    csv.writer(line).writerow(["x@a.example", cell])
    came = text.replace("\r\n", "\n").replace("\r", "\n")
    ours = Layout("csv", "utf-8", ",", ("address", "address_key"), {}, {"address": 0})
    (row,) = read_rows([b"address,address_key\n", line.getvalue().encode()], ours)
    assert row.cells[1] == came
    theirs = Layout("csv", "utf-8", ",", (), {}, {"address": 0})
    plain = io.StringIO()
    csv.writer(plain).writerow(["x@a.example", text])
    (row,) = read_rows([plain.getvalue().encode()], theirs)
    assert row.cells[1] == came, "the cells of other people's files stay as they came"


HEADS = ["E-Mail-Adresse", "Adresse e-mail", "Correo electrónico", "Endereço de e-mail", "Indirizzo e-mail", "E-mailadres",
         "Adres e-mail", "E-mailová adresa", "E-mail cím", "E-postadress", "Адрес электронной почты", "Електронна пошта",
         "E-posta adresi", "メールアドレス", "电子邮件", "이메일 주소", "EMAIL_ADDRESS", "e mail"]  # fmt: skip


@pytest.mark.parametrize("head", HEADS)
def test_the_column_of_addresses_is_known_by_its_head_in_many_languages(head: str) -> None:
    octets = f"Name;{head};Team\nkim;kim@a.example;b@c\nlee;lee@a.example;d@e\n".encode()
    layout = find_layout(octets)
    assert [row.address for row in read_rows([octets], layout)] == ["kim@a.example", "lee@a.example"]


@pytest.mark.parametrize(
    "text",
    ['"kim@a.example"\n"lee@a.example"\n', '"kim@a.example",\n"lee@a.example"\n', '[\n"kim@a.example",\n"lee@a.example"\n]\n',
     "<kim@a.example>;\n<lee@a.example>\n", '{"email": "kim@a.example"}\n{"email": "lee@a.example"}\n',
     '{"who": "kim@a.example", "n": 1}\n{"who": "lee@a.example", "n": 2}\n'],
)  # fmt: skip
def test_addresses_are_read_from_lines_of_other_programs(text: str) -> None:
    layout = find_layout(text.encode())
    assert [row.address for row in read_rows([text.encode()], layout)] == ["kim@a.example", "lee@a.example"]


def test_how_certain_an_encoding_is() -> None:
    assert find_layout(b"kim@a.example\n").certainty == "certain"
    assert find_layout("bücher@a.example;Grüße\nx@a.example;y\n".encode("cp1252")).certainty == "likely"
    odd = find_layout("a@a.example;\xb1\xe6\xea\nb@a.example;\xb3\xf3\n".encode("latin-1"))
    assert odd.certainty in ("likely", "unsure")
    assert find_layout(b"a@a.example;\xe9\n", encoding="cp1250").certainty == "certain", "what is stated is taken"


# What an address looks like

WORDS = Words(
    ROLES,
    frozenset({"gone-by-noon.example"}),
    frozenset({"parkplace.example"}),
    ("tidepost.example", "kestrelbox.example"),
)


@pytest.mark.parametrize(
    ("text", "words", "suggestion"),
    [
        ("ann@tidepost.example", [], ""),
        ("Info@tidepost.example", ["role"], ""),
        ("sales+x@tidepost.example", ["role"], ""),
        ("ann@gone-by-noon.example", ["throw_away"], ""),
        ("ann@in.gone-by-noon.example", ["throw_away"], ""),
        ("ann@tidepots.example", ["slip"], "ann@tidepost.example"),
        ("ann@tidpost.example", ["slip"], "ann@tidepost.example"),
        ("ann@tidepostt.example", ["slip"], "ann@tidepost.example"),
        ("ann@kestrelbox." + "exmaple", ["slip"], "ann@kestrelbox.example"),
        ("ann@faraway." + "con", ["slip"], "ann@faraway." + "com"),
        ("ann@another.example", [], ""),
    ],
)
def test_what_kind_of_address_it_is(text: str, words: list[str], suggestion: str) -> None:
    found, meant = check_kind(parse_address(text), WORDS)
    assert ([row.word for row in found], meant) == (words, suggestion)


def test_endings_that_are_mended_end_in_something_else() -> None:
    assert all(wrong != right for wrong, right in ENDINGS.items())


@pytest.mark.parametrize(
    ("weights", "verdict"),
    [
        ([Weight.FOR], Verdict.GOOD),
        ([Weight.FOR, Weight.DOUBT], Verdict.DOUBTFUL),
        ([Weight.DOUBT, Weight.OPEN], Verdict.UNKNOWN),
        ([Weight.FOR, Weight.OPEN, Weight.AGAINST], Verdict.BAD),
        ([], Verdict.GOOD),
    ],
)
def test_what_all_of_it_comes_to(weights: list[Weight], verdict: Verdict) -> None:
    assert verdict_of(Found("x", weight, "x") for weight in weights) is verdict


def test_the_form_is_looked_at_first() -> None:
    assert check_form("nobody")[0] is None
    assert check_form("a..b@x.example")[1].weight is Weight.AGAINST
    assert check_form("jö@x.example")[1].word == "smtputf8"
    parked = DomainFacts(True, "mx", "x", ("mx1.parkplace.example",))
    assert [row.word for row in check_domain(parked, WORDS)] == ["parked"]


DNS = {
    "good.example MX": ["10 mx1.good.example.", "20 mx2.good.example."],
    "mx1.good.example A": ["192.0.2.1"],
    "null.example MX": ["0 ."],
    "plain.example A": ["192.0.2.2"],
    "empty.example TXT": ["v=spf1 -all"],
    "dead.example MX": ["10 nowhere.dead.example."],
}


@pytest.mark.parametrize(
    ("domain", "takes_mail", "word"),
    [
        ("good.example", True, "mx"),
        ("null.example", False, "null_mx"),
        ("plain.example", True, "address_only"),
        ("empty.example", False, "no_mail_host"),
        ("dead.example", False, "dead_mx"),
        ("nowhere.example", False, "no_domain"),
        ("slow.example", None, "dns_trouble"),
    ],
)
def test_whether_a_domain_takes_mail(domain: str, takes_mail: bool | None, word: str) -> None:
    facts = drive(domain_facts(domain), answering(DNS, {"slow.example": AnswerStatus.TIMEOUT}))
    assert (facts.takes_mail, facts.word) == (takes_mail, word)
    assert domain in facts.detail


@given(st.lists(st.text(alphabet="ab\r\n@", max_size=6), max_size=12))
def test_lines_do_not_depend_on_where_a_file_was_cut(pieces: list[str]) -> None:
    layout = Layout("plain", "utf-8")
    whole = [row.address for row in read_rows([("".join(pieces)).encode()], layout)]
    assert [row.address for row in read_rows([piece.encode() for piece in pieces], layout)] == whole


@given(
    st.lists(st.text(st.characters(codec="utf-8", exclude_characters='"'), max_size=12), max_size=12),
    st.sampled_from(["csv", "plain", "ndjson"]), st.sampled_from([",", ";", "\t"]), st.booleans(),
    st.sampled_from(["\n", "\r\n"]), st.integers(1, 40),
)  # fmt: skip
def test_the_lines_of_rows_are_as_many_as_rows_in_their_order(
    texts: list[str], form: str, delimiter: str, heading: bool, ending: str, size: int
) -> None:
    octets = ending.join([f"address{delimiter}x", *texts]).encode()
    layout = Layout(form, "utf-8", delimiter, ("address", "x") if heading else (), {}, {"address": 0})
    assert rows_are_lines(layout, quoted=False)
    pieces = [octets[at : at + size] for at in range(0, len(octets), size)]
    rows, lines = list(read_rows(pieces, layout)), list(row_lines(pieces, layout))
    assert len(rows) == len(lines)
    for row, line in zip(rows, lines, strict=True):
        if form == "csv" and not row.problem:
            assert next(csv.reader([line.replace("\0", "\ufffd")], delimiter=delimiter)) == list(row.cells)
        elif form == "plain":
            assert line.strip()[:100] == row.cells[0][:100]


def test_rows_of_a_file_with_quotation_marks_are_not_lines() -> None:
    layout = Layout("csv", "utf-8", ",", (), {}, {"address": 0})
    assert not rows_are_lines(layout, quoted=True)
    assert rows_are_lines(Layout("plain", "utf-8"), quoted=True)
