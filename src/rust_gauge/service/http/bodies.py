"""Bodies that come packed (RFC 9110 §8.4): gzip and zstd, to a limit, so that a bomb stays small."""

import zlib

import zstandard

from rust_gauge.service.runtime.problems import ServiceProblem

_PIECE = 1024 * 1024  # octets
_WINDOW = 2**23  # octets that a zstd frame may ask for: what every decoder supports (RFC 8878 §3.1.1.1.2)


def unpack_body(body: bytes, encoding: str, limit: int) -> bytes:
    """The body without its content encoding. ServiceProblem for another encoding, broken data, or more than `limit`."""
    name = encoding.strip().lower()
    if name in ("", "identity"):
        return body
    try:
        if name in ("gzip", "x-gzip"):
            unpacker = zlib.decompressobj(wbits=31)
            out = unpacker.decompress(body, limit + 1)
            if not unpacker.eof and len(out) <= limit:
                raise ServiceProblem("not-packed", "The gzip data is truncated")
        elif name == "zstd":
            out = _zstd(body, limit)
        else:
            raise ServiceProblem(
                "unsupported-type", f"{name[:40]} is not a supported content encoding", remedy="Use gzip or zstd"
            )
    except (zlib.error, zstandard.ZstdError) as error:
        raise ServiceProblem("not-packed", f"Not valid {name}: {error}"[:200]) from None
    if len(out) > limit:
        raise ServiceProblem(
            "too-large", f"Unpacked, the body is larger than {limit} bytes", remedy="Split it into smaller requests"
        )
    return out


def _zstd(body: bytes, limit: int) -> bytes:
    out = bytearray()
    with zstandard.ZstdDecompressor(max_window_size=_WINDOW).stream_reader(body) as reader:
        while len(out) <= limit:
            piece = reader.read(_PIECE)
            if not piece:
                break
            out += piece
    if len(out) <= limit:  # small enough to look whether it is whole, which the reader does not tell
        whole = zstandard.ZstdDecompressor(max_window_size=_WINDOW).decompressobj()
        whole.decompress(body)
        if not whole.eof:
            raise ServiceProblem("not-packed", "The zstd data is truncated")
    return bytes(out)
