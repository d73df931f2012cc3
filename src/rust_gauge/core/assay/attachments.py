"""What an attachment is by its first octets, whatever its name and type say."""

_MOST = 4 * 2**20  # octets that are looked through for macros
# Signatures of formats: the offset, the octets, and the kind. The first that fits counts.
_SIGNATURES = (
    (0, b"MZ", "a program"), (0, b"\x7fELF", "a program"), (0, b"\xfe\xed\xfa", "a program"),
    (0, b"\xcf\xfa\xed\xfe", "a program"), (0, b"\xca\xfe\xba\xbe", "a program"), (0, b"#!", "a script"),
    (0, b"%PDF-", "pdf"), (0, b"PK\x03\x04", "zip"), (0, b"PK\x05\x06", "zip"), (0, b"\x1f\x8b", "gzip"),
    (0, b"Rar!\x1a\x07", "rar"), (0, b"7z\xbc\xaf\x27\x1c", "7z"), (0, b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "ole"),
    (0, b"{\\rtf", "rtf"), (0, b"\x89PNG\r\n\x1a\n", "png"), (0, b"\xff\xd8\xff", "jpeg"), (0, b"GIF8", "gif"),
    (8, b"WEBP", "webp"), (0x8001, b"CD001", "a disk image"),
)  # fmt: skip
_PAGES = (b"<!doctype html", b"<html", b"<script", b"<body", b"<head")
_OF_ENDING = {
    **dict.fromkeys(("docx", "xlsx", "pptx", "docm", "xlsm", "pptm", "odt", "ods", "odp"), "zip"),
    **dict.fromkeys(("epub", "zip", "pkpass"), "zip"),
    **dict.fromkeys(("doc", "xls", "ppt", "msg"), "ole"), **dict.fromkeys(("jpg", "jpeg"), "jpeg"),
    **dict.fromkeys(("htm", "html", "xhtml"), "a web page"), "pdf": "pdf", "png": "png", "gif": "gif", "webp": "webp",
    "rtf": "rtf", "gz": "gzip", "tgz": "gzip", "rar": "rar", "7z": "7z",
}  # fmt: skip
_NAMES = {"zip": "a ZIP archive", "ole": "an old office document", "gzip": "a gzip file", "rar": "a RAR archive",
          "7z": "a 7z archive", "pdf": "a PDF"}  # fmt: skip


def content_of(octets: bytes) -> str:
    """Return what octets are, as a word of this module; empty when it cannot be told."""
    for offset, signature, kind in _SIGNATURES:
        if octets[offset : offset + len(signature)] == signature:
            return kind
    start = octets[:1000].lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    return "a web page" if start.startswith(_PAGES) else ""


def has_macros(octets: bytes) -> bool:
    """Return whether an office document has macros in it, whatever it is called."""
    kind = content_of(octets)
    if kind == "zip":
        return b"vbaProject.bin" in octets[:_MOST]
    return kind == "ole" and "_VBA_PROJECT".encode("utf-16-le") in octets[:_MOST]


def differs(ending: str, kind: str) -> str:
    """Return what a file is, in words, when its name says that it is something else; empty otherwise."""
    expected = _OF_ENDING.get(ending)
    if not expected or not kind or kind == expected:
        return ""
    return _NAMES.get(kind, kind)
