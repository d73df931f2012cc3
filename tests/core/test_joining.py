"""Which incidents are one incident."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.worklist import Incident, Level, join

NOW = datetime(2026, 11, 20, tzinfo=UTC)
CAUSES = {"refusals": ["reputation", "content"], "authentication": ["authentication"], "audit": []}


def incident(key: str, kind: str, topic: str = "", name: str = "a.example", **changes: Any) -> Incident:
    values = {"level": Level.INVESTIGATE, "since": NOW, "evidence": (f"evidence of {key}",), "domains": (name,)}
    return Incident(key, kind, changes.pop("subject", "domain"), name, f"title of {key}", f"text of {key}",
                   **{**values, **changes}, topic=topic)  # fmt: skip


KEY = incident("fault:a:dkim-key-missing", "fault", "dkim-key-missing", record="v=DKIM1; p=AA", recheck="audit")
FAILS = incident(
    "pull:a:authentication", "pull", "authentication", level=Level.STOP, mail=700, measure=31.0,
    since=NOW - timedelta(days=1),
)  # fmt: skip


UNALIGNED = incident("pull:a:alignment", "pull", "alignment")


def test_mail_that_fails_by_a_broken_key_is_the_keys_incident() -> None:
    (one,) = join([FAILS, KEY], CAUSES)
    assert (one.key, one.record, one.recheck) == (KEY.key, "v=DKIM1; p=AA", "audit")
    assert (one.level, one.mail, one.measure, one.since) == (Level.STOP, 700, 31.0, FAILS.since)
    assert one.parts == (FAILS.key,)
    assert one.evidence == (
        f"evidence of {KEY.key}",
        f"{FAILS.title}: {FAILS.text}",
        f"evidence of {FAILS.key}",
    )


@pytest.mark.parametrize(
    ("part", "whole"),
    [
        (incident("fault:a:stream-not-aligned", "fault", "stream-not-aligned"), KEY),
        (incident("record:a", "record", "record"), KEY),
        (incident("record:a", "record", "record"), FAILS),
        (incident("record:a", "record", "record"), incident("fault:a:mx-dead", "fault", "mx-dead")),
        (incident("reply:7", "reply", "reputation", "tenant", subject="tenant"), incident("pull:a:r", "pull", "refusals")),
        (FAILS, incident("fault:a:stream-not-aligned", "fault", "stream-not-aligned")),
        (UNALIGNED, incident("source:a:mx1:broke", "source", "authentication")),
        (UNALIGNED, incident("source:a:old-web:unaligned", "source", "source")),
        (UNALIGNED, KEY),
        (UNALIGNED, FAILS),
    ],
    ids=lambda each: each.key,
)  # fmt: skip
def test_what_comes_of_a_cause_belongs_to_it(part: Incident, whole: Incident) -> None:
    for found in ([part, whole], [whole, part]):
        (one,) = join(found, CAUSES)
        assert (one.key, one.parts) == (whole.key, (part.key,))


@pytest.mark.parametrize(
    ("one", "other"),
    [
        (FAILS, incident("fault:b:dkim-key-missing", "fault", "dkim-key-missing", "b.example")),
        (FAILS, incident("fault:a:mx-dead", "fault", "mx-dead")),
        (KEY, incident("fault:a:spf-missing", "fault", "spf-missing")),
        (KEY, incident("pull:a:complaints", "pull", "complaints")),
        (incident("reply:7", "reply", "unclassified", "tenant"), incident("pull:a:refusals", "pull", "refusals")),
        (UNALIGNED, incident("source:a:old-web:unknown", "source", "source")),
        (UNALIGNED, incident("source:b:mx1:broke", "source", "authentication", "b.example")),
        (incident("record:b", "record", "record", "b.example"), KEY),
    ],
)  # fmt: skip
def test_what_has_a_cause_of_its_own_stays_alone(one: Incident, other: Incident) -> None:
    assert sorted(row.key for row in join([one, other], CAUSES)) == sorted([one.key, other.key])


def test_the_same_key_found_twice_is_one_with_both_evidences() -> None:
    seen = incident("listing:driftline", "pull", "listings", measure=9.0, subject="relay", level=Level.FIX)
    asked = incident("listing:driftline", "fault", "listed-ip", "b.example", subject="relay", evidence=("127.0.0.2",))
    (one,) = join([seen, asked], CAUSES)
    assert one.parts == ()
    assert one.domains == ("a.example", "b.example")
    assert (one.kind, one.level, one.measure) == ("pull", Level.FIX, 9.0)
    assert "127.0.0.2" in one.evidence


_ANY = st.builds(
    incident,
    st.sampled_from([f"k{n}" for n in range(6)]),
    st.sampled_from(["pull", "fault", "reply", "record", "line", "feed"]),
    st.sampled_from(["authentication", "refusals", "dkim-x", "stream-x", "mx-dead", "reputation", "record", ""]),
    st.sampled_from(["a.example", "b.example"]),
    mail=st.integers(0, 9),
    level=st.sampled_from(Level),
)


@given(st.lists(_ANY, max_size=8))
def test_nothing_that_was_found_is_lost(found: list[Incident]) -> None:
    joined = join(found, CAUSES)
    assert {key for row in joined for key in (row.key, *row.parts)} == {row.key for row in found}
    assert len({row.key for row in joined}) == len(joined)
    if found:
        assert max(row.mail for row in joined) == max(row.mail for row in found)
        assert max(row.level.urgency for row in joined) == max(row.level.urgency for row in found)
    for row in joined:
        assert row.key not in row.parts


@pytest.mark.parametrize(
    ("labels", "joined"), [(("Kestrelbox",), True), (("Tidepost", "Kestrelbox"), True), (("Tidepost",), False)]
)
def test_copies_that_land_badly_belong_to_what_pulls_the_reading_at_the_same_provider(
    labels: tuple[str, ...], joined: bool
) -> None:
    pull = replace(incident("pull:d.example:complaints", "pull", topic="complaints"), providers=labels)
    copies = replace(
        incident("placement:d.example:k.example", "placement", topic="placement"), providers=("Kestrelbox",)
    )
    found = join([pull, copies], {})
    assert len(found) == (1 if joined else 2)
    if joined:
        assert found[0].key == pull.key
        assert copies.key in found[0].parts
