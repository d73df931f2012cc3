"""What `store.driver` relies on of the driver's private parts. When this fails, a new version of it changed them."""

from importlib.metadata import version

import pytest
from sqlalchemy import text
from sqlalchemy.exc import DBAPIError

from rust_gauge.store.driver import PINNED, Question, load_local, raw_rows
from tests.conftest import World

LOAD = r"LOAD DATA LOCAL INFILE 'rows' IGNORE INTO TABLE driver_rows FIELDS TERMINATED BY ',' (a, b)"
TABLE = "CREATE OR REPLACE TEMPORARY TABLE driver_rows (a INT PRIMARY KEY, b VARCHAR(10))"


def test_the_driver_is_the_one_that_was_looked_at() -> None:
    assert version("PyMySQL") == PINNED


def test_rows_are_loaded_from_memory_in_as_many_packets_as_there_are(world: World) -> None:
    with world.context.store.engine.begin() as connection:
        connection.execute(text(TABLE))
        said = load_local(connection, LOAD, [b"1,one\n2,two\n", b"", b"3,three\n2,again\n"])
        assert "Records: 4  Deleted: 0  Skipped: 1" in said
        assert list(raw_rows(connection, "SELECT a, b FROM driver_rows ORDER BY a")) == [
            (1, "one"), (2, "two"), (3, "three"),
        ]  # fmt: skip


def test_a_load_whose_packets_fail_leaves_a_connection_that_can_be_used(world: World) -> None:
    def packets():  # type: ignore[no-untyped-def]
        yield b"1,one\n"
        raise ValueError("no more")

    with world.context.store.engine.begin() as connection:
        connection.execute(text(TABLE))
        with pytest.raises(ValueError, match="no more"):
            load_local(connection, LOAD, packets())
        assert list(raw_rows(connection, "SELECT COUNT(*) FROM driver_rows")) == [(1,)]


def test_no_file_is_ever_sent_because_a_statement_asks_for_it(world: World) -> None:
    with world.context.store.engine.connect() as connection:
        connection.execute(text(TABLE))
        with pytest.raises((DBAPIError, RuntimeError)):
            connection.exec_driver_sql(LOAD.replace("'rows'", "'/etc/hostname'"))
        connection.invalidate()


def test_a_question_is_sent_before_its_rows_are_wanted(world: World) -> None:
    with world.context.store.engine.connect() as connection:
        first = Question(connection, "SELECT 1")
        assert list(first.rows()) == [(1,)]
        assert list(Question(connection, "SELECT 2").rows()) == [(2,)]


@pytest.mark.parametrize(("sql", "code"), [("SELECT", 1064), ("SELECT * FROM nowhere", 1146)])
def test_its_errors_are_those_that_a_transaction_knows(world: World, sql: str, code: int) -> None:
    with world.context.store.engine.connect() as connection:
        with pytest.raises(DBAPIError) as caught:
            raw_rows(connection, sql)
        assert caught.value.orig is not None
        assert caught.value.orig.args[0] == code
        assert not caught.value.connection_invalidated
        assert list(raw_rows(connection, "SELECT 1")) == [(1,)]
