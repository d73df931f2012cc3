"""A change of an MTA-STS policy keeps mail flowing at each step, whoever still holds the old policy (RFC 8461)."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.reports.tls_results import RESULTS, result_of
from rust_gauge.core.transport.mta_sts import StsPolicy, covers, read_sts_policy
from rust_gauge.core.transport.sts_change import policy_text, steps_between

WEEK = 604_800


def policy(mode: str = "enforce", *mx: str, age: int = WEEK) -> StsPolicy:
    return read_sts_policy(policy_text(mode, mx or ("mx1.d.example",), age))


def test_a_new_host_is_in_the_policy_and_known_to_all_before_the_mx_record_names_it() -> None:
    old, new = policy("enforce", "mx1.d.example"), policy("enforce", "mx2.d.example")
    both, add, remove, last = steps_between(old, new)
    assert (both.kind, both.seconds) == ("policy", WEEK)
    assert read_sts_policy(both.policy).mx == ("mx1.d.example", "mx2.d.example")
    assert (add.kind, "Add mx2.d.example" in add.title) == ("mx", True)
    assert (remove.kind, "Remove mx1.d.example" in remove.title) == ("mx", True)
    assert read_sts_policy(last.policy) == new


def test_a_policy_that_only_tests_is_waited_for_a_day() -> None:
    first, *_ = steps_between(policy("testing", "mx1.d.example"), policy("testing", "mx1.d.example", "mx2.d.example"))
    assert first.seconds == 86_400


def test_mta_sts_is_given_up_by_a_policy_with_mode_none_first() -> None:
    off = StsPolicy("none", (), WEEK, ())
    first, last = steps_between(policy(), off)
    assert (read_sts_policy(first.policy).mode, first.seconds) == ("none", WEEK)
    assert (last.kind, "_mta-sts" in last.title) == ("record", True)


def test_nothing_is_to_do_where_nothing_changes() -> None:
    assert steps_between(policy(), policy()) == ()


HOSTS = st.lists(st.sampled_from(["mx1.d.example", "mx2.d.example", "*.in.d.example", "a.in.d.example"]), min_size=1,
                 max_size=3, unique=True)  # fmt: skip


@given(st.sampled_from(["testing", "enforce"]), HOSTS, st.sampled_from(["testing", "enforce"]), HOSTS,
       st.integers(0, 31_557_600))  # fmt: skip
def test_at_each_step_the_mx_hosts_are_covered_by_every_policy_that_somebody_may_hold(
    old_mode: str, old_mx: list[str], new_mode: str, new_mx: list[str], age: int
) -> None:
    old, new = policy(old_mode, *old_mx, age=age), policy(new_mode, *new_mx)
    named, held = [host for host in old.mx if not host.startswith("*")], [old]
    for step in steps_between(old, new):
        if step.policy:
            held.append(read_sts_policy(step.policy))
            assert held[-1].problems == ()
        if step.kind == "mx" and step.title.startswith("Add"):
            named = [host for host in (*named, *new.mx) if not host.startswith("*")]
        if step.kind == "mx" and step.title.startswith("Remove"):
            named = [host for host in new.mx if not host.startswith("*")]
        if step.seconds >= max(age, 86_400) or (step.seconds and old.mode != "enforce"):
            held = held[-1:]  # everybody fetched the newest by now
        for host in named:
            assert all(any(covers(pattern, host) for pattern in each.mx) for each in held), (step, named, held)


def test_every_result_of_the_standard_has_a_meaning_and_a_remedy() -> None:
    assert {"starttls-not-supported", "certificate-host-mismatch", "certificate-expired", "certificate-not-trusted",
            "validation-failure", "tlsa-invalid", "dnssec-invalid", "dane-required", "sts-policy-fetch-error",
            "sts-policy-invalid", "sts-webpki-invalid"} <= set(RESULTS)  # fmt: skip
    assert all(each.meaning and each.remedy for each in RESULTS.values())
    assert not result_of("made-up").blocks


@pytest.mark.parametrize("name", ["sts-policy-fetch-error", "sts-policy-invalid", "sts-webpki-invalid"])
def test_a_policy_that_cannot_be_had_keeps_nothing_back(name: str) -> None:
    assert not result_of(name).blocks
