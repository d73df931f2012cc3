"""What a policy makes of events, how an entry changes, how addresses are compared, what clearance answers."""

import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.errors import AddressError
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.names import address_key, parse_address
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.replies.causes import SENDER_CAUSES
from rust_gauge.core.suppression import (
    DEFAULT_POLICY,
    Act,
    Asking,
    Change,
    Entry,
    Matching,
    Policy,
    PolicyError,
    Reason,
    Rehearsal,
    Rule,
    SameMailbox,
    Scope,
    Seen,
    State,
    Status,
    Wish,
    ask,
    confirm,
    end,
    is_over,
    judge,
    standing_wishes,
)

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
DAY = timedelta(days=1)


def seen(day: float, kind: Kind = Kind.BOUNCED, cause: Cause = Cause.MAILBOX_FULL, **changes: Any) -> Seen:
    values = {"permanence": Permanence.TRANSIENT, "domain": "d.example", "stream": "news", "message_id": f"m{day}"}
    return Seen(NOW + day * DAY, kind, cause, **{**values, **changes})


def permanent(cause: Cause, day: float = 0) -> Seen:
    return seen(day, cause=cause, permanence=Permanence.PERMANENT)


def delivered(day: float) -> Seen:
    return seen(day, Kind.DELIVERED, Cause.NONE, permanence=Permanence.NONE)


# The default policy


@pytest.mark.parametrize(
    ("event", "expected"),
    [
        (permanent(Cause.NO_SUCH_MAILBOX), (Reason.INVALID_ADDRESS, Scope.TENANT, "", False)),
        (permanent(Cause.MAILBOX_DISABLED), (Reason.INVALID_ADDRESS, Scope.TENANT, "", False)),
        (permanent(Cause.NO_SUCH_DOMAIN), (Reason.DOMAIN_INVALID, Scope.TENANT, "", True)),
        (seen(0, Kind.COMPLAINED, Cause.NONE), (Reason.COMPLAINT, Scope.TENANT, "", False)),
        (seen(0, Kind.UNSUBSCRIBED, Cause.NONE), (Reason.UNSUBSCRIBED, Scope.STREAM, "news", False)),
        (seen(0, Kind.UNSUBSCRIBED, Cause.NONE, stream=""), (Reason.UNSUBSCRIBED, Scope.TENANT, "", False)),
    ],
)
def test_what_holds_at_once(event: Seen, expected: tuple[Any, ...]) -> None:
    (asked,) = standing_wishes([event], DEFAULT_POLICY)
    assert asked[:4] == expected
    assert asked.wish.state is State.HELD
    assert asked.evidence == (event,)


@pytest.mark.parametrize("cause", sorted(SENDER_CAUSES))
@pytest.mark.parametrize("permanence", [Permanence.PERMANENT, Permanence.TRANSIENT])
def test_a_refusal_that_speaks_of_us_never_holds_however_often(cause: Cause, permanence: Permanence) -> None:
    history = [seen(day, cause=cause, permanence=permanence) for day in range(50)]
    assert standing_wishes(history, DEFAULT_POLICY) == []


@pytest.mark.parametrize("kind", [Kind.DELAYED, Kind.WITHHELD, Kind.OPENED, Kind.ACCEPTED, Kind.DELIVERED])
def test_what_is_no_refusal_holds_nothing(kind: Kind) -> None:
    assert standing_wishes([seen(day, kind, Cause.NO_SUCH_MAILBOX) for day in range(20)], DEFAULT_POLICY) == []


@pytest.mark.parametrize(
    ("days", "state"),
    [
        ([0], State.RESTING),
        ([0, 1, 2, 3], State.RESTING),  # often, but within a week
        ([0, 8], State.RESTING),  # a week apart, but only twice
        ([0, 4, 8], State.HELD),
        ([0, 30, 100], State.RESTING),  # the first is too long ago
    ],
)
def test_a_full_mailbox_is_held_only_when_it_lasts(days: list[int], state: State) -> None:
    (asked,) = standing_wishes([seen(day) for day in days], DEFAULT_POLICY)[-1:]
    assert asked.wish.state is state


def test_five_bounces_of_one_message_are_one() -> None:
    history = [seen(day, message_id="same") for day in (0, 3, 6, 9, 12)]
    assert [asked.wish.state for asked in standing_wishes(history, DEFAULT_POLICY)] == [State.RESTING]


def test_a_delivery_between_begins_anew_and_one_after_lets_go() -> None:
    assert not any(
        asked.wish.state is State.HELD
        for asked in standing_wishes([seen(0), delivered(4), seen(5), seen(9)], DEFAULT_POLICY)
    )
    assert standing_wishes([seen(0), seen(4), seen(8), delivered(9)], DEFAULT_POLICY) == []
    gone = permanent(Cause.NO_SUCH_MAILBOX)
    assert len(standing_wishes([gone, delivered(9)], DEFAULT_POLICY)) == 1, "a mailbox that is gone stays held"


def test_advice_to_wait_grows_with_each_refusal() -> None:
    waits = []
    for number in (1, 2, 3, 4):
        history = [seen(day) for day in range(number)]
        (asked,) = standing_wishes(history, DEFAULT_POLICY)
        waits.append((asked.wish.until or NOW) - asked.wish.at)
    assert waits == [timedelta(hours=24), timedelta(hours=72), timedelta(hours=168), timedelta(hours=168)]


@pytest.mark.parametrize(
    ("cause", "hours"),
    [
        (Cause.GREYLISTED, [1, 4, 24, 24]),
        (Cause.RATE_LIMITED, [6, 24, 72, 72]),
        (Cause.PROVIDER_TROUBLE, [4, 12, 24, 24]),
    ],
)
def test_what_passes_with_time_is_never_held_and_says_how_long_to_wait(cause: Cause, hours: list[int]) -> None:
    history: list[Seen] = []
    for day, wait in enumerate(hours):
        history.append(seen(day, cause=cause))
        (asked,) = standing_wishes(history, DEFAULT_POLICY)
        assert (asked.reason, asked.wish.state) == (Reason.TRY_LATER, State.RESTING)
        assert asked.wish.until == asked.wish.at + timedelta(hours=wait)
    assert standing_wishes([*history, delivered(9)], DEFAULT_POLICY) == []


@given(
    st.permutations([seen(0), seen(3), delivered(5), seen(6), seen(8), seen(14), permanent(Cause.NO_SUCH_DOMAIN, 20)])
)
def test_the_order_of_arrival_makes_no_difference(history: list[Seen]) -> None:
    assert standing_wishes(history, DEFAULT_POLICY) == standing_wishes(sorted(history), DEFAULT_POLICY)


def test_the_first_rule_that_fits_decides_for_its_stream_and_provider() -> None:
    spare = Rule("receipts must arrive", Act.NOTHING, (Kind.BOUNCED,), streams=("receipts",))
    tide = Rule("tide", Act.PROPOSE, (Kind.BOUNCED,), providers=("tidepost.example",))
    policy = Policy((spare, tide, *DEFAULT_POLICY.rules))
    gone = permanent(Cause.NO_SUCH_MAILBOX)
    assert standing_wishes([gone._replace(stream="receipts")], policy) == []
    (asked,) = standing_wishes([gone._replace(provider="tidepost.example")], policy)
    assert asked.wish.state is State.PROPOSED
    (asked,) = standing_wishes([gone], policy)
    assert asked.rule == "invalid address"


@pytest.mark.parametrize(
    "values",
    [
        {"whole_domain": True, "times": 2},
        {"whole_domain": True, "scope": Scope.STREAM},
        {"times": 3, "over_days": 90, "within_days": 60},
        {"over_days": 3},
        {"kinds": (Kind.COMPLAINED,), "scope": Scope.STREAM},
        {"act": Act.WAIT},
    ],
)
def test_a_rule_that_cannot_be_meant_is_refused(values: dict[str, Any]) -> None:
    with pytest.raises(PolicyError, match="mine"):
        Rule("mine", **{"act": Act.HOLD, **values})


# How an entry changes

HOLD = Wish(NOW, NOW)


def for_days(days: float, at: datetime = NOW, **changes: Any) -> Wish:
    rule = Rule("r", Act.HOLD, for_days=days, longer=2, longest_days=100)
    return Wish(at, at, length=rule.length, **changes)


def test_an_entry_is_made_counted_and_comes_back_longer_each_time() -> None:
    first = ask(None, for_days(30), NOW)
    assert (first.state, first.change, first.until) == (State.HELD, Change.MADE, NOW + 30 * DAY)
    again = ask(first, for_days(30, NOW + DAY), NOW + DAY)
    assert (again.change, again.until, again.times) == (Change.PROLONGED, NOW + 31 * DAY, 2)
    assert is_over(again, NOW + 31 * DAY)
    back = ask(again, for_days(30, NOW + 40 * DAY), NOW + 40 * DAY)
    assert (back.change, back.returns, back.until) == (Change.CAME_BACK, 1, NOW + 100 * DAY)
    third = ask(replace(back), for_days(30, NOW + 200 * DAY), NOW + 200 * DAY)
    assert (third.returns, third.until) == (2, NOW + 300 * DAY), "no longer than the rule allows"


def test_what_is_held_without_end_is_not_shortened_by_a_wish_with_one() -> None:
    status = ask(None, HOLD, NOW)
    assert ask(status, for_days(3), NOW) == replace(status, times=2)


def test_an_older_event_does_not_undo_a_lift_and_a_newer_one_does() -> None:
    lifted = end(ask(None, HOLD, NOW), Change.LIFTED, NOW + DAY, NOW + DAY)
    late = ask(lifted, Wish(NOW + DAY / 2, NOW + DAY / 2), NOW + 2 * DAY)
    assert (late.state, late.change, late.times) == (State.ENDED, Change.LIFTED, 2)
    newer = ask(lifted, Wish(NOW + 2 * DAY, NOW + 2 * DAY), NOW + 2 * DAY)
    assert (newer.state, newer.change, newer.returns) == (State.HELD, Change.CAME_BACK, 1)


def test_history_that_is_loaded_late_is_over_from_the_beginning() -> None:
    status = ask(None, for_days(10, NOW - 60 * DAY), NOW)
    assert (status.state, status.ended_at) == (State.ENDED, NOW - 50 * DAY)
    assert ask(status, for_days(10), NOW).returns == 1


def test_a_proposal_is_confirmed_or_dismissed_once_and_holds_nothing_meanwhile() -> None:
    proposed = ask(None, Wish(NOW, NOW, State.PROPOSED), NOW)
    assert (proposed.state, proposed.change) == (State.PROPOSED, Change.PROPOSED)
    assert confirm(proposed).state is State.HELD
    dismissed = end(proposed, Change.DISMISSED, NOW, NOW)
    assert ask(dismissed, Wish(NOW + DAY, NOW + DAY, State.PROPOSED), NOW + DAY).state is State.ENDED
    assert ask(proposed, HOLD, NOW).change is Change.CONFIRMED
    assert confirm(dismissed) == dismissed


def test_what_was_withdrawn_begins_as_if_it_had_never_stood() -> None:
    withdrawn = end(ask(None, HOLD, NOW), Change.WITHDRAWN, NOW - timedelta(microseconds=1), NOW)
    again = ask(withdrawn, HOLD, NOW)
    assert (again.change, again.returns) == (Change.MADE, 0)


_wishes = st.builds(
    lambda day, days: for_days(days, NOW + day * DAY) if days else Wish(NOW + day * DAY, NOW + day * DAY),
    st.integers(0, 20), st.integers(0, 5),
)  # fmt: skip


@given(st.lists(_wishes, min_size=1, max_size=8), st.randoms(use_true_random=False))
def test_wishes_at_one_moment_leave_the_same_in_any_order(wishes: list[Wish], dice: random.Random) -> None:
    """An import, two events and a person at the same time: nobody's turn decides what is left."""
    wishes = [replace(wish, at=NOW, since=NOW) for wish in wishes]
    shuffled = dice.sample(wishes, len(wishes))

    def run(order: list[Wish]) -> Status | None:
        status: Status | None = None
        for wish in order:
            status = ask(status, wish, NOW)
        return status and replace(status, change=Change.MADE)

    assert run(wishes) == run(shuffled)


# Trying a policy on the past


def test_a_rehearsal_counts_what_would_have_been_spared_and_what_was_held_wrongly() -> None:
    rehearsal = Rehearsal(DEFAULT_POLICY)
    rehearsal.walk("tide", [permanent(Cause.NO_SUCH_MAILBOX, day) for day in range(5)])
    rehearsal.walk("tide", [permanent(Cause.NO_SUCH_MAILBOX, 0), delivered(3), delivered(4)])
    rehearsal.walk("kestrel", [seen(0, Kind.COMPLAINED, Cause.NONE), seen(1, Kind.COMPLAINED, Cause.NONE)])
    rehearsal.walk("kestrel", [delivered(0), seen(1, cause=Cause.REPUTATION)])
    tide, kestrel = rehearsal.by_provider["tide"], rehearsal.by_provider["kestrel"]
    assert (tide.held, tide.wrongly, tide.bounces, tide.bounces_spared, tide.deliveries_lost) == (2, 1, 6, 4, 2)
    assert (kestrel.held, kestrel.complaints, kestrel.complaints_spared, kestrel.wrongly) == (1, 2, 1, 0)
    assert rehearsal.by_reason[Reason.INVALID_ADDRESS].wrongly == 1


def test_in_a_rehearsal_an_unsubscription_holds_its_stream_alone() -> None:
    rehearsal = Rehearsal(DEFAULT_POLICY)
    bounces = [seen(1), seen(2)._replace(stream="receipts")]
    rehearsal.walk("tide", [seen(0, Kind.UNSUBSCRIBED, Cause.NONE), *bounces, delivered(3)])
    tide = rehearsal.by_provider["tide"]
    assert (tide.bounces, tide.bounces_spared) == (2, 1)
    assert (tide.deliveries_lost, tide.wrongly) == (0, 0), "who left is not meant to get it"


def test_what_would_have_been_withheld_does_not_prolong_or_end_anything() -> None:
    rehearsal = Rehearsal(DEFAULT_POLICY)
    rehearsal.walk("tide", [seen(0), seen(4), seen(8), delivered(9), seen(60)])
    tally = rehearsal.by_provider["tide"]
    assert (tally.held, tally.wrongly, tally.deliveries_lost, tally.bounces_spared) == (1, 1, 1, 0)


# Comparing addresses


@pytest.mark.parametrize(
    ("one", "other", "matching", "same"),
    [
        ("Ann@Tidepost.Example", "ann@tidepost.example", Matching(), True),
        ("Ann@tidepost.example", "ann@tidepost.example", Matching(fold_case=False), False),
        ("Ann@TIDEPOST.example", "Ann@tidepost.example", Matching(fold_case=False), True),
        ("jo@bücher.example", "jo@xn--bcher-kva.example", Matching(), True),
        ("josé@a.example", "jose\u0301@a.example", Matching(), True),
        ("a.b@a.example", "ab@a.example", Matching(), False),
        ("ann+x@a.example", "ann@a.example", Matching(), False),
        ("ann+x@a.example", "ann@a.example", Matching(same=(SameMailbox("a.example", tag_after="+"),)), True),
        ("ann+x@b.example", "ann@b.example", Matching(same=(SameMailbox("a.example", tag_after="+"),)), False),
        ("a.n.n@a.example", "ann@a.example", Matching(same=(SameMailbox("a.example", without_dots=True),)), True),
        ("+x@a.example", "+y@a.example", Matching(same=(SameMailbox("a.example", tag_after="+"),)), False),
    ],
)
def test_when_two_ways_to_write_an_address_are_one(one: str, other: str, matching: Matching, same: bool) -> None:
    keys = [matching.key(parse_address(text)) for text in (one, other)]
    assert (keys[0] == keys[1]) is same


def test_a_rule_may_name_the_provider_that_runs_the_mailboxes() -> None:
    matching = Matching(same=(SameMailbox("kestrelbox.example", tag_after="-"),))
    address = parse_address("ann-news@own.example")
    assert matching.normal_form(address, "kestrelbox.example") == "ann@own.example"
    assert matching.normal_form(address, "tidepost.example") == "ann-news@own.example"


def test_usual_keys_are_those_of_events_and_a_secret_makes_others() -> None:
    address = parse_address("Ann@tidepost.example")
    assert Matching().key(address) == address_key(address)
    one, other = Matching(secret=b"one"), Matching(secret=b"other")
    assert len({address_key(address), one.key(address), other.key(address)}) == 3
    assert one.domain_key("gone.example") == Matching().domain_key("gone.example")


_texts = st.one_of(
    st.from_regex(r"[A-Za-z0-9._+-]{1,70}@[A-Za-z0-9.-]{1,20}\.example", fullmatch=True),
    st.sampled_from([
        "ann@tidepost.example", "ANN@Tidepost.EXAMPLE", '"a b"@x.example', "Jo <jo@x.example>", "", "@x.example",
        "nobody", "ü@x.example", "a@bücher.example", "x@1.2.3.4", "a\nb@x.example", "a@x.example\n", "a@b@c.example",
        "a@-x.example", "a@x..example", ".a@x.example",
    ]),
)  # fmt: skip


@given(st.lists(_texts, max_size=6), st.sampled_from([Matching(), Matching(secret=b"k"), Matching(fold_case=False)]))
def test_many_addresses_get_the_keys_that_each_gets_alone(texts: list[str], matching: Matching) -> None:
    keys, wrong, domains = matching.keys(texts)
    assert len(keys) == len(domains) == len(texts)
    for number, text in enumerate(texts):
        try:
            address = parse_address(text)
        except AddressError:
            assert (keys[number], number in wrong, domains[number]) == (None, True, "")
        else:
            assert (keys[number], number in wrong) == (matching.key(address), False)
            assert domains[number] == address.domain


# Clearance


def test_an_address_is_held_while_an_entry_is_in_force() -> None:
    ended = Entry(Reason.INVALID_ADDRESS, NOW - 9 * DAY, NOW - DAY)
    live = Entry(Reason.COMPLAINT, NOW - 3 * DAY, None, note="newsletter")
    assert not judge([], Asking(), NOW).held
    assert not judge([ended], Asking(), NOW).held
    held = judge([ended, live], Asking(), NOW)
    assert (held.held, held.reason, held.since) == (True, "complaint", live.since)
    assert "newsletter" in held.why


def test_an_entry_of_a_stream_holds_that_stream_and_is_told_to_others() -> None:
    entry = Entry(Reason.UNSUBSCRIBED, NOW, scope=Scope.STREAM, scope_id=7)
    of_domain = Entry(Reason.MANUAL, NOW, scope=Scope.DOMAIN, scope_id=7)
    assert judge([entry], Asking(stream_id=7), NOW).held
    assert not judge([entry], Asking(stream_id=8), NOW).held
    assert not judge([of_domain], Asking(stream_id=7), NOW).held
    assert judge([of_domain], Asking(domain_id=7), NOW).held
    assert judge([entry], Asking(), NOW).elsewhere == (entry,)


def test_a_rest_is_advice_and_a_proposal_holds_nothing() -> None:
    rest = Entry(Reason.TRY_LATER, NOW, NOW + DAY, State.RESTING)
    proposed = Entry(Reason.ROLE_ADDRESS, NOW, None, State.PROPOSED)
    answer = judge([rest, proposed], Asking(), NOW)
    assert (answer.held, answer.not_before) == (False, NOW + DAY)
    assert judge([rest], Asking(), NOW + DAY).not_before is None
