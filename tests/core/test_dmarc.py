"""DMARC: which record governs (by the suffix list and by the tree walk), the effective policy, alignment, reports."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.dmarc import (
    Discoveries,
    Identifier,
    below_policy,
    check_destination,
    discover,
    effective_policy,
    evaluate,
    is_dmarc1,
    organisational_domain,
    read_policy,
    walk_targets,
)
from rust_gauge.core.dns import AnswerStatus, drive
from tests.answers import answering


def found(domain: str, records: dict[str, str], exists: bool = True, **failing: AnswerStatus) -> Discoveries:
    world = {f"_dmarc.{name} TXT": [text] for name, text in records.items()}
    if exists:
        world[f"{domain} A"] = ["192.0.2.1"]
    fails = {name.replace("__", "."): status for name, status in failing.items()}
    return drive(discover(domain), answering(world, fails))


# The walk (DMARCbis §4.10)


@pytest.mark.parametrize(
    ("domain", "targets"),
    [
        ("d.example", ["d.example", "example"]),
        ("a.b.d.example", ["a.b.d.example", "b.d.example", "d.example", "example"]),
        ("a.b.c.e.f.g.d.example",
         ["a.b.c.e.f.g.d.example", "b.c.e.f.g.d.example", "c.e.f.g.d.example", "e.f.g.d.example", "f.g.d.example",
          "g.d.example", "d.example", "example"]),
        ("x.y.z.a.b.c.e.f.g.d.example",
         ["x.y.z.a.b.c.e.f.g.d.example", "b.c.e.f.g.d.example", "c.e.f.g.d.example", "e.f.g.d.example",
          "f.g.d.example", "g.d.example", "d.example", "example"]),
    ],
)  # fmt: skip
def test_the_walk_asks_at_most_eight_names(domain: str, targets: list[str]) -> None:
    assert list(walk_targets(domain)) == targets


@given(st.lists(st.sampled_from("abc"), min_size=1, max_size=100))
def test_a_walk_goes_up_to_the_top_in_eight_steps_at_most(labels: list[str]) -> None:
    targets = walk_targets(".".join(labels))
    assert len(targets) <= 8
    assert targets[-1] == labels[-1]
    assert len(set(targets)) == len(targets)


ORGANISATIONS = [
    ("no record anywhere", "mail.d.example", {}, "d.example", "mail.d.example"),
    ("one record at the top", "mail.d.example", {"d.example": "v=DMARC1; p=none"}, "d.example", "d.example"),
    ("the one with the fewest labels", "a.mail.d.example",
     {"a.mail.d.example": "v=DMARC1; p=none", "d.example": "v=DMARC1; p=none"}, "d.example", "d.example"),
    ("psd=n ends the walk", "a.mail.d.example",
     {"mail.d.example": "v=DMARC1; p=none; psd=n", "d.example": "v=DMARC1; p=none"}, "d.example", "mail.d.example"),
    ("psd=y is one label above", "a.mail.d.example", {"example": "v=DMARC1; p=reject; psd=y"}, "d.example", "d.example"),
    ("psd=y in the middle", "a.mail.d.example", {"d.example": "v=DMARC1; p=reject; psd=y"}, "d.example",
     "mail.d.example"),
    ("psd=y at the start counts as its own", "d.example", {"d.example": "v=DMARC1; p=reject; psd=y"}, "d.example",
     "d.example"),
    ("a record that is none", "mail.d.example", {"d.example": "v=DMARC2; p=none"}, "d.example", "mail.d.example"),
]  # fmt: skip


@pytest.mark.parametrize(("what", "domain", "records", "by_list", "by_walk"), ORGANISATIONS, ids=lambda v: str(v)[:40])
def test_the_organisational_domain_both_ways(
    what: str, domain: str, records: dict[str, str], by_list: str, by_walk: str
) -> None:
    both = found(domain, records)
    assert (both.by_list.organisation, both.by_walk.organisation) == (by_list, by_walk)
    assert any("organisational" in words for words in both.differences) == (by_list != by_walk)


POLICIES = [
    # what, domain, exists, records, policy by list, policy by walk
    ("its own record", "d.example", True, {"d.example": "v=DMARC1; p=reject"}, "reject", "reject"),
    ("inherited", "m.d.example", True, {"d.example": "v=DMARC1; p=reject"}, "reject", "reject"),
    ("sp for a subdomain", "m.d.example", True, {"d.example": "v=DMARC1; p=reject; sp=none"}, "none", "none"),
    ("sp does not hold for itself", "d.example", True, {"d.example": "v=DMARC1; p=none; sp=reject"}, "none", "none"),
    ("np for one that does not exist", "m.d.example", False,
     {"d.example": "v=DMARC1; p=none; sp=quarantine; np=reject"}, "reject", "reject"),
    ("np does not hold for one that exists", "m.d.example", True,
     {"d.example": "v=DMARC1; p=none; sp=quarantine; np=reject"}, "quarantine", "quarantine"),
    ("sp where there is no np", "m.d.example", False, {"d.example": "v=DMARC1; p=none; sp=reject"}, "reject", "reject"),
    ("own record before the organisation's", "m.d.example", True,
     {"m.d.example": "v=DMARC1; p=none", "d.example": "v=DMARC1; p=reject"}, "none", "none"),
    ("only the walk looks in between", "a.m.d.example", True,
     {"m.d.example": "v=DMARC1; p=reject"}, None, "reject"),
    ("the walk takes the organisation, not the next", "a.m.d.example", True,
     {"m.d.example": "v=DMARC1; p=none", "d.example": "v=DMARC1; p=reject"}, "reject", "reject"),
    ("the public suffix's", "m.d.example", True, {"example": "v=DMARC1; p=reject; psd=y; sp=quarantine"}, None,
     "quarantine"),
    ("t=y is one step milder", "d.example", True, {"d.example": "v=DMARC1; p=reject; t=y"}, "reject", "quarantine"),
    ("p missing, rua there", "d.example", True, {"d.example": "v=DMARC1; rua=mailto:a@d.example"}, "none", "none"),
    ("p missing, nothing there", "d.example", True, {"d.example": "v=DMARC1; sp=reject"}, None, None),
    ("p wrong, rua there", "d.example", True, {"d.example": "v=DMARC1; p=block; rua=mailto:a@d.example"}, "none", "none"),
    ("sp wrong", "d.example", True, {"d.example": "v=DMARC1; p=reject; sp=x"}, None, None),
    ("no record", "d.example", True, {}, None, None),
]  # fmt: skip


@pytest.mark.parametrize(
    ("what", "domain", "exists", "records", "listed", "walked"), POLICIES, ids=[r[0] for r in POLICIES]
)
def test_the_effective_policy_both_ways(
    what: str, domain: str, exists: bool, records: dict[str, str], listed: str | None, walked: str | None
) -> None:
    both = found(domain, records, exists)
    assert both.exists is exists
    assert effective_policy(both.by_list, exists=exists).policy == listed
    assert effective_policy(both.by_walk, exists=exists).policy == walked
    assert bool(both.differences) == (listed != walked)


@pytest.mark.parametrize(
    ("record", "below", "absent"),
    [
        ("v=DMARC1; p=reject", "reject", "reject"),
        ("v=DMARC1; p=reject; sp=none", "none", "none"),
        ("v=DMARC1; p=none; sp=quarantine; np=reject", "quarantine", "reject"),
        ("v=DMARC1; p=none; np=reject", "none", "reject"),
        ("nothing", None, None),
    ],
)
def test_what_holds_for_a_subdomain_and_for_one_that_does_not_exist(
    record: str, below: str | None, absent: str | None
) -> None:
    for name in ("d.example", "news.d.example"):
        both = found(
            name, {"d.example": record, **({"news.d.example": "v=DMARC1; p=none"} if name != "d.example" else {})}
        )
        assert (below_policy(both.by_list, exists=True), below_policy(both.by_list, exists=False)) == (
            (below, absent) if name == "d.example" else (None, None)
        )
        if record != "nothing":
            assert below_policy(both.by_walk, exists=False) == absent


def test_two_records_count_as_none_and_end_the_search_by_list() -> None:
    world = {"_dmarc.m.d.example TXT": ["v=DMARC1; p=none", "v=DMARC1; p=reject"],
             "_dmarc.d.example TXT": ["v=DMARC1; p=reject"], "m.d.example A": ["192.0.2.1"]}  # fmt: skip
    both = drive(discover("m.d.example"), answering(world))
    assert both.by_list.record is None
    assert both.by_walk.at is not None
    assert both.by_walk.at.domain == "d.example"


def test_other_texts_beside_the_record_are_passed_over() -> None:
    world = {"_dmarc.d.example TXT": ["hello", "v=DMARC1; p=reject", "v=DMARC12; p=none"]}
    assert effective_policy(drive(discover("d.example"), answering(world)).by_list).policy == "reject"


def test_an_unanswered_question_is_no_missing_policy() -> None:
    both = found("m.d.example", {}, _dmarc__d__example=AnswerStatus.TIMEOUT)
    assert both.by_list.failed is not None
    assert both.by_walk.failed is not None


# Alignment

STRICT = "v=DMARC1; p=reject; adkim=s; aspf=s"
LOOSE = "v=DMARC1; p=quarantine; pct=40"
ALIGN = [
    # what, From, record, spf (domain, passed), dkim (domain, passed), result, disposition
    ("SPF exactly", "d.example", LOOSE, ("d.example", True), None, "pass", "deliver"),
    ("SPF below, relaxed", "d.example", LOOSE, ("bounce.d.example", True), None, "pass", "deliver"),
    ("SPF below, strict", "d.example", STRICT, ("bounce.d.example", True), None, "fail", "reject"),
    ("SPF elsewhere", "d.example", LOOSE, ("relay.example", True), None, "fail", "quarantine"),
    ("SPF aligned but failed", "d.example", LOOSE, ("d.example", False), None, "fail", "quarantine"),
    ("DKIM above, relaxed", "news.d.example", LOOSE, None, ("d.example", True), "pass", "deliver"),
    ("DKIM above, strict", "news.d.example", STRICT, None, ("d.example", True), "fail", "reject"),
    ("DKIM beside", "news.d.example", LOOSE, None, ("shop.d.example", True), "pass", "deliver"),
    ("one of both is enough", "d.example", STRICT, ("relay.example", True), ("d.example", True), "pass", "deliver"),
    ("DKIM failed", "d.example", LOOSE, None, ("d.example", False), "fail", "quarantine"),
    ("nothing proved", "d.example", LOOSE, None, None, "fail", "quarantine"),
    ("a name that only ends alike", "d.example", LOOSE, ("bad-d.example", True), None, "fail", "quarantine"),
    ("no policy", "other.example", LOOSE, ("relay.example", True), None, "none", "deliver"),
    ("no policy, but aligned", "other.example", LOOSE, ("other.example", True), None, "none", "deliver"),
    ("capitals and a last dot", "D.Example.", LOOSE, ("d.example", True), None, "pass", "deliver"),
]


@pytest.mark.parametrize("way", ["suffix-list", "tree-walk"])
@pytest.mark.parametrize("row", ALIGN, ids=[row[0] for row in ALIGN])
def test_what_aligns_and_what_would_happen(row: tuple, way: str) -> None:  # type: ignore[type-arg]
    _, header_from, record, spf, dkim, result, disposition = row
    identifiers = [Identifier("spf", *spf)] if spf else []
    identifiers += [Identifier("dkim", *dkim)] if dkim else []
    world = {"_dmarc.d.example TXT": [record], "d.example A": ["192.0.2.1"], "news.d.example A": ["192.0.2.1"]}
    outcome = drive(evaluate(header_from, identifiers, way=way), answering(world))
    assert (outcome.result, outcome.disposition) == (result, disposition), outcome.reason
    assert outcome.reason
    if disposition == "quarantine":
        assert outcome.share == (40 if way == "suffix-list" else 100)


def test_psd_n_keeps_two_clients_of_one_host_apart() -> None:
    """What the walk is for: names that share a domain without being one organisation."""
    world = {"_dmarc.a.host.example TXT": ["v=DMARC1; p=reject; psd=n"], "a.host.example A": ["192.0.2.1"],
             "_dmarc.b.host.example TXT": ["v=DMARC1; p=reject; psd=n"], "_dmarc.host.example TXT": ["v=DMARC1; p=none"]}  # fmt: skip
    identifiers = [Identifier("dkim", "b.host.example", True)]
    assert drive(evaluate("a.host.example", identifiers), answering(world)).result == "pass"
    assert drive(evaluate("a.host.example", identifiers, way="tree-walk"), answering(world)).result == "fail"
    assert drive(organisational_domain("x.b.host.example"), answering(world)) == "b.host.example"


# The record

READ = [
    ("v=DMARC1;p=reject;np=quarantine;psd=n;t=y", {"policy": "reject", "absent_policy": "quarantine", "suffix": "n",
                                                    "testing": True}),
    ("v=DMARC1; p=Quarantine ; adkim=s;aspf=r; fo=1:d; ri=3600;", {"policy": "quarantine", "strict_dkim": True,
     "strict_spf": False, "failure_options": ("1", "d"), "interval": 3600}),
    ("v = DMARC1 ; p=none", {"policy": "none", "percent": 100, "interval": 86400, "suffix": "u"}),
]  # fmt: skip


@pytest.mark.parametrize(("text", "values"), READ)
def test_every_tag_is_read(text: str, values: dict[str, object]) -> None:
    record = read_policy(text)
    assert not record.problems
    assert {name: getattr(record, name) for name in values} == values


WRONG = [
    ("v=DMARC1; p=none; rau=mailto:a@d.example", 19, "written rua"),
    ("v=DMARC1\\; p=none", 9, "backslash"),
    ("v=DMARC1; p=none; rua=a@d.example", 23, "mailto: is missing"),
    ("v=DMARC1; p=none; rua=mailto:a@d.example;b@d.example", 42, "not a tag"),
    ("v=DMARC1; p=none; P=reject", 19, "written p"),
    ("v=DMARC1; p=none, rua=mailto:a@d.example", 13, "p= is"),
    ("v=DMARC1; rua=mailto:a@d.example; p=none", 35, "must follow v=DMARC1 directly"),
    ('v=DMARC1; p=none"', 17, "quote"),
    ("v=DMARC1 p=none", 1, "version"),
]


@pytest.mark.parametrize(("text", "column", "words"), [row for row in WRONG if is_dmarc1(row[0]) or "\\" in row[0]])
def test_a_mistake_is_named_with_its_column(text: str, column: int, words: str) -> None:
    problems = read_policy(text).problems
    assert any(p.column == column and words in p.what for p in problems), problems


def test_an_unknown_tag_breaks_nothing() -> None:
    record = read_policy("v=DMARC1; p=none; zz=1")
    assert record.problems == ()
    assert record.unknown[0].column == 19


@given(st.text(max_size=300))
def test_any_text_can_be_read(text: str) -> None:
    record = read_policy("v=DMARC1;" + text)
    assert record.policy in (None, "none", "quarantine", "reject")
    assert all(problem.column >= 1 for problem in record.problems)


# Reports to somebody else (RFC 7489 §7.1)


@pytest.mark.parametrize(
    ("address", "external", "agreed", "takes_mail"),
    [
        ("a@d.example", False, True, True),
        ("a@sub.d.example", False, True, False),
        ("a@reports.example", True, True, True),
        ("a@anybody.example", True, True, True),
        ("a@silent.example", True, False, False),
        ("a@wrong.example", True, False, True),
        ("a@away.example", True, None, None),
    ],
)
def test_an_external_destination_has_to_agree(
    address: str, external: bool, agreed: bool | None, takes_mail: bool | None
) -> None:
    world = {
        "d.example MX": ["10 mx.d.example."],
        "reports.example MX": ["10 mx.reports.example."],
        "d.example._report._dmarc.reports.example TXT": ["v=DMARC1"],
        "anybody.example A": ["192.0.2.1"],
        "d.example._report._dmarc.anybody.example TXT": ["v=DMARC1; rua=mailto:other@anybody.example"],
        "wrong.example MX": ["10 mx.wrong.example."],
        "d.example._report._dmarc.wrong.example TXT": ["yes"],
    }
    fails = {"away.example": AnswerStatus.TIMEOUT, "d.example._report._dmarc.away.example": AnswerStatus.TIMEOUT}
    done = drive(check_destination("d.example", "rua", address), answering(world, fails))
    assert (done.external, done.agreed, done.takes_mail) == (external, agreed, takes_mail)
