"""A message of 100 kB examined without network: form, content, links, and what families of programs make of it."""

import socket
import statistics
import time
from datetime import UTC, datetime

from tests.vectors.assay_messages import HTML, message

from bench.world import Bench, Figure, middle_of
from rust_gauge.core.assay import Sending, examine
from rust_gauge.core.dns import drive
from rust_gauge.service.assays.assays import examined
from rust_gauge.service.runtime.context import make_context

NOW = datetime(2026, 11, 30, 10, tzinfo=UTC)
_ROW = (
    '<tr><td style="color:#333333;font-size:14px;padding:4px 8px;border-radius:4px">'
    '<a href="https://news.glasswort.example/p/{0}" style="color:#1a5f9e">Seats in row {0} for 12.50</a></td></tr>'
)


def run(bench: Bench) -> list[Figure]:
    rows = "".join(_ROW.format(number) for number in range(380))
    raw = message(html=HTML.replace("</body>", f'<table role="presentation">{rows}</table></body>'))
    taken = []
    for _again in range(15):
        begin = time.process_time()
        done = drive(examine(raw, now=NOW, ask_dns=False), lambda _: ())
        assert len(done.unsupported) == 2
        taken.append(time.process_time() - begin)
    name = f"a message of {len(raw) // 1000} kB examined, processor time"
    figures = [Figure(name, f"{statistics.median(taken) * 1000:.0f} ms", "-", None, "150 ms")]
    # The worst network there is: a name server that takes every question and answers none.
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as silent:
        silent.bind(("127.0.0.1", 0))
        server = f"127.0.0.1:{silent.getsockname()[1]}"
        settings = bench.context.settings.model_copy(update={"dns_servers": [server], "dns_timeout": 3.0})
        context = make_context(settings, lambda: NOW)
        sending = Sending("192.0.2.9", "mx.d.example", "bounce@d.example")
        seconds = middle_of(3, lambda: examined(context, bench.tenant.id, raw, sending, NOW))
        context.close()
    figures.append(Figure("the same with a name server that never answers", f"{seconds:.2f} s", "-", None, "3 s"))
    return figures
