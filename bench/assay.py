"""A message of 100 kB examined without network: form, content, links, and what families of programs make of it."""

import statistics
import time
from datetime import UTC, datetime

from tests.vectors.assay_messages import HTML, message

from bench.world import Bench, Figure
from rust_gauge.core.assay import examine
from rust_gauge.core.dns import drive

NOW = datetime(2026, 11, 30, 10, tzinfo=UTC)
_ROW = (
    '<tr><td style="color:#333333;font-size:14px;padding:4px 8px;border-radius:4px">'
    '<a href="https://news.glasswort.example/p/{0}" style="color:#1a5f9e">Seats in row {0} for 12.50</a></td></tr>'
)


def run(_: Bench) -> list[Figure]:
    rows = "".join(_ROW.format(number) for number in range(380))
    raw = message(html=HTML.replace("</body>", f'<table role="presentation">{rows}</table></body>'))
    taken = []
    for _again in range(15):
        begin = time.process_time()
        done = drive(examine(raw, now=NOW, ask_dns=False), lambda _: ())
        assert len(done.unsupported) == 2
        taken.append(time.process_time() - begin)
    name = f"a message of {len(raw) // 1000} kB examined, processor time"
    return [Figure(name, f"{statistics.median(taken) * 1000:.0f} ms", "-", None, "150 ms")]
