"""Following a log: whole lines only, rotation by renaming and by cutting, a file that is written again."""

from pathlib import Path

import pytest

from rust_gauge.gateways.log_file import read_more


@pytest.fixture
def log(tmp_path: Path) -> Path:
    path = tmp_path / "mail.log"
    path.write_bytes(b"one\ntwo\nthr")
    return path


def test_only_whole_lines_are_given(log: Path) -> None:
    first = read_more(log, {})
    assert (first.octets, first.more) == (b"one\ntwo\n", True)
    assert read_more(log, first.position).octets == b""
    with log.open("ab") as file:
        file.write(b"ee\n")
    again = read_more(log, first.position)
    assert (again.octets, again.more) == (b"three\n", False)
    assert read_more(log, again.position).octets == b""


def test_a_file_that_was_renamed_is_finished_first(log: Path) -> None:
    position = read_more(log, {}).position
    log.rename(log.with_name("mail.log.1"))
    log.write_bytes(b"new\n")
    old = read_more(log, position)
    assert (old.octets, old.position, old.more) == (b"thr", {}, True)
    assert read_more(log, old.position).octets == b"new\n"


def test_a_file_that_was_cut_and_written_anew_is_read_from_its_beginning(log: Path) -> None:
    position = read_more(log, {}).position
    log.write_bytes(b"another file, longer than the one before it\n")
    assert read_more(log, position).octets.startswith(b"another file")


def test_a_piece_is_bounded_and_says_that_there_is_more(log: Path) -> None:
    log.write_bytes(b"0123456789\n" * 100)
    got, position = b"", {}
    for _ in range(200):
        piece = read_more(log, position, limit=50)
        got, position = got + piece.octets, piece.position
        if not piece.more:
            break
    assert got == b"0123456789\n" * 100


def test_a_log_that_is_not_there_is_an_error(tmp_path: Path) -> None:
    with pytest.raises(FileNotFoundError):
        read_more(tmp_path / "none.log", {})
