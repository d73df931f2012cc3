"""The store by itself: migrations, partitions, literals, retries, a database that is away."""

from datetime import UTC, date, datetime

import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from hypothesis import given
from hypothesis import strategies as st
from pymysql.err import OperationalError as DriverError
from sqlalchemy import Connection, text
from sqlalchemy.exc import OperationalError

from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal
from rust_gauge.store.engine import Store, StoreBusy, StoreUnavailable
from rust_gauge.store.migrate import migrate
from rust_gauge.store.partitions import ensure_partitions
from tests.conftest import World


def test_migrations_make_the_tables_that_the_code_describes(world: World) -> None:
    migrate(world.context.store)  # a second time changes nothing
    with world.context.store.engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), t.metadata) == []


def test_partitions_are_made_ahead_and_only_once(world: World) -> None:
    def names() -> list[str]:
        with world.context.store.engine.connect() as connection:
            query = "SELECT partition_name FROM information_schema.partitions WHERE table_name = 'event'"
            return [name for (name,) in connection.execute(text(query + " ORDER BY partition_ordinal_position"))]

    before = names()
    ensure_partitions(world.context.store, datetime(2026, 11, 20, tzinfo=UTC))
    assert names() == before  # nothing is made twice
    later = max(date(int(n[1:5]), int(n[5:7]), int(n[7:9])) for n in names() if n != "pmax")
    ensure_partitions(world.context.store, datetime(later.year, later.month, later.day, tzinfo=UTC))
    after = names()
    assert len(after) > len(before)
    assert after[-1] == "pmax"
    assert sorted(after[:-1]) == after[:-1]


NASTY = st.text(st.characters(codec="utf-8"), max_size=60)


@given(
    NASTY, st.binary(max_size=16), st.integers(0, 2**32 - 1), st.datetimes(datetime(2000, 1, 1), datetime(2100, 1, 1))
)
def test_literals_come_back_as_they_went_in(
    world: World, words: str, octets: bytes, number: int, moment: datetime
) -> None:
    with world.context.store.engine.begin() as connection:
        create = "CREATE TEMPORARY TABLE literals (a VARCHAR(300), b VARBINARY(16), c BIGINT, d DATETIME(6), e FLOAT)"
        connection.execute(text(create))
        try:
            insert_rows(connection, "INSERT INTO literals VALUES", [(words, octets, number, moment, None)])
            assert tuple(connection.execute(text("SELECT * FROM literals")).one()) == (
                words,
                octets,
                number,
                moment,
                None,
            )
        finally:
            connection.execute(text("DROP TEMPORARY TABLE literals"))


@pytest.mark.parametrize("value", [object(), datetime(2026, 1, 1, tzinfo=UTC), [1]])
def test_a_value_that_is_none_of_sqls_is_refused(value: object) -> None:
    with pytest.raises(TypeError):
        literal(value)


def test_a_transaction_that_lost_is_done_again_from_its_beginning(world: World) -> None:
    tries = 0

    def work(connection: Connection) -> int:
        nonlocal tries
        tries += 1
        if tries < 3:
            raise OperationalError("x", {}, DriverError(1213, "Deadlock found"))
        return tries

    assert world.context.store.transaction(work) == 3


def test_a_transaction_that_always_loses_gives_up(world: World) -> None:
    def work(connection: Connection) -> None:
        raise OperationalError("x", {}, DriverError(1213, "Deadlock found"))

    with pytest.raises(StoreBusy):
        world.context.store.transaction(work, attempts=2)


def test_a_database_that_is_not_there_is_unavailable() -> None:
    store = Store("mysql+pymysql://nobody:x@127.0.0.1:9/none")
    with pytest.raises(StoreUnavailable) as caught:
        store.ping()
    assert caught.value.remedy
    store.close()


def test_a_list_of_before_is_taken_over_with_all_that_happened_to_it(tmp_path_factory: pytest.TempPathFactory) -> None:
    from rust_gauge.launch.mariadb import PrivateMariaDb
    from rust_gauge.store.migrate import is_current, migrate

    directory = tmp_path_factory.mktemp("before")
    for each in (directory, *directory.parents):
        if each.owner() == directory.owner() and len(each.parts) > 2:
            each.chmod(0o755)
    private = PrivateMariaDb(directory / "mariadb", memory="64M", durable=False)
    private.start()
    store = Store(private.url)
    try:
        migrate(store, "0007")
        with store.engine.begin() as connection:
            run = connection.exec_driver_sql
            run("INSERT INTO tenant (id, slug, name, created_at) VALUES (7, 'a', 'A', NOW()), (8, 'b', 'B', NOW())")
            run("INSERT INTO intake_lock (tenant_id) VALUES (7), (8)")
            run(
                "INSERT INTO suppression_entry (tenant_id, address_key, reason, address, made_by, since, times, evidence) "
                "VALUES (7, REPEAT('k', 16), 'invalid_address', 'ann@a.example', 'event', '2026-01-02', 3, '[]'), "
                "(7, REPEAT('k', 16), 'complaint', 'ann@a.example', 'event', '2026-01-03', 1, '[]')"
            )
            run(
                "INSERT INTO suppression_change (tenant_id, address_key, reason, `change`, changed_at, changed_by) VALUES "
                "(7, REPEAT('k', 16), 'invalid_address', 'made', '2026-01-02', 'event'), "
                "(7, REPEAT('g', 16), 'invalid_address', 'made', '2026-01-01', 'event'), "
                "(7, REPEAT('g', 16), 'invalid_address', 'lifted', '2026-01-04', 'rules')"
            )
            run(
                "INSERT INTO tenant_setting (tenant_id, name, document, changed_at) VALUES (8, 'suppression_policy', "
                """'{"changed_at": "2026-01-05T08:00:00+00:00", "changed_by": "isla@skerry.example"}', '2026-01-05')"""
            )
        migrate(store)
        assert is_current(store)
        with store.engine.connect() as connection:
            run = connection.exec_driver_sql
            (mark,) = run("SELECT tenant_id, day, kind, made_by FROM annotation").all()
            assert tuple(mark) == (8, date(2026, 1, 5), "policy", "isla@skerry.example")
            entries = run(
                "SELECT number, reason, state, address, mail_domain, times FROM suppression_entry ORDER BY 1"
            ).all()
            assert [tuple(row) for row in entries] == [
                (3, 1, 1, "ann@a.example", "a.example", 3), (4, 2, 1, "ann@a.example", "a.example", 1),
            ]  # fmt: skip
            log = run("SELECT number, state, `change` FROM suppression_change ORDER BY 1").all()
            assert [tuple(row) for row in log] == [(1, 1, 1), (2, 0, 10)], "what stands no more comes first"
            states = run("SELECT tenant_id, last_number FROM suppression_state ORDER BY 1").all()
            assert [tuple(row) for row in states] == [(7, 4), (8, 0)]
    finally:
        store.close()
        private.stop()
