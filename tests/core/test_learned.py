"""The text model: silent until there is enough, right on campaigns it was not shown, and never more sure than it is."""

import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.assay.learned import LEAST_CAMPAIGNS, Outcome, Sample, judge, learn, lower_bound, told_apart

PLAIN = [
    "the",
    "new",
    "season",
    "opens",
    "on",
    "friday",
    "with",
    "a",
    "play",
    "by",
    "the",
    "harbour",
    "and",
    "members",
    "may",
    "choose",
    "their",
    "seats",
    "first",
]
LOUD = [
    "hurry",
    "last",
    "chance",
    "free",
    "tickets",
    "win",
    "a",
    "prize",
    "today",
    "only",
    "click",
    "now",
    "before",
    "the",
    "offer",
    "is",
    "gone",
    "for",
    "ever",
]


def campaigns(count: int, *, told_apart: bool = True, seed: int = 1) -> list[Sample]:
    """So many campaigns of each kind, three messages each, with words of their kind or of both."""
    dice, out = random.Random(seed), []
    for number in range(2 * count):
        bad = number % 2 == 1
        words = (LOUD if bad else PLAIN) if told_apart else PLAIN + LOUD
        for _ in range(3):
            text = " ".join(dice.choices(words, k=25) + dice.choices(PLAIN + LOUD, k=10))
            out.append(Sample(text, f"c{number:03}", bad))
    return out


def test_it_is_silent_until_there_are_enough_campaigns_of_both_kinds() -> None:
    found = learn(campaigns(LEAST_CAMPAIGNS - 1))
    assert found.model is None
    assert f"there are {LEAST_CAMPAIGNS - 1} and {LEAST_CAMPAIGNS - 1}" in found.reason
    assert learn([]).model is None


def test_it_tells_campaigns_apart_that_it_was_not_shown_and_names_the_words() -> None:
    model = learn(campaigns(20)).model
    assert model is not None
    assert model.accuracy > 0.9
    assert (model.low, model.high, model.of, model.messages) == (20, 20, 40, 120)
    loud = judge(model, "Hurry, last chance to win free tickets, click now before the offer is gone")
    plain = judge(model, "The new season opens on Friday and members choose their seats first")
    assert loud.likeness > 0.5 > plain.likeness
    assert {word for word, _ in loud.words} & {"hurry", "chance", "tickets", "click", "offer", "before"}
    assert all(share > 0 for _, share in loud.words)


@pytest.mark.parametrize("seed", range(3))
def test_it_stays_silent_where_the_texts_say_nothing(seed: int) -> None:
    found = learn(campaigns(20, told_apart=False, seed=seed))
    assert found.model is None
    assert "chance" in found.reason


def test_the_same_samples_give_the_same_model() -> None:
    samples = campaigns(14)
    assert learn(samples).model == learn(list(samples)).model


@given(st.text(max_size=200))
@settings(max_examples=30)
def test_any_text_is_judged(text: str) -> None:
    model = MODEL
    assert model is not None
    assert 0 <= judge(model, text).likeness <= 1


MODEL = learn(campaigns(14)).model


@given(st.integers(0, 200), st.integers(1, 200))
def test_the_lower_bound_is_below_the_share(right: int, of: int) -> None:
    if right <= of:
        assert 0 <= lower_bound(right, of) <= right / of + 1e-9


def test_campaigns_are_told_apart_by_complaints_refusals_and_placement() -> None:
    """The worst third is what readers complained about, what was refused, and what landed elsewhere."""
    good = [Outcome(f"good{n}", 1000, 0, 0, 10, 0) for n in range(6)]
    bad = [Outcome("complained", 1000, 9, 0), Outcome("refused", 1000, 0, 120), Outcome("spam", 1000, 0, 0, 10, 5)]
    few = [Outcome("few", 100, 50, 50, 10, 10)]
    apart = told_apart([*good, *bad, *few])
    assert {name for name, is_bad in apart.items() if is_bad} == {"complained", "refused", "spam"}
    assert "few" not in apart
    assert told_apart(good) == {}
