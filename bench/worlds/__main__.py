"""Print the table of docs/reputation.md. Seeds 1 to 8 are for choosing; those from 201 are looked at once, at the end.

`python -m bench.worlds [SEED ...]`. The ceiling learns from worlds 900 to 907, which are used for nothing else.
"""

import sys
from collections import defaultdict
from collections.abc import Iterable

import numpy as np

from bench.worlds import scores
from bench.worlds.incidents import KINDS
from bench.worlds.judging import Verdict, judge
from bench.worlds.ours import REPORTING, SEEDED, coverage, jumps_of, readings_of, with_reports, with_seeds
from bench.worlds.world import PROVIDERS, make_world
from rust_gauge.core.reputation import NO_VALUE

CHOOSING = range(1, 9)
LEARNING = range(900, 908)
_OURS = "the reading, with items"


def main() -> int:
    """Judge each score in each world and print the means."""
    seeds = [int(text) for text in sys.argv[1:]] or list(CHOOSING)
    ceiling = scores.Ceiling([make_world(seed) for seed in LEARNING])
    found: dict[str, list[Verdict]] = defaultdict(list)
    covered: dict[str, list[float]] = defaultdict(list)
    for seed in seeds:
        world = make_world(seed)
        readings = readings_of(world, world.counts)
        known, jumps = readings.tenths != NO_VALUE, jumps_of(world)
        found["the reading alone"].append(judge(world, readings.tenths / 10, known))
        found[_OURS].append(judge(world, readings.tenths / 10, known, jumps))
        for name, copies, every in SEEDED:
            seeded = readings_of(with_seeds(world, seed, copies, every), with_seeds(world, seed, copies, every).counts)
            found[f"with {name}"].append(judge(world, seeded.tenths / 10, known, jumps))
        for name, share in REPORTING:
            reported = with_reports(world, seed, share)
            found[f"with {name}"].append(
                judge(world, readings_of(reported, reported.counts).tenths / 10, known, jumps_of(reported))
            )
        for name, score in (
            ("rates of seven days", scores.trailing(world)), ("moving averages", scores.averaged(world)),
            ("share not deferred", scores.deferrals(world)), ("ceiling: learned from the truth", ceiling.score(world)),
            ("oracle: today's truth", scores.oracle(world)),
        ):  # fmt: skip
            found[name].append(judge(world, score, known))
        volume = np.repeat(world.volume, PROVIDERS)
        for name, rows in (
            ("all", volume > 0), ("under 300 a day", volume < 300), ("300 to 10,000", (volume >= 300) & (volume < 1e4)),
            ("from 10,000", volume >= 1e4),
        ):  # fmt: skip
            covered[name].append(coverage(world, readings, rows))
    _table("score", list(found[_OURS][0].figures), ((n, [v.figures for v in all_]) for n, all_ in found.items()))
    ours = found[_OURS]
    print("\nAUC by volume and by provider, the reading beside the ceiling:\n")
    for part in ("by_volume", "by_family"):
        other = found["ceiling: learned from the truth"]
        names = list(getattr(ours[0], part))
        _table("score", names, (
            ("the reading", [getattr(v, part) for v in ours]), ("ceiling", [getattr(v, part) for v in other])
        ))  # fmt: skip
        print()
    print(
        "Incidents, the reading with items:\n\n| incident | of | days until shown | missed |\n| --- | --- | --- | --- |"
    )
    for kind in KINDS:
        days = np.array([value for verdict in ours for value in verdict.shown.get(kind, [])])
        if len(days):
            print(f"| {kind} | {len(days)} | {np.nanmean(days):.2f} | {int(np.isnan(days).sum())} |")
    print("\nThe margin covers: " + ", ".join(f"{name} {np.mean(values):.3f}" for name, values in covered.items()))
    return 0


def _table(title: str, columns: list[str], rows: Iterable[tuple[str, list[dict[str, float]]]]) -> None:
    print(f"| {title} | " + " | ".join(columns) + " |")
    print("| --- |" + " --- |" * len(columns))
    for name, found in rows:
        cells = [f"{np.nanmean([one.get(column, np.nan) for one in found]):.3f}" for column in columns]
        print(f"| {name} | " + " | ".join(cells) + " |")


if __name__ == "__main__":
    sys.exit(main())
