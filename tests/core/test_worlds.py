"""The made-up mail worlds behind the figures of docs/reputation.md can be made and judged, and are what they say."""

import numpy as np
import pytest
from bench.worlds import scores
from bench.worlds.incidents import KINDS
from bench.worlds.judging import auc, judge, rank_correlation
from bench.worlds.laws import FAMILIES
from bench.worlds.ours import coverage, jumps_of, readings_of, with_reports, with_seeds
from bench.worlds.world import PROVIDERS, SENDERS, World, make_world

from rust_gauge.core.reputation import COUNTS, NO_VALUE


@pytest.fixture(scope="module")
def world() -> World:
    return make_world(1)


def test_a_world_can_be_read_and_judged(world: World) -> None:
    """On a world that constants were chosen by; seeds that were set aside are in the docs."""
    readings = readings_of(world, world.counts)
    known = readings.tenths != NO_VALUE
    ours = judge(world, readings.tenths / 10, known, jumps_of(world)).figures
    naive = judge(world, scores.averaged(world), known).figures
    assert ours["AUC"] > naive["AUC"] + 0.1
    assert ours["false alarms"] < naive["false alarms"] / 2
    assert abs(ours["outage"]) < 1.0
    assert 0.75 < coverage(world, readings) < 0.87


def test_a_world_is_the_same_each_time_and_has_all_kinds_of_everything(world: World) -> None:
    assert np.array_equal(make_world(1).counts, world.counts)
    assert sorted(world.families) == sorted(FAMILIES)
    assert {incident.kind for seed in (1, 2) for incident in make_world(seed).incidents} == set(KINDS)
    assert world.volume.min() < 100
    assert world.volume.max() > 100_000
    assert 0.05 < (world.inbox < 0.8).mean() < 0.3
    assert world.counts.shape[:2] == (len(COUNTS), SENDERS * PROVIDERS)
    silent = world.counts[COUNTS.index("complaints")][~world.reports]
    assert silent.sum() == 0, "who reports no complaints reports none"
    assert (world.counts[COUNTS.index("greylisted")] <= world.counts[COUNTS.index("delays")]).all()


def test_the_oracle_is_right_and_a_constant_is_not(world: World) -> None:
    everything = np.ones(world.inbox.shape, dtype=bool)
    oracle = judge(world, scores.oracle(world), everything).figures
    assert oracle["AUC"] > 0.95
    assert oracle["false alarms"] == 0
    constant = judge(world, np.full(world.inbox.shape, 100.0), everything).figures
    assert constant["AUC"] == 0.5
    assert constant["missed"] == constant["of"]


def test_test_copies_are_filed_as_the_mail_is(world: World) -> None:
    seeded = with_seeds(world, 1, 5, 1)
    copies, aside = (seeded.counts[COUNTS.index(name)] for name in ("copies", "placement"))
    assert aside.sum() / copies.sum() == pytest.approx(1 - world.inbox.mean(), abs=0.01)


def test_reports_tell_of_mail_of_the_day_before_and_of_what_was_broken(world: World) -> None:
    found = with_reports(world, 1, 0.5)
    reported, failed = (found.counts[COUNTS.index(name)] for name in ("reported", "alignment"))
    assert (reported[:, 0] == 0).all()
    reporting = reported.sum(axis=1) > 0
    assert reporting.mean() == pytest.approx(0.5, abs=0.05)
    delivered = world.counts[COUNTS.index("delivered")][reporting]
    assert (reported[reporting][:, 1:] == delivered[:, :-1]).all()
    expected = (np.repeat(world.broken, PROVIDERS, axis=0)[reporting] * delivered)[:, :-1].sum()
    assert failed.sum() == pytest.approx(expected, rel=0.01)


def test_ranks_share_the_middle_where_values_are_equal() -> None:
    assert auc(np.array([1.0, 1.0]), np.array([True, False])) == 0.5
    assert auc(np.array([1.0, 2.0, 3.0]), np.array([True, False, False])) == 1.0
    assert rank_correlation(np.array([1.0, 2.0, 2.0]), np.array([5.0, 7.0, 7.0])) == pytest.approx(1.0)
    assert rank_correlation(np.array([1.0, 1.0]), np.array([1.0, 2.0])) == 0.0
