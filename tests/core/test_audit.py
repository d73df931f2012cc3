"""The audit: which findings a domain's records lead to. One table, a row a mistake."""

import pytest

from rust_gauge.core.audit import AuditRequest, DomainAudit, Level, audit_domain
from rust_gauge.core.dns import AnswerStatus, drive
from tests.answers import answering
from tests.core.test_tag_lists import RSA_1024, RSA_2048

RIGHT = {
    "d.example TXT": ["v=spf1 ip4:192.0.2.0/24 -all"],
    "d.example MX": ["10 mx.d.example."],
    "s1._domainkey.d.example TXT": [f"v=DKIM1; k=rsa; p={RSA_2048}"],
    "_dmarc.d.example TXT": ["v=DMARC1; p=reject; rua=mailto:r@d.example"],
}


def audit(changes: dict[str, list[str] | None], domain: str = "d.example", **failing: AnswerStatus) -> DomainAudit:
    world = {name: values for name, values in {**RIGHT, **changes}.items() if values is not None}
    fails = {name.replace("__", "."): status for name, status in failing.items()}
    return drive(audit_domain(AuditRequest(domain, ("s1",))), answering(world, fails))


def test_a_domain_that_is_right_has_no_finding() -> None:
    result = audit({})
    assert result.findings == ()
    assert [record.purpose for record in result.records] == ["spf", "dkim", "dmarc", "mx"]


SPF, KEY, DMARC = "d.example TXT", "s1._domainkey.d.example TXT", "_dmarc.d.example TXT"
TEN = "v=spf1 " + " ".join(f"exists:e{n}.example" for n in range(10))
CASES = [
    ({SPF: None}, "spf-missing", Level.FAULT),
    ({SPF: ["v=spf 1 -all"]}, "spf-missing", Level.FAULT),
    ({SPF: ["v=spf1 -all", "v=spf1 a -all"]}, "spf-several-records", Level.FAULT),
    ({SPF: ["v=spf1 ipv4:192.0.2.1 -all"]}, "spf-syntax", Level.FAULT),
    ({SPF: ["v=spf1 +all"]}, "spf-everyone", Level.FAULT),
    ({SPF: ["v=spf1 all"]}, "spf-everyone", Level.FAULT),
    ({SPF: ["v=spf1 ?all"]}, "spf-neutral", Level.RISK),
    ({SPF: ["v=spf1 ip4:192.0.2.1"]}, "spf-no-all", Level.RISK),
    ({SPF: ["v=spf1 -all ip4:192.0.2.1"]}, "spf-after-all", Level.RISK),
    ({SPF: ["v=spf1 ptr -all"]}, "spf-ptr", Level.RISK),
    ({SPF: [TEN + " exists:e10.example -all"]}, "spf-too-many-lookups", Level.FAULT),
    ({SPF: [TEN + " -all"]}, "spf-lookups-close", Level.RISK),
    ({SPF: ["v=spf1 a:x.example a:y.example a:z.example -all"]}, "spf-void-lookups", Level.FAULT),
    ({SPF: ["v=spf1 include:gone.example -all"]}, "spf-include-broken", Level.FAULT),
    ({KEY: None}, "dkim-no-key", Level.FAULT),
    ({KEY: ["something else"]}, "dkim-no-key", Level.FAULT),
    ({KEY: [f"p={RSA_2048}", f"p={RSA_2048}"]}, "dkim-several-keys", Level.FAULT),
    ({KEY: [f'v=DKIM1; p="{RSA_2048}"']}, "dkim-key-unreadable", Level.FAULT),
    ({KEY: [f"v=DKIM1; p={RSA_1024}"]}, "dkim-key-short", Level.RISK),
    ({KEY: ["v=DKIM1; p="]}, "dkim-key-revoked", Level.NOTE),
    ({KEY: [f"v=DKIM1; t=y; p={RSA_2048}"]}, "dkim-testing", Level.RISK),
    ({DMARC: None}, "dmarc-missing", Level.RISK),
    ({DMARC: ["v=DMARC1; p=reject; rua=mailto:a@d.example", "v=DMARC1; p=reject; rua=mailto:a@d.example"]},
     "dmarc-several-records", Level.FAULT),
    ({DMARC: ["v=DMARC1; p=reject; pct=7x; rua=mailto:r@d.example"]}, "dmarc-syntax", Level.FAULT),
    ({DMARC: ["v=DMARC1; p=none; rua=mailto:r@d.example"]}, "dmarc-only-watching", Level.RISK),
    ({DMARC: ["v=DMARC1; p=reject"]}, "dmarc-no-reports", Level.NOTE),
    ({DMARC: ["v=DMARC1; p=reject; sp=none; rua=mailto:r@d.example"]}, "dmarc-subdomains-open", Level.RISK),
    ({"d.example MX": None}, "mx-missing", Level.NOTE),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "rule", "level"), CASES, ids=[f"{row[1]}-{i}" for i, row in enumerate(CASES)])
def test_each_mistake_is_one_finding_with_all_that_a_person_needs(
    changes: dict[str, list[str] | None], rule: str, level: Level
) -> None:
    (finding,) = audit(changes).findings
    assert (finding.rule, finding.level) == (rule, level)
    assert finding.title
    assert finding.reason
    assert finding.remedy
    assert finding.reference.startswith("RFC ")


def test_several_mistakes_are_all_found_and_the_worst_comes_first() -> None:
    result = audit({SPF: ["v=spf1 a -all", "v=spf1 ?all"], KEY: [f"t=y; p={RSA_1024}"], DMARC: None})
    assert [finding.rule for finding in result.findings] == [
        "spf-several-records",
        "spf-neutral",
        "dkim-key-short",
        "dkim-testing",
        "dmarc-missing",
    ]
    assert len({finding.id for finding in result.findings}) == 5


@pytest.mark.parametrize(
    ("records", "merged"),
    [
        (
            ["v=spf1 ip4:192.0.2.40/29 ~all", "v=spf1 include:spf.cobble.example ~all"],
            "v=spf1 ip4:192.0.2.40/29 include:spf.cobble.example ~all",
        ),
        (["v=spf1 a -all", "v=spf1 a mx ?all"], "v=spf1 a mx ?all"),
        (["v=spf1 a -all", "v=spf1 mx +all"], "v=spf1 a mx -all"),
        (["v=spf1 a", "v=spf1 mx"], "v=spf1 a mx ~all"),
        (["v=spf1 a -all", "v=spf1 ipv4:192.0.2.1 -all"], None),
    ],
)
def test_two_records_are_merged_into_the_one_to_publish(records: list[str], merged: str | None) -> None:
    finding = next(f for f in audit({SPF: records}).findings if f.rule == "spf-several-records")
    assert finding.record == merged


def test_a_server_that_does_not_answer_is_said_so_and_spoils_nothing_else() -> None:
    result = audit({DMARC: None}, d__example=AnswerStatus.TIMEOUT)
    assert sorted(f.rule for f in result.findings) == ["dmarc-missing", "dns-no-answer", "dns-no-answer"]
    assert len({f.id for f in result.findings}) == 3


def test_a_subdomain_inherits_the_policy_of_its_organisation() -> None:
    world = {
        "news.d.example TXT": ["v=spf1 -all"],
        "news.d.example MX": ["10 mx.d.example."],
        "s1._domainkey.news.d.example TXT": [f"p={RSA_2048}"],
    }
    assert audit(world, "news.d.example").findings == ()
    weak = {**world, DMARC: ["v=DMARC1; p=reject; sp=none; rua=mailto:r@d.example"]}
    (finding,) = audit(weak, "news.d.example").findings
    assert (finding.rule, finding.place.name, finding.place.column) == ("dmarc-only-watching", "_dmarc.d.example", 21)


def test_a_finding_marks_the_wrong_characters() -> None:
    key = f'v=DKIM1; k=rsa; p={RSA_2048[:20]}\\"{RSA_2048[20:]}'
    (finding,) = audit({KEY: [key]}).findings
    place = finding.place
    assert key[place.column - 1 : place.column - 1 + place.length] == '\\"'


def test_every_question_is_asked_once() -> None:
    asked = [question for question, _ in audit({SPF: ["v=spf1 mx include:d.example -all"]}).questions]
    assert len(asked) == len(set(asked))
