"""Assays at the service: DNS is asked for the tenant, nothing is stored, and what is not a message is refused."""

import pytest

from rust_gauge.client import Client, InvalidInputError
from rust_gauge.contract.assays import AssaySettings, OwnAssayRule, RuleAdjustment
from tests.conftest import Office
from tests.service.test_readings import DOMAIN, load_a_day
from tests.vectors.assay_messages import APPLIES, message


def test_a_message_is_examined_with_its_authentication(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, '@ IN TXT "v=spf1 ip4:192.0.2.9 -all"\n_dmarc IN TXT "v=DMARC1; p=reject"\n')
    raw = message({"From": f"Theatre <a@{name}>"})
    done = client.assays.examine(office.slug, raw, ip="192.0.2.9", mail_from=f"b@{name}")
    rules = {finding.rule for finding in done.findings}
    assert {"dkim-missing", "dmarc-fail", "spf-fail"} & rules == {"dkim-missing"}
    assert done.authentication is not None
    assert [outcome.result for outcome in done.authentication.dmarc] == ["pass", "pass"]
    assert done.not_checked == ["Blocklists: none are configured"]
    forged = client.assays.examine(office.slug, raw, ip="198.51.100.1", mail_from=f"b@{name}")
    assert {"dmarc-fail", "spf-fail"} <= {finding.rule for finding in forged.findings}
    assert forged.mark < done.mark
    assert [part.type for part in done.parts] == ["multipart/alternative", "text/plain", "text/html"]
    assert (
        next(field for field in done.fields if field.name == "Subject").meaning
        == "What people see first (RFC 5322 §3.6.5)"
    )


def test_places_and_points_come_through(office: Office, client: Client) -> None:
    done = client.assays.examine(office.slug, APPLIES["html-script"]())
    finding = next(finding for finding in done.findings if finding.rule == "html-script")
    assert (finding.level, finding.places[0].where, finding.places[0].text) == ("fault", "part", "<script>")
    assert round(done.mark + sum(each.points for each in done.findings), 1) == 100


@pytest.mark.parametrize(("raw", "ip", "why"), [(b"\r\n", "", "no header"), (message(), "192.0.2.300", "192.0.2.300")])
def test_what_cannot_be_examined_is_refused(office: Office, client: Client, raw: bytes, ip: str, why: str) -> None:
    with pytest.raises(InvalidInputError, match=why):
        client.assays.examine(office.slug, raw, ip=ip)


def test_a_tenant_adjusts_rules_and_words(office: Office, client: Client) -> None:
    shouting = message({"Subject": "HALF PRICE TICKETS"})
    before = client.assays.examine(office.slug, shouting)
    rule = next(each for each in before.findings if each.rule == "subject-shouts")
    adjusted = {"subject-shouts": RuleAdjustment(level="fault", points=20), "dkim-missing": RuleAdjustment(off=True)}
    client.assays.set_settings(office.slug, AssaySettings(rules=adjusted, words_added=["half price"]))
    after = client.assays.examine(office.slug, shouting)
    found = {each.rule: each for each in after.findings}
    assert (found["subject-shouts"].level, found["subject-shouts"].points) == ("fault", 20)
    assert rule.points < 20
    assert "weak-words" in found
    assert "dkim-missing" not in found
    assert round(after.mark + sum(each.points for each in after.findings), 1) == 100
    listed = {each.rule: each for each in client.assays.rules(office.slug)}
    assert (listed["subject-shouts"].points, listed["subject-shouts"].shipped_points) == (20, rule.points)
    assert listed["dkim-missing"].off
    with pytest.raises(InvalidInputError, match="no-such-rule"):
        client.assays.set_settings(office.slug, AssaySettings(rules={"no-such-rule": RuleAdjustment()}))


def test_the_senders_own_history_counts(office: Office, client: Client) -> None:
    raw = message({"From": "Theatre <a@d.example>"})
    assert client.assays.examine(office.slug, raw).sender is None, "nothing is known of any sender"
    load_a_day(office, client)
    office.world.work()
    done = client.assays.examine(office.slug, raw.replace(b"@d.example", f"@{DOMAIN}".encode()), ip="192.0.2.250")
    assert done.sender is not None
    assert done.sender.domain_since is not None
    assert done.sender.ip_since is None
    assert {each.provider for each in done.sender.readings} >= {"tidepost.example"}
    assert "sender-unknown" in {each.rule for each in done.findings}


def test_a_tenant_has_rules_of_its_own(office: Office, client: Client) -> None:
    settings = AssaySettings(
        own_rules=[
            OwnAssayRule(rule="own-discount", where="subject", pattern=r"\d+ ?% off", points=5, title="A discount {x}"),
            OwnAssayRule(
                rule="own-imprint", where="text", pattern="imprint", absent=True, points=2, title="No imprint"
            ),
            OwnAssayRule(
                rule="own-mailer", where="header", header="X-Mailer", pattern="old", points=1, title="Old mailer"
            ),
            OwnAssayRule(rule="own-slow", where="text", pattern="(a+)+$", points=1, title="Slow"),
        ]
    )
    client.assays.set_settings(office.slug, settings)
    raw = message({"Subject": "20 % off", "X-Mailer": "old one"}, text="a" * 5000 + "!", html=None)
    done = client.assays.examine(office.slug, raw)
    own = {each.rule: (each.title, each.points) for each in done.findings if each.group == "own"}
    assert own == {
        "own-discount": ("A discount {x}", 5), "own-imprint": ("No imprint", 2), "own-mailer": ("Old mailer", 1),
    }  # fmt: skip
    assert round(done.mark + sum(each.points for each in done.findings), 1) == 100
    assert {each.rule for each in client.assays.rules(office.slug)} >= {"own-discount", "own-slow"}


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"pattern": "(a{500}){500}"}, "characters long"),
        ({"pattern": "(("}, "not valid"),
        ({"where": "header"}, "names no header field"),
    ],
)
def test_own_rules_that_cannot_work_are_refused(
    office: Office, client: Client, change: dict[str, str], why: str
) -> None:
    given = {"rule": "own-a", "where": "text", "pattern": "a", "points": 1, "title": "A", **change}
    with pytest.raises(InvalidInputError, match=why):
        client.assays.set_settings(office.slug, AssaySettings(own_rules=[OwnAssayRule.model_validate(given)]))
