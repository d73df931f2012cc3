"""Warm-up plans: clearance with a plan and limits against without, and cutting a list against copying it."""

import csv
import io
import os
import resource
import tempfile
import time
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from bench.clearance import by_turns
from bench.limits import fill
from bench.world import Bench, Figure
from rust_gauge.contract.suppression import Sending
from rust_gauge.contract.warmup import ListCutRequest, NewWarmupPlan, WarmupShare
from rust_gauge.core.suppression.files import find_layout, read_rows
from rust_gauge.service.clearance import list_cuts
from rust_gauge.service.clearance.answers import Question
from rust_gauge.service.clearance.clearance import clear
from rust_gauge.service.jobs import jobs
from rust_gauge.service.warmup import plans
from rust_gauge.service.worker import work_once
from rust_gauge.store import jobs as store_jobs

RECIPIENTS = int(os.environ.get("RECIPIENTS", "5000000"))
DOMAIN = "d1.example"
_PIECE = 1024 * 1024


def run(bench: Bench) -> Iterator[Figure]:
    fill(bench)
    for name, domain in (("clinic", DOMAIN), ("other", "d2.example")):
        shares = [WarmupShare(provider=f"p{n}.example", share=0.15) for n in range(6)]
        plans.add_plan(
            bench.context, bench.tenant,
            NewWarmupPlan(name=name, domain=domain, shape="custom", ceilings=[2_000_000, 4_000_000, 8_000_000],
                          hours=list(range(24)), shares=shares), "bench",
        )  # fmt: skip
    yield from _clearance(bench)
    yield from _cut(bench)


def _clearance(bench: Bench) -> Iterator[Figure]:
    texts = [f"someone{n}@r{n % 40}.example" for n in range(100_000)]
    for name, asked, times in (("100,000 addresses", texts, 5), ("one address", texts[:1], 101)):
        for purpose in (None, Sending(domain=DOMAIN)):

            def ask(with_plan: bool, asked: list[str] = asked, purpose: Sending | None = purpose) -> object:
                question = Question("s1", DOMAIN if with_plan else "d9.example", "limited" if with_plan else "free")
                sending = Sending(domain=question.domain or "") if purpose else None
                return clear(bench.context, bench.tenant, asked, question, sending)

            taken = by_turns(times, {"with": partial(ask, True), "without": partial(ask, False)})
            counted = "counted for sending, " if purpose else ""
            yield Figure(
                f"clearance of {name}, {counted}a warm-up plan and two limits", f"{taken['with'] * 1000:.1f} ms",
                f"{taken['without'] * 1000:.1f} ms without", taken["with"] / taken["without"], "1.5",
            )  # fmt: skip


def _cut(bench: Bench) -> Iterator[Figure]:
    for recipients in (RECIPIENTS // 10, RECIPIENTS):
        with tempfile.TemporaryDirectory() as folder:
            source = Path(folder) / "list.csv"
            _write_list(source, recipients)
            plain = _plain(source, Path(folder) / "copy.csv")
            job = list_cuts.start(
                bench.context, bench.tenant,
                ListCutRequest(plan="clinic", name="list.csv", engagement="opened", portions="hour"), "bench",
            )  # fmt: skip
            with source.open("rb") as file:
                for number, piece in enumerate(iter(lambda: file.read(_PIECE), b"")):
                    jobs.put_piece(bench.context, bench.tenant, job.id, number, piece)
        floor = _stored(bench, job.id)
        jobs.run(bench.context, bench.tenant, job.id, dry=False)
        began = time.perf_counter()
        while work_once(bench.context):
            pass
        taken = time.perf_counter() - began
        done = jobs.get(bench.context, bench.tenant, job.id)
        assert done.state == "done", done.error
        assert done.result["counts"]["cut"] == recipients
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        yield Figure(
            f"cutting {recipients:,} recipients into {len(done.result['portions'])} portions, at most {memory} MB",
            f"{taken:.1f} s", f"{floor:.1f} s to read and write it as rows ({plain:.1f} s from file to file)",
            taken / floor, "3",
        )  # fmt: skip
        bench.context.store.transaction(lambda c, id=job.id: store_jobs.drop(c, id))  # type: ignore[misc]


def _write_list(path: Path, recipients: int) -> None:
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(("email", "name", "opened"))
        for start in range(0, recipients, 100_000):
            writer.writerows(
                (f"someone{n}@r{n % 40}.example", f"Someone {n}", f"2026-{n % 11 + 1:02}-{n % 28 + 1:02}")
                for n in range(start, min(recipients, start + 100_000))
            )


def _plain(source: Path, target: Path) -> float:
    """Return the seconds that Python's csv module takes from a file to a file."""
    began = time.perf_counter()
    with source.open(newline="") as file, target.open("w", newline="") as out:
        csv.writer(out).writerows(csv.reader(file))
    return time.perf_counter() - began


def _stored(bench: Bench, job: int) -> float:
    """Return the seconds that it takes to read the rows of a stored file and to store them again, and do no more."""
    began = time.perf_counter()
    store, number = bench.context.store, 0
    pieces = store_jobs.pieces(store, job, store_jobs.FILE)
    first = next(pieces)
    layout = find_layout(first[:65536])
    out = io.StringIO()
    writer = csv.writer(out)
    for row in read_rows(store_jobs.pieces(store, job, store_jobs.FILE), layout):
        writer.writerow(row.cells)
        if out.tell() >= _PIECE:
            octets, number = out.getvalue().encode(), number + 1
            store.transaction(lambda c, n=number, o=octets: store_jobs.put_piece(c, job, "copy", n, o))  # type: ignore[misc]
            out.seek(0)
            out.truncate()
    taken = time.perf_counter() - began
    store.transaction(lambda c: store_jobs.drop_part(c, job, "copy"))
    return taken
