"""Audits without a service: from zone files, from recordings, over resolvers; and that all of them say the same."""

import json
from pathlib import Path

import pytest

from rust_gauge.core.dns import AnswerStatus, DnsQuestion
from rust_gauge.core.dns.held import ZoneFileError, answers_from_recording, answers_from_zones, read_zone
from rust_gauge.core.errors import InputError
from rust_gauge.demo.zones import SELECTORS, write_zones
from rust_gauge.offline import SourceError, audit_locally, from_recording, from_resolvers, from_zone_files
from tests.conftest import World

ZONE = """$ORIGIN d.example.
$TTL 600
@   IN SOA ns1 hostmaster (
        1 3600 600
        86400 60 )
    IN NS ns1
    IN NS ns2
    IN MX 10 mx
    IN TXT "v=spf1 mx include:outside.example -all"
mx  300 IN A 192.0.2.25
s1._domainkey IN CNAME key.d.example.
key IN TXT "v=DKIM1; p="
_dmarc IN TXT "v=DMARC1; p=reject; rua=mailto:r@d.example"
*.wild IN TXT "hello"
a.b.deep IN A 192.0.2.1
"""


def ask(name: str, rdtype: str, text: str = ZONE):  # type: ignore[no-untyped-def]
    (answer,) = answers_from_zones([read_zone(text)])((DnsQuestion(name, rdtype),))
    return answer


@pytest.mark.parametrize(
    ("name", "rdtype", "status"),
    [
        ("d.example", "TXT", AnswerStatus.FOUND),
        ("d.example", "AAAA", AnswerStatus.NO_DATA),
        ("gone.d.example", "A", AnswerStatus.NO_NAME),
        ("b.deep.d.example", "A", AnswerStatus.NO_DATA),
        ("x.wild.d.example", "TXT", AnswerStatus.FOUND),
        ("outside.example", "TXT", AnswerStatus.NOT_HELD),
        ("s1._domainkey.d.example", "TXT", AnswerStatus.FOUND),
        ("d.example", "DS", AnswerStatus.NOT_HELD),
        ("a" * 64 + ".d.example", "A", AnswerStatus.NO_NAME),
    ],
)
def test_a_zone_file_answers_as_its_server_would(name: str, rdtype: str, status: AnswerStatus) -> None:
    assert ask(name, rdtype).status is status


def test_aliases_are_followed_and_told() -> None:
    assert ask("s1._domainkey.d.example", "TXT").aliases == ("key.d.example",)
    loop = "$ORIGIN d.example.\n$TTL 1\n@ IN SOA a b 1 1 1 1 1\nx IN CNAME y\ny IN CNAME x\n"
    assert ask("x.d.example", "A", loop).status is AnswerStatus.SERVFAIL


@pytest.mark.parametrize(
    "text", ["", "no zone at all", '$ORIGIN d.example.\n@ IN TXT "open', "$INCLUDE /etc/passwd\n", "\x00"]
)
def test_what_is_no_zone_file_says_so(text: str) -> None:
    with pytest.raises(ZoneFileError) as caught:
        read_zone(text, None, "my.zone")
    assert "my.zone" in str(caught.value)


def test_what_lies_outside_the_files_is_not_looked_at_and_no_mistake(tmp_path: Path) -> None:
    (tmp_path / "d.example.zone").write_text(ZONE)
    (done, *rest) = audit_locally(from_zone_files([tmp_path]), ["d.example"])
    assert rest == []
    assert {finding.rule for finding in done.audit.findings} == {"dkim-key-revoked"}
    assert done.audit.spf is not None
    assert done.audit.spf.nodes[1].problem == "not_held"
    assert {check.key: check.state for check in done.audit.checks}["dnssec"] == "unmeasured"


def test_the_zone_files_say_which_domains_and_selectors_there_are(tmp_path: Path) -> None:
    (tmp_path / "d.example.zone").write_text(ZONE + 'news IN TXT "v=spf1 -all"\n_dmarc.old IN TXT "v=DMARC1; p=none"\n')
    source = from_zone_files([tmp_path])
    assert source.domains == ("d.example", "news.d.example", "old.d.example")
    assert source.selectors == {"d.example": ("s1",)}
    assert source.lines["d.example", "TXT"][1] == 9
    assert source.lines["key.d.example", "TXT"][1] == 12


def test_a_file_without_origin_takes_it_from_its_name_or_from_the_caller(tmp_path: Path) -> None:
    body = "$TTL 60\n@ IN SOA a b 1 1 1 1 1\n@ IN MX 10 mx\n"
    (tmp_path / "e.example.zone").write_text(body)
    (tmp_path / "zone.txt").write_text(body)
    assert from_zone_files([tmp_path / "e.example.zone"]).domains == ("e.example",)
    assert from_zone_files([tmp_path / "zone.txt"], "f.example").domains == ("f.example",)
    with pytest.raises(SourceError):
        from_zone_files([tmp_path / "zone.txt"])


@pytest.mark.parametrize("name", ["missing.zone", "."])
def test_a_file_that_cannot_be_used_is_named(tmp_path: Path, name: str) -> None:
    with pytest.raises(SourceError) as caught:
        from_zone_files([tmp_path / name])
    assert str(tmp_path) in str(caught.value)


@pytest.mark.parametrize("document", [{}, {"format": "x"}, {"format": "rust-gauge-answers-1", "answers": [{"name": "a"}]},
                                      {"format": "rust-gauge-answers-1", "answers": [{"name": "a", "type": "NOPE", "status": "found"}]}])  # fmt: skip
def test_what_is_no_recording_says_so(document: dict[str, object]) -> None:
    with pytest.raises(InputError):
        answers_from_recording(document)


@pytest.fixture(scope="module")
def demo_zones(tmp_path_factory: pytest.TempPathFactory) -> Path:
    directory = tmp_path_factory.mktemp("offline") / "zones"
    write_zones(directory)
    return directory


@pytest.mark.parametrize("domain", ["copperline.example", "marramferries.example", "news.glasswort.example",
                                    "catalogue.thornfieldseeds.example", "reminders.halyardclinic.example"])  # fmt: skip
def test_live_from_the_zone_file_and_from_a_recording_say_the_same(
    world: World, demo_zones: Path, tmp_path: Path, domain: str
) -> None:
    before = {path.name: path.read_text() for path in world.zones.glob("*.zone")}
    for path in demo_zones.glob("*.zone"):
        (world.zones / path.name).write_text(path.read_text())
    world.dns.reload()
    live = from_resolvers([f"127.0.0.1:{world.dns.port}"], timeout=20)
    ips = ["192.0.2.41"]
    try:
        (asked,) = audit_locally(live, [domain], SELECTORS[domain], ips)
    finally:
        live.close()
        for path in world.zones.glob("*.zone"):
            path.unlink()
        for name, text in before.items():
            (world.zones / name).write_text(text)
        world.dns.reload()
    recording = tmp_path / "answers.json"
    recording.write_text(
        json.dumps({"format": asked.format, "about": {domain: SELECTORS[domain]}, "answers": asked.answers})
    )
    (read,) = audit_locally(from_zone_files([demo_zones]), [domain], SELECTORS[domain], ips)
    (replayed,) = audit_locally(from_recording(recording), (), (), ips)

    def said(audit):  # type: ignore[no-untyped-def]
        return [(f.id, f.level, f.title, f.place, f.record) for f in audit.findings]

    # The policy of marramferries is served over HTTPS, which the live one cannot reach here.
    live_only = {"sts-no-policy"}
    assert [row for row in said(asked.audit) if row[0].split(":")[0] not in live_only] == said(read.audit)
    assert [row for row in said(replayed.audit) if row[0].split(":")[0] not in live_only] == said(read.audit)
    assert [(r.name, sorted(r.values)) for r in replayed.audit.records] == [
        (r.name, sorted(r.values)) for r in asked.audit.records
    ]
