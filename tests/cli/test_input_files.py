"""Cutting a file into requests: nothing is lost, lines keep their numbers, no request grows too long."""

import io
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.input_files import open_input, read_addresses, read_chunks

LINES = st.lists(st.binary(max_size=40).map(lambda line: line.replace(b"\n", b"")), max_size=60)


@given(LINES, st.integers(1, 7), st.integers(1, 200), st.booleans())
def test_pieces_put_together_are_the_file(lines: list[bytes], rows: int, octets: int, ended: bool) -> None:
    content = b"\n".join(lines) + (b"\n" if ended and lines else b"")
    pieces = list(read_chunks(io.BytesIO(content), most_rows=rows, most_octets=octets))
    assert b"".join(piece for _, piece in pieces) == content
    for first, piece in pieces:
        inside = list(io.BytesIO(piece))
        assert list(io.BytesIO(content))[first - 1 : first - 1 + len(inside)] == inside
        assert len(inside) <= rows
        assert len(piece) <= octets or len(inside) == 1


def test_a_file_in_another_encoding_is_named_with_its_place(tmp_path: Path) -> None:
    path = tmp_path / "latin.ndjson"
    path.write_bytes('{"a": 1}\n{"name": "Zoë"}\n'.encode("latin-1"))
    with pytest.raises(UsageError, match="octet 13 of line 2"), open_input(str(path)):
        pass


def test_addresses_come_from_the_command_and_the_file_in_order(tmp_path: Path) -> None:
    path = tmp_path / "list.txt"
    path.write_bytes("\ufeffa@b.example\r\n\n  c@d.example  \n".encode())
    assert list(read_addresses(["first@b.example"], str(path))) == ["first@b.example", "a@b.example", "c@d.example"]


@pytest.mark.parametrize("content", [b"a@b.example\n\xff\n", None])
def test_a_list_that_cannot_be_read_says_why(content: bytes | None, tmp_path: Path) -> None:
    path = tmp_path / "list.txt"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(UsageError, match=r"not UTF-8|cannot be read"):
        list(read_addresses([], str(path)))


def test_a_row_of_csv_is_not_cut_where_a_line_ends_in_quotes() -> None:
    content = b'a,"one\ntwo\nthree"\nb,x\nc,y\nd,"z\nz"\n'
    pieces = [piece for _, piece in read_chunks(io.BytesIO(content), quoted=True, most_rows=2)]
    assert b"".join(pieces) == content
    assert all(piece.count(b'"') % 2 == 0 for piece in pieces)
    stray = b'5" disk,x\n' + b"e,f\n" * 9  # a quote that never ends holds up nothing
    assert (
        max(len(list(io.BytesIO(piece))) for _, piece in read_chunks(io.BytesIO(stray), quoted=True, most_rows=2)) == 4
    )
