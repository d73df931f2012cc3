"""Reports of receivers: typical ones a minute, a large one in constant memory, and views over 50 million rows."""

import gzip
import io
import os
import resource
import tempfile
import zipfile
from collections.abc import Iterator
from datetime import date, timedelta
from time import perf_counter

from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.contract.receiver_reports import RehearsalPolicy
from rust_gauge.service.jobs import jobs
from rust_gauge.service.receiver_reports import files, rehearsal, sources
from rust_gauge.service.receiver_reports.storing import store_report, store_reports
from rust_gauge.service.worker import work_once
from rust_gauge.store import receiver_reports, report_sources
from rust_gauge.store import tables as t
from rust_gauge.store.events import intern

MEMORY = "4G"
TYPICAL, ROWS_EACH = int(os.environ.get("BENCH_REPORTS", "2000")), 20
FILES = int(os.environ.get("BENCH_FILES", "2000"))
LARGE = int(os.environ.get("BENCH_RECORDS", "500000"))
MILLIONS = float(os.environ.get("BENCH_MILLIONS", "50"))
_PIECE = 1024 * 1024
DAYS, DOMAIN = 400, "d.example"
_RECORD = (
    "<record><row><source_ip>{ip}</source_ip><count>{n}</count><policy_evaluated><disposition>none</disposition>"
    "<dkim>pass</dkim><spf>pass</spf></policy_evaluated></row><identifiers><header_from>d.example</header_from>"
    "</identifiers><auth_results><dkim><domain>d.example</domain><selector>s{s}</selector><result>pass</result></dkim>"
    "<spf><domain>d.example</domain><result>pass</result></spf></auth_results></record>"
)


def run(bench: Bench) -> Iterator[Figure]:
    context, tenant = bench.context, bench.tenant
    with context.store.engine.begin() as connection:
        ids = intern(connection, t.sending_domain, tenant.id, {DOMAIN}, origin="added", selectors=[], created_at=NOW)
    made = [_typical(number) for number in range(TYPICAL)]
    began = perf_counter()
    for octets in made[: TYPICAL // 2]:
        assert store_report(context, tenant.id, octets, "mail").state == "stored"
    alone = (TYPICAL // 2) / (perf_counter() - began) * 60
    began = perf_counter()
    for at in range(TYPICAL // 2, TYPICAL, 100):
        store_reports(context, tenant.id, made[at : at + 100], "mail")
    together = (TYPICAL // 2) / (perf_counter() - began) * 60
    name = f"reports of {ROWS_EACH} rows a minute, one at a time"
    yield Figure(name, f"{alone:,.0f}", "-", None, "1,000")
    yield Figure("the same, 100 in a transaction", f"{together:,.0f}", "-", None, "1,000")
    yield _archive(bench)
    yield _large(bench)
    yield from _views(bench, ids[DOMAIN])


def _head(number: int, day: date) -> str:
    begin = int((NOW - timedelta(days=(NOW.date() - day).days)).replace(hour=0).timestamp())
    return (
        f"<feedback><report_metadata><org_name>R{number % 40}</org_name><email>a@r{number % 40}.example</email>"
        f"<report_id>{number}</report_id><date_range><begin>{begin}</begin><end>{begin + 86399}</end></date_range>"
        "</report_metadata><policy_published><domain>d.example</domain><p>none</p></policy_published>"
    )


def _typical(number: int) -> bytes:
    day = NOW.date() - timedelta(days=1 + number % 90)
    rows = (_RECORD.format(ip=f"192.0.{row}.{number % 250}", n=7, s=row % 3) for row in range(ROWS_EACH))
    return gzip.compress((_head(number, day) + "".join(rows) + "</feedback>").encode(), 6)


def _archive(bench: Bench) -> Figure:
    """One archive of many reports, as somebody brings years of them, by the job that stores it."""
    context, tenant = bench.context, bench.tenant
    job = files.start(context, tenant, "years.zip", "bench")
    with tempfile.TemporaryFile() as file:
        with zipfile.ZipFile(file, "w") as archive:
            for number in range(FILES):
                archive.writestr(f"{number}.xml.gz", _typical(1_000_000 + number))
        size = file.tell()
        file.seek(0)
        for number, piece in enumerate(iter(lambda: file.read(_PIECE), b"")):
            jobs.put_piece(context, tenant, job.id, number, piece)
    jobs.run(context, tenant, job.id, dry=False)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = perf_counter()
    while work_once(context):
        pass
    seconds = perf_counter() - began
    done = jobs.get(context, tenant, job.id)
    assert (done.state, done.result["counts"]) == ("done", {"stored": FILES}), done
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    name = f"an archive of {FILES:,} reports ({size / 2**20:.0f} MB), sources judged: reports a minute"
    return Figure(name, f"{60 * FILES / seconds:,.0f} ({seconds:.0f} s, {more:.0f} MB more)", "-", None, "1,000")


def _large(bench: Bench) -> Figure:
    packed = io.BytesIO()
    octets = 0
    with gzip.open(packed, "wb", 6) as out:
        octets += out.write(_head(9_999_999, NOW.date() - timedelta(days=2)).encode())
        for row in range(LARGE):
            ip = f"10.{row >> 16 & 255}.{row >> 8 & 255}.{row & 255}"
            octets += out.write(_RECORD.format(ip=ip, n=1, s=row % 3).encode())
        octets += out.write(b"</feedback>")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = perf_counter()
    done = store_report(bench.context, bench.tenant.id, packed.getvalue(), "upload")
    seconds = perf_counter() - began
    assert done.records == LARGE, done
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    size = f"{octets / 2**20:.0f} MB, {len(packed.getvalue()) / 2**20:.0f} MB packed"
    name = f"one report of {LARGE:,} records ({size}): memory beyond"
    return Figure(name, f"{more:.0f} MB, {seconds:.0f} s", "-", None, "constant")


def _views(bench: Bench, domain_id: int) -> Iterator[Figure]:
    """Rows as reports leave them: 200 domains, 1,000 sources each, over 400 days."""
    context, tenant = bench.context, bench.tenant
    rows = int(MILLIONS * 1_000_000)
    per_source = max(1, rows // 200_000)
    every = max(1, DAYS // per_source)
    key = "domain_id, source_id, day"
    with context.store.engine.begin() as connection:
        sql = connection.exec_driver_sql
        sql(
            "INSERT INTO sending_domain (tenant_id, name, origin, selectors, created_at) SELECT "
            f"{tenant.id}, CONCAT('x', seq, '.example'), 'seen', '[]', NOW(6) FROM seq_1_to_199"
        )
        first = int(sql("SELECT MIN(id) FROM sending_domain WHERE name = 'x1.example'").scalar() or 0)
        sql(
            "INSERT IGNORE INTO report_source (tenant_id, domain_id, ip, verdict, group_name, certainty, evidence, "
            f"first_day, last_day, judged_at) SELECT {tenant.id}, IF(d.seq = 0, {domain_id}, {first} + d.seq - 1), "
            "INET6_ATON(CONCAT('172.16.', s.seq DIV 250, '.', MOD(s.seq, 250))), 'ours', 'relay', 1, '[]', "
            "'2025-01-01', '2026-11-19', NOW(6) FROM seq_0_to_199 AS d, seq_0_to_999 AS s"
        )
        named = f"domain_id = {domain_id} AND group_name = 'relay'"
        source = int(sql(f"SELECT MIN(id) FROM report_source WHERE {named}").scalar() or 0)
        report, receiver = sql("SELECT id, receiver_id FROM receiver_report ORDER BY id LIMIT 1").one()
        result, outcome = sql("SELECT id, outcome FROM report_result ORDER BY id LIMIT 1").one()
    for domain in [domain_id, *range(first, first + 199)]:  # in the order of the key
        of = f"FROM report_source AS s, seq_0_to_{per_source - 1} AS d WHERE s.domain_id = {domain} "
        of += "AND s.group_name = 'relay'"
        day = f"DATE_SUB('{NOW.date()}', INTERVAL 1 + MOD(d.seq * {every}, {DAYS}) DAY)"
        with context.store.engine.begin() as connection:
            sql = connection.exec_driver_sql
            sql(f"INSERT INTO report_row SELECT {domain}, s.id, {day}, {report}, {result} + d.seq DIV {DAYS}, 3 {of}")
            sql(
                f"INSERT INTO report_source_day SELECT {key}, {outcome}, SUM(n) FROM report_row WHERE domain_id = "
                f"{domain} AND report_id = {report} AND source_id >= {source} GROUP BY {key} "
                "ON DUPLICATE KEY UPDATE n = report_source_day.n + VALUES(n)"
            )
            sql(
                f"INSERT INTO report_receiver_day SELECT domain_id, day, {receiver}, 'ours', {outcome}, SUM(n) "
                f"FROM report_source_day WHERE domain_id = {domain} GROUP BY domain_id, day "
                "ON DUPLICATE KEY UPDATE n = report_receiver_day.n + VALUES(n)"
            )
    until, since = NOW.date(), NOW.date() - timedelta(days=89)
    store = context.store
    by_key = middle_of(51, lambda: store.transaction(lambda c: receiver_reports.get_report(c, tenant.id, int(report))))
    for name, wanted, work in (
        ("90 days of a domain and source", "40", lambda: store.transaction(
            lambda c: report_sources.identities_of(c, domain_id, [source], since, until))),
        ("the same, its days", "40", lambda: store.transaction(
            lambda c: report_sources.days_of_sources(c, domain_id, [source], since, until))),
        ("overview of the domain of the large report too, 90 days", "-",
         lambda: sources.get_overview(context, tenant, DOMAIN, 90, None)),
        ("rehearsal over 90 days", "-",
         lambda: rehearsal.rehearse(context, tenant, DOMAIN, RehearsalPolicy(p="reject", days=90))),
    ):  # fmt: skip
        seconds = middle_of(7, work)
        yield Figure(f"{name}, of {MILLIONS:g} million rows", f"{seconds * 1000:.1f} ms",
                     f"{by_key * 1000:.2f} ms a select by key", seconds / by_key, wanted)  # fmt: skip
