"""Migrations of a database with work in it: nothing is lost, and what was under way goes on."""

import json
import zlib
from collections.abc import Iterator
from datetime import UTC, date, datetime
from types import SimpleNamespace

import numpy as np
import pytest
from sqlalchemy import text

from rust_gauge.core.reputation import factors_with
from rust_gauge.core.roles import Role
from rust_gauge.store import accounts, jobs
from rust_gauge.store import audits as store_settings
from rust_gauge.store import readings as store_readings
from rust_gauge.store.engine import Store
from rust_gauge.store.migrate import migrate
from rust_gauge.store.migrations import online
from rust_gauge.store.placement_days import days_between
from rust_gauge.store.recount import counters, recount
from tests.conftest import World

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
AT = "2026-11-20 11:00:00"


@pytest.fixture
def store(world: World) -> Iterator[Store]:
    """A database of its own, empty."""
    database = "rust_gauge_upgrade"
    with world.context.store.engine.begin() as connection:
        connection.execute(text(f"CREATE DATABASE {database} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"))
    made = Store(world.database.url.replace("/rust_gauge?", f"/{database}?"))
    yield made
    made.close()
    with world.context.store.engine.begin() as connection:
        connection.execute(text(f"DROP DATABASE {database}"))


OLD = [
    f"INSERT INTO tenant VALUES (1, 'ferries', 'Ferries', '{AT}')",
    f"INSERT INTO account VALUES (1, 'isla@office.example', 'Isla', 'x', '{AT}')",
    "INSERT INTO membership VALUES (1, 1, 'engineer')",
    "INSERT INTO task (id, tenant_id, kind, name, state, request, position, result, done, total, cancel_asked, error, "
    "made_by, created_at, finished_at) VALUES "
    f"(7, 1, 'import', 'gone.csv', 'running', '{{\"a\": 1}}', '{{\"row\": 5}}', '{{}}', 5, 9, 0, '', 'isla', '{AT}', NULL), "
    f"(8, 1, 'readings', 'again', 'done', '{{}}', '{{}}', '{{\"changes\": []}}', 3, 3, 0, '', 'isla', '{AT}', '{AT}')",
    "INSERT INTO audit_batch VALUES "
    f"(7, 1, 'cancelled', '{{\"names\": [\"a.example\", \"b.example\"], \"selectors\": [\"s1\"]}}', 2, 1, 0, '', '{AT}', '{AT}')",
    "INSERT INTO audit_batch_result VALUES (7, 1, 'a.example', '', 1, 0, 0, '[]')",
    f"INSERT INTO rule_application VALUES (1, 4, 'waiting', 0, 0, 9, 0, 0, 0, 0, '', '{AT}', NULL)",
    "INSERT INTO job (kind, tenant_id, subject, state, waiting_key, parameters, done, total, cancel_asked, attempts, "
    "error, created_at, run_after) VALUES "
    f"('task', 1, 7, 'running', NULL, '{{}}', 0, 0, 0, 1, '', '{AT}', '{AT}'), "
    f"('rules', 1, 0, 'queued', 'rules:1:0', '{{}}', 0, 0, 0, 0, '', '{AT}', '{AT}'), "
    f"('readings', 1, 3, 'queued', 'readings:1:3', '{{}}', 0, 0, 0, 0, '', '{AT}', '{AT}')",
]


def test_tasks_batches_and_applications_of_rules_become_jobs(store: Store) -> None:
    migrate(store, "0012")
    with store.engine.begin() as connection:
        for statement in OLD:
            connection.exec_driver_sql(statement, execution_options={"no_parameters": True})
        piece = {"octets": zlib.compress(b"address\n")}
        connection.execute(text("INSERT INTO task_piece VALUES (7, 'file', 0, 8, :octets)"), piece)
    migrate(store)

    def listed() -> dict[str, jobs.Job]:
        return {job.kind: job for job in store.transaction(lambda c: jobs.list_jobs(c, 1, None, 50))}

    found = listed()
    assert {kind: job.state for kind, job in found.items()} == {
        "import": "waiting", "recompute": "done", "batch": "cancelled", "rules": "waiting",
    }  # fmt: skip
    task, batch, rules = found["import"], found["batch"], found["rules"]
    assert (task.name, task.created_by, task.position, task.done, task.total) == ("gone.csv", "isla", {"row": 5}, 5, 9)
    assert list(jobs.pieces(store, task.id, jobs.FILE)) == [b"address\n"]
    assert (batch.request, batch.done, batch.total) == ({"selectors": ["s1"]}, 1, 2)
    assert json.loads(b"".join(jobs.pieces(store, batch.id, jobs.FILE))) == ["a.example", "b.example"]
    results = store.transaction(lambda c: jobs.list_results(c, batch.id, 0, 10))
    assert [(row.name, row.faults) for row in results] == [("a.example", 1)]
    assert rules.request["rules_version"] == 4
    claimed = set()
    while (job := store.transaction(lambda c: jobs.claim(c, NOW))) is not None:
        claimed.add(job.kind)
        store.transaction(lambda c, job=job: jobs.finish(c, job, NOW))  # type: ignore[misc]
    assert claimed == {"readings", "import", "rules"}, "each once"
    principal = store.transaction(lambda c: accounts.principal_of_email(c, "isla@office.example"))
    assert principal is not None
    assert [tenant.role for tenant in principal.tenants] == [Role.ADMIN]


def test_complaints_move_to_the_mail_that_they_are_about(store: Store) -> None:
    migrate(store, "0018")
    columns = (
        "tenant_id, occurred_at, identity, arrived_at, processed_at, load_id, feed_id, kind, domain_id, stream_id, "
        "relay_id, provider_id, recipient, recipient_key, message_id, message_key, cause, permanence, cause_rule, "
        "pattern_id, diagnostic, remote_host, sending_ip, campaign, tags, label_ids"
    )
    told = [  # day, kind, stream, relay, labels, message
        (18, 1, 1, 1, "1,2", 1), (18, 1, 2, 1, "", 1), (20, 4, 0, 0, "", 1), (21, 4, 0, 0, "", 1),
        (20, 5, 0, 0, "", 2), (19, 1, 1, 1, "1", 2), (20, 4, 2, 1, "2", 3), (1, 1, 1, 1, "", 4), (28, 4, 2, 2, "", 4),
    ]  # fmt: skip
    counted = {1: 1, 4: 4, 5: 5}
    with store.engine.begin() as connection:
        seen: set[tuple[int, int]] = set()
        for number, (day, kind, stream, relay, labels, message) in enumerate(told):
            at = f"2026-{'10' if message == 4 and kind == 1 else '11'}-{day:02} 08:{number:02}:00"
            connection.exec_driver_sql(
                f"INSERT INTO event ({columns}) VALUES (1, '{at}', LPAD('{number}', 16, 'x'), '{at}', '{at}', 1, 0, {kind}, "
                f"1, {stream}, {relay}, 7, 'kim@tidepost.example', REPEAT('k', 16), 'm{message}', LPAD('m{message}', 8, '0'), "
                f"0, 0, '', 0, '', '', '', '', '', '{labels}')"
            )
            kind = 11 if kind == 4 and (message, kind) in seen else counted[kind]
            seen.add((message, told[number][1]))
            slot = f"1, '{{}}', 7, {stream}, {relay}, {kind}, 0, 0, 1"
            keys = "tenant_id, domain_id, {}, provider_id, stream_id, relay_id, kind, cause, permanence, n"
            again = "ON DUPLICATE KEY UPDATE n = n + 1"
            for table, period, when in (("flow_hour", "hour", f"{at[:13]}:00:00"), ("flow_day", "day", at[:10])):
                values = f"1, {slot.format(when)}"
                connection.exec_driver_sql(f"INSERT INTO {table} ({keys.format(period)}) VALUES ({values}) {again}")
            for what, part in ((1, 1), (2, stream), (3, relay), (5, 7)):
                connection.exec_driver_sql(
                    "INSERT INTO flow_sum_day (tenant_id, what, day, part_id, kind, n) "
                    f"VALUES (1, {what}, '{at[:10]}', {part}, {kind}, 1) {again}"
                )
            for label in filter(None, labels.split(",")):
                connection.exec_driver_sql(
                    "INSERT INTO flow_label_day (tenant_id, label_id, day, domain_id, provider_id, kind, cause, permanence, n) "
                    f"VALUES (1, {label}, '{at[:10]}', 1, 7, {kind}, 0, 0, 1) {again}"
                )
    migrate(store)
    with store.engine.connect() as connection:
        found = counters(connection, 1)
        assert found == recount(connection, 1)
        complained = {key[:5]: n for key, n in found["flow_day"].items() if key[5] == 4}
    assert complained == {
        (1, date(2026, 11, 18), 7, 1, 1): 1, (1, date(2026, 11, 20), 7, 2, 1): 1, (1, date(2026, 11, 28), 7, 2, 2): 1,
    }  # fmt: skip


RUNS = [
    f"INSERT INTO tenant (id, slug, name, created_at) VALUES (1, 'ferries', 'Ferries', '{AT}')",
    "INSERT INTO outlet (id, tenant_id, name, from_name, from_address, mail_from, relay, stream, extra, host, port, "
    "security, login_user, password, checked_at, problem, problem_text, problem_remedy, created_at) VALUES "
    f"(5, 1, 'main', '', '', 'b@d.example', 'driftline', 'news', '[]', 'h', 25, 'none', '', '', NULL, '', '', '', '{AT}')",
    *(
        "INSERT INTO placement_run (id, tenant_id, outlet_id, outlet_name, title, address_key, state, keep_custom, plan, "
        "wait_minutes, subject, series, header_from, size, mark, error, created_by, created_at, started_at, ended_at) "
        f"VALUES ({id}, 1, 5, 'main', '', 'k{id}', 'done', 1, '{{}}', 60, 's', 's', '{sender}', 1, NULL, '', 'isla', "
        f"'{AT}', {started}, NULL)"
        for id, sender, started in (
            (1, "Desk <a@News.d.example>", f"'{AT}'"), (2, "a@news.d.example", f"'{AT}'"), (3, "", "NULL"),
        )
    ),
    "INSERT INTO placement_count VALUES (1, 'p.example', 'inbox', 3), (1, 'p.example', 'spam', 0), "
    "(2, 'p.example', 'inbox', 1), (3, 'p.example', 'queued', 4)",
    "INSERT INTO relay (id, tenant_id, name, description) VALUES "
    """(9, 1, 'driftline', '{"limits": [{"region": "north", "per_day": 5, "trial": true}]}')""",
    "INSERT INTO flow_hour (tenant_id, domain_id, hour, provider_id, stream_id, relay_id, kind, cause, permanence, n) "
    "VALUES (1, 1, '2026-11-20 10:00:00', 4, 2, 9, 1, 0, 0, 7), (1, 2, '2026-11-20 10:00:00', 5, 2, 9, 1, 0, 0, 2), "
    "(1, 1, '2026-11-20 10:00:00', 4, 2, 9, 2, 11, 1, 3)",
    "INSERT INTO tenant_setting (tenant_id, name, document, changed_at) VALUES "
    """(1, 'suppression_policy', '{"policy": {"rules": [{"causes": ["policy", "relay_denied"]}]}}', '2026-11-20')""",
]  # fmt: skip


def test_runs_are_summed_by_day_readings_get_factors_and_limits_keep_what_was_said(store: Store) -> None:
    migrate(store, "0023")
    days, factors = 3, 11
    history = np.arange((2 + factors) * days, dtype="<i2").tobytes() + np.zeros(days, "<f4").tobytes()
    measures = np.arange(3 * factors, dtype="<f4")
    with store.engine.begin() as connection:
        for statement in RUNS:
            connection.exec_driver_sql(statement, execution_options={"no_parameters": True})
        connection.execute(
            text(
                "INSERT INTO reading_series (tenant_id, kind, subject_id, provider_id, first_day, last_day, tenths, margin, "
                "mail, pulls, measures, trend, history, computed_at) VALUES (1, 1, 1, 4, '2026-11-18', '2026-11-20', 900, "
                "10, 5, :pulls, :measures, '', :history, '2026-11-20')"
            ),
            {"pulls": np.arange(factors, dtype="<i2").tobytes(), "measures": measures.tobytes(),
             "history": zlib.compress(history)},
        )  # fmt: skip
    migrate(store)
    with store.engine.begin() as connection:
        rows = connection.execute(text("SELECT outlet, domain, relay, stream FROM placement_path")).all()
        assert [tuple(row) for row in rows] == [("main", "news.d.example", "driftline", "news")]
        found = days_between(connection, 1, date(2026, 11, 1), date(2026, 11, 30), "")
        assert [(row.provider, row.outcome, row.copies) for row in found] == [("p.example", "inbox", 4)]
        (row,) = store_readings.histories(connection, 1, 1)
        series = store_readings.unpack(row)
        assert series.pulls.shape == (factors + 2, days)
        assert series.pulls[factors:].tolist() == [[0, 0, 0]] * 2
        assert series.measures[:, :factors].tolist() == measures.reshape(3, factors).tolist()
        assert np.isnan(series.measures[:, factors:]).all()
        assert len(connection.scalar(text("SELECT pulls FROM reading_series"))) == 2 * (factors + 2)
        said = json.loads(connection.scalar(text("SELECT description FROM relay")))
        assert said["limits"] == [{"region": "north", "per_day": 5, "restricted": True}]
        taken = connection.execute(text("SELECT relay_id, stream_id, kind, n FROM flow_relay_hour")).all()
        assert [tuple(each) for each in taken] == [(9, 2, 1, 9)]
        policy = json.loads(connection.scalar(text("SELECT document FROM tenant_setting")))
        assert policy["policy"]["rules"][0]["causes"] == ["policy", "relay_denied", "sender_unproven"]


def test_readings_of_before_are_left_to_be_shown_and_weights_are_converted(store: Store) -> None:
    """The arithmetic of readings changed: nothing that a tenant set, or had on its wall, is lost."""
    migrate(store, "0027")
    settings = {
        "factors": {
            "complaints": {"weight": 30.0, "watch": 0.0008},
            "engagement": {"watch": 0.2, "half_life": 6.0},
            "delays": {"watch": 0.2, "stop": 0.5},
        },
        "changed_at": AT, "changed_by": "isla",
    }  # fmt: skip
    row = (
        "INSERT INTO reading_series (tenant_id, kind, subject_id, provider_id, first_day, last_day, tenths, margin, mail, "
        "pulls, measures, trend, history, computed_at) VALUES (1, 1, {}, {}, '2026-11-18', '2026-11-20', {}, 10, 5, '', "
        "'', '', '', '2026-11-20')"
    )
    with store.engine.begin() as connection:
        connection.exec_driver_sql(
            f"INSERT INTO tenant (id, slug, name, created_at) VALUES (1, 'ferries', 'Ferries', '{AT}')"
        )
        for id, name in ((1, "a.example"), (2, "b.example")):
            connection.exec_driver_sql(
                "INSERT INTO sending_domain (id, tenant_id, name, origin, selectors, created_at) "
                f"VALUES ({id}, 1, '{name}', 'added', '[]', '{AT}')"
            )
        for values in ((1, 1, 873), (1, 9, 410), (2, 1, -1)):
            connection.exec_driver_sql(row.format(*values))
        connection.execute(
            text("INSERT INTO tenant_setting VALUES (1, 'reputation', :document, :at)"),
            {"document": json.dumps(settings), "at": AT},
        )
    migrate(store)
    with store.engine.begin() as connection:
        kept = store_settings.get_setting(connection, 1, "reputation")
        left = store_settings.get_setting(connection, 1, "reading_change")
        assert kept is not None
        assert kept["factors"] == {
            "complaints": {"weight": 0.225, "watch": 0.0008}, "engagement": {"half_life": 6.0},
        }  # fmt: skip
        factors_with(kept["factors"])
        assert left == {"why": "arithmetic", "before": {"a.example": 87.3, "b.example": None}}
        assert store_readings.jumped(connection, 1, 1, date(2026, 1, 1)) == set()


def test_a_change_of_a_table_in_use_waits_for_its_turn_without_holding_others_up(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    engine = world.context.store.engine
    with engine.begin() as connection:
        connection.exec_driver_sql("CREATE TABLE in_use (n INT NOT NULL PRIMARY KEY, m INT NOT NULL)")
    pauses: list[float] = []
    try:
        with engine.connect() as reader, engine.connect() as changer:
            reader.exec_driver_sql("SELECT COUNT(*) FROM in_use").scalar()  # its transaction stays open

            def pause(seconds: float) -> None:
                pauses.append(seconds)
                with engine.begin() as other:  # nobody waits behind the change meanwhile
                    other.exec_driver_sql("INSERT INTO in_use VALUES (1, 1)")
                reader.rollback()

            monkeypatch.setattr(online, "time", SimpleNamespace(sleep=pause))
            online.change_online(changer, "ALTER TABLE in_use ADD INDEX by_m (m), ALGORITHM=INPLACE, LOCK=NONE")
            assert len(pauses) == 1
            found = reader.exec_driver_sql("SHOW INDEX FROM in_use WHERE Key_name = 'by_m'").all()
            assert len(found) == 1
            assert changer.exec_driver_sql("SELECT @@SESSION.lock_wait_timeout").scalar() == 86_400
    finally:
        with engine.begin() as connection:
            connection.exec_driver_sql("DROP TABLE in_use")


def test_every_table_can_be_replicated_by_a_cluster(world: World) -> None:
    """Galera replicates rows of InnoDB by their primary keys."""
    with world.context.store.engine.connect() as connection:
        rows = connection.execute(
            text(
                "SELECT t.table_name, t.engine, SUM(s.index_name = 'PRIMARY') FROM information_schema.tables t "
                "LEFT JOIN information_schema.statistics s USING (table_schema, table_name) "
                "WHERE t.table_schema = DATABASE() AND t.table_type = 'BASE TABLE' GROUP BY 1, 2"
            )
        ).all()
    assert len(rows) > 100
    without = [name for name, engine, keys in rows if engine != "InnoDB" or not keys]
    assert without == []
