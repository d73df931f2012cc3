"""Hostile inputs of 25 MB (64 KB where they come from DNS): processor time and memory of each parser of outside input.

For each target of `tests/fuzz`: its seeds repeated, and a seed followed by one piece repeated, in a process of its own.
"""

import json
import resource
import subprocess
import sys
import time
from collections.abc import Iterator

from tests.fuzz.targets import PIECES, TARGETS, Target

from bench.world import Bench, Figure


def _inputs(target: Target) -> Iterator[tuple[str, bytes]]:
    for number, seed in enumerate(target.corpus[:3]):
        yield f"seed {number} repeated", (seed * (target.most // len(seed) + 1))[: target.most]
    seed = target.corpus[0]
    for piece in (*PIECES, b"a", b" ", b"\n", b"a,", b"a=b;", b"a@b.example "):
        for middle in {0, len(seed) // 3, len(seed)}:
            filling = piece * ((target.most - len(seed)) // len(piece))
            yield f"{piece[:8]!r} at {middle}", seed[:middle] + filling + seed[middle:]


def worst(name: str) -> None:
    """Run one target on all inputs, and print the slowest and the largest as JSON."""
    target = next(each for each in TARGETS if each.name == name)
    slowest, largest, problem = (0.0, ""), (0, ""), ""
    target.run(target.corpus[0])
    for label, raw in _inputs(target):
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        began = time.process_time()
        try:
            target.run(raw)
        except target.raises:
            pass
        except Exception as error:  # that is what is looked for
            problem = f"{label}: {error!r}"[:200]
        slowest = max(slowest, (time.process_time() - began, label))
        largest = max(largest, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, label))
    print(json.dumps({"seconds": slowest, "kilobytes": largest, "problem": problem}))


def run(bench: Bench) -> Iterator[Figure]:
    """Measure each target in a process of its own."""
    for target in TARGETS:
        done = subprocess.run(
            [sys.executable, "-c", f"from bench.bounds import worst; worst({target.name!r})"],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        found = json.loads(done.stdout)
        seconds, what = found["seconds"]
        memory = found["kilobytes"][0] / 1024
        ours = f"{seconds:.2f} s ({what}), {memory:.0f} MB" + (f"; {found['problem']}" if found["problem"] else "")
        yield Figure(f"{target.most // 1024:,} KB into {target.name}", ours, "-", seconds / 2, "1 (2 s, 200 MB)")
