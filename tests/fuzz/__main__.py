"""`make fuzz SECONDS=60`: run every parser on mutated inputs for that long, and report what it raised or how slow it was."""

import sys
import time
from pathlib import Path

from tests.fuzz.targets import TARGETS, inputs

SLOW = 2.0  # seconds of processor time for one input


def main(seconds: float) -> int:
    """Run each target for its share of the time; 1 if any input was too much for it."""
    bad = 0
    seed = int(time.time())
    for target in TARGETS:
        end, count, worst = time.monotonic() + seconds / len(TARGETS), 0, 0.0
        for raw in inputs(target, seed):
            if time.monotonic() > end:
                break
            begin = time.process_time()
            problem = ""
            try:
                target.run(raw)
            except target.raises:
                pass
            except Exception as error:  # that is what is looked for
                problem = repr(error)[:200]
            took = time.process_time() - begin
            worst, count = max(worst, took), count + 1
            if problem or took > SLOW:
                path = Path(f"fuzz-{target.name.replace(' ', '-')}-{count}.bin")
                path.write_bytes(raw)
                print(f"{target.name}: {problem or f'{took:.1f} s'}; input in {path}")
                bad += 1
                break
        print(f"{target.name:18} {count:>8,} inputs, the slowest took {worst:.3f} s")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0))
