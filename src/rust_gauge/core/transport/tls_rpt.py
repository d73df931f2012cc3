"""The record that asks for reports on TLS (RFC 8460 §3): `v=TLSRPTv1; rua=mailto:...` at `_smtp._tls.`"""

from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.core.taglist import Problem, parse_tag_list


@dataclass(frozen=True, slots=True)
class TlsRptRecord:
    """`rua` holds the addresses and https: places that could be read."""

    text: str
    rua: tuple[str, ...]
    problems: tuple[Problem, ...]


def read_tls_rpt(text: str) -> TlsRptRecord:
    """Read a record that begins with v=TLSRPTv1. Never raises."""
    tags = parse_tag_list(text)
    problems = list(tags.problems)
    if not tags.tags or tags.tags[0].name != "v" or tags.tags[0].value != "TLSRPTv1":
        problems.append(Problem("it must start with v=TLSRPTv1;", 1, 10))
    rua = tags.get("rua")
    good: list[str] = []
    if rua is None:
        problems.append(Problem("rua= with the report address is missing", 1))
    else:
        at = rua.value_column
        for piece in rua.value.split(","):
            uri = piece.strip()
            column = at + len(piece) - len(piece.lstrip())
            at += len(piece) + 1
            if _usable(uri):
                good.append(uri)
            else:
                what = f"{uri[:60] or 'nothing'} is neither a mailto: nor an https: URI"
                problems.append(Problem(what, column, max(1, len(uri))))
    return TlsRptRecord(text, tuple(good), tuple(problems))


def _usable(uri: str) -> bool:
    scheme, _, rest = uri.partition(":")
    if scheme.lower() == "mailto":
        try:
            parse_address(unquote(rest.partition("?")[0]))
        except AddressError:
            return False
        return True
    try:
        return scheme.lower() == "https" and bool(urlsplit(uri).hostname)
    except ValueError:
        return False
