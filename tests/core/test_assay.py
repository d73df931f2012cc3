"""Assays: each rule applies where it should and nowhere else, the mark adds up, and nothing a message holds breaks it."""

import math
from dataclasses import replace
from datetime import UTC, date, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.assay import Examined, SenderHistory, Sending, Sighting, built_in, examine, parse_html, weigh
from rust_gauge.core.assay.attachments import content_of
from rust_gauge.core.assay.compare import Comparison, compare
from rust_gauge.core.assay.fields import meaning_of
from rust_gauge.core.assay.language import language_of
from rust_gauge.core.assay.support import support_table, unsupported
from rust_gauge.core.audit import Level
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion, PageAnswer, PageQuestion, drive
from rust_gauge.core.dns.programs import Answer, Question
from rust_gauge.core.errors import InputError
from rust_gauge.core.transport import DnsList
from tests.answers import answering
from tests.vectors.assay_messages import APPLIES, HEADER, HTML, TEXT, attached, html, message

NOW = datetime(2026, 11, 30, 10, tzinfo=UTC)
FOLLOWED = {"link-dead", "link-redirects-often", "link-redirects-away", "unsubscribe-dead"}
OPENED = {"unsubscribe-without-form"}
LEARNED = {"text-like-complained"}
NEED_DNS = (
    FOLLOWED | OPENED | LEARNED | {rule.key for rule in built_in().rules if rule.group in ("authentication", "sender")}
)


def examined(raw: bytes) -> Examined:
    return drive(examine(raw, now=NOW, ask_dns=False), lambda _: ())


def found(raw: bytes) -> set[str]:
    return {finding.rule for finding in examined(raw).assay.findings}


def test_a_good_message_has_a_mark_of_100() -> None:
    done = examined(message())
    assert (done.assay.findings, done.assay.mark, done.assay.worst) == ((), 100.0, None)
    assert done.assay.not_checked == ("SPF, DKIM and DMARC: DNS was not asked",)


@pytest.mark.parametrize("rule", APPLIES)
def test_a_rule_applies_to_what_it_is_about(rule: str) -> None:
    assert rule in found(APPLIES[rule]())


def test_a_message_that_is_signed_later_is_not_blamed_for_a_missing_signature() -> None:
    """DNS knows nothing: DMARC is missing in both, DKIM cannot be judged in one of them."""
    rules = {}
    for later in (False, True):
        program = examine(message(), sending=Sending(signed_later=later), now=NOW)
        done = drive(program, answering({}))
        rules[later] = {finding.rule for finding in done.assay.findings}
        assert ("DKIM: the message is signed after this, if at all" in done.assay.not_checked) is later
    assert rules[False] - rules[True] == {"dkim-missing", "unsubscribe-unsigned"}
    assert "dmarc-missing" in rules[True]


def test_every_rule_is_tried_and_its_texts_are_filled_in() -> None:
    assert {rule.key for rule in built_in().rules} - NEED_DNS == set(APPLIES)
    for rule, make in APPLIES.items():
        finding = next(f for f in examined(make()).assay.findings if f.rule == rule)
        for text in (finding.title, finding.effect, finding.remedy):
            assert text
            assert "{" not in text.replace("{{first_name}}", "")


@pytest.mark.parametrize(
    "raw",
    [
        message({"Subject": "BBC News at 9"}),
        message({"Subject": "Re: seats", "In-Reply-To": "<2@tidepost.example>"}),
        message({"From": "=?utf-8?q?=D0=A2=D0=B5=D0=B0=D1=82=D1=80?= <a@news.glasswort.example>"}),
        message({"Reply-To": "desk@glasswort.example"}),
        html('<a href="https://news.glasswort.example/c">glasswort.example</a>'),
        html('<p style="color:#777777;background:#111">Terms apply</p>').replace(b"xx", b"xx"),
        html('<table role="presentation"><tr><td>Seats</td></tr></table><table><tr><th>Row</th></tr></table>'),
        html('<img src="https://news.glasswort.example/dot.png" width="1" height="1" alt="">'),
        html("<p>It costs 5 {not a variable} and 100 % more</p>", text=None).replace(b"x", b"x"),
    ],
    ids=range(9),
)
def test_what_only_looks_like_it_is_left_alone(raw: bytes) -> None:
    assert found(raw) <= {"text-missing", "contrast-low", "numbers-differ"}


def test_a_place_is_where_the_element_stands_in_the_source() -> None:
    source = 'A\n<p class="x"><!-- <b> --><a\n href="http://d.example">go</a>\n</p>'
    page = parse_html(source)
    place = page.place(page.named("a")[0], "1")
    assert (place.line, place.column) == (2, 26)
    assert source.splitlines()[place.line - 1][place.column - 1 :].startswith("<a")


@given(st.dictionaries(st.sampled_from([rule.key for rule in built_in().rules]), st.integers(1, 40), max_size=30))
def test_the_mark_is_100_less_the_points(counts: dict[str, int]) -> None:
    class Anything(dict[str, object]):
        def __missing__(self, key: str) -> str:
            return key

    seen = [Sighting(rule, values=Anything()) for rule, count in counts.items() for _ in range(count)]
    assay = weigh(seen, built_in())
    assert 0 <= assay.mark <= 100
    assert round(assay.mark * 10) == 1000 - sum(round(finding.points * 10) for finding in assay.findings)
    assert math.isclose(assay.mark, 100 - sum(finding.points for finding in assay.findings), abs_tol=1e-9)
    assert [f.level.rank for f in assay.findings] == sorted(f.level.rank for f in assay.findings)


def test_a_tenant_adjusts_levels_and_points_and_switches_rules_off() -> None:
    raw = message({"Message-ID": None, "Date": None})
    rules = built_in().adjusted({"message-id-missing": {"level": "note", "points": 0.5}, "date-missing": {"off": True}})
    done = drive(examine(raw, now=NOW, ask_dns=False, rules=rules), lambda _: ())
    (finding,) = done.assay.findings
    assert (finding.level, finding.points, done.assay.mark) == (Level.NOTE, 0.5, 99.5)
    for wrong in ({"no-such-rule": {}}, {"date-missing": {"points": -1}}, {"date-missing": {"level": "bad"}}):
        with pytest.raises(InputError):
            built_in().adjusted(wrong)


def test_what_is_not_known_is_not_a_finding() -> None:
    """Without the sending address SPF may still align; a key without an answer may still verify."""
    records = {"_dmarc.news.glasswort.example TXT": ["v=DMARC1; p=reject"]}
    done = drive(examine(message(), now=NOW), answering(records))
    assert {f.rule for f in done.assay.findings} == {"dkim-missing", "unsubscribe-unsigned"}
    assert done.assay.not_checked == (
        "Blocklists: none are configured",
        "SPF and DMARC: the address that the message was sent from is not known",
    )
    sending = Sending("192.0.2.9", "mx.glasswort.example", "b@news.glasswort.example")
    done = drive(examine(message(), sending=sending, now=NOW), answering(records))
    assert {"dmarc-fail", "spf-fail"} <= {f.rule for f in done.assay.findings}
    assert done.assay.not_checked == ("Blocklists: none are configured",)
    assert "dmarc-missing" in {f.rule for f in drive(examine(message(), now=NOW), answering({})).assay.findings}


def test_what_is_no_message_is_refused() -> None:
    for raw in (b"", b"\r\nbody", b"x" * (40 * 1024 * 1024 + 1)):
        with pytest.raises(InputError):
            examined(raw)


@given(st.binary(max_size=600))
def test_any_octets_are_examined_or_refused(raw: bytes) -> None:
    for body in (raw, b"Content-Type: text/html; charset=utf-8\r\n\r\n" + raw):
        try:
            done = examined(body)
        except InputError:
            continue
        assert 0 <= done.assay.mark <= 100


@given(st.text(max_size=300))
def test_any_html_is_examined(text: str) -> None:
    page = parse_html(text)
    for element in page.elements:
        place = page.place(element, "1")
        if place.line:
            assert text.replace("\0", "").split("\n")[place.line - 1][place.column - 1] == "<"
    assert isinstance(page.visible_text, str)


def test_message_lists_show_the_first_text_also_a_hidden_one() -> None:
    assert examined(message()).preview_line.startswith("Members choose first Spring tickets at the")
    assert len(examined(message()).preview_line) == 140
    assert examined(message(html=None)).preview_line.startswith("Spring tickets at the")
    assert examined(message(html="<style>p {}</style><p>Hi</p>")).preview_line == "Hi"


def test_fields_are_explained() -> None:
    assert all(meaning_of(name) for name in HEADER)
    assert meaning_of("X-Unknown") == ""
    assert "Members choose first" not in parse_html(HTML).visible_text


def sample(key: str) -> str:
    """HTML that uses a construct of the table."""
    kind, _, name = key.partition(" ")
    values = {"": "1px", "url": "url(a.png)", "gradient": "linear-gradient(red, blue)", "negative": "-4px"}
    if kind == "element":
        return '<link rel="stylesheet" href="a.css">' if name == "link" else f"<{name}>x</{name}>"
    if kind == "attribute":
        return f'<img {name}="a.png">'
    if kind == "at":
        return f"<style>@{name} (min-width: 1px) {{ p {{ color: red }} }}</style>"
    if kind == "selector":
        return f"<style>p{'[class]' if name == '[attribute]' else name} {{ color: red }}</style>"
    if name.endswith("()"):
        return f'<p style="width: {name[:-2]}(1px)">x</p>'
    if name == "!important":
        return '<p style="color: red !important">x</p>'
    name, _, value = name.partition(":")
    return f'<p style="{name}: {values.get(value, value)}">x</p>'


@pytest.mark.parametrize("key", support_table()[2])
def test_each_construct_of_the_table_is_found_where_it_stands(key: str) -> None:
    page = parse_html(f"<html><body>\n{sample(key)}</body></html>")
    found = {each.construct.key: each for each in unsupported(page, "1.2")}
    assert key in found
    assert found[key].places[0].name == "1.2"
    assert found[key].places[0].line in (2, 0)  # lxml moves a base element out of the body


def test_the_table_names_families_that_there_are() -> None:
    _, families, constructs = support_table()
    for construct in constructs.values():
        assert construct.support, construct.key
        assert set(construct.support) <= set(families)
        assert set(construct.support.values()) <= {"no", "part"}
        assert construct.instead


def test_a_style_sheet_is_read_into_its_media_queries_and_points_to_its_lines() -> None:
    page = parse_html("<style>\np { color: red }\n@media print {\n  .a:hover { display: flex }\n}\n</style><p>x</p>")
    found = {each.construct.key: each.places[0].line for each in unsupported(page, "1")}
    assert found == {"element style": 1, "at media": 3, "selector :hover": 4, "property display:flex": 4}
    assert unsupported(parse_html("<p style='color: red; margin: 4px'>x</p>")) == ()


@given(st.text(alphabet="{}@:;()[]-.#\"'\\/*!<> \npmdf1%", max_size=200))
def test_any_style_sheet_is_read(text: str) -> None:
    for source in (f"<style>{text}</style>", f"<p style='{text}'>x</p>"):
        unsupported(parse_html(source), "1")


def compared(before: bytes, after: bytes) -> Comparison:
    return compare(examined(before), examined(after))


@pytest.mark.parametrize("rule", [rule for rule in APPLIES if rule not in ("message-large", "html-clipped")])
def test_the_points_of_a_comparison_add_up_to_the_difference_of_the_marks(rule: str) -> None:
    there, back = compared(message(), APPLIES[rule]()), compared(APPLIES[rule](), message())
    taken = round(sum(point.after - point.before for point in there.points), 1)
    assert taken == round(there.mark_before - there.mark_after, 1)
    assert rule in {point.rule for point in there.points}
    assert (back.mark_before, back.mark_after) == (there.mark_after, there.mark_before)
    assert {point.rule for point in back.points} == {point.rule for point in there.points}


def test_a_message_does_not_differ_from_itself_nor_from_its_copy_by_another_way() -> None:
    on_its_way = message(more="Received: from a.example by b.example; Mon, 30 Nov 2026 09:00:10 +0000\n")
    assert compared(message(), message()).changes == ()
    assert [change.kind for change in compared(message(), on_its_way).changes] == ["route"]


def test_one_change_is_the_reason_and_two_at_once_are_not_told_apart() -> None:
    tracked = html('<p>Seats: <a href="http://driftline.example/c">Choose</a></p>')
    own = html('<p>Seats: <a href="https://news.glasswort.example/c">Choose</a></p>')
    reasons = {point.rule: point.because for point in compared(tracked, own).points}
    assert reasons == {"link-plain-http": ("links",), "link-other-domain": ("links",)}
    footer = message(text=TEXT + "\nFrom 12.50\n", html=HTML.replace("</body>", "<p>From 13.50</p></body>"))
    (point,) = compared(message(), footer).points
    assert (point.rule, point.because) == ("numbers-differ", ("text", "html text"))


def test_a_finding_that_no_change_explains_says_so() -> None:
    late = drive(examine(message(), now=datetime(2026, 12, 9, tzinfo=UTC), ask_dns=False), lambda _: ())
    (point,) = compare(examined(message()), late).points
    assert (point.rule, point.because) == ("date-far", ())


ADDRESS, TURNED = "192.0.2.9", "9.2.0.192"
LISTS = (DnsList("ip.list.example"), DnsList("names.list.example", "domain"), DnsList("dead.list.example"))
TESTED = {
    "2.0.0.127.ip.list.example A": ["127.0.0.2"],
    "test.names.list.example A": ["127.0.0.2"],
}


@pytest.mark.parametrize(
    ("records", "expected"),
    [
        ({}, {"ptr-missing", "helo-dead"}),
        ({f"{TURNED}.in-addr.arpa PTR": ["mx.d.example."]}, {"ptr-not-confirmed", "helo-dead"}),
        (
            {f"{TURNED}.in-addr.arpa PTR": ["192-0-2-9.pool.example."], "192-0-2-9.pool.example A": [ADDRESS]},
            {"ptr-generic", "helo-dead"},
        ),
        (
            {f"{TURNED}.in-addr.arpa PTR": ["mx.d.example."], "mx.d.example A": [ADDRESS],
             "mx.glasswort.example A": ["192.0.2.99"]},
            {"helo-elsewhere"},
        ),
        (
            {f"{TURNED}.in-addr.arpa PTR": ["mx.glasswort.example."], "mx.glasswort.example A": [ADDRESS],
             f"{TURNED}.ip.list.example A": ["127.0.0.2"], f"{TURNED}.ip.list.example TXT": ["sent to traps"]},
            {"address-listed"},
        ),
        (
            {f"{TURNED}.in-addr.arpa PTR": ["mx.glasswort.example."], "mx.glasswort.example A": [ADDRESS],
             "glasswort.example.names.list.example A": ["127.0.0.4"]},
            {"domain-listed"},
        ),
    ],
)  # fmt: skip
def test_the_sender_is_looked_up(records: dict[str, list[str]], expected: set[str]) -> None:
    sending = Sending(ADDRESS, "mx.glasswort.example", "b@news.glasswort.example")
    done = drive(examine(message(), sending=sending, now=NOW, lists=LISTS), answering({**TESTED, **records}))
    assert {f.rule for f in done.assay.findings if f.group == "sender"} == expected
    assert any("dead.list.example gave no usable answer" in text for text in done.assay.not_checked)
    assert all("{" not in f.title + f.effect + f.remedy for f in done.assay.findings)


@pytest.mark.parametrize(
    ("failing", "expected"),
    [({}, "dkim-fail"), ({"s1._domainkey.news.glasswort.example": AnswerStatus.TIMEOUT}, "dkim-no-answer")],
)
def test_a_key_that_is_missing_is_a_fault_and_one_without_answer_is_not(
    failing: dict[str, AnswerStatus], expected: str
) -> None:
    signature = "v=1; a=rsa-sha256; d=news.glasswort.example; s=s1; h=from; bh=MTIzNA==; b=MTIzNA=="
    done = drive(examine(message({"DKIM-Signature": signature}), now=NOW), answering({}, failing))
    assert {f.rule for f in done.assay.findings if f.rule.startswith("dkim")} == {expected}


def test_a_style_that_changed_is_a_change() -> None:
    pale, dark = (html(f'<p style="color: {colour}">Terms apply here</p>') for colour in ("#bbbbbb", "#111111"))
    (point,) = compared(pale, dark).points
    assert (point.rule, point.because) == ("contrast-low", ("html structure",))
    assert {change.kind for change in compared(pale, dark).changes} == {"html structure"}


def followed(raw: bytes, pages: dict[str, PageAnswer | int | str]) -> tuple[set[str], list[str], list[str]]:
    """Return the rules about links that were followed, what could not be said, and what was asked."""
    asked: list[str] = []

    def answer(questions: tuple[Question, ...]) -> tuple[Answer, ...]:
        return tuple(
            page(question) if isinstance(question, PageQuestion) else nothing(question) for question in questions
        )

    def nothing(question: Question) -> Answer:
        assert isinstance(question, DnsQuestion)
        return DnsAnswer(question, AnswerStatus.NO_NAME)

    def page(question: PageQuestion) -> PageAnswer:
        assert question.head
        asked.append(question.url)
        found = pages.get(question.url, 200)
        if isinstance(found, str):
            return PageAnswer(question, "no_data", 302, location=found)
        if isinstance(found, int):
            return PageAnswer(question, "found" if found == 200 else "no_data" if found else "failed", found)
        return found

    done = drive(examine(raw, now=NOW, follow=True), answer)
    return {each.rule for each in done.assay.findings} & FOLLOWED, list(done.assay.not_checked), asked


LINK, LEAVE = "https://news.glasswort.example/spring", "https://news.glasswort.example/u/1"


@pytest.mark.parametrize(
    ("pages", "rules"),
    [
        ({}, set()),
        ({LINK: 404}, {"link-dead"}),
        ({LINK: 410}, {"link-dead"}),
        ({LINK: 405}, set()),
        ({LINK: "/elsewhere"}, set()),
        ({LINK: "https://shop.driftline.example/"}, {"link-redirects-away"}),
        ({LINK: "/gone", "https://news.glasswort.example/gone": 404}, {"link-dead"}),
        ({LINK: LINK}, {"link-redirects-often"}),
        ({LINK: "javascript:go()"}, set()),
        ({LEAVE: 404}, {"unsubscribe-dead"}),
        ({LEAVE: "https://other.example/"}, set()),
    ],
)
def test_links_are_followed_and_what_is_dead_is_said(pages: dict[str, int | str], rules: set[str]) -> None:
    found, _, asked = followed(message(), dict(pages))
    assert found == rules
    assert len(asked) <= 8


def test_a_link_without_an_answer_is_not_called_dead_and_one_to_unsubscribe_is_not_asked() -> None:
    leaving = html('<a href="https://d.example/a">Unsubscribe here</a><a href="https://d.example/optout">x</a>')
    found, unknown, asked = followed(leaving, {LINK: 0})
    assert found == set()
    assert "Link: news.glasswort.example gave no answer that says whether it works" in unknown
    assert not [url for url in asked if "d.example/" in url]
    busy, unknown, _ = followed(message(), {LINK: 503})
    assert busy == set()
    assert any("gave no answer" in each for each in unknown)


@pytest.mark.parametrize(
    ("code", "body", "rules", "unknown"),
    [
        (200, "<p>Unsubscribe?</p><form method=post><button>Yes</button></form>", set(), ""),
        (405, "", set(), ""),
        (200, "<p>You are unsubscribed.</p>", {"unsubscribe-without-form"}, ""),
        (204, "", {"unsubscribe-without-form"}, ""),
        (302, "", set(), "redirects a GET"),
        (503, "", set(), "gave no answer to GET"),
        (0, "", set(), "gave no answer to GET"),
    ],
)
def test_the_one_click_address_is_opened_only_on_request_and_a_page_without_a_form_is_reported(
    code: int, body: str, rules: set[str], unknown: str
) -> None:
    asked: list[PageQuestion] = []

    def answer(questions: tuple[Question, ...]) -> tuple[Answer, ...]:
        asked.extend(question for question in questions if isinstance(question, PageQuestion))
        status = "failed" if code == 0 else "found" if code == 200 else "no_data"
        return tuple(
            PageAnswer(each, status, code, "text/html", body)
            if isinstance(each, PageQuestion)
            else DnsAnswer(each, AnswerStatus.NO_NAME)  # type: ignore[arg-type]
            for each in questions
        )

    drive(examine(message(), now=NOW), answer)
    assert asked == []
    done = drive(examine(message(), now=NOW, open_unsubscribe=True), answer)
    assert [(question.url, question.head) for question in asked] == [(LEAVE, False)]
    assert {each.rule for each in done.assay.findings} & {"unsubscribe-without-form"} == rules
    assert any(unknown in each for each in done.assay.not_checked if "One-click" in each) is bool(unknown)
    asked.clear()
    drive(examine(message({"List-Unsubscribe-Post": None}), now=NOW, open_unsubscribe=True), answer)
    assert asked == []


HISTORY = SenderHistory("news.glasswort.example", date(2026, 1, 1), "192.0.2.9", date(2026, 1, 1), {"Tidepost": 90.0})


@pytest.mark.parametrize(
    ("change", "rules"),
    [
        ({}, set()),
        ({"domain_since": None}, {"sender-unknown"}),
        ({"ip_since": date(2026, 11, 25)}, {"sender-new"}),
        ({"ip": "", "ip_since": None}, set()),
        ({"readings": {"Tidepost": 90.0, "Kestrelbox": 41.3}}, {"reading-low"}),
    ],
)
def test_our_own_data_about_the_sender_counts(change: dict[str, object], rules: set[str]) -> None:
    history = replace(HISTORY, **change)  # type: ignore[arg-type]
    done = drive(examine(message(), now=NOW, ask_dns=False, history=history), lambda _: ())
    assert {each.rule for each in done.assay.findings} & {"sender-unknown", "sender-new", "reading-low"} == rules


@pytest.mark.parametrize(
    ("octets", "kind"),
    [
        (b"MZ\x90", "a program"), (b"\x7fELF", "a program"), (b"#!/bin/sh", "a script"), (b"%PDF-1.7", "pdf"),
        (b"PK\x03\x04", "zip"), (b"\xef\xbb\xbf <!DOCTYPE html>", "a web page"), (b"hello", ""), (b"", ""),
    ],
)  # fmt: skip
def test_attachments_are_known_by_their_first_octets(octets: bytes, kind: str) -> None:
    assert content_of(octets) == kind


def test_a_program_under_another_name_and_macros_in_any_document_are_found() -> None:
    assert "attachment-runs" in found(attached("photo.jpg", content=b"MZ\x90\x00"))
    assert "attachment-macros" in found(attached("plan.docx", content=b"PK\x03\x04 word/vbaProject.bin"))
    assert found(attached("plan.pdf", content=b"%PDF-1.7")) & {"attachment-type-differs", "attachment-runs"} == set()


@pytest.mark.parametrize(
    ("text", "languages"),
    [
        ("The new season opens on Friday and you can book your seats with us from the morning of that day on.", {"en"}),
        ("Die neue Spielzeit beginnt am Freitag, und Sie können Ihre Karten von dem Morgen an bei uns auch mit der App"
         " bestellen, wenn Sie das wollen.", {"de"}),
        ("La nouvelle saison commence vendredi et vous pouvez réserver vos places dans la matinée avec nous par le site"
         " ou sur place pour les enfants.", {"fr"}),
        ("Новый сезон начинается в пятницу", {"ru", "uk", "bg", "sr", "mk", "be", "kk", "mn"}),
        ("Friday", set()),
        ("", set()),
        ("SKU 4411 QTY 2 EUR 12.50 " * 20, set()),
    ],
)  # fmt: skip
def test_the_language_of_a_text_is_told_where_it_can_be(text: str, languages: set[str]) -> None:
    assert language_of(text * 2) == languages
