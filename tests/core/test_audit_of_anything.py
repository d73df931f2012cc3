"""Whatever a zone holds, an audit ends, says where, and never fails with an exception."""

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rust_gauge.core.audit import AuditRequest, DomainAudit, audit_domain
from rust_gauge.core.audit.findings import Level
from rust_gauge.core.dmarc import is_dmarc1, read_policy
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsQuestion, drive
from rust_gauge.core.spf import SpfResult, check_host
from tests.answers import answering

WORDS = st.sampled_from(
    ["v=spf1", "v=DKIM1;", "v=DMARC1;", "p=none", "p=", "k=rsa;", "t=y;", "-all", "+all", "include:d.example",
     "redirect=d.example", "mx", "a:x.example", "exists:%{i}.d.example", "ip4:192.0.2.1/99", "rua=mailto:a@b.example",
     "sp=none;", "pct=500;", "MIGfMA0", "\\", '"', ";", "%{", "é", " "]
)  # fmt: skip
RECORDS = st.lists(st.lists(WORDS, max_size=12).map(" ".join) | st.text(st.characters(codec="ascii"), max_size=80),
                   max_size=3)  # fmt: skip
STATUSES = st.sampled_from([status for status in AnswerStatus if status.failed])
NAMES = ["d.example TXT", "_dmarc.d.example TXT", "s1._domainkey.d.example TXT", "x.example TXT"]


def audited(records: dict[str, list[str]], failing: dict[str, AnswerStatus]) -> DomainAudit:
    world = {name: values for name, values in records.items() if values}
    return drive(audit_domain(AuditRequest("d.example", ("s1",))), answering(world, failing))


@settings(suppress_health_check=[HealthCheck.too_slow], deadline=None, max_examples=150)
@given(
    st.fixed_dictionaries(dict.fromkeys(NAMES, RECORDS)),
    st.dictionaries(st.sampled_from(["_dmarc.d.example", "x.example", "d.example"]), STATUSES, max_size=1),
)
def test_an_audit_of_anything_ends_with_findings_that_point_into_their_records(
    records: dict[str, list[str]], failing: dict[str, AnswerStatus]
) -> None:
    result = audited(records, failing)
    assert len({finding.id for finding in result.findings}) == len(result.findings)
    for finding in result.findings:
        assert finding.title
        assert finding.remedy
        assert finding.reference
        place = finding.place
        if place.column:
            shown = next(r for r in result.records if (r.name, r.rdtype) == (place.name, place.rdtype))
            assert place.column <= len(max(shown.values, key=len)) + 1
    ranks = [finding.level.rank for finding in result.findings]
    assert ranks == sorted(ranks)


def test_a_record_of_64_kilobytes_is_read_in_one_go() -> None:
    long = "v=spf1 " + "ip4:192.0.2.1 " * 4500 + "-all"
    assert {f.rule for f in audited({"d.example TXT": [long]}, {}).findings} >= {"dmarc-missing"}
    broken = "v=DMARC1; " + "x" * 60_000
    assert "dmarc-syntax" in {f.rule for f in audited({"_dmarc.d.example TXT": [broken]}, {}).findings}


def test_an_audit_asks_few_rounds_because_it_asks_side_by_side() -> None:
    rounds: dict[int, int] = {}
    table = answering({"d.example TXT": ["v=spf1 include:a.example -all"], "a.example TXT": ["v=spf1 -all"]})

    def counted(questions: tuple[DnsQuestion, ...]) -> tuple[DnsAnswer, ...]:
        rounds[count] = rounds.get(count, 0) + 1
        return table(questions)

    for count in (1, 30):
        selectors = tuple(f"s{n}" for n in range(count))
        drive(audit_domain(AuditRequest("d.example", selectors)), counted)
    assert rounds[1] == rounds[30] < 8


TERMS = st.sampled_from(
    ["ip4:192.0.2.1", "ip4:0.0.0.0/1", "ip4:128.0.0.0/1", "a", "mx", "a:none.example", "exists:gone.example", "include:x.example",
     "include:d.example", "include:none.example", "ptr", "all", "?all", "~all", "-all", "redirect=x.example", "redirect=none.example",
     "+all", "exists:%{o}.x.example", "a:x.example"]
)  # fmt: skip
SPF_RECORDS = st.lists(TERMS, max_size=6).map(lambda terms: " ".join(["v=spf1", *terms]))


@settings(deadline=None, max_examples=200)
@given(SPF_RECORDS, SPF_RECORDS)
def test_the_audit_agrees_with_evaluation(record: str, other: str) -> None:
    """Where evaluation gives an error, there is a fault; where strangers pass, the record is open; never the reverse."""
    world = {
        "d.example TXT": [record],
        "x.example TXT": [other],
        "x.example A": ["192.0.2.9"],
        "d.example A": ["192.0.2.8"],
    }
    table = answering(world)
    results = {
        ip: drive(check_host(ip, "d.example", "a@d.example", "h.example"), table).result
        for ip in ("57.88.3.2", "203.99.1.7", "2a0f:ffc1:5e1f::9")
    }
    rules = {
        finding.rule: finding.level for finding in audited(world, {}).findings if finding.place.name == "d.example"
    }
    spf = {rule for rule in rules if rule.startswith("spf-")}
    if SpfResult.PERMERROR in results.values():
        assert any(rules[rule] is Level.FAULT for rule in spf), (record, other, rules)
    everybody = all(results[ip] is SpfResult.PASS for ip in ("57.88.3.2", "203.99.1.7"))
    if "spf-everyone" in spf and SpfResult.PERMERROR not in results.values():
        assert everybody or "all" in record, (record, other, results)
    if everybody:
        assert "spf-everyone" in spf or any(rules[rule] is Level.FAULT for rule in spf), (record, other, rules)
    if all(results[ip] in (SpfResult.FAIL, SpfResult.SOFTFAIL) for ip in results):
        assert not spf & {"spf-everyone", "spf-neutral", "spf-no-all", "spf-evaluation-error"}, (record, other, rules)


BROKEN_TERMS = st.sampled_from(
    ["ip4:192.0.2.1", "-ip4:192.0.2.1", "ip4:192.0.2.0/24", "~ip4:192.0.2.0/28", "ip4:0.0.0.0/0", "ip4:128.0.0.0/1", "a", "a/0",
     "-a:x.example", "mx", "a:none.example", "a:nine.example", "exists:gone.example", "include:x.example", "?include:x.example",
     "include:d.example", "include:none.example", "include:broken.example", "include:open.example", "all", "?all", "~all", "-all",
     "redirect=x.example", "redirect=none.example", "exp=e.example", "exp=f.example", "ip4:192.0.2.300", "ipv4:192.0.2.2",
     "include=x.example", "include: x.example", "ip6:2001:db8::1", "a:x.example", "mx:none.example", "foo", "ptr"]
)  # fmt: skip
BROKEN = st.lists(
    st.lists(BROKEN_TERMS, max_size=7).map(lambda terms: " ".join(["v=spf1", *terms])), min_size=1, max_size=2
)
SENDERS = (
    "192.0.2.1",
    "192.0.2.2",
    "192.0.2.5",
    "192.0.2.9",
    "192.0.2.77",
    "198.51.100.3",
    "2001:db8::1",
    "2001:db8::9",
    "57.88.3.2",
)


@settings(deadline=None, max_examples=300, suppress_health_check=[HealthCheck.too_slow])
@given(BROKEN)
def test_an_offered_record_has_no_fault_and_lets_the_same_senders_pass(published: list[str]) -> None:
    others = {
        "x.example TXT": ["v=spf1 ip4:198.51.100.3 -all"], "broken.example TXT": ["v=spf1 ip4:nine -all"],
        "open.example TXT": ["v=spf1 +all"], "x.example A": ["192.0.2.9"], "d.example A": ["192.0.2.5"],
        "nine.example A": ["192.0.2.77"], "e.example TXT": ["not us"], "d.example MX": ["10 mx.d.example."],
        "mx.d.example A": ["192.0.2.2"], "_dmarc.d.example TXT": ["v=DMARC1; p=none; rua=mailto:r@d.example"],
    }  # fmt: skip
    before = audited({**others, "d.example TXT": published}, {})
    offers = {f.record: f for f in before.findings if f.check == "spf" and f.record}
    assert len(offers) <= 1, "one corrected record for a published one"
    for record, finding in offers.items():
        after = audited({**others, "d.example TXT": [record]}, {})
        rules = {f.rule for f in after.findings if f.check == "spf"}
        assert not any(f.level is Level.FAULT for f in after.findings if f.check == "spf"), (published, record, rules)
        assert not rules & {f.rule for f in before.findings if f.record}, (published, record, rules)
        for term in " ".join(published).split():
            if term[0] in "-?~" and term[1:] != "all" and term not in record.split():
                assert term in finding.remedy, (published, record, finding.remedy)
        for ip in SENDERS:
            then, now = (
                drive(
                    check_host(ip, "d.example", "a@d.example", "h.example"),
                    answering({**others, "d.example TXT": texts}),
                )
                for texts in (published, [record])
            )
            if then.result is SpfResult.PASS and "all" not in then.term:
                assert now.result is SpfResult.PASS or then.term in finding.remedy, (published, record, ip, then, now)
            denied = then.result in (SpfResult.FAIL, SpfResult.SOFTFAIL, SpfResult.NEUTRAL) and "all" not in then.term
            if denied and then.term and "include=" not in "".join(published):
                assert now.result is not SpfResult.PASS, (published, record, ip)


DMARC_PIECES = st.sampled_from(
    ["v=DMARC1", "V=dmarc1", "p=none", "p=reject", "p=rejct", "p=", "sp=none", "sp=quarantine", "np=none", "np=x", "pct=50", "pct=500",
     "pct=20%", "adkim=s", "adkim=strict", "aspf=x", "fo=1", "fo=x", "ri=1d", "rua=mailto:r@d.example", "rua=r@d.example",
     "rua=mailto:a b@d.example", "rua=mailto:r@d.example!10m,mailto:s@d.example", "rua=https://d.example", "ruf=mailto:f@d.example!9zz",
     "rau=mailto:r@d.example", "psd=y", "t=y", "t=maybe", "zz=1", "junk", "", "\\n", "\n", '"']
)  # fmt: skip
DMARC_TEXTS = st.lists(
    st.tuples(st.sampled_from(["v=DMARC1; ", "v=DMARC1 ", "v=DMARC1, ", ""]), st.lists(DMARC_PIECES, min_size=1, max_size=6))
    .map(lambda pair: pair[0] + "; ".join(pair[1])), min_size=1, max_size=2,
)  # fmt: skip


POLICY = "dmarc"  # the requirement of the check-list


@settings(deadline=None, max_examples=300, suppress_health_check=[HealthCheck.too_slow])
@given(DMARC_TEXTS)
def test_an_offered_policy_has_no_fault_and_asks_for_no_more(published: list[str]) -> None:
    others = {"d.example TXT": ["v=spf1 -all"], "d.example MX": ["10 mx.d.example."], "mx.d.example A": ["192.0.2.5"]}
    before = audited({**others, "_dmarc.d.example TXT": published}, {})
    offers = {f.record: f for f in before.findings if f.check == POLICY and f.record}
    assert len(offers) <= 1, "one corrected record for a published one"
    for record, finding in offers.items():
        after = audited({**others, "_dmarc.d.example TXT": [record]}, {})
        assert not any(f.level is Level.FAULT for f in after.findings if f.check == POLICY), (published, record)
        rules = {f.rule for f in after.findings}
        assert not rules & {f.rule for f in before.findings if f.check == POLICY and f.record}, (published, record)
        asked = read_policy(record)
        recognised = [text for text in published if is_dmarc1(text)] or published
        words = " ".join(recognised)
        assert asked.policy == "none" or "p=rej" in words, (published, record)
        if len(recognised) == 1 and is_dmarc1(recognised[0]) and read_policy(recognised[0]).policy == "reject":
            assert asked.policy == "reject" or "p=none" in words, (published, record)
        for address in ("r@d.example", "s@d.example"):
            if f"mailto:{address}" in words and "\n" not in words:
                assert address in asked.rua or address in finding.remedy or "rau" in words, (published, record)
