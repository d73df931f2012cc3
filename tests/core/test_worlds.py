"""The made-up mail worlds behind the figures of docs/reputation.md can be made and judged."""

from bench.worlds import judge, make_world, readings_of

from rust_gauge.core.reputation import NO_VALUE


def test_a_world_can_be_read_and_judged() -> None:
    world = make_world(1)
    readings = readings_of(world, world.counts)
    figures = judge(world, readings.tenths / 10, readings.tenths != NO_VALUE)
    assert figures["AUC"] > 0.8
