"""Assays at the service: DNS is asked for the tenant, nothing is stored, and what is not a message is refused."""

import pytest

from rust_gauge.client import Client, InvalidInputError
from tests.conftest import Office
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
