"""Domains and audits over the real stand-in DNS: API, client, command line say the same."""

import pytest

from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.standins.dns_world import Behaviour
from tests.conftest import Office
from tests.core.test_tag_lists import RSA_2048


def zone(office: Office, text: str) -> str:
    name = f"{office.slug}.example"
    office.world.zone(name, text)
    return name


def test_a_domain_is_added_listed_and_forgotten(office: Office, client: Client) -> None:
    added = client.domains.add(office.slug, "News.BÜCHER.example.", selectors=["D1", "d1", "d2"])
    assert (added.name, added.selectors, added.origin) == ("news.xn--bcher-kva.example", ["d1", "d2"], "added")
    with pytest.raises(AlreadyThereError):
        client.domains.add(office.slug, "news.bücher.example")
    assert [domain.name for domain in client.domains.list(office.slug)] == [added.name]
    client.domains.delete(office.slug, added.name)
    assert client.domains.get(office.slug, added.name).origin == "seen"
    assert client.domains.add(office.slug, added.name).origin == "added"


@pytest.mark.parametrize("name", ["", "nodot", "a b.example", "192.0.2.1", "x" * 900])
def test_a_name_that_is_no_domain_is_refused(office: Office, client: Client, name: str) -> None:
    with pytest.raises(InvalidInputError) as caught:
        client.domains.add(office.slug, name)
    assert caught.value.problem.status == 422


def test_a_selector_that_is_none_is_refused(office: Office, client: Client) -> None:
    import httpx

    response = httpx.post(
        f"{office.world.url}/api/v1/tenants/{office.slug}/domains",
        json={"name": "a.example", "selectors": ["a b"]},
        headers={"Authorization": f"Bearer {office.token}"},
    )
    assert (response.status_code, response.json()["errors"][0]["field"]) == (422, "selectors.0")


def test_the_list_comes_in_pages(office: Office, client: Client) -> None:
    names = sorted(f"d{n}.example" for n in range(130))
    for name in names:
        client.domains.add(office.slug, name)
    assert [domain.name for domain in client.domains.list(office.slug)] == names


def test_two_spf_records_are_a_fault_with_the_merged_record(office: Office, client: Client) -> None:
    relay = f"spf.{office.slug}.example"
    name = zone(
        office,
        f'@ IN TXT "v=spf1 ip4:192.0.2.40/29 ~all"\n@ IN TXT "v=spf1 include:{relay} ~all"\n'
        'spf IN TXT "v=spf1 ip4:198.51.100.1 -all"\n',
    )
    assert relay.endswith(name)
    client.domains.add(office.slug, name)
    audit = client.audits.run(office.slug, name)
    fault = next(finding for finding in audit.findings if finding.rule == "spf-several-records")
    assert fault.level == "fault"
    assert fault.record is not None
    assert sorted(fault.record.split()) == sorted(["v=spf1", "ip4:192.0.2.40/29", f"include:{relay}", "~all"])
    assert client.audits.newest(office.slug, name) == audit
    assert client.domains.get(office.slug, name).last_audit is not None


def test_a_change_shows_in_the_next_audit_at_once(office: Office, client: Client) -> None:
    name = zone(office, '@ IN TXT "v=spf1 +all"\n')
    client.domains.add(office.slug, name)
    first = client.audits.run(office.slug, name)
    right = f'@ IN NS ns2.\n@ IN MX 10 mx\nmx IN A 192.0.2.5\n_dmarc IN TXT "v=DMARC1; p=reject; rua=mailto:a@{name}"\n'
    zone(office, '@ IN TXT "v=spf1 -all"\n' + right)
    second = client.audits.run(office.slug, name)
    assert "spf-everyone" in {finding.rule for finding in first.findings}
    assert {finding.rule for finding in second.findings} <= {"dns-lame-server"}  # the stand-in knows no ns.
    assert [audit.id for audit in client.audits.list(office.slug, name)] == [second.id, first.id]
    assert client.audits.get(office.slug, name, first.id) == first


def test_a_key_longer_than_one_string_and_than_one_udp_answer_is_read_whole(office: Office, client: Client) -> None:
    value = f"v=DKIM1; k=rsa; n={'long ' * 150}; p={RSA_2048}"
    parts = " ".join(f'"{value[start : start + 255]}"' for start in range(0, len(value), 255))
    name = zone(office, f"big._domainkey IN TXT ( {parts.replace(';', chr(92) + ';')} )\n")
    client.domains.add(office.slug, name, selectors=["big"])
    audit = client.audits.run(office.slug, name)
    (record,) = [record for record in audit.records if record.purpose == "dkim"]
    assert record.values == [value]


@pytest.mark.parametrize("fail", ["servfail", "refused", "silent"])
def test_a_server_that_fails_is_said_to_fail(office: Office, client: Client, fail: str) -> None:
    name = zone(office, '@ IN TXT "v=spf1 -all"\n')
    office.world.dns.behave(name, Behaviour(fail=fail))
    client.domains.add(office.slug, name)
    audit = client.audits.run(office.slug, name)
    assert {finding.rule for finding in audit.findings} == {"dns-no-answer"}
    assert all(record.status in ("servfail", "refused", "timeout") for record in audit.records)


def test_what_was_never_audited_or_added_is_not_found(office: Office, client: Client) -> None:
    client.domains.add(office.slug, "d.example")
    with pytest.raises(NotFoundError, match="not been audited yet"):
        client.audits.newest(office.slug, "d.example")
    with pytest.raises(NotFoundError, match="no audit 999"):
        client.audits.get(office.slug, "d.example", 999)
    with pytest.raises(NotFoundError, match=r"no domain other\.example"):
        client.audits.run(office.slug, "other.example")
