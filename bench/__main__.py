"""`python -m bench [NAME ...]`."""

import importlib
import sys
from datetime import UTC, datetime

from bench.world import machine, running

NAMES = (
    "audit",
    "plans",
    "intake",
    "shifts",
    "clearance",
    "readings",
    "bounds",
    "assay",
    "trays",
    "placement",
    "limits",
    "cutting",
    "reports",
)


def main() -> int:
    names = sys.argv[1:] or NAMES
    print(f"Measured {datetime.now(UTC):%Y-%m-%d} on {machine()}.\n")
    print("| figure | ours | floor | ratio | wanted |\n| --- | --- | --- | --- | --- |")
    for name in names:
        module = importlib.import_module(f"bench.{name}")
        with running(getattr(module, "MEMORY", "1G")) as bench:
            for f in module.run(bench):
                ratio = "-" if f.ratio is None else f"{f.ratio:.2f}"
                print(f"| {f.name} | {f.ours} | {f.floor} | {ratio} | {f.wanted} |", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
